//! Printing: text or JSON, never failing on a closed pipe.

use std::{
    io::{self, Write},
    sync::{Mutex, PoisonError},
};

use base64::Engine as _;
use serde_json::{Value, json};

use crate::words;

/// Writes to stdout what is harmless to a terminal; a reader that went away is no failure.
pub(crate) fn text(text: &str) {
    let mut out = io::stdout().lock();
    let written = out.write_all(words::harmless(text).as_bytes()).and_then(|()| out.flush());
    // There is nobody left to tell.
    let _ = written;
}

/// A line to stdout.
pub(crate) fn line(line: impl AsRef<str>) {
    text(&format!("{}\n", line.as_ref()));
}

/// Whether the document was printed.
static PRINTED: Mutex<bool> = Mutex::new(false);

/// A JSON document to stdout.
pub(crate) fn json(value: &Value) {
    let mut printed = PRINTED.lock().unwrap_or_else(PoisonError::into_inner);
    *printed = true;
    print_json(value);
}

/// As [`json`], unless there was one already. The process is about to end, so that none follows.
pub(crate) fn last_json(value: &Value) {
    let mut printed = PRINTED.lock().unwrap_or_else(PoisonError::into_inner);
    if !std::mem::replace(&mut *printed, true) {
        print_json(value);
    }
    // Whoever wants to print now waits until the process has ended.
    std::mem::forget(printed);
}

fn print_json(value: &Value) {
    let mut out = String::new();
    for c in value.to_string().chars() {
        // In JSON these stand in strings only, where they have this form as well.
        if words::is_harmful(c) {
            let mut units = [0; 2];
            c.encode_utf16(&mut units)
                .iter()
                .for_each(|unit| out.push_str(&format!("\\u{unit:04x}")));
        } else {
            out.push(c);
        }
    }
    line(out);
}

/// A path in JSON: text where it is UTF-8, else in base64.
pub(crate) fn json_path(path: &[u8]) -> Value {
    match std::str::from_utf8(path) {
        Ok(text) => json!(text),
        Err(_) => json!({"base64": base64::engine::general_purpose::STANDARD.encode(path)}),
    }
}

/// Rows in columns; the columns named in `right` are set flush right.
pub(crate) fn table(head: &[&str], right: &[usize], rows: &[Vec<String>]) -> String {
    use unicode_width::UnicodeWidthStr as _;
    let all = || {
        std::iter::once(head.iter().map(|cell| (*cell).to_owned()).collect::<Vec<_>>())
            .chain(rows.iter().cloned())
    };
    let mut widths = vec![0; head.len()];
    for row in all() {
        row.iter().zip(&mut widths).for_each(|(cell, width)| *width = (*width).max(cell.width()));
    }
    let mut out = String::new();
    for row in all() {
        let mut line = String::new();
        for (column, cell) in row.iter().enumerate() {
            let blanks = " ".repeat(widths[column] - cell.width());
            match right.contains(&column) {
                true => line.push_str(&format!("{blanks}{cell}  ")),
                false => line.push_str(&format!("{cell}{blanks}  ")),
            }
        }
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}

/// Asks a question on the terminal; whether the answer was yes.
pub(super) fn agreed(question: &str) -> io::Result<bool> {
    text(question);
    io::stdout().flush()?;
    let answer = io::stdin().lines().next().transpose()?.unwrap_or_default();
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}
