//! Two texts beside each other.

use std::time::Instant;

use similar::{Algorithm, DiffOp, TextDiff, capture_diff_slices_deadline};

use super::{Contrast, MOST_LINES, Row, folded, table};

/// In longer lines, in bytes, no words are told apart.
const LONGEST: usize = 4096;

/// Part of a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// The text, as it stands in the file.
    pub text: String,
    /// Whether the other side has something else there.
    pub is_changed: bool,
}

/// A line on one side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Side {
    /// Its number, from 1.
    pub number: usize,
    /// What stands in it.
    pub parts: Vec<Part>,
}

/// A line beside what it was; a line that only one side has stands alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinePair {
    /// What it was.
    pub before: Option<Side>,
    /// What it is.
    pub now: Option<Side>,
    /// Whether the two differ.
    pub differs: bool,
}

/// Compares two texts line by line (Myers, "An O(ND) difference algorithm", 1986).
pub(super) fn compare(before: &str, now: &str, until: Instant) -> Contrast {
    let old: Vec<&str> = before.lines().take(MOST_LINES).collect();
    let new: Vec<&str> = now.lines().take(MOST_LINES).collect();
    let operations = capture_diff_slices_deadline(Algorithm::Myers, &old, &new, Some(until));
    let shape = table::Shape::of(&old, &new);
    let line = |lines: &[&str], number: usize, parts: Option<Vec<Part>>| {
        let whole = || {
            let text = match &shape {
                Some(shape) => shape.aligned(lines[number]),
                None => lines[number].to_owned(),
            };
            vec![Part { text, is_changed: false }]
        };
        Side { number: number + 1, parts: parts.unwrap_or_else(whole) }
    };
    let mut pairs = Vec::new();
    let mut counts = (0u64, 0u64);
    for operation in &operations {
        let (from, to) = (operation.old_range(), operation.new_range());
        if let DiffOp::Equal { .. } = operation {
            for (a, b) in from.zip(to) {
                let before = Some(line(&old, a, None));
                pairs.push(LinePair { before, now: Some(line(&new, b, None)), differs: false });
            }
            continue;
        }
        counts.0 += to.len() as u64;
        counts.1 += from.len() as u64;
        let both = from.len().min(to.len());
        for (a, b) in from.clone().zip(to.clone()) {
            let (before, now) = match &shape {
                Some(shape) => shape.cells(old[a], new[b]),
                None => words(old[a], new[b], until),
            };
            pairs.push(LinePair {
                before: Some(line(&old, a, Some(before))),
                now: Some(line(&new, b, Some(now))),
                differs: true,
            });
        }
        for a in from.skip(both) {
            pairs.push(LinePair { before: Some(line(&old, a, None)), now: None, differs: true });
        }
        for b in to.skip(both) {
            pairs.push(LinePair { before: None, now: Some(line(&new, b, None)), differs: true });
        }
    }
    let is_same = counts == (0, 0);
    let rows = match is_same {
        // Nothing but line ends, or what lies behind the last line that was compared.
        true => vec![Row::Same(pairs.len() as u64)],
        false => folded(pairs, |pair| pair.differs, |_| 1),
    };
    Contrast::Text { rows, counts, is_table: shape.is_some() }
}

/// Two lines, word by word.
fn words(before: &str, now: &str, until: Instant) -> (Vec<Part>, Vec<Part>) {
    let whole = |text: &str| vec![Part { text: text.to_owned(), is_changed: true }];
    if before.len() > LONGEST || now.len() > LONGEST || Instant::now() > until {
        return (whole(before), whole(now));
    }
    let diff = TextDiff::configure().deadline(until).diff_unicode_words(before, now);
    let (mut old, mut new) = (Vec::new(), Vec::new());
    for operation in diff.ops() {
        let is_changed = !matches!(operation, DiffOp::Equal { .. });
        let text = |slices: &[&str], range: std::ops::Range<usize>| slices[range].concat();
        push(&mut old, text(diff.old_slices(), operation.old_range()), is_changed);
        push(&mut new, text(diff.new_slices(), operation.new_range()), is_changed);
    }
    (old, new)
}

fn push(parts: &mut Vec<Part>, text: String, is_changed: bool) {
    if !text.is_empty() {
        parts.push(Part { text, is_changed });
    }
}
