use super::*;

fn archive(model: &str) -> Vec<u8> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    zip.start_file(MODEL, SimpleFileOptions::default()).unwrap();
    zip.write_all(model.as_bytes()).unwrap();
    zip.finish().unwrap().into_inner()
}

#[test]
fn round_trip_is_exact_for_32_bit_coordinates_and_repeatable() {
    let m = TriMesh::sphere(12.5, 3).mapped(|p| p.as_vec3().as_dvec3());
    let other = TriMesh::cuboid(DVec3::ONE, DVec3::splat(3.0));
    let objects = [("keel <bracket> & \"eye\"", &m), ("Solids", &other)];
    let bytes = write(&objects, "keel", &[("Description", "22 % gyroid")]);
    assert_eq!(bytes, write(&objects, "keel", &[("Description", "22 % gyroid")]));
    let back = crate::read(&bytes, &Limits::default()).unwrap();
    assert_eq!(back.millimetres_per_unit, Some(1.0));
    assert!(back.bodies.iter().map(|b| b.name.as_str()).eq(objects.iter().map(|o| o.0)));
    let mut both = m.clone();
    both.append(&other);
    assert!(back.mesh.mapped(|p| p.as_vec3().as_dvec3()) == both);
}

#[test]
fn units_components_and_transforms_are_applied() {
    let m = archive(
        r#"<model unit="inch"><resources><object id="1"><mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="1" y="0" z="0"/><vertex x="0" y="1" z="0"/></vertices><triangles><triangle v1="0" v2="1" v3="2"/></triangles></mesh></object><object id="2"><components><component objectid="1" transform="1 0 0 0 1 0 0 0 1 2 0 0"/></components></object></resources><build><item objectid="2" transform="0 1 0 -1 0 0 0 0 1 0 0 1"/></build></model>"#,
    );
    let mesh = read(&m, &Limits::default()).unwrap().mesh;
    assert!((mesh.points[0] - DVec3::new(0.0, 50.8, 25.4)).length() < 1e-9, "{:?}", mesh.points);
}

#[test]
fn an_object_that_is_named_twice_is_there_twice() {
    let ball = TriMesh::sphere(2.0, 2).mapped(|p| p.as_vec3().as_dvec3());
    let written =
        write(&[("Ball", &ball), ("Box", &TriMesh::cuboid(DVec3::ZERO, DVec3::ONE))], "twice", &[]);
    let mut xml = String::new();
    ZipArchive::new(Cursor::new(&written))
        .unwrap()
        .by_name(MODEL)
        .unwrap()
        .read_to_string(&mut xml)
        .unwrap();
    let shifted = "<item objectid=\"1\" transform=\"1 0 0 0 1 0 0 0 1 9 0 0\"/>\n </build>";
    let back = read(&archive(&xml.replace(" </build>", shifted)), &Limits::default()).unwrap();
    let triangles: Vec<(&str, usize)> =
        back.bodies.iter().map(|b| (b.name.as_str(), b.triangles)).collect();
    let n = ball.triangles.len();
    assert_eq!(triangles, [("Ball", n), ("Box", 12), ("Ball", n)]);
    assert!((back.mesh.volume() - 2.0 * ball.volume() - 1.0).abs() < 1e-6);
    assert!((back.mesh.bounds().max.x - 11.0).abs() < 1e-6);
}

