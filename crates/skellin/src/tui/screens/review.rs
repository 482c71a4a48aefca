//! The head of a review: what a dry run has found and what a run would take, above the tree of
//! what would become of each path.

use ratatui::{Frame, layout::Rect, text::Line};
use skellin_engine::{RunReport, RunStatus};
use unicode_width::UnicodeWidthStr;

use super::parts::{plain, said};
use crate::{
    tui::{lanes::Work, model::Model},
    words::{self, fit},
};

/// Draws it; how many lines it has taken.
pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, area: Rect) -> u16 {
    let theme = app.theme;
    let width = usize::from(area.width);
    let Some(Work::Ended { dry_run: true, result: Ok(report), notes }) =
        app.current_lane().map(|lane| &lane.work)
    else {
        return 0;
    };
    let took = words::span(report.ended - report.started);
    let mut lines = Vec::new();
    if report.status == RunStatus::Interrupted {
        lines.push(Line::styled("  ◐ Dry run stopped; found so far:", theme.wrong()));
    } else {
        let text = format!("  ✓ Dry run, {took}; nothing was written. r runs the plan:");
        lines.push(Line::styled(fit(&text, width), theme.is()));
    }
    if let Some(noticed) = &report.shrinkage {
        let text = format!("  ▲ {}: a run would stop here and ask", noticed.words());
        lines.push(Line::styled(fit(&text, width), theme.wrong()));
    }
    lines.push(counts(app, report, width));
    if let Some(outlook) = &report.outlook {
        let mut line = format!("  {} to read", words::bytes(report.bytes.read));
        for part in words::outlook(outlook) {
            if line.width() + part.width() + 5 > width {
                lines.push(Line::from(fit(&line, width)));
                line = format!("  {part}");
            } else {
                line = format!("{line}  ·  {part}");
            }
        }
        lines.push(Line::from(fit(&line, width)));
    }
    if report.exception_count > 0 {
        let count = words::counted(report.exception_count, "path", "paths");
        let text = format!("  ▲ {count} cannot be read; c shows which");
        lines.push(Line::styled(fit(&text, width), theme.wrong()));
    }
    for note in notes.iter().take(2) {
        lines.push(Line::styled(fit(&format!("  note: {note}"), width), theme.quiet()));
    }
    let used = (lines.len() as u16).min(area.height);
    plain(frame, lines, area);
    used
}

/// Numbers of paths, with their bytes where the census knows them.
fn counts(app: &Model, report: &RunReport, width: usize) -> Line<'static> {
    let theme = app.theme;
    let total = app.counting().map(|counting| counting.census.total());
    let (files, quiet) = (&report.files, theme.quiet());
    let (moving, share) = ([files.new, files.changed, files.gone], total.unwrap_or_default());
    let words = ["new", "changed", "gone"];
    let shares = [share.new.bytes, share.changed.bytes, share.gone.bytes];
    let styles = [theme.well(), theme.is(), theme.wrong()];
    let mut parts = Vec::new();
    for (((count, word), bytes), style) in moving.into_iter().zip(words).zip(shares).zip(styles) {
        let style = if count > 0 { style } else { quiet };
        let bytes = if count > 0 { format!(", {}", words::bytes(bytes)) } else { String::new() };
        parts.push((format!("{} {word}{bytes}", words::count(count)), style));
    }
    parts.push((format!("{} same", words::count(files.same)), quiet));
    if share.skipped.files > 0 {
        parts.push((format!("{} excluded", words::bytes(share.skipped.bytes)), quiet));
    }
    said(parts, width)
}
