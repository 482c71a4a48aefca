//! Drawing: the state as a frame. Only what is visible is looked at.

use std::time::Duration;

use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span, Text},
    widgets::{Block, Clear, Paragraph, Wrap},
};
use skellin_engine::{Existing, RestoreReport};
use skellin_store::Kind;
use unicode_width::UnicodeWidthStr;

use super::{
    dialog::{Dialog, RestoreDialog, Stage},
    keys, ribbon,
    state::{App, Known},
    worker::Trouble,
};
use crate::words::{self, fit};

/// Draws everything.
pub(super) fn frame(frame: &mut Frame<'_>, app: &mut App) {
    let area = frame.area();
    let ribbon_height = (app.lanes.len() as u16 + 1).clamp(2, (area.height / 3).max(2));
    let [top, ribbon, title, tree, hints] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(if app.lanes.is_empty() { 0 } else { ribbon_height }),
        Constraint::Length(1),
        Constraint::Min(1),
        Constraint::Length(1),
    ])
    .areas(area);
    frame.render_widget(top_line(app, top.width.into()), top);
    if app.lanes.is_empty() {
        frame.render_widget(Paragraph::new(nothing_yet(app)).wrap(Wrap { trim: false }), tree);
    } else {
        let lines = ribbon::lines(app, ribbon.width.into(), ribbon.height.into());
        frame.render_widget(Text::from(lines), ribbon);
        frame.render_widget(title_line(app, title.width.into()), title);
        draw_tree(frame, app, tree);
    }
    frame.render_widget(hint_line(app, hints.width.into()), hints);
    if let Some(dialog) = &app.dialog {
        draw_dialog(frame, app, dialog, area);
    }
}

/// Left and right in one line; the right part gives way.
fn spread(left: Vec<Span<'static>>, right: String, style: Style, width: usize) -> Line<'static> {
    let used: usize = left.iter().map(|span| span.content.width()).sum();
    let mut spans = left;
    if used + right.width() + 2 <= width {
        spans.push(Span::raw(" ".repeat(width - used - right.width() - 1)));
        spans.push(Span::styled(right, style));
    }
    Line::from(spans)
}

/// One line that says whether all is well, and the first thing that is not.
fn top_line(app: &App, width: usize) -> Line<'static> {
    let theme = app.theme;
    let trouble = app.lanes.iter().find_map(|lane| match &lane.known {
        Known::Trouble(trouble) => Some(format!("✗ {}: {}", lane.plan, trouble.what)),
        Known::Here(snapshots) if snapshots.is_empty() => {
            Some(format!("○ {} has no snapshot yet", lane.plan))
        }
        _ => None,
    });
    let mistaken = app.mistaken.first().map(|(plan, count)| {
        format!(
            "✗ the plan {plan} has {}: skellin plan check",
            words::counted(*count as u64, "mistake", "mistakes")
        )
    });
    let loading = app.lanes.iter().any(|lane| matches!(lane.known, Known::Loading));
    let newest =
        app.lanes.iter().filter_map(|lane| lane.snapshots().last()).map(|row| row.started).min();
    let (state, style) = match (mistaken.or(trouble), loading, newest) {
        (Some(trouble), _, _) => (trouble, theme.wrong()),
        (None, true, _) => ("opening the stores …".to_owned(), theme.quiet()),
        (None, false, Some(oldest)) => {
            let plans = words::counted(app.lanes.len() as u64, "plan", "plans");
            (
                format!(
                    "✓ {plans}; the newest snapshot of each is at most {} old",
                    words::age(app.now - oldest)
                ),
                theme.well(),
            )
        }
        (None, false, None) => ("no plan yet".to_owned(), theme.quiet()),
    };
    let left = vec![
        Span::styled(" Skellin  ", theme.strong()),
        Span::styled(format!("{}   ", app.machine), theme.quiet()),
        Span::styled(fit(&state, width.saturating_sub(14 + app.machine.width())), style),
    ];
    spread(left, words::moment(app.now), theme.quiet(), width)
}

fn nothing_yet(app: &App) -> Text<'static> {
    let theme = app.theme;
    let folder = &app.folder;
    let mut lines = vec![
        Line::from(""),
        Line::styled("  There is no plan yet.", theme.strong()),
        Line::from(""),
        Line::from(
            "  A plan says what is protected and where it is stored. Two small files make one:",
        ),
        Line::from(""),
        Line::styled(format!("  {folder}/stores.toml"), theme.was()),
        Line::from("      [oak]"),
        Line::from("      place = \"/mnt/oak\""),
        Line::from(""),
        Line::styled(format!("  {folder}/plans/readings.toml"), theme.was()),
        Line::from("      sources = [\"/srv/readings\"]"),
        Line::from("      store = \"oak\""),
        Line::from(""),
        Line::from(
            "  Then: skellin plan check, skellin store create oak, skellin run readings --dry-run",
        ),
    ];
    for (plan, count) in &app.mistaken {
        let mistakes = words::counted(*count as u64, "mistake", "mistakes");
        lines.push(Line::styled(
            format!("  The plan {plan} has {mistakes}: skellin plan check {plan}"),
            theme.wrong(),
        ));
    }
    Text::from(lines)
}

