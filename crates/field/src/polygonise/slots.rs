//! Lists filled in parallel, each row of cells in a part of its own.

/// What rows write into: a slice, or two side by side.
pub(super) trait Slots: Send + Sized {
    /// Parted before a slot that is the first of a row, so many rows on.
    fn split(self, at: usize, rows: usize) -> (Self, Self);
    fn is_empty(&self) -> bool;
}

/// One slot a row.
pub(super) struct ByRow<'a, T>(pub &'a mut [T]);

impl<T: Send> Slots for ByRow<'_, T> {
    fn split(self, _: usize, rows: usize) -> (Self, Self) {
        let (a, b) = self.0.split_at_mut(rows);
        (ByRow(a), ByRow(b))
    }
    fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl<T: Send> Slots for &mut [T] {
    fn split(self, at: usize, _: usize) -> (Self, Self) {
        self.split_at_mut(at)
    }
    fn is_empty(&self) -> bool {
        <[T]>::is_empty(self)
    }
}

impl<A: Slots, B: Slots> Slots for (A, B) {
    fn split(self, at: usize, rows: usize) -> (Self, Self) {
        let ((a, c), (b, d)) = (self.0.split(at, rows), self.1.split(at, rows));
        ((a, b), (c, d))
    }
    fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}
