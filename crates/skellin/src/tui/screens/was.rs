//! Was: the files as they were at the cursor's moment, beside how they were before.

use crate::tui::drawn::Drawn;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span, Text},
};
use skellin_engine::{Change, Outcome};
use skellin_store::Kind;
use unicode_width::UnicodeWidthStr;

use super::parts::{is_open, paragraph, plain, trouble_lines};
use crate::{
    tui::{
        hits::Target,
        model::Model,
        model::{Cursor, Study},
        tree::Shown,
    },
    words::{self, fit, fit_name},
};

/// Columns from which the versions stand beside the tree.
const WIDE: u16 = 118;
/// Columns of the versions.
const ASIDE: u16 = 48;

pub(super) fn title(app: &Model, time: i64) -> Vec<String> {
    let Some(lane) = app.current_lane() else { return Vec::new() };
    let mut parts = Vec::new();
    let Some((number, mark)) = app.current_mark() else {
        return vec![lane.label(), format!("no snapshot as old as {}", words::moment(time))];
    };
    parts.push(format!("{}, {}", lane.label(), words::moment(mark.time)));
    if let Some(stumble) = lane.stumble_at(time) {
        let what = match stumble.outcome {
            Outcome::Interrupted => "◐ run interrupted",
            Outcome::Guarded => "✕ run stopped: confirmation needed",
            _ => "✕ run failed",
        };
        let what = format!("{what} on {}: {}", words::moment(stumble.time), stumble.words);
        parts.insert(0, what);
    }
    parts.push(format!("{} ago", words::age(app.now - mark.time)));
    parts.push(format!("{} of {}", number + 1, lane.marks.len()));
    if lane.is_pinned(mark.id) {
        parts.push("pinned".to_owned());
    }
    if let Some(facts) = mark.facts {
        if facts.dated != mark.time {
            parts.push(format!("▲ dated {} (wrong clock)", words::moment(facts.dated)));
        }
        if facts.exceptions > 0 {
            parts
                .push(format!("▲ {}", words::counted(facts.exceptions, "exception", "exceptions")));
        }
        parts.push(words::counted(facts.files, "file", "files"));
        parts.push(words::bytes(facts.bytes));
        parts.push(format!("{} new", words::bytes(facts.new_bytes)));
    }
    if !app.tray.is_empty() {
        let count = words::counted(app.tray.len() as u64, "path", "paths");
        parts.insert(1, format!("▪ {count} on the tray: T"));
    }
    parts
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    if !is_open(frame, app, area) {
        return;
    }
    let Some(lane) = app.current_lane() else { return };
    if lane.marks.is_empty() {
        let what = format!("  {} has no snapshot yet.", lane.label());
        let lines = vec![
            Line::from(""),
            Line::from(what),
            Line::styled("  → n goes to now, r runs the plan", app.theme.is()),
        ];
        return paragraph(frame, lines, area);
    }
    if app.current_mark().is_none() {
        let lines = vec![
            Line::from(""),
            Line::from("  No snapshot that old."),
            Line::styled("  → Home goes to the oldest", app.theme.is()),
        ];
        return paragraph(frame, lines, area);
    }
    if let Some(trouble) = app.tree.trouble() {
        return paragraph(frame, trouble_lines(app, trouble), area);
    }
    if !app.tree.is_loaded() {
        let reading = Line::styled("  loading …", app.theme.quiet());
        return paragraph(frame, vec![Line::from(""), reading], area);
    }
    let aside = if area.width >= WIDE { ASIDE } else { 0 };
    let [tree, gap, side] = Layout::horizontal([
        Constraint::Min(1),
        Constraint::Length(if aside > 0 { 2 } else { 0 }),
        Constraint::Length(aside),
    ])
    .areas(area);
    draw_tree(frame, app, drawn, tree, &row_line);
    if aside > 0 {
        let line = vec![Line::styled("│", app.theme.quiet()); usize::from(gap.height)];
        frame.render_widget(Text::from(line), gap);
        let lines = about_path(app, usize::from(side.width), usize::from(side.height));
        plain(frame, lines, side);
    }
}

