//! A run or a dry run while it goes on, and what came of it.

use super::parts::plain;
use crate::tui::drawn::Drawn;
use std::time::Duration;

use ratatui::{
    Frame,
    layout::Rect,
    text::{Line, Span},
};
use skellin_engine::{Exception, Progress, RunReport, RunStatus, remedy};

use super::length::{by_reason, list_length};
use crate::{
    tui::{lanes::Work, model::Model, widgets::bar, worker::Trouble},
    words::{self, fit},
};

pub(super) fn going(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let theme = app.theme;
    let Work::Going { dry_run, begun, progress, exceptions, notes, cancel, .. } =
        &app.lanes[app.lane].work
    else {
        return;
    };
    let what = if *dry_run { "Dry run" } else { "Run" };
    let state = if cancel.is_cancelled() { "stopping …" } else { "running" };
    let took = match (app.now - begun) / 1000 {
        ..1 => "just started".to_owned(),
        seconds => format!("for {}", words::span(seconds * 1000)),
    };
    let mut lines = vec![Line::from(vec![
        Span::styled(format!("  {what} {state} "), theme.is().patch(theme.strong())),
        Span::styled(took, theme.quiet()),
    ])];
    lines.extend(progress_lines(app, progress, usize::from(area.width)));
    for note in notes.iter().rev().take(2) {
        lines.push(Line::styled(fit(&format!("  note: {note}"), area.width.into()), theme.quiet()));
    }
    lines.push(Line::from(""));
    let exceptions = exceptions.clone();
    lines.extend(exception_lines(app, &exceptions, progress.exceptions, area));
    plain(frame, lines, area);
}

fn progress_lines(app: &Model, progress: &Progress, width: usize) -> Vec<Line<'static>> {
    let theme = app.theme;
    let of = |total: Option<u64>, say: fn(u64) -> String| {
        total.map_or(String::new(), |total| format!(" of {}", say(total)))
    };
    let share = match (progress.total_bytes, progress.total_files) {
        (Some(total), _) if total > 0 => Some(progress.bytes as f64 / total as f64),
        (_, Some(total)) if total > 0 => Some(progress.files as f64 / total as f64),
        _ => None,
    };
    let mut spans = vec![Span::raw("  ")];
    match share {
        Some(share) => {
            spans.extend(bar(share, 40, theme.is(), theme.quiet()));
            spans.push(Span::raw(format!("  {:.0}%", share.min(1.0) * 100.0)));
        }
        None => spans.push(Span::styled("counting …", theme.quiet())),
    }
    if let Some(left) = progress.left {
        let left = words::duration(Duration::from_secs(left.as_secs()));
        spans.push(Span::raw(format!("  {left} left")));
    }
    let counts = format!(
        "  {}{} files  ·  {}{}  ·  {} read  ·  {}/s",
        words::count(progress.files),
        of(progress.total_files, words::count),
        words::bytes(progress.bytes),
        of(progress.total_bytes, words::bytes),
        words::bytes(progress.read),
        words::bytes(progress.rate as u64),
    );
    vec![
        Line::from(spans),
        Line::from(fit(&counts, width)),
        Line::styled(
            fit(&format!("  reading {}", words::path(&progress.path)), width),
            theme.quiet(),
        ),
    ]
}

fn exception_lines(
    app: &Model,
    exceptions: &[Exception],
    count: u64,
    area: Rect,
) -> Vec<Line<'static>> {
    if count == 0 {
        return vec![Line::styled("  no exceptions", app.theme.quiet())];
    }
    let title = format!("  ▲ {}", words::counted(count, "exception", "exceptions"));
    let mut lines = vec![Line::styled(title, app.theme.wrong())];
    for exception in exceptions.iter().rev().take(usize::from(area.height)) {
        let text = format!("    {}: {}", words::path(&exception.path), exception.cause.words);
        lines.push(Line::from(fit(&text, area.width.into())));
    }
    lines
}

