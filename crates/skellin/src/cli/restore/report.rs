//! What a restore has done, as JSON and as text.

use serde_json::{Value, json};
use skellin_engine::RestoreReport;

use crate::{
    cli::{
        output::{exception_json, json_path},
        run::exceptions_text,
    },
    words,
};

/// So many of the paths that are removed are listed unless all were asked for.
const SHOWN: usize = 20;

pub(super) fn json(report: &RestoreReport) -> Value {
    let exceptions: Vec<Value> = report.exceptions.iter().map(exception_json).collect();
    let extras: Vec<Value> = report.extras.iter().map(|path| json_path(path)).collect();
    json!({"restored": report.restored, "bytes": report.bytes, "left": report.left, "same": report.same,
        "replaced": report.replaced, "renamed": report.renamed, "removed": report.removed,
        "extras": extras, "exceptions": exceptions})
}

/// The paths that are removed, a line each.
pub(super) fn extras(report: &RestoreReport, verbose: bool) -> String {
    let shown = if verbose { report.extras.len() } else { SHOWN };
    let mut out = String::new();
    for path in report.extras.iter().take(shown) {
        out.push_str(&format!("    {}\n", words::path(path)));
    }
    if report.extras.len() > shown {
        let more = words::count((report.extras.len() - shown) as u64);
        out.push_str(&format!("    and {more} more (-v lists them)\n"));
    }
    out
}

pub(super) fn text(report: &RestoreReport, dry_run: bool, verbose: bool) -> String {
    let verb = if dry_run { "would be restored; nothing was written" } else { "restored" };
    let mut out = match report.restored == 0 && report.left + report.same > 0 {
        true => format!(
            "nothing {}: all {} are already there{}\n",
            if dry_run { "would be restored" } else { "was restored" },
            words::counted(report.left + report.same, "path", "paths"),
            if report.left > 0 { " and were kept" } else { "" }
        ),
        false => format!(
            "{}, {} {verb}\n",
            words::counted(report.restored, "path", "paths"),
            words::bytes(report.bytes)
        ),
    };
    let same = match dry_run {
        true => "look right already (size, time, mode); the restore compares their content",
        false => "already right, not fetched",
    };
    let removed = if dry_run {
        "would be removed: not in the snapshot"
    } else {
        "removed: not in the snapshot"
    };
    for (count, what) in [
        (report.same, same),
        (report.left, "kept: a file of that name exists (--existing replace or rename)"),
        (report.replaced, "replaced"),
        (report.renamed, "renamed to NAME.kept-TIME"),
        (report.removed, removed),
    ] {
        if count > 0 {
            out.push_str(&format!("  {} {what}\n", words::count(count)));
        }
    }
    out.push_str(&extras(report, verbose));
    if report.interrupted {
        out.push_str("  interrupted: the same command continues, existing files are kept\n");
    }
    let remedy = skellin_engine::restore_remedy;
    out.push_str(&exceptions_text(report.exception_count, &report.exceptions, verbose, remedy));
    out
}
