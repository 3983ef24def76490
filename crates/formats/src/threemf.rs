//! 3MF, core specification 1.3: a zip archive with one XML model. Of the beam lattice extension 1.2
//! beams are read, with round ends whatever their caps. Files that require an extension that
//! changes shapes and is not read are refused by its name.

use crate::strut::{sides, strut, triangles};
use crate::{Beam, Format, FormatError, Limits, Loaded, Named};
use glam::{DAffine3, DMat3, DVec3};
use quick_xml::events::{BytesStart, Event};
use quick_xml::XmlVersion;
use std::borrow::Cow;
use std::collections::HashMap;
use std::io::{BufRead, BufReader, BufWriter, Cursor, Read, Write};
use ulmix_mesh::TriMesh;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

const TYPES: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>"#;
const RELS: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Target="/3D/3dmodel.model" Id="rel0" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>"#;
const MODEL: &str = "3D/3dmodel.model";

/// Named objects in millimetres, with a title and further metadata. Equal input gives equal bytes.
pub fn write(objects: &[(&str, &TriMesh)], title: &str, metadata: &[(&str, &str)]) -> Vec<u8> {
    archived(objects, title, metadata).expect("memory takes all bytes").into_inner()
}

fn archived(
    objects: &[(&str, &TriMesh)],
    title: &str,
    metadata: &[(&str, &str)],
) -> zip::result::ZipResult<Cursor<Vec<u8>>> {
    /// Bytes of XML that wait to be packed together.
    const CHUNK: usize = 1 << 20;
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .compression_level(Some(2));
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, text) in [("[Content_Types].xml", TYPES), ("_rels/.rels", RELS)] {
        zip.start_file(name, options)?;
        zip.write_all(text.as_bytes())?;
    }
    // Past 4 GB the archive needs longer numbers.
    let most: u64 = objects
        .iter()
        .map(|(_, m)| m.points.len() as u64 * 96 + m.triangles.len() as u64 * 64)
        .sum();
    zip.start_file(MODEL, options.large_file(most > u32::MAX as u64))?;
    let mut xml = BufWriter::with_capacity(CHUNK, zip);
    write_model(&mut xml, objects, title, metadata)?;
    xml.into_inner().map_err(|e| e.into_error())?.finish()
}