/// Tense, plan and moment; what else there is room for, whole or not at all.
fn title_line(app: &App, width: usize) -> Line<'static> {
    let theme = app.theme;
    let mut parts = Vec::new();
    if let Some(lane) = app.current_lane() {
        match lane.current() {
            Some(snapshot) => {
                let total = words::counted(lane.snapshots().len() as u64, "snapshot", "snapshots");
                parts.push(format!("{}, {}", lane.plan, words::moment(snapshot.started)));
                parts.push(format!("{} of {total}", lane.at + 1));
                if snapshot.exceptions > 0 {
                    let count = words::counted(snapshot.exceptions, "exception", "exceptions");
                    parts.push(format!("▲ {count}"));
                }
                parts.push(words::counted(snapshot.files, "file", "files"));
                parts.push(words::bytes(snapshot.bytes));
                parts.push(format!("{} new", words::bytes(snapshot.new_bytes)));
            }
            None => parts.push(lane.plan.clone()),
        }
    }
    let room = width.saturating_sub(9);
    let mut text = String::new();
    for part in parts {
        let joined = if text.is_empty() { part } else { format!("{text} ─ {part}") };
        if joined.width() > room && !text.is_empty() {
            break;
        }
        text = joined;
    }
    let text = format!("{} ", fit(&text, room));
    let rest = width.saturating_sub(8 + text.width());
    Line::from(vec![
        Span::styled("─ ", theme.quiet()),
        Span::styled("Was", theme.was().patch(theme.strong())),
        Span::styled(" ─ ", theme.quiet()),
        Span::styled(text, theme.was()),
        Span::styled("─".repeat(rest), theme.quiet()),
    ])
}

fn draw_tree(frame: &mut Frame<'_>, app: &mut App, area: Rect) {
    app.tree_height = area.height.max(1).into();
    let theme = app.theme;
    let say = |frame: &mut Frame<'_>, lines: Vec<Line<'static>>| {
        frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }), area);
    };
    let troubled = |trouble: &Trouble| {
        let mut lines =
            vec![Line::from(""), Line::styled(format!("  {}", trouble.what), theme.wrong())];
        lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("  → {hint}"))));
        lines.push(Line::from("  → then look again with u"));
        lines
    };
    let Some(lane) = app.current_lane() else { return };
    match &lane.known {
        Known::Loading => {
            return say(
                frame,
                vec![Line::from(""), Line::styled("  opening the store …", theme.quiet())],
            );
        }
        Known::Trouble(trouble) => return say(frame, troubled(trouble)),
        Known::Here(snapshots) if snapshots.is_empty() => {
            let command =
                format!("  There is no snapshot yet. Make the first: skellin run {}", lane.plan);
            return say(frame, vec![Line::from(""), Line::from(command)]);
        }
        Known::Here(_) => {}
    }
    if let Some(trouble) = &app.tree.trouble {
        return say(frame, troubled(trouble));
    }
    if !app.tree.is_loaded() {
        return say(frame, vec![Line::from(""), Line::styled("  reading …", theme.quiet())]);
    }
    let (height, position) = (app.tree_height, app.tree.position());
    app.tree.offset = app.tree.offset.clamp((position + 1).saturating_sub(height), position);
    let missing = app.tree.selected_row().is_none();
    let rows = app.tree.rows().iter().skip(app.tree.offset).take(height);
    let lines = rows.map(|(depth, row)| {
        let selected = Some(&row.path) == app.tree.selected.as_ref();
        let mark = match (row.kind, app.tree.is_open(&row.path)) {
            (Kind::Directory, true) => "▾ ",
            (Kind::Directory, false) => "▸ ",
            _ => "  ",
        };
        let target = row
            .target
            .as_ref()
            .map_or(String::new(), |target| format!(" → {}", words::path(target)));
        let slash = if row.kind == Kind::Directory { "/" } else { "" };
        let name =
            format!("  {}{mark}{}{slash}{target}", "  ".repeat(*depth), words::path(&row.name));
        let files = match row.kind {
            Kind::Directory => words::counted(row.files, "file", "files"),
            _ => String::new(),
        };
        let modified =
            words::zoned(row.modified.saturating_mul(1000)).strftime("%d %b %Y %H:%M").to_string();
        let facts = match area.width {
            ..=59 => format!("{:>9} ", words::bytes(row.size)),
            60..=99 => format!("{:>9}   {modified} ", words::bytes(row.size)),
            _ => format!("{files:>16}   {:>9}   {modified}  ", words::bytes(row.size)),
        };
        let width = usize::from(area.width);
        let name = fit(&name, width.saturating_sub(facts.width() + 1));
        let blanks = " ".repeat(width.saturating_sub(name.width() + facts.width()));
        let line = Line::from(vec![
            Span::raw(name),
            Span::raw(blanks),
            Span::styled(facts, if selected { Style::new() } else { theme.quiet() }),
        ]);
        if selected { line.style(theme.cursor()) } else { line }
    });
    let mut lines: Vec<Line<'static>> = lines.collect();
    if let (true, Some(path)) = (missing, &app.tree.selected) {
        let text = format!("  {} is not in this snapshot", words::path(path));
        lines.truncate(height.saturating_sub(1));
        lines.insert(0, Line::styled(fit(&text, area.width.into()), theme.wrong()));
    }
    frame.render_widget(Text::from(lines), area);
}

