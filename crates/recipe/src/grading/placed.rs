//! A grading with what its sources name.

use super::{Grading, GradingSource, Source, SourceRule, ValuePoint};
use crate::{Place, Role, Zones};
use serde::Serialize;

/// All that the values of a grading follow from, beside the part: its rule, and its sources with the
/// places of the zones that they are distances from. Names, and what the values are used for, are no
/// part of it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PlacedGrading<'a> {
    /// How the values of several sources become one.
    pub rule: SourceRule,
    /// The sources, with what each names.
    pub sources: Vec<PlacedSource<'a>>,
}

/// A source of a grading with what it names.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PlacedSource<'a> {
    /// The source.
    pub source: &'a GradingSource,
    /// Places that the source is a distance from: those of a zone, or of all that are kept solid.
    pub places: Vec<&'a Place>,
    /// The grading that the source follows.
    pub follows: Option<Box<PlacedGrading<'a>>>,
}

impl<'a> PlacedGrading<'a> {
    /// A grading among those of its filling, of which none follows itself.
    pub fn new(grading: &'a Grading, all: &'a [Grading], zones: &'a Zones) -> PlacedGrading<'a> {
        let placed = |source: &'a GradingSource| {
            let zone = |id: u32| zones.list.iter().filter(move |z| z.id == id).map(|z| &z.place);
            let kept = || zones.list.iter().filter(|z| z.role == Role::KeepSolid).map(|z| &z.place);
            let places = match source.from {
                Source::Zone { id } => zone(id).collect(),
                Source::Solids => kept().collect(),
                _ => Vec::new(),
            };
            let followed = if let Source::Grading { id } = source.from { Some(id) } else { None };
            let follows = followed
                .and_then(|id| all.iter().find(|g| g.id == id && g.id != grading.id))
                .map(|g| Box::new(PlacedGrading::new(g, all, zones)));
            PlacedSource { source, places, follows }
        };
        PlacedGrading { rule: grading.rule, sources: grading.sources.iter().map(placed).collect() }
    }

    /// The shortest length over which the value may change from one that is named to another.
    /// Infinite where it is the same everywhere. mm.
    pub fn finest_mm(&self) -> f64 {
        self.sources.iter().map(PlacedSource::finest_mm).fold(f64::INFINITY, f64::min)
    }
}

impl PlacedSource<'_> {
    fn finest_mm(&self) -> f64 {
        let followed = self.follows.as_ref().map_or(f64::INFINITY, |g| g.finest_mm());
        let points = self.source.from.points();
        let apart = |n: usize| {
            let away = |p: &ValuePoint| {
                let d = |i: usize| p.place_mm[i] - points[n].place_mm[i];
                (0..3).map(|i| d(i).powi(2)).sum::<f64>().sqrt()
            };
            points[..n].iter().map(away).fold(f64::INFINITY, f64::min)
        };
        let own = match &self.source.from {
            // Their numbers are no lengths.
            Source::Grading { .. } | Source::Table { .. } => f64::INFINITY,
            Source::Points { .. } => (1..points.len()).map(apart).fold(f64::INFINITY, f64::min),
            _ => {
                let points = self.source.curve.iter().flat_map(|c| c.points.windows(2));
                points.map(|w| w[1][0] - w[0][0]).fold(f64::INFINITY, f64::min)
            }
        };
        own.min(followed)
    }
}
