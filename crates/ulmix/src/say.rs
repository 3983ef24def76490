//! Lines for a person or another program on standard output.

use std::fmt::Arguments;
use std::io::{stdout, Write};

/// Writes a line. A reader who has closed the pipe, as `head` does, wants no more: that is no
/// error, and the work goes on.
pub(crate) fn line(text: Arguments) {
    let _ = writeln!(stdout(), "{text}");
}

/// As `println!`, by [`line()`].
macro_rules! say {
    ($($text:tt)*) => { crate::say::line(format_args!($($text)*)) };
}
pub(crate) use say;