fn hint_line(app: &App, width: usize) -> Line<'static> {
    let theme = app.theme;
    let pairs: Vec<(&str, &str)> = match &app.dialog {
        None => keys::BINDINGS.iter().filter_map(|binding| binding.hint.split_once(' ')).collect(),
        Some(Dialog::Help) => vec![("any key", "back")],
        Some(Dialog::Passphrase { .. }) => vec![("Enter", "open the store"), ("Esc", "not now")],
        Some(Dialog::Restore(restore)) => match restore.stage {
            Stage::Asking => vec![
                ("Tab", "next question"),
                ("Space", "change the answer"),
                ("Enter", "rehearse"),
                ("Esc", "leave"),
            ],
            Stage::Rehearsing => vec![("Esc", "leave")],
            Stage::Rehearsed(_) => vec![("Enter", "bring it back"), ("Esc", "leave")],
            Stage::Working { .. } => vec![("Esc", "stop")],
            Stage::Ended(_) => vec![("Enter", "back")],
        },
    };
    let mut spans = vec![Span::raw(" ")];
    let mut used = 1;
    for (key, says) in pairs {
        let length = key.width() + says.width() + 4;
        if used + length > width {
            break;
        }
        used += length;
        spans.push(Span::styled(key.to_owned(), theme.strong()));
        spans.push(Span::styled(format!(" {says}   "), theme.quiet()));
    }
    Line::from(spans)
}

fn draw_dialog(frame: &mut Frame<'_>, app: &App, dialog: &Dialog, area: Rect) {
    let theme = app.theme;
    let (title, lines) = match dialog {
        Dialog::Help => {
            let rows = keys::BINDINGS.iter().map(|binding| {
                Line::from(vec![
                    Span::styled(format!("{:<10}", binding.shown), theme.strong()),
                    Span::raw(binding.says),
                ])
            });
            (" Keys ".to_owned(), rows.collect())
        }
        Dialog::Passphrase { plan, store, typed, wrong } => {
            let dots = "•".repeat(String::from_utf8_lossy(typed).chars().count());
            let mut lines = vec![
                Line::from(format!(
                    "The store {store}, where {plan} is kept, needs its passphrase."
                )),
                Line::from(""),
                Line::from(vec![
                    Span::raw("Passphrase  "),
                    Span::styled(format!("{dots}▏"), theme.strong()),
                ]),
            ];
            if *wrong {
                lines.push(Line::styled("That passphrase opens no slot of this store. Nothing was changed; try another.", theme.wrong()));
            }
            (" Passphrase ".to_owned(), lines)
        }
        Dialog::Restore(restore) => {
            (format!(" Bring back {} ", words::path(&restore.path)), restore_lines(app, restore))
        }
    };
    let width = area.width.saturating_sub(4).min(96);
    let inner = usize::from(width.saturating_sub(4)).max(1);
    let wrapped: usize = lines.iter().map(|line| line.width().div_ceil(inner).max(1)).sum();
    let height = (wrapped as u16 + 2).min(area.height.saturating_sub(2));
    let place = Rect {
        x: (area.width - width) / 2,
        y: area.height.saturating_sub(height) / 2,
        width,
        height,
    };
    frame.render_widget(Clear, place);
    let title = fit(&title, usize::from(width).saturating_sub(4));
    let block =
        Block::bordered().title(Span::styled(title, theme.strong())).border_style(theme.was());
    let padded = block.padding(ratatui::widgets::Padding::horizontal(1));
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }).block(padded), place);
}

