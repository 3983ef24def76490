//! Memory stays until it is given back. A process of its own, in which nothing else has asked for
//! memory and no thread has begun.

use ulmix_runner::memory::{give_back, keep};

const LARGE: usize = 300 << 20;

/// Memory of this process that is in use, in MiB.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").expect("every process has one");
    let line =
        status.lines().find_map(|l| l.strip_prefix("VmRSS:")).expect("it tells the memory in use");
    line.trim().trim_end_matches(" kB").parse::<u64>().expect("a number") / 1024
}

fn main() {
    if cfg!(not(all(target_os = "linux", target_env = "gnu"))) {
        return;
    }
    keep();
    let before = resident();
    // Runs have threads of their own.
    let large = || drop(std::hint::black_box(vec![1u8; LARGE]));
    std::thread::spawn(large).join().expect("memory enough");
    let kept = resident();
    give_back();
    let after = resident();
    assert!(kept > before + 250, "of {} MiB {} were kept", LARGE >> 20, kept - before);
    assert!(after < before + 50, "of {kept} MiB {after} were not given back");
    println!("test memory_stays_until_it_is_given_back ... ok");
}