fn write_model(
    xml: &mut impl Write,
    objects: &[(&str, &TriMesh)],
    title: &str,
    metadata: &[(&str, &str)],
) -> std::io::Result<()> {
    writeln!(xml, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>")?;
    let core = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02";
    writeln!(xml, "<model unit=\"millimeter\" xml:lang=\"en-US\" xmlns=\"{core}\">")?;
    for (name, value) in [("Title", title), ("Application", "Ulmix")].iter().chain(metadata) {
        writeln!(xml, " <metadata name=\"{}\">{}</metadata>", escaped(name), escaped(value))?;
    }
    writeln!(xml, " <resources>")?;
    for (n, (name, mesh)) in objects.iter().enumerate() {
        write_object(xml, n + 1, name, mesh)?;
    }
    writeln!(xml, " </resources>\n <build>")?;
    for id in 1..=objects.len() {
        writeln!(xml, "  <item objectid=\"{id}\"/>")?;
    }
    writeln!(xml, " </build>\n</model>")
}

fn write_object(
    xml: &mut impl Write,
    id: usize,
    name: &str,
    mesh: &TriMesh,
) -> std::io::Result<()> {
    let name = escaped(name);
    writeln!(
        xml,
        "  <object id=\"{id}\" type=\"model\" name=\"{name}\">\n   <mesh>\n    <vertices>"
    )?;
    for p in &mesh.points {
        // Every digit of the 32-bit number, so that readers in 32 and in 64 bits see the same
        // places: what does not cross for one must not cross for the other.
        let p = p.as_vec3().as_dvec3();
        writeln!(xml, "<vertex x=\"{}\" y=\"{}\" z=\"{}\"/>", p.x, p.y, p.z)?;
    }
    writeln!(xml, "    </vertices>\n    <triangles>")?;
    for t in &mesh.triangles {
        writeln!(xml, "<triangle v1=\"{}\" v2=\"{}\" v3=\"{}\"/>", t[0], t[1], t[2])?;
    }
    writeln!(xml, "    </triangles>\n   </mesh>\n  </object>")
}

/// Text for XML, without the control characters that XML 1.0 cannot hold.
fn escaped(s: &str) -> String {
    let clean: String = s.chars().filter(|c| !c.is_control()).collect();
    quick_xml::escape::escape(clean.as_str()).into_owned()
}

fn broken(what: impl Into<String>) -> FormatError {
    FormatError::damaged(Format::ThreeMf, what)
}

/// All build items in their place, joined into one mesh in millimetres.
///
/// # Errors
/// What is wrong with the bytes, where, and what to do.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    let mut zip = ZipArchive::new(Cursor::new(bytes))
        .map_err(|e| broken(format!("The archive cannot be opened: {e}.")))?;
    let entry = zip
        .by_name(MODEL)
        .map_err(|_| broken("The archive holds no 3D model (3D/3dmodel.model)."))?;
    if entry.size() > limits.unpacked_bytes {
        return Err(too_big(limits));
    }
    let unpacked = BufReader::new(entry.take(limits.unpacked_bytes + 1));
    let mut reader = quick_xml::Reader::from_reader(Fed { from: unpacked, left: LONGEST_EVENT });
    let parsed = Model::parse(&mut reader, limits);
    // What an archive says about sizes may be wrong.
    if reader.into_inner().from.into_inner().limit() == 0 {
        return Err(too_big(limits));
    }
    let mut model = parsed?;
    let (mut out, mut bodies) = (PlacedObject::default(), Vec::new());
    for item in std::mem::take(&mut model.items) {
        let (from, known, solid) = (out.mesh.triangles.len(), bodies.len(), out.solid);
        model.place(item, (0, true), limits, &mut out)?;
        Named::end(
            model.objects.get(&item.0).map_or("", |o| o.name.as_str()),
            from,
            &out.mesh,
            &mut bodies,
        );
        bodies[known..].iter_mut().for_each(|b| b.beams = out.solid == solid);
    }
    let PlacedObject { mesh, beams, .. } = out;
    if mesh.triangles.is_empty() {
        return Err(FormatError::NothingToBuild);
    }
    Ok(Loaded { mesh, bodies, millimetres_per_unit: Some(model.millimetres), beams, format: "3MF" })
}

/// Bytes of the longest element or text between elements.
const LONGEST_EVENT: usize = 1 << 20;
/// Elements within each other.
const DEEPEST: usize = 32;
/// Components within each other.
const DEEPEST_COMPONENT: usize = 16;
/// Characters of an object's name that are kept.
const LONGEST_NAME: usize = 200;

/// Extensions that may be required: what they say of shapes is read, or they say nothing of shapes.
const KNOWN: [&str; 4] = [
    "http://schemas.microsoft.com/3dmanufacturing/core/2015/02",
    "http://schemas.microsoft.com/3dmanufacturing/beamlattice/2017/02",
    "http://schemas.microsoft.com/3dmanufacturing/material/2015/02",
    "http://schemas.microsoft.com/3dmanufacturing/trianglesets/2021/07",
];

/// Gives a parser no more bytes than `left`, which is filled up before each element: the parser
/// keeps a whole element in memory, however long it is.
struct Fed<R> {
    from: R,
    left: usize,
}

impl<R: BufRead> Read for Fed<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        let given = self.fill_buf()?;
        let n = given.len().min(out.len());
        out[..n].copy_from_slice(&given[..n]);
        self.consume(n);
        Ok(n)
    }
}

impl<R: BufRead> BufRead for Fed<R> {
    fn fill_buf(&mut self) -> std::io::Result<&[u8]> {
        if self.left == 0 {
            return Err(std::io::Error::other(format!(
                "an element is longer than {LONGEST_EVENT} bytes"
            )));
        }
        let held = self.from.fill_buf()?;
        Ok(&held[..held.len().min(self.left)])
    }