fn restore_lines(app: &App, restore: &RestoreDialog) -> Vec<Line<'static>> {
    let theme = app.theme;
    let moment = app
        .current_lane()
        .and_then(|lane| lane.current())
        .map_or(String::new(), |row| words::moment(row.started));
    let mut lines =
        vec![Line::styled(format!("as it was on {moment}"), theme.was()), Line::from("")];
    let wherever = if restore.in_place { "where it was" } else { "elsewhere, below a directory" };
    let in_the_way = match restore.existing {
        Existing::Leave => "leave it, and restore the rest",
        Existing::Replace => "replace it",
        Existing::Rename => "keep it as NAME.kept-TIME",
    };
    let directory = if restore.in_place { "–".to_owned() } else { restore.directory.clone() };
    for (field, (question, answer)) in [
        ("Where to", wherever.to_owned()),
        ("Directory", directory),
        ("What is in the way", in_the_way.to_owned()),
    ]
    .into_iter()
    .enumerate()
    {
        let here = field == restore.field && matches!(restore.stage, Stage::Asking);
        let style = if here { theme.cursor() } else { Style::new() };
        let caret = if here && field == 1 { "▏" } else { "" };
        lines.push(Line::from(vec![
            Span::raw(format!("{question:<20}")),
            Span::styled(format!("{answer}{caret}"), style),
        ]));
    }
    lines.push(Line::from(""));
    match &restore.stage {
        Stage::Asking if !restore.in_place && !restore.directory.starts_with('/') => {
            lines.push(Line::styled(
                "The directory must be a full path, beginning with /",
                theme.wrong(),
            ));
        }
        Stage::Asking => lines
            .push(Line::styled("First it is rehearsed: nothing is written yet.", theme.quiet())),
        Stage::Rehearsing => lines.push(Line::styled("rehearsing …", theme.quiet())),
        Stage::Rehearsed(report) => {
            lines.push(Line::styled(
                "Rehearsed; nothing was written yet. It would be so:",
                theme.is(),
            ));
            lines.extend(report_lines(app, report));
        }
        Stage::Working { progress, .. } => {
            let total = progress.total_bytes.unwrap_or(0);
            let share = if total == 0 { 0.0 } else { progress.bytes as f64 / total as f64 };
            let full = (share.min(1.0) * 40.0) as usize;
            lines.push(Line::from(vec![
                Span::styled("█".repeat(full), theme.was()),
                Span::styled("░".repeat(40 - full), theme.quiet()),
                Span::raw(format!(
                    " {} of {}, {}/s",
                    words::bytes(progress.bytes),
                    words::bytes(total),
                    words::bytes(progress.rate as u64)
                )),
            ]));
            let left = progress.left.map_or(String::new(), |left| {
                format!("{} left  ", words::duration(Duration::from_secs(left.as_secs())))
            });
            lines.push(Line::styled(
                format!("{left}{}", words::path(&progress.path)),
                theme.quiet(),
            ));
        }
        Stage::Ended(Ok(report)) => {
            let (text, style) = match (report.interrupted, report.exception_count) {
                (true, _) => ("Stopped. What is there is whole.", theme.is()),
                (false, 0) => ("✓ Done.", theme.well()),
                (false, _) => ("▲ Done, but not all of it:", theme.wrong()),
            };
            lines.push(Line::styled(text, style));
            lines.extend(report_lines(app, report));
        }
        Stage::Ended(Err(trouble)) => {
            lines.push(Line::styled(format!("✗ {}", trouble.what), theme.wrong()));
            lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
        }
    }
    lines
}

fn report_lines(app: &App, report: &RestoreReport) -> Vec<Line<'static>> {
    let mut lines = vec![Line::from(format!(
        "{}, {}",
        words::counted(report.restored, "path", "paths"),
        words::bytes(report.bytes)
    ))];
    for (count, what) in [
        (report.left, "in the way and left as they are"),
        (report.replaced, "replaced"),
        (report.renamed, "kept under another name"),
    ] {
        if count > 0 {
            lines.push(Line::from(format!("{} {what}", words::counted(count, "path", "paths"))));
        }
    }
    for exception in report.exceptions.iter().take(5) {
        lines.push(Line::styled(
            format!("▲ {}: {}", words::path(&exception.path), exception.reason),
            app.theme.wrong(),
        ));
    }
    lines
}

#[cfg(test)]
#[path = "draw_tests.rs"]
mod tests;
