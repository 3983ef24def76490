use ulmix_core::{demo, part::Part, pipeline::*};
struct W(std::sync::Mutex<std::time::Instant>);
impl Watch for W { fn begin(&self,_:Stage){*self.0.lock().unwrap()=std::time::Instant::now();} fn end(&self,s:Stage,c:bool){ eprintln!("  {s:?} {c} {:.1} ms", self.0.lock().unwrap().elapsed().as_secs_f64()*1e3);} }
fn main(){
    let (f,r)=demo::keel_bracket_file();
    std::fs::write("/tmp/keel.stl",&f).unwrap(); std::fs::write("/tmp/keel.json",r.to_json()).unwrap();
    let part=Part::read(&f, r.part.unit).unwrap();
    let p=Pipeline::new(500<<20);
    let mut r=r;
    for t in (0..20).map(|i| 1.4-0.01*i as f64) { r.thicken=ulmix_core::recipe::Thicken::Thickness{thickness_mm:t};
      let w=W(std::sync::Mutex::new(std::time::Instant::now())); let a=std::time::Instant::now();
      let o=p.run(&part,&r,if std::env::args().count()>1 {Quality::Draft} else {Quality::Drag},&w).unwrap(); eprintln!("draft t {t}: {:.1} ms step {} tris {}", a.elapsed().as_secs_f64()*1e3,o.step_mm,o.solid.mesh.triangles.len());
      let a=std::time::Instant::now(); let s=ulmix_mesh::shading::shade(&o.solid.mesh,35.0); eprintln!("  shade {:.1} ms", a.elapsed().as_secs_f64()*1e3);
      let a=std::time::Instant::now(); let g=ulmix_formats::glb::write(&s,&[],serde_json::json!({})); eprintln!("  glb {:.1} ms {}", a.elapsed().as_secs_f64()*1e3,g.len());
      
    }
}