    fn consume(&mut self, n: usize) {
        self.left -= n;
        self.from.consume(n);
    }
}

fn too_big(limits: &Limits) -> FormatError {
    FormatError::LargeModel { most: limits.unpacked_bytes >> 20 }
}

#[derive(Default)]
struct Object {
    name: String,
    mesh: TriMesh,
    /// Triangles that are no struts.
    solid: usize,
    /// The beams of its lattice.
    lattice: Vec<Beam>,
    /// Radius of beams that state none, and the length below which a beam is left out.
    beams: (f64, f64),
    components: Vec<(u32, DAffine3)>,
    /// How many items and components name it.
    uses: usize,
}

struct Model {
    millimetres: f64,
    objects: HashMap<u32, Object>,
    items: Vec<(u32, DAffine3)>,
}

/// What was placed so far.
#[derive(Default)]
struct PlacedObject {
    mesh: TriMesh,
    beams: Vec<Beam>,
    /// Triangles that are no struts.
    solid: usize,
    /// Objects placed so far, also those that only hold others: a few lines can name more of them
    /// than any memory holds.
    objects: usize,
}

impl Model {
    fn parse(
        reader: &mut quick_xml::Reader<Fed<impl BufRead>>,
        limits: &Limits,
    ) -> Result<Model, FormatError> {
        let mut text_of_event = Vec::new();
        let mut model = Model { millimetres: 1.0, objects: HashMap::new(), items: Vec::new() };
        let mut current: Option<(u32, Object)> = None;
        let (mut depth, mut named) = (0, 0);
        for step in 0.. {
            limits.go_on(step)?;
            reader.get_mut().left = LONGEST_EVENT;
            let at = reader.buffer_position();
            let wrong =
                |what: &str| broken(format!("The model is not valid at byte {at}: {what}."));
            text_of_event.clear();
            let event =
                reader.read_event_into(&mut text_of_event).map_err(|e| wrong(&e.to_string()))?;
            match &event {
                // The parser keeps the names of all elements that are open.
                Event::Start(_) if depth == DEEPEST => {
                    return Err(wrong("its elements are nested too deeply"))
                }
                Event::Start(_) => depth += 1,
                Event::End(_) => depth -= 1,
                _ => {}
            }
            match event {
                Event::Eof => break,
                Event::DocType(_) => {
                    return Err(wrong("document type declarations are not allowed"))
                }
                Event::Start(e) | Event::Empty(e) => match e.local_name().as_ref() {
                    "model" => {
                        required(&e)?;
                        model.millimetres = unit(&e).ok_or_else(|| wrong("unknown unit"))?;
                    }
                    "object" => {
                        let id = number(&e, "id").ok_or_else(|| wrong("an object without id"))?;
                        let name = text(&e, "name")
                            .unwrap_or_default()
                            .chars()
                            .take(LONGEST_NAME)
                            .collect();
                        current = Some((id, Object { name, ..Object::default() }));
                        limits.place(model.objects.len())?;
                    }
                    "vertex" => {
                        let (_, o) =
                            current.as_mut().ok_or_else(|| wrong("a vertex outside an object"))?;
                        let read = |k: &str| {
                            number::<f64>(&e, k).filter(|v| v.is_finite() && v.abs() <= 1e9)
                        };
                        match (read("x"), read("y"), read("z")) {
                            (Some(x), Some(y), Some(z)) => o.mesh.points.push(DVec3::new(x, y, z)),
                            _ => return Err(wrong("a vertex coordinate is not a usable number")),
                        }
                        limits.hold(&o.mesh)?;
                    }
                    "triangle" => {
                        let (_, o) = current
                            .as_mut()
                            .ok_or_else(|| wrong("a triangle outside an object"))?;
                        let n = o.mesh.points.len() as u32;
                        let read = |k: &str| number::<u32>(&e, k).filter(|&i| i < n);
                        match (read("v1"), read("v2"), read("v3")) {
                            (Some(a), Some(b), Some(c)) => o.mesh.triangles.push([a, b, c]),
                            _ => return Err(wrong("a triangle names a vertex that is not there")),
                        }
                        limits.hold(&o.mesh)?;
                    }
                    "beamlattice" => {
                        let (_, o) = current
                            .as_mut()
                            .ok_or_else(|| wrong("a beam lattice outside an object"))?;
                        o.beams = (
                            number(&e, "radius").unwrap_or(0.0),
                            number(&e, "minlength").unwrap_or(0.0),
                        );
                    }
                    "beam" => {
                        let (_, o) =
                            current.as_mut().ok_or_else(|| wrong("a beam outside an object"))?;
                        o.add_beam(&e).map_err(wrong)?;
                        limits.hold_more(
                            &o.mesh,
                            0,
                            o.lattice.len() * triangles(sides(o.lattice.len())),
                        )?;
                    }
                    "component" => {
                        let (_, o) = current
                            .as_mut()
                            .ok_or_else(|| wrong("a component outside an object"))?;
                        let id = number(&e, "objectid")
                            .ok_or_else(|| wrong("a component without object"))?;
                        named += 1;
                        limits.place(named)?;
                        o.components.push((
                            id,
                            transform(&e).ok_or_else(|| wrong("a transform needs 12 numbers"))?,
                        ));
                    }
                    "item" => {
                        let id = number(&e, "objectid")
                            .ok_or_else(|| wrong("an item without object"))?;
                        named += 1;
                        limits.place(named)?;
                        model.items.push((
                            id,
                            transform(&e).ok_or_else(|| wrong("a transform needs 12 numbers"))?,
                        ));
                    }
                    _ => {}
                },
                Event::End(e) if e.local_name().as_ref() == "object" => {
                    if let Some((id, mut o)) = current.take() {
                        o.solid = o.mesh.triangles.len();
                        let sides = sides(o.lattice.len());
                        let struts =
                            o.lattice.iter().map(|b| strut(b.ends[0], b.ends[1], b.radii, sides));
                        struts.for_each(|strut| o.mesh.append(&strut));
                        model.objects.insert(id, o);
                    }
                }
                _ => {}
            }
        }
        let named = model
            .objects
            .values()
            .flat_map(|o| &o.components)
            .chain(&model.items)
            .map(|named| named.0);
        for id in named.collect::<Vec<_>>() {
            model.objects.entry(id).and_modify(|o| o.uses += 1);
        }
        Ok(model)
    }