pub(super) fn ended(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    let theme = app.theme;
    let Work::Ended { dry_run, result, notes } = &app.lanes[app.lane].work else { return };
    let width = usize::from(area.width);
    let mut lines = match result {
        Ok(report) => outcome(app, report),
        Err(trouble) => failure(app, trouble, *dry_run),
    };
    for note in notes.iter().take(2) {
        lines.push(Line::styled(fit(&format!("  note: {note}"), width), theme.quiet()));
    }
    lines.push(Line::from(""));
    let Ok(report) = result else { return plain(frame, lines, area) };
    if report.exceptions.is_empty() {
        lines.push(Line::styled("  Esc: back to the sources", theme.quiet()));
        return plain(frame, lines, area);
    }
    let count = report.exception_count;
    let mut reasons: Vec<&str> =
        report.exceptions.iter().map(|exception| exception.cause.words.as_str()).collect();
    reasons.sort_unstable();
    reasons.dedup();
    // Each reason has a line of its own, and what to do.
    let taken = lines.len() + 2 * reasons.len() + 1;
    let height = usize::from(area.height).saturating_sub(taken).max(1);
    let length = list_length(app);
    let shown = drawn.list(app, height, length);
    let selected = app.list.selected;
    let Work::Ended { result: Ok(report), .. } = &app.lanes[app.lane].work else { return };
    let mut before = None;
    for row in shown.clone() {
        let Some(exception) = by_reason(&report.exceptions).nth(row) else { break };
        if before != Some(&exception.cause.words) {
            before = Some(&exception.cause.words);
            let head = format!("  ▲ {}", exception.cause.words);
            lines.push(Line::styled(fit(&head, width), theme.wrong()));
            lines.push(Line::from(fit(&format!("  → {}", remedy(exception.cause.kind)), width)));
        }
        let pointer = if row == selected { "▌ " } else { "  " };
        lines.push(Line::from(vec![
            Span::styled(pointer, theme.is()),
            Span::raw(fit(&format!("  {}", words::path(&exception.path)), width - 2)),
        ]));
    }
    let total = format!(
        "  {} of {}; Esc: back to the sources",
        words::count(shown.end as u64),
        words::counted(count, "exception", "exceptions")
    );
    lines.push(Line::styled(total, theme.quiet()));
    plain(frame, lines, area);
}

/// What a run has done, or would do.
fn outcome(app: &Model, report: &RunReport) -> Vec<Line<'static>> {
    let theme = app.theme;
    let took = words::span(report.ended - report.started);
    let (text, style) = match report.status {
        RunStatus::Guarded => (
            "▲ Stopped, no snapshot. Check whether this is right; R runs it anyway.".to_owned(),
            theme.wrong(),
        ),
        RunStatus::Interrupted => {
            ("◐ Stopped, no snapshot; the next run uses what was stored.".to_owned(), theme.wrong())
        }
        RunStatus::Exceptions => (format!("▲ Done in {took}, with exceptions."), theme.wrong()),
        RunStatus::Done => (format!("✓ Done in {took}."), theme.well()),
    };
    let files = &report.files;
    let counts = format!(
        "  {} new  ·  {} changed  ·  {} gone  ·  {} same  ·  {} skipped",
        words::count(files.new),
        words::count(files.changed),
        words::count(files.gone),
        words::count(files.same),
        words::count(files.skipped)
    );
    let bytes = &report.bytes;
    let all = words::bytes(report.total_bytes);
    let sizes = format!(
        "  {all} total  ·  {} read  ·  {} new  ·  {} stored",
        words::bytes(bytes.read),
        words::bytes(bytes.new),
        words::bytes(bytes.stored)
    );
    let mut lines = vec![Line::styled(format!("  {text}"), style)];
    if let Some(noticed) = &report.shrinkage {
        lines.push(Line::styled(format!("  ▲ {}", noticed.words()), theme.wrong()));
    }
    lines.extend([Line::from(counts), Line::from(sizes)]);
    lines
}

fn failure(app: &Model, trouble: &Trouble, dry_run: bool) -> Vec<Line<'static>> {
    let what = if dry_run { "Dry run failed" } else { "Run failed" };
    let mut lines = vec![Line::styled(format!("  ✕ {what}: {}", trouble.what), app.theme.wrong())];
    lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("  → {hint}"))));
    lines
}
