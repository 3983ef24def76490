//! Is the processor one that this program was made for?
//!
//! All code is compiled for x86-64-v3 (AVX2 and what came with it, 2013), so that nothing but plain
//! instructions may run before this was asked: no allocation, no formatting, no detection by the
//! standard library, which knows the answer at compile time.
#![allow(unsafe_code, reason = "registers and the plainest of system calls are asked directly")]

#[cfg(all(target_arch = "x86_64", target_os = "linux"))]
pub(crate) fn will_do() -> bool {
    use std::arch::x86_64::{__cpuid, __cpuid_count};
    const WORDS: &[u8] = b"This processor lacks instructions that Ulmix needs (AVX2, of 2013 and later).\n\
        Use a newer computer, or build Ulmix for this one: take target-cpu out of .cargo/config.toml.\n";
    const FMA: u32 = 1 << 12;
    const OSXSAVE: u32 = 1 << 27;
    const AVX: u32 = 1 << 28;
    const BMI1: u32 = 1 << 3;
    const AVX2: u32 = 1 << 5;
    const BMI2: u32 = 1 << 8;
    let all = |have: u32, wanted: u32| have & wanted == wanted;
    let newest = __cpuid(0).eax;
    let enough = newest >= 7
        && all(__cpuid(1).ecx, FMA | OSXSAVE | AVX)
        && all(__cpuid_count(7, 0).ebx, BMI1 | AVX2 | BMI2)
        // SAFETY: the instruction is there where OSXSAVE says so.
        && unsafe { saves_wide_registers() };
    if !enough && cfg!(target_feature = "avx2") {
        // SAFETY: the words are valid for their length.
        unsafe { libc::write(2, WORDS.as_ptr().cast(), WORDS.len()) };
        return false;
    }
    true
}

/// Does the system keep 256-bit registers between tasks?
///
/// # Safety
/// The processor must have the XGETBV instruction.
#[cfg(all(target_arch = "x86_64", target_os = "linux"))]
#[target_feature(enable = "xsave")]
unsafe fn saves_wide_registers() -> bool {
    std::arch::x86_64::_xgetbv(0) & 6 == 6
}

#[cfg(not(all(target_arch = "x86_64", target_os = "linux")))]
pub fn will_do() -> bool {
    true
}
