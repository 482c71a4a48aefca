//! Is: the plan as it stands now, what a run would do, and the run while it goes on.

use std::time::Duration;

use ratatui::{
    Frame,
    layout::Rect,
    style::Style,
    text::{Line, Span, Text},
};
use skellin_engine::{Change, Exception, PathChange, Progress, RunReport, RunStatus};

use unicode_width::UnicodeWidthStr;

use super::{
    length::{changes, list_length},
    parts::{fact, is_open, paragraph, trouble_lines},
    was::draw_tree,
};
use crate::{
    tui::{
        lanes::{Known, Lane, Work},
        model::Model,
        widgets::bar,
        worker::Trouble,
    },
    words::{self, fit},
};

pub(super) fn title(app: &Model) -> Vec<String> {
    let Some(lane) = app.current_lane() else { return Vec::new() };
    let about = lane.plan.as_ref().and_then(|plan| plan.about.clone());
    let state = match &lane.work {
        Work::Going { dry_run: true, .. } => "a dry run is under way",
        Work::Going { .. } => "a run is under way",
        Work::Ended { dry_run: true, .. } => "after a dry run",
        _ => "now",
    };
    [Some(lane.label()), Some(state.to_owned()), about].into_iter().flatten().collect()
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &mut Model, area: Rect) {
    let Some(lane) = app.current_lane() else { return };
    let Some(plan) = &lane.plan else {
        let lines = vec![
            Line::from(""),
            Line::from(format!(
                "  There is no plan file for {} here; only its snapshots are known.",
                lane.label()
            )),
            Line::styled(
                "  → they can be browsed and restored as ever: ← goes to the newest",
                app.theme.is(),
            ),
        ];
        return paragraph(frame, lines, area);
    };
    let mut lines = vec![Line::from("")];
    let sources: Vec<String> =
        plan.sources.iter().map(|source| source.display().to_string()).collect();
    lines.push(fact(app, "protects", sources.join("  ")));
    let rules = plan.rules.rules().len() as u64;
    lines.push(fact(
        app,
        "leaves out",
        match rules {
            0 => "nothing: the plan has no rules".to_owned(),
            1 => format!("by one rule: {}", plan.rules.rules()[0].text),
            many => format!("by {many} rules; skellin plan show {} lists them", plan.name),
        },
    ));
    lines.push(fact(app, "keeps it in", lane.store.clone()));
    lines.push(fact(
        app,
        "runs",
        match &plan.schedule {
            Some(schedule) => schedule.words(),
            None => "by hand: the plan has no schedule".to_owned(),
        },
    ));
    if let Some(next) = lane.next(app.now) {
        let text = format!("{}, in {}", words::moment(next), words::age(next - app.now));
        lines.push(fact(app, "next", text));
    }
    lines.push(fact(app, "last", last_run(app, lane, usize::from(area.width).saturating_sub(16))));
    lines.push(Line::from(""));
    let head = lines.len() as u16;
    frame.render_widget(Text::from(lines), area);
    let below = Rect { y: area.y + head, height: area.height.saturating_sub(head), ..area };
    if below.height == 0 || !is_open(frame, app, below) {
        return;
    }
    match &app.lanes[app.lane].work {
        Work::None if app.tree.trouble().is_some() || !app.tree.is_loaded() => {
            let lines = match app.tree.trouble() {
                Some(trouble) => trouble_lines(app, trouble),
                None => vec![Line::styled("  reading the sources …", app.theme.quiet())],
            };
            paragraph(frame, lines, below);
        }
        Work::None => draw_tree(frame, app, below),
        Work::Going { .. } => going(frame, app, below),
        Work::Ended { .. } => ended(frame, app, below),
    }
}

/// The newest snapshot, with as much of what it says of itself as fits.
fn last_run(app: &Model, lane: &Lane, width: usize) -> String {
    let Some(mark) = lane.marks.last() else {
        let is_open = matches!(lane.known, Known::Here);
        let what = if is_open {
            "never: there is no snapshot yet"
        } else {
            "not known: the store is not open"
        };
        return what.to_owned();
    };
    let mut text = format!("{}, {} ago", words::moment(mark.time), words::age(app.now - mark.time));
    if let Some(facts) = mark.facts {
        for part in [
            words::counted(facts.files, "file", "files"),
            words::bytes(facts.bytes),
            format!("{} new", words::bytes(facts.new_bytes)),
        ] {
            if text.width() + part.width() + 2 <= width {
                text = format!("{text}, {part}");
            }
        }
    }
    text
}

fn going(frame: &mut Frame<'_>, app: &mut Model, area: Rect) {
    let theme = app.theme;
    let Work::Going { dry_run, begun, progress, exceptions, notes, cancel, .. } =
        &app.lanes[app.lane].work
    else {
        return;
    };
    let what = if *dry_run { "Dry run" } else { "Run" };
    let state = if cancel.is_cancelled() { "stopping …" } else { "under way" };
    let took = match (app.now - begun) / 1000 {
        ..1 => "since a moment ago".to_owned(),
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
    frame.render_widget(Text::from(lines), area);
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
        None => spans
            .push(Span::styled("how much there is shows when it has been counted", theme.quiet())),
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
        return vec![Line::styled("  no exceptions so far", app.theme.quiet())];
    }
    let title = format!("  ▲ {}", words::counted(count, "exception", "exceptions"));
    let mut lines = vec![Line::styled(title, app.theme.wrong())];
    for exception in exceptions.iter().rev().take(usize::from(area.height)) {
        let text = format!("    {}: {}", words::path(&exception.path), exception.reason);
        lines.push(Line::from(fit(&text, area.width.into())));
    }
    lines
}

