#![no_main]

use ulmix_formats::{glb_read, Limits};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = glb_read::read(bytes, &Limits { triangles: 1_000_000, points: 3_000_000, unpacked_bytes: 64 << 20, ..Limits::default() });
});
