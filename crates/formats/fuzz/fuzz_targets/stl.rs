#![no_main]

use ulmix_formats::{stl, Limits};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = stl::read(bytes, &Limits { triangles: 100_000, unpacked_bytes: 16 << 20 });
});
