//! What a reader may spend on a file.

use crate::FormatError;
use ulmix_mesh::TriMesh;

/// Asked now and then by what can take long: does nobody wait for it any more?
pub type Stopped<'a> = &'a (dyn Fn() -> bool + Sync);

/// Ends work that nobody waits for.
///
/// # Errors
/// [`FormatError::is_stopped`] where `stopped` answers `true`.
pub fn go_on(stopped: Stopped) -> Result<(), FormatError> {
    if stopped() {
        return Err(FormatError::stopped());
    }
    Ok(())
}

/// What a reader may spend on a file. A file of a few hundred bytes can ask for more than any computer has, so that
/// everything that a file can make grow is bounded here, and whoever waits for the file can stop the reader.
#[derive(Clone, Copy)]
pub struct Limits<'a> {
    /// Most triangles of the mesh.
    pub triangles: usize,
    /// Most points of the mesh, those of no triangle included.
    pub points: usize,
    /// Most bytes of one unpacked archive entry.
    pub unpacked_bytes: u64,
    /// Most objects, and most places at which objects stand.
    pub placements: usize,
    /// Most corners of one polygon that is not convex: cutting it into triangles takes up to the square of their number.
    pub corners: usize,
    /// Asked now and then; the reader ends with [`FormatError::is_stopped`] when it answers `true`.
    pub stopped: Stopped<'a>,
}

/// Steps of a reader between two looks at [`Limits::stopped`].
const LOOK_EVERY: usize = 1 << 12;

impl Default for Limits<'_> {
    fn default() -> Self {
        Limits {
            triangles: 12_000_000,
            points: 16_000_000,
            unpacked_bytes: 2 << 30,
            placements: 100_000,
            corners: 10_000,
            stopped: &|| false,
        }
    }
}

impl<'a> Limits<'a> {
    /// The usual limits of work that can be stopped.
    pub fn until(stopped: Stopped<'a>) -> Limits<'a> {
        Limits { stopped, ..Limits::default() }
    }

    /// Ends the reader if nobody waits for it any more. `step` counts lines, rows or elements.
    pub(crate) fn go_on(&self, step: usize) -> Result<(), FormatError> {
        if step.is_multiple_of(LOOK_EVERY) {
            go_on(self.stopped)?;
        }
        Ok(())
    }

    /// Refuses a mesh that has grown too large.
    pub(crate) fn hold(&self, mesh: &TriMesh) -> Result<(), FormatError> {
        self.hold_more(mesh, 0, 0)
    }

    /// Refuses what would make a mesh too large.
    ///
    /// # Errors
    /// More triangles or points than the limits allow.
    pub fn hold_more(&self, mesh: &TriMesh, points: usize, triangles: usize) -> Result<(), FormatError> {
        let past = |have: usize, more: usize, most: usize| have.saturating_add(more) > most;
        let (what, most) = if past(mesh.triangles.len(), triangles, self.triangles) {
            ("triangles", self.triangles)
        } else if past(mesh.points.len(), points, self.points) {
            ("points", self.points)
        } else {
            return Ok(());
        };
        let most = if most % 1_000_000 == 0 { format!("{} million", most / 1_000_000) } else { most.to_string() };
        Err(FormatError::new(format!("The file holds more than {most} {what}."), "Reduce the part before bringing it in."))
    }

    /// Refuses too many objects or places of objects.
    pub(crate) fn place(&self, so_far: usize) -> Result<(), FormatError> {
        if so_far <= self.placements {
            return Ok(());
        }
        Err(FormatError::new(
            format!("The file places more than {} objects.", self.placements),
            "Join its objects before exporting, or export the part alone.",
        ))
    }
}
