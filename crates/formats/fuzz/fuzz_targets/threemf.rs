#![no_main]

use ulmix_formats::{threemf, Limits};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = threemf::read(bytes, &Limits { triangles: 100_000, unpacked_bytes: 16 << 20 });
});