#[test]
fn a_beam_lattice_comes_as_struts() {
    // The six edges of a tetrahedron, one of them tapered and one too short to count.
    let model = |beams: &str| {
        archive(&format!(
            r#"<model unit="centimeter"><resources><object id="1" name="Frame"><mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="4" y="0" z="0"/><vertex x="0" y="4" z="0"/><vertex x="0" y="0" z="0.01"/></vertices><b:beamlattice radius="0.2" minlength="0.1"><b:beams>{beams}</b:beams></b:beamlattice></mesh></object></resources><build><item objectid="1"/></build></model>"#
        ))
    };
    let beams = r#"<b:beam v1="0" v2="1"/><b:beam v1="1" v2="2" r1="0.1" r2="0.3"/><b:beam v1="0" v2="3"/>"#;
    let back = read(&model(beams), &Limits::default()).unwrap();
    assert_eq!(
        (back.mesh.triangles.len(), back.bodies[0].name.as_str()),
        (2 * triangles(12), "Frame")
    );
    assert!(back.bodies[0].beams && back.beams.len() == 2);
    assert_eq!(
        (back.beams[1].ends[1], back.beams[1].radii),
        (DVec3::new(0.0, 40.0, 0.0), [1.0, 3.0])
    );
    let size = back.mesh.bounds().size();
    assert!((size.x - 46.0).abs() < 1.5 && size.y > 40.0 && size.z < 7.0, "{size}");
    for (bad, words) in [
        (r#"<b:beam v1="0" v2="9"/>"#, "not there"),
        (r#"<b:beam v1="0" v2="1" r1="-1"/>"#, "usable radius"),
        (r#"<b:beam v1="0" v2="1" r1="nan"/>"#, "usable radius"),
    ] {
        assert!(read(&model(bad), &Limits::default()).unwrap_err().to_string().contains(words));
    }
    let many = beams.repeat(20);
    assert!(read(&model(&many), &Limits { triangles: 1000, ..Limits::default() })
        .unwrap_err()
        .to_string()
        .contains("more than 1000 triangles"));
}

#[test]
fn hostile_models_are_refused() {
    let limits = Limits { triangles: 1000, unpacked_bytes: 1 << 16, ..Limits::default() };
    let refuse = |b: &[u8]| read(b, &limits).unwrap_err().to_string();
    assert!(refuse(b"PK\x03\x04 nonsense").contains("cannot be opened"));
    assert!(refuse(&archive("<!DOCTYPE x [<!ENTITY a \"b\">]><model/>")).contains("not allowed"));
    assert!(refuse(&archive("<model><object id='1'><vertex x='nan' y='0' z='0'/>"))
        .contains("usable number"));
    assert!(refuse(&archive("<model><object id='1'><triangle v1='0' v2='1' v3='2'/>"))
        .contains("not there"));
    assert!(refuse(&archive(&"<x/>".repeat(40_000))).contains("larger than"));
    // An archive that tells less than it holds.
    let mut lies = archive(&"<x/>".repeat(40_000));
    let told = 160_000u32.to_le_bytes();
    let places: Vec<usize> = (0..lies.len() - 4).filter(|&n| lies[n..n + 4] == told).collect();
    assert!(!places.is_empty());
    places.iter().for_each(|&n| lies[n..n + 4].copy_from_slice(&100u32.to_le_bytes()));
    assert!(
        refuse(&lies).contains("larger than") || refuse(&lies).contains("not valid"),
        "{}",
        refuse(&lies)
    );
    let looped = "<model><object id='1'><components><component \
             objectid='1'/></components></object><item objectid='1'/></model>";
    assert!(refuse(&archive(looped)).contains("nested too deeply"));
    assert!(refuse(&archive("<model><build/></model>")).contains("no triangles"));
}

#[test]
fn a_few_lines_that_place_more_than_any_memory_holds_are_refused() {
    // Each object stands ten times in the next: 10¹⁵ of the first.
    let nested = |first: &str| {
        let times = |id: usize| format!("<component objectid='{id}'/>").repeat(10);
        let object = |id: usize| {
            format!("<object id='{id}'><components>{}</components></object>", times(id - 1))
        };
        let objects: String = (2..=15).map(object).collect();
        archive(&format!(
            "<model><object id='1'>{first}</object>{objects}<item objectid='15'/></model>"
        ))
    };
    let refuse = |b: &[u8]| read(b, &Limits::default()).unwrap_err().to_string();
    assert!(refuse(&nested("")).contains("places more than 100000 objects"));
    let points = format!("<mesh>{}</mesh>", "<vertex x='0' y='0' z='0'/>".repeat(5_000));
    assert!(refuse(&nested(&points)).contains("more than 16 million points"));
}

#[test]
fn elements_that_a_parser_would_keep_whole_are_refused() {
    let refuse =
        |model: String| read(&archive(&model), &Limits::default()).unwrap_err().to_string();
    assert!(refuse("<a>".repeat(100_000)).contains("nested too deeply"));
    assert!(refuse(format!("<model {}/>", "a='1' ".repeat(400_000))).contains("longer than"));
    assert!(refuse("<object id='7'></object><object id='7'/>".repeat(9)).contains("no triangles"));
    let many: String = (0..100_002).map(|id| format!("<object id='{id}'></object>")).collect();
    assert!(refuse(many).contains("more than 100000 objects"));
    // Names of attributes that repeat are not compared with each other.
    let attributes: String = (0..50_000).map(|n| format!(" a{n}='1'")).collect();
    assert!(refuse(format!("<model{attributes}><build/></model>")).contains("no triangles"));
}

#[test]
fn what_stands_once_in_an_object_that_stands_twice_is_there_twice() {
    let block = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
    let mut xml = Vec::new();
    write_model(&mut xml, &[("Block", &block)], "", &[]).unwrap();
    let twice = String::from_utf8(xml).unwrap().replace(
        " </resources>\n <build>\n  <item objectid=\"1\"/>",
        "<object id='2'><components><component objectid='1'/></components></object></resources>
         <build><item objectid='2'/><item objectid='2' transform='1 0 0 0 1 0 0 0 1 5 0 0'/>",
    );
    let mesh = read(&archive(&twice), &Limits::default()).unwrap().mesh;
    assert!((mesh.volume() - 2.0).abs() < 1e-9 && mesh.bounds().max.x == 6.0, "{}", mesh.volume());
}

#[test]
fn required_extensions_that_are_not_read_are_refused_by_name() {
    let with = |prefix: &str, space: &str| {
        let model = format!(
            "<model requiredextensions='{prefix}' xmlns:{prefix}='{space}'><build/></model>"
        );
        read(&archive(&model), &Limits::default()).unwrap_err().to_string()
    };
    let of_core = "http://schemas.microsoft.com/3dmanufacturing/";
    assert!(with("s", &format!("{of_core}slice/2015/07")).contains("“slice/2015/07”"));
    assert!(with("z", "http://example.org/z").contains("“http://example.org/z”"));
    assert!(with("b", &format!("{of_core}beamlattice/2017/02")).contains("no triangles"));
}

#[test]
fn a_reader_ends_when_nobody_waits_for_it() {
    let file = write(&[("Ball", &TriMesh::sphere(3.0, 5))], "ball", &[]);
    let asked = std::sync::atomic::AtomicUsize::new(0);
    let stopped = || asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed) > 2;
    let limits = Limits { stopped: &stopped, ..Limits::default() };
    assert!(read(&file, &limits).unwrap_err().is_stopped());
}
