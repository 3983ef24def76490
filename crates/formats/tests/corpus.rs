//! The corpus of the fuzz targets, read again: seeds of every format, and what fuzzing found worth keeping.

use std::path::Path;
use ulmix_formats::{glb_read, obj, ply, stl, threemf, FormatError, Limits, Loaded};
use ulmix_mesh::weld::weld;

type Reader = fn(&[u8], &Limits) -> Result<Loaded, FormatError>;

#[test]
fn seeds_are_read_as_cubes_and_whatever_was_found_does_no_harm() {
    let readers: [(&str, Reader); 5] =
        [("stl", stl::read), ("obj", obj::read), ("ply", ply::read), ("threemf", threemf::read), ("glb", glb_read::read)];
    let limits = Limits { triangles: 100_000, unpacked_bytes: 16 << 20 };
    for (folder, read) in readers {
        let files = std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("fuzz/corpus").join(folder)).unwrap();
        let mut seeds = 0;
        for file in files.map(|f| f.unwrap()) {
            let name = file.file_name().into_string().unwrap();
            let found = read(&std::fs::read(file.path()).unwrap(), &limits);
            if !name.starts_with("found-") {
                let mesh = found.unwrap_or_else(|e| panic!("{folder}/{name}: {e}")).mesh;
                let cube = weld(&mesh, 0.0).mesh;
                assert_eq!((cube.points.len(), cube.triangles.len() >= 12), (8, true), "{folder}/{name}");
                seeds += 1;
            }
        }
        assert!(seeds > 0, "{folder} has no seed");
    }
}
