//! A list filled from several threads, each in a part of its own.

/// Takes so many from the front of a list, which must hold them.
pub fn split_off<'a, T>(list: &mut &'a mut [T], length: usize) -> &'a mut [T] {
    list.split_off_mut(..length).expect("no part is longer than what is left")
}
