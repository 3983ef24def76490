//! What a reader may spend on a file.

use crate::FormatError;
use ulmix_mesh::TriMesh;

/// Asked now and then by what can take long: does nobody wait for it any more?
pub type Stopped<'a> = &'a (dyn Fn() -> bool + Sync);

/// Ends work that nobody waits for.
///
/// # Errors
/// [`FormatError::Stopped`] where `stopped` answers `true`.
pub fn go_on(stopped: Stopped) -> Result<(), FormatError> {
    if stopped() {
        return Err(FormatError::Stopped);
    }
    Ok(())
}

/// What a reader may spend on a file. A file of a few hundred bytes can ask for more than any
/// computer has, so that everything that a file can make grow is bounded here, and whoever waits
/// for the file can stop the reader.
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
    /// Most corners of one polygon that is not convex: cutting it into triangles takes up to the
    /// square of their number.
    pub corners: usize,
    /// Asked now and then; the reader ends with [`FormatError::Stopped`] when it answers `true`.
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
        self.hold_all(mesh.points.len(), mesh.triangles.len())
    }

    /// Refuses what would make a mesh too large.
    pub(crate) fn hold_more(
        &self,
        mesh: &TriMesh,
        points: usize,
        triangles: usize,
    ) -> Result<(), FormatError> {
        self.hold_all(
            mesh.points.len().saturating_add(points),
            mesh.triangles.len().saturating_add(triangles),
        )
    }

    /// Refuses a mesh of so many points and triangles, or several that have so many together.
    ///
    /// # Errors
    /// More triangles or points than the limits allow.
    pub fn hold_all(&self, points: usize, triangles: usize) -> Result<(), FormatError> {
        let (what, most) = if triangles > self.triangles {
            ("triangles", self.triangles)
        } else if points > self.points {
            ("points", self.points)
        } else {
            return Ok(());
        };
        Err(FormatError::TooMany { what, most })
    }

    /// Refuses too many objects or places of objects.
    pub(crate) fn place(&self, so_far: usize) -> Result<(), FormatError> {
        if so_far <= self.placements {
            return Ok(());
        }
        Err(FormatError::TooManyObjects { most: self.placements })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    #[test]
    fn what_reaches_a_limit_is_held_and_what_passes_it_is_refused_by_its_name() {
        let limits =
            Limits { triangles: 12, points: 2_000_000, placements: 3, ..Limits::default() };
        let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        assert!(limits.hold(&cube).is_ok() && limits.place(3).is_ok());
        let said = |r: Result<(), FormatError>| r.unwrap_err().to_string();
        assert_eq!(said(limits.hold_more(&cube, 0, 1)), "The file holds more than 12 triangles.");
        assert_eq!(
            said(limits.hold_more(&cube, usize::MAX, 0)),
            "The file holds more than 2 million points."
        );
        assert_eq!(said(limits.place(4)), "The file places more than 3 objects.");
    }

    #[test]
    fn a_reader_looks_now_and_then_whether_anybody_waits() {
        let stopped = || true;
        let limits = Limits::until(&stopped);
        assert!((1..LOOK_EVERY).all(|step| limits.go_on(step).is_ok()));
        assert!(
            limits.go_on(LOOK_EVERY).unwrap_err().is_stopped()
                && go_on(&stopped).unwrap_err().is_stopped()
        );
        assert!(Limits::default().go_on(0).is_ok() && !FormatError::Empty.is_stopped());
    }
}