    /// Places an object and what it holds. An object that stands in one place only goes into `out`
    /// as it is, and is not held twice: `once` tells that what names it stands in one place.
    fn place(
        &mut self,
        (id, at): (u32, DAffine3),
        (depth, once): (usize, bool),
        limits: &Limits,
        out: &mut PlacedObject,
    ) -> Result<(), FormatError> {
        out.objects += 1;
        limits.place(out.objects)?;
        limits.go_on(out.objects)?;
        let object = self
            .objects
            .get_mut(&id)
            .ok_or_else(|| broken(format!("Object {id} is used but not there.")))?;
        if depth > DEEPEST_COMPONENT {
            return Err(broken("Its components are nested too deeply."));
        }
        out.solid += object.solid;
        limits.hold_more(&out.mesh, object.mesh.points.len(), object.mesh.triangles.len())?;
        let scaled = DAffine3::from_scale(DVec3::splat(self.millimetres)) * at;
        let once = once && object.uses == 1;
        let mesh = if once { std::mem::take(&mut object.mesh) } else { object.mesh.clone() };
        let mesh = mesh.mapped(|p| scaled.transform_point3(p));
        if out.mesh.triangles.is_empty() && out.mesh.points.is_empty() {
            out.mesh = mesh;
        } else {
            out.mesh.append(&mesh);
        }
        // Of a place that stretches one way more than others a circle's mean.
        let wider = scaled.matrix3.determinant().abs().cbrt();
        let placed = |b: &Beam| Beam {
            ends: b.ends.map(|p| scaled.transform_point3(p)),
            radii: b.radii.map(|r| r * wider),
        };
        out.beams.extend(object.lattice.iter().map(placed));
        for (child, t) in object.components.clone() {
            self.place((child, at * t), (depth + 1, once), limits, out)?;
        }
        Ok(())
    }
}

