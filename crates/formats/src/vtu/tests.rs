use super::packed::base64;
use super::*;
use flate2::write::ZlibEncoder;
use flate2::Compression;
use proptest::prelude::*;
use std::io::Write;

fn read_it(text: impl AsRef<[u8]>) -> Result<PlacedNumbers, FormatError> {
    read(text.as_ref(), &Limits::default())
}

fn written(bytes: &[u8]) -> String {
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let four = |c: &[u8]| {
        let v = (0..3).fold(0u32, |v, n| v << 8 | *c.get(n).unwrap_or(&0) as u32);
        let letter = |n: usize| {
            if n <= c.len() {
                LETTERS[(v >> (18 - 6 * n) & 63) as usize] as char
            } else {
                '='
            }
        };
        [0, 1, 2, 3].map(letter)
    };
    bytes.chunks(3).flat_map(four).collect()
}

/// How an array stands in a file.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Way {
    Text,
    Base64,
    Compressed,
    AppendedRaw,
    AppendedBase64,
}

const WAYS: [Way; 5] =
    [Way::Text, Way::Base64, Way::Compressed, Way::AppendedRaw, Way::AppendedBase64];

/// Two tetrahedra that share a face, with a number for each point, a vector for each point and a
/// number for each cell.
fn file(way: Way, wide: bool) -> Vec<u8> {
    let points = [0., 0., 0., 4., 0., 0., 0., 4., 0., 0., 0., 4., 4., 4., 4.];
    let arrays: [(&str, &str, usize, Vec<f64>); 6] = [
        ("Points", "", 3, points.to_vec()),
        ("Cells", "connectivity", 1, vec![0., 1., 2., 3., 1., 2., 3., 4.]),
        ("Cells", "offsets", 1, vec![4., 8.]),
        ("PointData", "heat", 1, vec![1., 2., 3., 4., 5.]),
        ("PointData", "force", 3, (0..15).map(f64::from).collect()),
        ("CellData", "stress", 1, vec![7.5, -2.0]),
    ];
    let mut appended: Vec<u8> = Vec::new();
    let length = |n: usize| {
        if wide {
            (n as u64).to_le_bytes().to_vec()
        } else {
            (n as u32).to_le_bytes().to_vec()
        }
    };
    let mut body = String::new();
    for (room, name, components, values) in arrays {
        let bytes: Vec<u8> = values.iter().flat_map(|v| (*v as f32).to_le_bytes()).collect();
        let plain = [length(bytes.len()), bytes.clone()].concat();
        let at = appended.len();
        let (format, text) = match way {
            Way::Text => {
                ("ascii".into(), values.iter().map(|v| format!("{v} ")).collect::<String>())
            }
            Way::Base64 => ("binary".into(), written(&plain)),
            Way::Compressed => {
                // In two blocks.
                let half = bytes.len() / 2;
                let packed = [&bytes[..half], &bytes[half..]].map(|block| {
                    let mut z = ZlibEncoder::new(Vec::new(), Compression::default());
                    z.write_all(block).unwrap();
                    z.finish().unwrap()
                });
                let head = [2, half, bytes.len() - half, packed[0].len(), packed[1].len()];
                let head = head.map(length).concat();
                ("binary".into(), written(&head) + &written(&packed.concat()))
            }
            Way::AppendedRaw => {
                appended.extend(&plain);
                (format!("appended\" offset=\"{at}"), String::new())
            }
            Way::AppendedBase64 => {
                appended.extend(written(&plain).into_bytes());
                (format!("appended\" offset=\"{at}"), String::new())
            }
        };
        body += &format!(
            "<{room}><DataArray type=\"Float32\" Name=\"{name}\" NumberOfComponents=\
             \"{components}\" format=\"{format}\">{text}</DataArray></{room}>\n"
        );
    }
    let header = if wide { "UInt64" } else { "UInt32" };
    let compressor =
        if way == Way::Compressed { "compressor=\"vtkZLibDataCompressor\"" } else { "" };
    let encoding = if way == Way::AppendedRaw { "raw" } else { "base64" };
    let tail = if appended.is_empty() {
        Vec::new()
    } else {
        [
            format!("<AppendedData encoding=\"{encoding}\">_").as_bytes(),
            &appended,
            b"</AppendedData>",
        ]
        .concat()
    };
    let head = format!(
        "<?xml version=\"1.0\"?>\n<VTKFile type=\"UnstructuredGrid\" version=\"1.0\" byte_order=\
         \"LittleEndian\" header_type=\"{header}\" {compressor}><UnstructuredGrid><Piece \
         NumberOfPoints=\"5\" NumberOfCells=\"2\">{body}</Piece></UnstructuredGrid>"
    );
    [head.as_bytes(), &tail, b"</VTKFile>"].concat()
}

