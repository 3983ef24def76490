//! The corpus of the fuzz targets, read again: seeds of every format, and what fuzzing found worth
//! keeping, also with bytes changed. What a reader asks of memory is counted.

use std::alloc::{GlobalAlloc, Layout, System};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use ulmix_formats::{glb_read, obj, ply, stl, threemf, FormatError, Limits, Loaded};
use ulmix_mesh::weld::weld;

/// The system's allocator, and the most that was held at once.
struct Counting;

static HELD: AtomicUsize = AtomicUsize::new(0);
static MOST: AtomicUsize = AtomicUsize::new(0);

// SAFETY: all is passed on to the system's allocator; counting touches no memory of it.
#[allow(unsafe_code, reason = "allocators are")]
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        let held = HELD.fetch_add(layout.size(), Ordering::Relaxed) + layout.size();
        MOST.fetch_max(held, Ordering::Relaxed);
        System.alloc(layout)
    }

    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        HELD.fetch_sub(layout.size(), Ordering::Relaxed);
        System.dealloc(at, layout)
    }
}

#[global_allocator]
static ALLOCATOR: Counting = Counting;

/// What a reader of files of up to a megabyte may hold: as of a run of the fuzz targets.
const ALLOWED: usize = 512 << 20;

type Reader = fn(&[u8], &Limits) -> Result<Loaded, FormatError>;

const READERS: [(&str, Reader); 5] = [
    ("stl", stl::read),
    ("obj", obj::read),
    ("ply", ply::read),
    ("threemf", threemf::read),
    ("glb", glb_read::read),
];

/// All files of a format's corpus, by name.
fn corpus(folder: &str) -> Vec<(String, Vec<u8>)> {
    let files =
        std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("fuzz/corpus").join(folder))
            .unwrap();
    let read = |f: std::io::Result<std::fs::DirEntry>| {
        let f = f.unwrap();
        (f.file_name().into_string().unwrap(), std::fs::read(f.path()).unwrap())
    };
    let mut all: Vec<_> = files.map(read).collect();
    all.sort();
    all
}

/// Reads with what is counted, and refuses to hold too much.
fn counted(read: Reader, bytes: &[u8], name: &str) -> Result<Loaded, FormatError> {
    let before = HELD.load(Ordering::Relaxed);
    MOST.store(before, Ordering::Relaxed);
    let limits = Limits {
        triangles: 1_000_000,
        points: 3_000_000,
        unpacked_bytes: 64 << 20,
        ..Limits::default()
    };
    let found = read(bytes, &limits);
    let most = MOST.load(Ordering::Relaxed).saturating_sub(before);
    assert!(most < ALLOWED, "{name} holds {} MB", most >> 20);
    found
}

/// One test, for memory is counted of the whole process.
#[test]
fn seeds_are_read_as_cubes_and_whatever_was_found_or_changed_does_no_harm() {
    let changes: usize =
        std::env::var("ULMIX_CHANGES").ok().and_then(|n| n.parse().ok()).unwrap_or(30);
    for (folder, read) in READERS {
        let mut seeds = 0;
        for (name, bytes) in corpus(folder) {
            let found = counted(read, &bytes, &name);
            if !name.starts_with("found-") {
                let mesh = found.unwrap_or_else(|e| panic!("{folder}/{name}: {e}")).mesh;
                let cube = weld(&mesh, 0.0).mesh;
                assert_eq!(
                    (cube.points.len(), cube.triangles.len() >= 12),
                    (8, true),
                    "{folder}/{name}"
                );
                seeds += 1;
            }
            let mut numbers = Numbers(bytes.len() as u64);
            for n in 0..changes {
                let _ = counted(
                    read,
                    &changed(&bytes, &mut numbers),
                    &format!("{folder}/{name}, change {n}"),
                );
            }
        }
        assert!(seeds > 0, "{folder} has no seed");
    }
}

/// Numbers that repeat (Knuth 1997).
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, n: usize) -> usize {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % n.max(1)
    }
}

/// Some bytes set, a stretch left out or doubled, or the end cut off.
fn changed(bytes: &[u8], numbers: &mut Numbers) -> Vec<u8> {
    let mut out = bytes.to_vec();
    for _ in 0..1 + numbers.below(4) {
        let (at, kind) = (numbers.below(out.len()), numbers.below(6));
        let to = (at + numbers.below(64)).min(out.len());
        match kind {
            0 => drop(out.drain(at..to)),
            1 => out.extend_from_within(at..to),
            2 => out.truncate(at.max(1)),
            _ if !out.is_empty() => {
                out[at] = [0, 1, 0xff, b'0', b'9', b'-', b'e', b' '][numbers.below(8)]
            }
            _ => {}
        }
    }
    out
}
