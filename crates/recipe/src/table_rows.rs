//! Lines of a table of numbers, as spreadsheets and programs write them.

/// A line with its cells.
pub(crate) struct TableRow {
    /// Number of the line in the text, from 1.
    pub line: usize,
    /// Is this the first line that holds anything? It may hold names.
    pub first: bool,
    /// The cells, without quotes around them.
    pub cells: Vec<String>,
}

impl TableRow {
    /// The number of a cell, from 0; `None` where there is none, or not a finite one.
    pub(crate) fn number(&self, cell: usize) -> Option<f64> {
        self.cells.get(cell)?.parse().ok().filter(|v: &f64| v.is_finite())
    }

    /// How the line begins.
    pub(crate) fn text(&self) -> String {
        self.cells.join(" ").chars().take(40).collect()
    }
}

/// The lines of a table: cells are apart by semicolons, or else by commas, tabs or spaces, whichever
/// of these a line has first in that order. Empty lines and lines from `#` on are passed over. Between
/// semicolons a comma is a decimal one.
pub(crate) fn rows(text: &str) -> impl Iterator<Item = TableRow> + '_ {
    let lines = text.trim_start_matches('\u{feff}').lines().enumerate();
    let full = lines
        .map(|(n, line)| (n + 1, line.trim()))
        .filter(|(_, line)| !line.is_empty() && !line.starts_with('#'));
    full.enumerate().map(|(n, (line, text))| {
        let cells: Vec<&str> = match [';', ',', '\t'].into_iter().find(|mark| text.contains(*mark))
        {
            Some(mark) => text.trim_end_matches(mark).split(mark).collect(),
            None => text.split_whitespace().collect(),
        };
        let decimal = text.contains(';');
        let plain = |cell: &str| {
            let cell = cell.trim().trim_matches('"').trim();
            if decimal {
                cell.replace(',', ".")
            } else {
                cell.to_owned()
            }
        };
        TableRow { line, first: n == 0, cells: cells.into_iter().map(plain).collect() }
    })
}
