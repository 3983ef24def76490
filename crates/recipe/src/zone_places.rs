//! Where zones and skins lie: the slice of [`Zones`] that regions of a part follow from.

use super::zones::{FaceMark, Place, Role, Zones};
use serde::Serialize;

/// Where zones and skins lie and what becomes of the part there, without names and without what
/// fills the zones: all that regions of a part follow from.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ZonePlaces<'a> {
    /// What becomes of the part outside all zones.
    pub rest: Role,
    /// Zones, in the order in which they hold.
    pub zones: Vec<ZonePlace<'a>>,
    /// Skins.
    pub skins: Vec<SkinPlace<'a>>,
}

/// Where one zone lies.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ZonePlace<'a> {
    /// Number of the zone.
    pub id: u32,
    /// What becomes of the part there.
    pub role: Role,
    /// Where the zone lies.
    pub place: &'a Place,
    /// Width across the border over which the zone's own filling passes into what is around it;
    /// `None` for a zone without a filling of its own. mm.
    pub own_blend_mm: Option<f64>,
}

/// Where one skin lies.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct SkinPlace<'a> {
    /// Number of the skin.
    pub id: u32,
    /// Faces that the skin covers; `None` for the whole part.
    pub faces: Option<&'a [FaceMark]>,
    /// Depth of the skin below the faces. mm.
    pub depth_mm: f64,
}

/// What names faces of a part.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub enum FacesOf {
    /// The zone of this number.
    Zone(u32),
    /// The skin of this number.
    Skin(u32),
}

impl<'a> From<&'a Zones> for ZonePlaces<'a> {
    fn from(zones: &'a Zones) -> ZonePlaces<'a> {
        zones.places()
    }
}