impl Object {
    /// A beam of the lattice as a strut of its own; where struts meet they overlap.
    fn add_beam(&mut self, e: &BytesStart) -> Result<(), &'static str> {
        let end = |k: &str| number::<usize>(e, k).and_then(|i| self.mesh.points.get(i).copied());
        let (Some(from), Some(to)) = (end("v1"), end("v2")) else {
            return Err("a beam names a vertex that is not there");
        };
        let usable = |r: &f64| r.is_finite() && *r > 0.0 && *r <= 1e9;
        let radius = |k: &str, otherwise: f64| number(e, k).unwrap_or(otherwise);
        let first = radius("r1", self.beams.0);
        let radii = [first, radius("r2", first)];
        if !radii.iter().all(usable) {
            return Err("a beam has no usable radius");
        }
        if from.distance(to) > self.beams.1 {
            self.lattice.push(Beam { ends: [from, to], radii });
        }
        Ok(())
    }
}

/// The value of an attribute by its whole name. Names that repeat are not looked for: that takes
/// the square of their number.
fn attribute<'a>(e: &'a BytesStart, key: &str) -> Option<Cow<'a, str>> {
    let found = e.attributes().with_checks(false).flatten().find(|a| a.key.as_ref() == key)?;
    found.normalized_value(XmlVersion::Implicit1_0).ok()
}

fn text(e: &BytesStart, key: &str) -> Option<String> {
    attribute(e, key).map(Cow::into_owned)
}

fn number<T: std::str::FromStr>(e: &BytesStart, key: &str) -> Option<T> {
    attribute(e, key)?.trim().parse().ok()
}

/// Refuses extensions that the file requires and that are not read.
fn required(e: &BytesStart) -> Result<(), FormatError> {
    for prefix in text(e, "requiredextensions").unwrap_or_default().split_whitespace() {
        let space = text(e, &format!("xmlns:{prefix}")).unwrap_or_default();
        if !KNOWN.contains(&space.as_str()) {
            let name = space
                .strip_prefix("http://schemas.microsoft.com/3dmanufacturing/")
                .unwrap_or(&space);
            let name: String =
                if name.is_empty() { prefix } else { name }.chars().take(LONGEST_NAME).collect();
            return Err(FormatError::UnknownExtension(name));
        }
    }
    Ok(())
}

/// Millimetres per model unit; the specification's default is the millimetre.
fn unit(e: &BytesStart) -> Option<f64> {
    match text(e, "unit").as_deref() {
        None | Some("millimeter") => Some(1.0),
        Some("micron") => Some(0.001),
        Some("centimeter") => Some(10.0),
        Some("inch") => Some(25.4),
        Some("foot") => Some(304.8),
        Some("meter") => Some(1000.0),
        Some(_) => None,
    }
}

fn transform(e: &BytesStart) -> Option<DAffine3> {
    let Some(t) = text(e, "transform") else { return Some(DAffine3::IDENTITY) };
    let v: Vec<f64> = t
        .split_whitespace()
        .map(|w| w.parse().ok().filter(|x: &f64| x.is_finite()))
        .collect::<Option<_>>()?;
    let row = |i: usize| DVec3::new(v[i], v[i + 1], v[i + 2]);
    // Row vectors in the file: its rows are the columns here.
    (v.len() == 12)
        .then(|| DAffine3::from_mat3_translation(DMat3::from_cols(row(0), row(3), row(6)), row(9)))
}

#[cfg(test)]
mod tests;
