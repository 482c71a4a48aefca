//! `compare --content`: in what a file differs.

use std::path::Path;

use serde_json::{Value, json};
use skellin_engine::{
    EngineError,
    contrast::{self, ByteRow, COMPARED, Content, Contrast, LinePair, Row, Side},
    history::{self, Located},
};
use skellin_store::Store;

use super::{error::CliError, output};
use crate::words;

/// A file's first bytes and its size; none where it is not there.
pub(super) type Bytes = Option<(Vec<u8>, u64)>;

/// A file of a snapshot.
pub(super) fn kept(store: &Store, located: Option<&Located>) -> Result<Bytes, CliError> {
    let Some(located) = located else { return Ok(None) };
    Ok(Some((history::head(store, located, COMPARED)?, located.entry.size())))
}

/// A file as it is now.
pub(super) fn live(path: &Path) -> Result<Bytes, CliError> {
    match contrast::beginning(path, COMPARED) {
        Err(EngineError::Local { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
            Ok(None)
        }
        other => Ok(Some(other?)),
    }
}

/// Whether only the beginnings were compared, and in what they differ.
pub(super) fn contrasted(before: &Bytes, now: &Bytes) -> (bool, Contrast) {
    fn content(side: &Bytes) -> Content<'_> {
        match side {
            Some((bytes, size)) => Content { bytes, is_whole: bytes.len() as u64 >= *size },
            None => Content { bytes: &[], is_whole: true },
        }
    }
    let (before, now) = (content(before), content(now));
    (!before.is_whole || !now.is_whole, contrast::contrast(before, now))
}

fn text(side: &Side) -> String {
    side.parts.iter().map(|part| part.text.as_str()).collect()
}

fn hex(bytes: &[u8]) -> String {
    let hex: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    hex.join(" ")
}

/// Prints it for people.
pub(super) fn print(is_cut: bool, contrast: &Contrast) {
    let line = |sign: &str, side: &Side| {
        let text = words::path(text(side).replace('\t', "    ").as_bytes());
        output::line(format!("  {:>7} {sign} {}", side.number, text.trim_end()));
    };
    let same =
        |count: u64, what: &str| output::line(format!("  {:>7} {what}", words::count(count)));
    match contrast {
        Contrast::Same => output::line("  the content is the same"),
        Contrast::Text { rows, counts, .. } => {
            if *counts == (0, 0) {
                output::line("  the lines are the same; line ends or what follows differ");
            }
            for row in rows {
                match row {
                    Row::Same(count) => same(*count, "unchanged lines"),
                    Row::Shown(LinePair { now: Some(side), differs: false, .. }) => line(" ", side),
                    Row::Shown(LinePair { before, now, .. }) => {
                        before.iter().for_each(|side| line("−", side));
                        now.iter().for_each(|side| line("+", side));
                    }
                }
            }
        }
        Contrast::Bytes { rows, count } => {
            let differ = words::counted(*count, "byte", "bytes");
            output::line(format!("  not text: {differ} differ at the same offsets"));
            for row in rows {
                match row {
                    Row::Same(count) => same(*count, "unchanged bytes"),
                    Row::Shown(ByteRow { offset, before, now }) => {
                        output::line(format!("  {offset:>7x} {:<23} │ {}", hex(before), hex(now)));
                    }
                }
            }
        }
    }
    if is_cut {
        output::line("  only the first MiB was compared");
    }
}

/// It as JSON: only what differs.
pub(super) fn value(is_cut: bool, contrast: &Contrast) -> Value {
    let side = |side: &Option<Side>| {
        let told = |side: &Side| json!({"line": side.number, "text": text(side)});
        side.as_ref().map(told)
    };
    match contrast {
        Contrast::Same => json!({"kind": "same", "cut": is_cut}),
        Contrast::Text { rows, counts, is_table } => {
            let lines: Vec<Value> = rows
                .iter()
                .filter_map(|row| match row {
                    Row::Shown(pair) if pair.differs => {
                        Some(json!({"before": side(&pair.before), "now": side(&pair.now)}))
                    }
                    _ => None,
                })
                .collect();
            json!({"kind": "text", "cut": is_cut, "table": is_table, "new": counts.0,
                "gone": counts.1, "lines": lines})
        }
        Contrast::Bytes { count, .. } => json!({"kind": "bytes", "cut": is_cut, "differ": count}),
    }
}
