//! Printing: text or JSON, never failing on a closed pipe.

use std::{
    io::{self, BufWriter, Write},
    sync::{Mutex, MutexGuard, PoisonError},
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

/// How much of the JSON document was printed.
enum Document {
    Nothing,
    /// A list that grows.
    Open(List),
    Whole,
}

struct List {
    out: BufWriter<io::Stdout>,
    /// Of the list, and of the list within its last item if that has one: whether it is empty.
    is_empty: Vec<bool>,
}

static DOCUMENT: Mutex<Document> = Mutex::new(Document::Nothing);

fn document() -> MutexGuard<'static, Document> {
    DOCUMENT.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A path that could not be handled, as JSON.
pub(crate) fn exception_json(exception: &skellin_engine::Exception) -> Value {
    let cause = &exception.cause;
    json!({"path": json_path(&exception.path), "cause": cause.kind.code(), "reason": cause.words})
}

/// A JSON document to stdout.
pub(crate) fn json(value: &Value) {
    let mut document = document();
    match std::mem::replace(&mut *document, Document::Whole) {
        Document::Open(list) => list.close(value),
        Document::Nothing | Document::Whole => line(harmless_json(value)),
    }
}

/// Begins a document whose last field is a list, which may be longer than memory holds; the next
/// [`json`] ends it with the fields that come after the list.
pub(crate) fn json_list(first: &Value, list: &str) {
    let open = List { out: BufWriter::new(io::stdout()), is_empty: vec![true] };
    *document() = Document::Open(open.named(first, list));
}

/// Adds an item whose last field is a list: what follows goes into that, until
/// [`json_item_ends`].
pub(crate) fn json_item_with_list(item: &Value, list: &str) {
    let mut document = document();
    *document = match std::mem::replace(&mut *document, Document::Nothing) {
        Document::Open(mut open) => {
            open.comma();
            let mut open = open.named(item, list);
            open.is_empty.push(true);
            Document::Open(open)
        }
        other => other,
    };
}

/// Ends the list of the item that [`json_item_with_list`] began, and the item.
pub(crate) fn json_item_ends() {
    if let Document::Open(list) = &mut *document() {
        list.is_empty.pop();
        let _ = list.out.write_all(b"]}");
    }
}

/// Adds to the list that was begun.
pub(crate) fn json_item(item: &Value) {
    if let Document::Open(list) = &mut *document() {
        list.comma();
        let _ = list.out.write_all(harmless_json(item).as_bytes());
    }
}

impl List {
    /// Begins an object whose last field is a list. A reader that went away is no failure.
    fn named(mut self, object: &Value, list: &str) -> Self {
        let _ = self.out.write_all(b"{");
        for (name, value) in object.as_object().into_iter().flatten() {
            let field = format!("{}:{},", harmless_json(&json!(name)), harmless_json(value));
            let _ = self.out.write_all(field.as_bytes());
        }
        let _ = self.out.write_all(format!("{}:[", harmless_json(&json!(list))).as_bytes());
        self
    }

    fn comma(&mut self) {
        if let Some(false) = self.is_empty.last_mut().map(std::mem::take) {
            let _ = self.out.write_all(b",");
        }
    }

    fn close(mut self, rest: &Value) {
        let fields = rest.as_object().into_iter().flatten();
        let fields: String = fields
            .map(|(name, value)| {
                format!(",{}:{}", harmless_json(&json!(name)), harmless_json(value))
            })
            .collect();
        let inner = "]}".repeat(self.is_empty.len().saturating_sub(1));
        let ended = self.out.write_all(format!("{inner}]{fields}}}\n").as_bytes());
        let _ = ended.and_then(|()| self.out.flush());
    }
}

/// As [`json`], unless there was one already. The process is about to end, so that none follows.
pub(crate) fn last_json(value: &Value) {
    let mut document = document();
    match std::mem::replace(&mut *document, Document::Whole) {
        Document::Nothing => line(harmless_json(value)),
        Document::Open(list) => list.close(value),
        Document::Whole => {}
    }
    // Whoever wants to print now waits until the process has ended.
    std::mem::forget(document);
}

fn harmless_json(value: &Value) -> String {
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
    out
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
