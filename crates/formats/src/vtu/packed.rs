//! Arrays of a VTK XML file as bytes: base64 or raw, plain or compressed.

use flate2::read::ZlibDecoder;
use std::io::Read;

/// How the file's arrays are packed.
#[derive(Clone, Copy, Default)]
pub(super) struct Packing {
    pub big_endian: bool,
    /// Are lengths of eight bytes, not of four?
    pub wide_header: bool,
    pub compressed: bool,
}

impl Packing {
    /// A number of a type from its bytes, as many as [`size_of`] the type.
    pub(super) fn number(self, kind: &str, bytes: &[u8]) -> f64 {
        let mut held = [0; 8];
        held[..bytes.len()].copy_from_slice(bytes);
        if self.big_endian {
            held[..bytes.len()].reverse();
        }
        number_of(kind, held)
    }

    /// The bytes of a packed array, no more than `most`. `None` where it is cut short or says that
    /// it is longer.
    pub(super) fn unpacked(self, packed: PackedArray, most: usize) -> Option<Vec<u8>> {
        let word = if self.wide_header { 8 } else { 4 };
        let length = |bytes: &[u8], n: usize| -> Option<usize> {
            let mut held = [0; 8];
            held[..word].copy_from_slice(bytes.get(n * word..(n + 1) * word)?);
            if self.big_endian {
                held[..word].reverse();
            }
            usize::try_from(u64::from_le_bytes(held)).ok()
        };
        if !self.compressed {
            let head = packed.bytes(0, word)?;
            let count = length(&head, 0).filter(|count| *count <= most)?;
            return Some(packed.bytes(0, word + count)?.split_off(word));
        }
        let blocks = length(&packed.bytes(0, word)?, 0)?;
        // Each block is at least one byte of the file.
        if blocks > packed.len() {
            return None;
        }
        let header = packed.bytes(0, word * (3 + blocks))?;
        let sizes: Vec<usize> =
            (0..blocks).map(|n| length(&header, 3 + n)).collect::<Option<_>>()?;
        let all = sizes.iter().try_fold(0usize, |sum, n| sum.checked_add(*n))?;
        let data = packed.after(header.len())?.bytes(0, all)?;
        let (mut out, mut from) = (Vec::new(), 0);
        for size in sizes {
            let block = data.get(from..from + size)?;
            let left = (most - out.len()) as u64 + 1;
            ZlibDecoder::new(block).take(left).read_to_end(&mut out).ok()?;
            if out.len() > most {
                return None;
            }
            from += size;
        }
        Some(out)
    }
}

/// An array as it stands in the file.
#[derive(Clone, Copy)]
pub(super) enum PackedArray<'a> {
    /// Base64 (RFC 4648).
    Text(&'a [u8]),
    Raw(&'a [u8]),
}

impl<'a> PackedArray<'a> {
    /// Bytes that it stands in.
    fn len(&self) -> usize {
        match self {
            PackedArray::Text(data) | PackedArray::Raw(data) => data.len(),
        }
    }

    /// So many bytes from a place on; `None` where there are fewer.
    fn bytes(&self, from: usize, count: usize) -> Option<Vec<u8>> {
        match self {
            PackedArray::Raw(data) => data.get(from..from.checked_add(count)?).map(<[u8]>::to_vec),
            PackedArray::Text(data) => {
                let bytes = base64(data, from.checked_add(count)?)?;
                Some(bytes[from..].to_vec())
            }
        }
    }

    /// What comes after a header of so many bytes: in text it is written on its own.
    fn after(self, header: usize) -> Option<PackedArray<'a>> {
        match self {
            PackedArray::Raw(data) => Some(PackedArray::Raw(data.get(header..)?)),
            PackedArray::Text(data) => {
                let begin = data.iter().position(|b| !b.is_ascii_whitespace())?;
                Some(PackedArray::Text(data.get(begin + header.div_ceil(3) * 4..)?))
            }
        }
    }
}

/// The first `count` bytes of a base64 text; `None` where it holds fewer.
pub(super) fn base64(text: &[u8], count: usize) -> Option<Vec<u8>> {
    // Every four letters are three bytes, whatever the file claims.
    let mut out = Vec::with_capacity(count.min(text.len()));
    let (mut bits, mut held) = (0u32, 0);
    for letter in text {
        if out.len() == count {
            break;
        }
        let value = match letter {
            b'A'..=b'Z' => letter - b'A',
            b'a'..=b'z' => letter - b'a' + 26,
            b'0'..=b'9' => letter - b'0' + 52,
            b'+' => 62,
            b'/' => 63,
            b if b.is_ascii_whitespace() => continue,
            _ => break,
        };
        bits = bits << 6 | value as u32;
        held += 6;
        if held >= 8 {
            held -= 8;
            out.push((bits >> held) as u8);
        }
    }
    (out.len() == count).then_some(out)
}

/// Bytes of a number of a type.
pub(super) fn size_of(kind: &str) -> Option<usize> {
    Some(match kind {
        "Int8" | "UInt8" => 1,
        "Int16" | "UInt16" => 2,
        "Int32" | "UInt32" | "Float32" => 4,
        "Int64" | "UInt64" | "Float64" => 8,
        _ => return None,
    })
}

/// A number of a type from its bytes, the lowest first.
fn number_of(kind: &str, b: [u8; 8]) -> f64 {
    let [b0, b1, b2, b3, ..] = b;
    match kind {
        "Int8" => b0 as i8 as f64,
        "UInt8" => b0 as f64,
        "Int16" => i16::from_le_bytes([b0, b1]) as f64,
        "UInt16" => u16::from_le_bytes([b0, b1]) as f64,
        "Int32" => i32::from_le_bytes([b0, b1, b2, b3]) as f64,
        "UInt32" => u32::from_le_bytes([b0, b1, b2, b3]) as f64,
        "Float32" => f32::from_le_bytes([b0, b1, b2, b3]) as f64,
        "Int64" => i64::from_le_bytes(b) as f64,
        "UInt64" => u64::from_le_bytes(b) as f64,
        _ => f64::from_le_bytes(b),
    }
}