fn ended(frame: &mut Frame<'_>, app: &mut Model, area: Rect) {
    let theme = app.theme;
    let Work::Ended { dry_run, result, notes } = &app.lanes[app.lane].work else { return };
    let mut lines = match result {
        Ok(report) => outcome(app, report, *dry_run),
        Err(trouble) => failure(app, trouble, *dry_run),
    };
    for note in notes.iter().take(2) {
        lines.push(Line::styled(fit(&format!("  note: {note}"), area.width.into()), theme.quiet()));
    }
    lines.push(Line::from(""));
    let Ok(report) = result else { return frame.render_widget(Text::from(lines), area) };
    let (exceptions, dry_run) = (report.exceptions.len(), *dry_run);
    let length = list_length(app);
    let height = usize::from(area.height).saturating_sub(lines.len() + 1);
    let shown = app.list.window(height, length);
    let Work::Ended { result: Ok(report), .. } = &app.lanes[app.lane].work else { return };
    let rest: Vec<&PathChange> = match shown.end > exceptions {
        true => changes(report).skip(shown.start.saturating_sub(exceptions)).take(height).collect(),
        false => Vec::new(),
    };
    for row in shown.clone() {
        let line = match report.exceptions.get(row) {
            Some(exception) => {
                let text = format!("{}: {}", words::path(&exception.path), exception.reason);
                ("▲ ".to_owned(), theme.wrong(), text)
            }
            None => {
                let at = row - exceptions - shown.start.saturating_sub(exceptions);
                let Some(path) = rest.get(at) else { break };
                change_line(app, path)
            }
        };
        let pointer = if row == app.list.selected { "▌ " } else { "  " };
        lines.push(Line::from(vec![
            Span::styled(pointer, theme.is()),
            Span::styled(line.0.clone(), line.1),
            Span::raw(fit(&line.2, usize::from(area.width).saturating_sub(2 + line.0.width()))),
        ]));
    }
    let total = match (length, dry_run) {
        (0, true) => "nothing would change".to_owned(),
        (0, false) => String::new(),
        (many, _) => format!(
            "{} of {}",
            words::count(shown.end as u64),
            words::counted(many as u64, "line", "lines")
        ),
    };
    lines.push(Line::styled(format!("  {total}"), theme.quiet()));
    frame.render_widget(Text::from(lines), area);
}

/// How a path changes: the sign that is coloured, and the rest.
fn change_line(app: &Model, path: &PathChange) -> (String, Style, String) {
    let theme = app.theme;
    let (sign, word, style) = match path.change {
        Change::New => ("+", "new", theme.well()),
        Change::Changed => ("~", "changed", theme.is()),
        Change::Gone => ("−", "gone", theme.wrong()),
        Change::Skipped => ("·", "skipped", theme.quiet()),
        Change::Same => (" ", "same", theme.quiet()),
    };
    let rule = app.current_lane().and_then(|lane| lane.plan.as_ref()).zip(path.rule).and_then(
        |(plan, rule)| {
            plan.rules
                .rules()
                .get(rule)
                .map(|rule| format!("   by line {}: {}", rule.line, rule.text))
        },
    );
    let size = if path.size > 0 { words::bytes(path.size) } else { String::new() };
    let rest = format!("{size:>9}  {}{}", words::path(&path.path), rule.unwrap_or_default());
    (format!("{sign} {word:<8} "), style, rest)
}

fn outcome(app: &Model, report: &RunReport, dry_run: bool) -> Vec<Line<'static>> {
    let theme = app.theme;
    let took = words::span(report.ended - report.started);
    let (text, style) = match (report.status, dry_run) {
        (RunStatus::Guarded, _) => (
            "▲ Stopped: no snapshot was made. Look whether this is right; R makes it all the same."
                .to_owned(),
            theme.wrong(),
        ),
        (RunStatus::Interrupted, true) => ("◐ The dry run was stopped.".to_owned(), theme.wrong()),
        (RunStatus::Interrupted, false) => (
            "◐ Stopped: there is no snapshot; the next run goes on from what was stored."
                .to_owned(),
            theme.wrong(),
        ),
        (_, true) => {
            (format!("✓ Dry run, {took}; nothing was written. A run would find:"), theme.is())
        }
        (RunStatus::Exceptions, false) => {
            (format!("▲ Done in {took}, but not all of it; the snapshot is there."), theme.wrong())
        }
        (RunStatus::Done, false) => {
            (format!("✓ Done in {took}; the snapshot is there."), theme.well())
        }
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
    let sizes = match dry_run {
        true => format!("  {all} in all  ·  {} to read", words::bytes(bytes.read)),
        false => format!(
            "  {all} in all  ·  {} read  ·  {} new  ·  {} stored",
            words::bytes(bytes.read),
            words::bytes(bytes.new),
            words::bytes(bytes.stored)
        ),
    };
    let mut lines = vec![Line::styled(format!("  {text}"), style)];
    if let Some(noticed) = &report.shrinkage {
        lines.push(Line::styled(format!("  ▲ {}", noticed.words()), theme.wrong()));
    }
    lines.extend([Line::from(counts), Line::from(sizes)]);
    lines
}

fn failure(app: &Model, trouble: &Trouble, dry_run: bool) -> Vec<Line<'static>> {
    let what = if dry_run { "The dry run failed" } else { "The run failed" };
    let mut lines = vec![Line::styled(format!("  ✕ {what}: {}", trouble.what), app.theme.wrong())];
    lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("  → {hint}"))));
    lines
}
