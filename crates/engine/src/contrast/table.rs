//! Tables as text: columns of both sides aligned, and compared cell by cell.

use unicode_width::UnicodeWidthStr;

use super::Part;

/// What may stand between cells.
const BETWEEN: [char; 4] = ['\t', ';', ',', '|'];
/// So many lines of each side tell whether it is a table.
const LOOKED_AT: usize = 50;
/// No column is aligned to more, in columns of the screen.
const WIDEST: usize = 28;
/// No table has more columns.
const MOST_COLUMNS: usize = 200;
/// What stands between aligned cells.
const GAP: &str = "  ";

/// How a table is laid out.
pub(super) struct Shape {
    between: char,
    widths: Vec<usize>,
}

/// The cells of a line; a quoted one may hold what stands between cells (RFC 4180).
fn cells(line: &str, between: char) -> Vec<&str> {
    let (mut cells, mut from, mut is_quoted) = (Vec::new(), 0, false);
    for (at, c) in line.char_indices() {
        match c {
            '"' => is_quoted = !is_quoted,
            c if c == between && !is_quoted && cells.len() + 1 < MOST_COLUMNS => {
                cells.push(&line[from..at]);
                from = at + c.len_utf8();
            }
            _ => {}
        }
    }
    cells.push(&line[from..]);
    cells
}

impl Shape {
    /// The shape of two tables that belong together; none if they are none.
    pub fn of(before: &[&str], now: &[&str]) -> Option<Self> {
        let first = || before.iter().take(LOOKED_AT).chain(now.iter().take(LOOKED_AT));
        let lines: Vec<&&str> = first().filter(|line| !line.trim().is_empty()).collect();
        if lines.len() < 2 {
            return None;
        }
        let between = BETWEEN.into_iter().find(|between| {
            let many = cells(lines[0], *between).len();
            many > 1 && lines.iter().all(|line| cells(line, *between).len() == many)
        })?;
        let mut widths = Vec::new();
        for line in before.iter().chain(now) {
            for (number, cell) in cells(line, between).into_iter().enumerate() {
                let width = cell.width().min(WIDEST);
                match widths.get_mut(number) {
                    Some(widest) => *widest = width.max(*widest),
                    None => widths.push(width),
                }
            }
        }
        Some(Self { between, widths })
    }

    /// A cell with the blanks that align the next.
    fn padded(&self, number: usize, cell: &str, is_last: bool) -> String {
        if is_last {
            return cell.to_owned();
        }
        let wanted = self.widths.get(number).copied().unwrap_or(0);
        format!("{cell}{}{GAP}", " ".repeat(wanted.saturating_sub(cell.width())))
    }

    /// A line with its cells aligned.
    pub fn aligned(&self, line: &str) -> String {
        let cells = cells(line, self.between);
        let last = cells.len() - 1;
        let padded = |(number, cell): (usize, &&str)| self.padded(number, cell, number == last);
        cells.iter().enumerate().map(padded).collect()
    }

    /// Two lines, cell by cell.
    pub fn cells(&self, before: &str, now: &str) -> (Vec<Part>, Vec<Part>) {
        let (old, new) = (cells(before, self.between), cells(now, self.between));
        let side = |own: &[&str], other: &[&str]| {
            let part = |(number, cell): (usize, &&str)| Part {
                text: self.padded(number, cell, number + 1 == own.len()),
                is_changed: other.get(number) != Some(cell),
            };
            own.iter().enumerate().map(part).collect()
        };
        (side(&old, &new), side(&new, &old))
    }
}