/// How a row of the tree is drawn: whether it is selected, and how wide it is.
pub(super) type RowLine = dyn Fn(&Model, &Shown<'_>, bool, usize) -> Line<'static>;

pub(super) fn draw_tree(
    frame: &mut Frame<'_>,
    app: &Model,
    drawn: &mut Drawn,
    area: Rect,
    row_line: &RowLine,
) {
    let mut height = usize::from(area.height).max(1);
    let mut lines = Vec::new();
    if !app.tree.is_present()
        && app.tree.length() > 0
        && let Some(path) = &app.tree.selected
    {
        let what = match app.cursor {
            Cursor::Is if !app.tree.arrangement().is_plain() => "hidden by the filter",
            Cursor::Is => "does not exist now",
            _ => "not in this snapshot",
        };
        let text = format!("  {} is {what}", words::path(path));
        lines.push(Line::styled(fit(&text, area.width.into()), app.theme.is()));
        height = height.saturating_sub(1).max(1);
    }
    let position = app.tree.position();
    if app.tree.length() == 0 {
        let what = match app.cursor {
            Cursor::Is if app.tree.arrangement().is_plain() => "no source exists",
            Cursor::Is => "nothing matches the filter",
            _ => "the snapshot is empty",
        };
        lines.push(Line::styled(format!("  {what}"), app.theme.quiet()));
    }
    let present = app.tree.is_present();
    for number in drawn.tree(app, height) {
        let Some(row) = app.tree.row(number) else { break };
        let y = area.y + lines.len() as u16;
        let line = row_line(app, &row, present && number == position, usize::from(area.width));
        drawn.hit(Rect { y, height: 1, ..area }, Target::Row(number));
        lines.push(line);
    }
    plain(frame, lines, area);
}

/// How an entry changed, as a sign and a word.
pub(super) fn change(app: &Model, change: Change) -> (&'static str, &'static str, Style) {
    match change {
        Change::New => ("+", "new", app.theme.well()),
        Change::Changed => ("~", "changed", app.theme.is()),
        Change::Gone => ("−", "gone", app.theme.wrong()),
        Change::Skipped => ("·", "skipped", app.theme.quiet()),
        _ => (" ", "", app.theme.quiet()),
    }
}

/// Whether a path lies on the tray as it is in the snapshot under the cursor.
fn is_on_tray(app: &Model, path: &[u8]) -> bool {
    let Some((_, mark)) = app.current_mark().filter(|_| !app.tray.is_empty()) else { return false };
    app.tray.iter().any(|item| item.path == path && item.snapshot == mark.id)
}

/// A row's name with what belongs to it: how deep it lies, whether it is open, where it points.
pub(super) fn tree_name(row: &Shown<'_>) -> String {
    let mark = match (row.facts.kind, row.is_open) {
        (Kind::Directory, true) => "▾ ",
        (Kind::Directory, false) => "▸ ",
        _ => "  ",
    };
    let target = row.target.map_or(String::new(), |target| format!(" → {}", words::path(target)));
    let slash = if row.facts.kind == Kind::Directory { "/" } else { "" };
    let waiting = match row.trouble {
        Some(trouble) => format!("   ✕ {}", trouble.what),
        None if row.is_loading => "   loading …".to_owned(),
        None => String::new(),
    };
    format!("{}{mark}{}{slash}{target}{waiting}", "  ".repeat(row.depth), words::path(row.name))
}

fn row_line(app: &Model, row: &Shown<'_>, selected: bool, width: usize) -> Line<'static> {
    let theme = app.theme;
    let facts = row.facts;
    let (sign, word, change_style) = change(app, facts.change);
    let name = tree_name(row);
    let files = match facts.kind {
        Kind::Directory => words::counted(facts.files, "file", "files"),
        _ => String::new(),
    };
    let modified = words::zoned(facts.modified.saturating_mul(1000));
    let size = words::bytes(facts.size);
    let tray = if is_on_tray(app, &row.path) { "▪" } else { " " };
    let (before, after) = match width {
        ..=59 => (format!("{tray}{sign} "), format!(" {size:>9} ")),
        60..=92 => (
            format!("{tray}{sign} "),
            format!(" {size:>9}   {} ", modified.strftime("%d %b %Y %H:%M")),
        ),
        _ => (
            format!("{tray}{sign} "),
            format!(
                " {word:<8}{files:>14}   {size:>9}   {}  ",
                modified.strftime("%d %b %Y %H:%M")
            ),
        ),
    };
    let room = width.saturating_sub(before.width() + after.width());
    let name = fit_name(&name, room);
    let blanks = " ".repeat(room.saturating_sub(name.width()));
    if selected {
        return Line::styled(format!("{before}{name}{blanks}{after}"), theme.cursor());
    }
    let name_style = match facts.change {
        Change::Gone | Change::Skipped => theme.quiet(),
        _ => Style::new(),
    };
    Line::from(vec![
        Span::styled(before, change_style),
        Span::styled(name, name_style),
        Span::raw(blanks),
        Span::styled(after, theme.quiet()),
    ])
}

/// Facts and versions of the selected path.
pub(in crate::tui) fn about_path(app: &Model, width: usize, height: usize) -> Vec<Line<'static>> {
    let theme = app.theme;
    let Some(path) = &app.tree.selected else { return Vec::new() };
    let shown = words::path(path);
    let short = if shown.width() > width {
        format!("…{}", tail(&shown, width.saturating_sub(2)))
    } else {
        shown
    };
    let mut lines = vec![Line::styled(format!(" {short}"), theme.strong())];
    if let Some(row) = app.tree.selected_row() {
        let kind = match row.facts.kind {
            Kind::Directory if row.facts.files > 0 => {
                words::counted(row.facts.files, "file", "files")
            }
            Kind::Directory => "directory".to_owned(),
            Kind::File => "file".to_owned(),
            Kind::Link => "link".to_owned(),
            _ => "special file".to_owned(),
        };
        let (_, word, _) = change(app, row.facts.change);
        let word = if word.is_empty() { "unchanged" } else { word };
        lines.push(Line::from(format!(" {kind}, {}, {word}", words::bytes(row.facts.size))));
    }
    lines.push(Line::from(""));
    let versions = match &app.study {
        Study::Known { path: known, versions } if known == path => versions,
        Study::Failed { path: known, trouble } if known == path => {
            lines.push(Line::styled(format!(" ✕ {}", trouble.what), theme.wrong()));
            return lines;
        }
        _ => {
            lines.push(Line::styled(" following it through time …", theme.quiet()));
            return lines;
        }
    };
    let newest = app.current_lane().and_then(|lane| lane.marks.last()).map_or(0, |mark| mark.time);
    let at = app.current_mark().map_or(i64::MAX, |(_, mark)| mark.time);
    let count = words::counted(versions.len() as u64, "version", "versions");
    match versions.last() {
        None => lines.push(Line::styled(" in no snapshot of this plan", theme.quiet())),
        Some(last) if last.last_seen < newest => {
            let lane = app.current_lane();
            let gone =
                lane.and_then(|lane| lane.marks.iter().find(|mark| mark.time > last.last_seen));
            let since = gone.map_or(String::new(), |mark| words::moment(mark.time));
            lines.push(Line::styled(format!(" {count}; gone since {since}"), theme.wrong()));
        }
        Some(_) => lines.push(Line::styled(format!(" {count}; still there"), theme.well())),
    }
    let current =
        versions.iter().rposition(|version| version.time <= at && at <= version.last_seen);
    let room = height.saturating_sub(lines.len() + 2).max(1);
    let from = current.map_or(0, |current| versions.len().saturating_sub(current + 1 + room / 2));
    let shown = versions
        .iter()
        .enumerate()
        .rev()
        .skip(from.min(versions.len().saturating_sub(room)))
        .take(room);
    // Where two are of one minute, the second tells them apart.
    let minute = |version: &crate::tui::worker::VersionRow| version.time.div_euclid(60_000);
    let is_close = versions.windows(2).any(|pair| minute(&pair[0]) == minute(&pair[1]));
    let format = if is_close { "%d %b %y %H:%M:%S" } else { "%d %b %Y %H:%M" };
    for (number, version) in shown {
        let before = number.checked_sub(1).map(|before| versions[before].size);
        let grown = match before {
            None => "first".to_owned(),
            Some(before) if version.size > before => {
                format!("+{}", words::bytes(version.size - before))
            }
            Some(before) if version.size < before => {
                format!("−{}", words::bytes(before - version.size))
            }
            Some(_) => "same size".to_owned(),
        };
        let here = current == Some(number);
        let text = format!(
            "{}{}  {:>9}  {grown:>10}",
            if here { " ▸ " } else { "   " },
            words::zoned(version.time).strftime(format),
            words::bytes(version.size),
        );
        let style = if here { app.tense_style().patch(theme.strong()) } else { Style::new() };
        lines.push(Line::styled(text, style));
    }
    if versions.len() > 1 && lines.len() + 1 < height {
        lines.push(Line::styled(" v and V go from version to version", theme.quiet()));
    }
    lines
}

/// The end of a text.
fn tail(text: &str, width: usize) -> String {
    let mut out: Vec<char> = text.chars().rev().take(width).collect();
    out.reverse();
    out.into_iter().collect()
}