#[test]
fn arrays_are_read_however_they_stand() {
    for way in WAYS {
        for wide in [false, true] {
            let found = read_it(file(way, wide)).unwrap_or_else(|e| panic!("{way:?}: {e}"));
            assert_eq!(found.points.len(), 5, "{way:?}");
            assert_eq!(found.points[4], DVec3::splat(4.0));
            assert_eq!(found.middles, [DVec3::ONE, DVec3::splat(2.0)]);
            let of = |name: &str| found.arrays.iter().find(|a| a.name == name).unwrap();
            assert_eq!(of("heat").values, [1.0, 2.0, 3.0, 4.0, 5.0]);
            assert!((of("force").values[1] - 50f64.sqrt()).abs() < 1e-12, "the length of 3, 4, 5");
            assert_eq!((of("stress").of_cells, &of("stress").values[..]), (true, &[7.5, -2.0][..]));
        }
    }
}

#[test]
fn what_is_wrong_is_told() {
    let good = String::from_utf8(file(Way::Text, false)).unwrap();
    let cases = [
        ("", "no VTK"),
        ("<VTKFile type=\"PolyData\"></VTKFile>", "no VTK"),
        (&good.replace("NumberOfPoints=\"5\"", "NumberOfPoints=\"6\""), "of 18 numbers"),
        (&good.replace("NumberOfPoints=\"5\"", "NumberOfPoints=\"99999999999\""), "more than"),
        (&good.replace("7.5 ", "heavy "), "“heavy”"),
        (&good.replace("4 8 ", "4 9 "), "Cell 2"),
        (&good.replace("0 1 2 3 1 2 3 4 ", "0 1 2 3 1 2 3 77 "), "Cell 2"),
        (&good.replace("PointData", "Other").replace("CellData", "Other"), "no numbers"),
        (&good.replace("header_type", "compressor=\"vtkLZ4DataCompressor\" x"), "vtkLZ4"),
        (&good.replace("0 0 0 4 0 0", "0 0 NaN 4 0 0"), "Point 1"),
    ];
    for (text, words) in cases {
        let told = read_it(text).unwrap_err().to_string();
        assert!(told.contains(words), "{told} for {words}");
    }
}

#[test]
fn a_file_cut_short_anywhere_is_refused_or_whole() {
    for way in WAYS {
        let whole = file(way, false);
        let all = read_it(&whole).unwrap();
        for length in (0..whole.len()).step_by(7) {
            if let Ok(found) = read_it(&whole[..length]) {
                // Only what comes after the last array may be missing, or whole arrays.
                assert!(found.points == all.points, "{way:?} {length}");
                assert!(found.arrays.iter().all(|a| all.arrays.contains(a)), "{way:?} {length}");
            }
        }
    }
}

proptest! {
    #[test]
    fn no_bytes_are_too_wild(way in 0usize..5, at in 0.0..1.0f64, put in prop::collection::vec(any::<u8>(), 1..12)) {
        let mut bytes = file(WAYS[way], true);
        let at = (at * (bytes.len() - put.len()) as f64) as usize;
        bytes[at..at + put.len()].copy_from_slice(&put);
        let _ = read_it(bytes);
    }

    #[test]
    fn text_of_letters_gives_its_bytes_back(bytes in prop::collection::vec(any::<u8>(), 0..80)) {
        let text = written(&bytes);
        prop_assert_eq!(base64(text.as_bytes(), bytes.len()), Some(bytes.clone()));
        prop_assert_eq!(base64(text.as_bytes(), bytes.len() + 3), None);
    }
}
