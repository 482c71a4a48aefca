//! How the guided plan looks.

use std::os::unix::ffi::OsStrExt;

use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span, Text},
    widgets::{Paragraph, Wrap},
};

use super::{
    guide,
    text_field::{TextField, strength},
    wizard::{Field, PAGES, Page, Trial, Wizard},
};
use skellin_plan::FORMS;

use crate::{
    tui::{hits::Target, model::Model, widgets::bar},
    words::{self, fit},
};

pub(super) fn draw(frame: &mut Frame<'_>, app: &mut Model, wizard: &Wizard, area: Rect) {
    let at = PAGES.iter().position(|(page, _)| *page == wizard.page).unwrap_or(0);
    let names: Vec<&str> = PAGES.iter().map(|(_, name)| *name).collect();
    let head = "new plan; nothing is written before you save it";
    let (body, foot) = guide::frame(frame, app, area, head, &names, at);
    let theme = app.theme;
    match wizard.page {
        Page::Sources => sources(frame, app, wizard, body),
        Page::Store => store(frame, app, wizard, body),
        Page::Plan => plan(frame, app, wizard, body),
        Page::Review => review(frame, app, wizard, body),
    }
    let said = match (&wizard.trouble, wizard.lacks()) {
        (Some(trouble), _) => Line::styled(
            format!(
                " ✕ {}{}",
                trouble.what,
                trouble.hint.as_ref().map_or(String::new(), |hint| format!(" → {hint}"))
            ),
            theme.wrong(),
        ),
        (None, Some(lacks)) => Line::styled(format!(" next: {lacks}"), theme.is()),
        (None, None) if wizard.page == Page::Review => Line::from(""),
        (None, None) => Line::styled(" ✓ this step is complete: Tab continues", theme.well()),
    };
    frame.render_widget(said, foot);
}

fn sources(frame: &mut Frame<'_>, app: &mut Model, wizard: &Wizard, area: Rect) {
    let theme = app.theme;
    let marked = (wizard.sources.len() as u16).clamp(1, 5) + 1;
    let [title, list, chosen] =
        Layout::vertical([Constraint::Length(1), Constraint::Min(1), Constraint::Length(marked)])
            .areas(area);
    let width = usize::from(area.width);
    let shown = words::path(wizard.folder.as_os_str().as_bytes());
    frame.render_widget(Line::styled(fit(&format!(" in {shown}"), width), theme.strong()), title);
    let mut lines = Vec::new();
    match &wizard.entries {
        None => lines.push(Line::styled("   loading …", theme.quiet())),
        Some(Err(error)) => lines.push(Line::styled(format!("   ✕ {error}"), theme.wrong())),
        Some(Ok(entries)) if entries.is_empty() => {
            lines.push(Line::styled("   empty", theme.quiet()));
        }
        Some(Ok(entries)) => {
            let mut window = wizard.list;
            window.offset = window.selected.saturating_sub(usize::from(list.height) / 2);
            for number in window.window(list.height.into(), entries.len()) {
                let entry = &entries[number];
                let path = wizard.folder.join(&entry.name);
                let mark = if wizard.sources.contains(&path) {
                    "[x]"
                } else if wizard.sources.iter().any(|source| path.starts_with(source)) {
                    "[+]"
                } else {
                    "[ ]"
                };
                let slash = if entry.is_directory { "/" } else { "" };
                let size =
                    if entry.is_directory { String::new() } else { words::bytes(entry.size) };
                let name = format!(" {mark} {}{slash}", words::path(entry.name.as_bytes()));
                let name = fit(&name, width.saturating_sub(12));
                let line = format!("{name:<wide$}{size:>10} ", wide = width.saturating_sub(11));
                let style = match (number == wizard.list.selected, mark) {
                    (true, _) => theme.cursor(),
                    (false, "[x]") => theme.well(),
                    _ => Style::new(),
                };
                let row = list.y + lines.len() as u16;
                app.hits.add(Rect { y: row, height: 1, ..list }, Target::Entry(number));
                lines.push(Line::styled(line, style));
            }
        }
    }
    frame.render_widget(Text::from(lines), list);
    let mut lines = vec![Line::styled(
        format!(" Selected: {}", words::counted(wizard.sources.len() as u64, "path", "paths")),
        theme.strong(),
    )];
    for path in wizard.sources.iter().take(5) {
        lines.push(Line::from(fit(
            &format!("   {}", words::path(path.as_os_str().as_bytes())),
            width,
        )));
    }
    frame.render_widget(Text::from(lines), chosen);
}

fn field(
    app: &Model,
    wizard: &Wizard,
    which: Field,
    label: &str,
    value: String,
    about: &str,
) -> Line<'static> {
    // How strong a passphrase is, and how a schedule is understood, stays in sight.
    let always = matches!(which, Field::Passphrase | Field::Schedule);
    guide::field(app, wizard.field == which, label, value, about, always)
}

fn store(frame: &mut Frame<'_>, app: &mut Model, wizard: &Wizard, area: Rect) {
    let theme = app.theme;
    let mut lines = vec![
        Line::styled(
            " A store keeps snapshots: deduplicated, compressed, encrypted.",
            theme.quiet(),
        ),
        Line::from(""),
    ];
    let names = wizard.stores.iter().map(String::as_str).chain(["a new store …"]);
    for (number, name) in names.enumerate() {
        let mark = if number == wizard.store { "(•)" } else { "( )" };
        let here = wizard.field == Field::Choice && number == wizard.store;
        let row = area.y + lines.len() as u16;
        app.hits.add(Rect { y: row, height: 1, ..area }, Target::Entry(number));
        lines.push(Line::styled(
            format!(" {} {mark} {name}", if here { "▸" } else { " " }),
            if here { theme.strong() } else { Style::new() },
        ));
    }
    if wizard.is_new_store() {
        let shown = |which: Field, line: &TextField| line.shown(wizard.field == which);
        let keep = match wizard.keep {
            true => format!("‹ in {} ›", wizard.key_file().display()),
            false => "‹ not saved: ask each time ›".to_owned(),
        };
        lines.push(Line::from(""));
        lines.push(field(
            app,
            wizard,
            Field::StoreName,
            "name",
            shown(Field::StoreName, &wizard.store_name),
            "for example oak",
        ));
        lines.push(field(
            app,
            wizard,
            Field::Place,
            "directory",
            shown(Field::Place, &wizard.place),
            "on another disk; created if needed",
        ));
        lines.push(field(
            app,
            wizard,
            Field::Passphrase,
            "passphrase",
            shown(Field::Passphrase, &wizard.passphrase),
            strength(wizard.passphrase.length()),
        ));
        lines.push(field(
            app,
            wizard,
            Field::Again,
            "repeat",
            shown(Field::Again, &wizard.again),
            "",
        ));
        lines.push(field(app, wizard, Field::Keep, "save", keep, "readable only by you"));
        lines.push(Line::from(""));
        lines.push(Line::styled(
            " Without the passphrase the store cannot be read: keep a copy of it elsewhere.",
            theme.is(),
        ));
    }
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }), area);
}

fn plan(frame: &mut Frame<'_>, app: &Model, wizard: &Wizard, area: Rect) {
    let theme = app.theme;
    let shown = |which: Field, line: &TextField| line.shown(wizard.field == which);
    let read_back = match skellin_plan::Schedule::parse(&wizard.schedule.text()) {
        _ if wizard.schedule.text().trim().is_empty() => "empty: by hand only".to_owned(),
        Ok(schedule) => schedule.words(),
        Err((what, hint)) => format!("✕ {what} → {hint}"),
    };
    let mut lines = vec![
        field(
            app,
            wizard,
            Field::Name,
            "name",
            shown(Field::Name, &wizard.name),
            "a-z, 0-9, - and _",
        ),
        field(
            app,
            wizard,
            Field::About,
            "about",
            shown(Field::About, &wizard.about),
            "description",
        ),
        field(
            app,
            wizard,
            Field::Schedule,
            "runs",
            shown(Field::Schedule, &wizard.schedule),
            &read_back,
        ),
        Line::from(""),
        Line::styled(" Forms of backup:", theme.strong()),
    ];
    for (number, (form, what)) in FORMS.iter().enumerate() {
        let mark = if number == 0 { "(•)" } else { "( )" };
        let style = if number == 0 { Style::new() } else { theme.quiet() };
        lines.push(Line::styled(format!("   {mark} {form:<10} {what}"), style));
    }
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }), area);
}

fn review(frame: &mut Frame<'_>, app: &Model, wizard: &Wizard, area: Rect) {
    let theme = app.theme;
    let mut lines = Vec::new();
    let Some(state) = &wizard.state else {
        return frame.render_widget(Line::styled("   checking …", theme.quiet()), area);
    };
    for (what, hint) in &state.checked.mistakes {
        lines.push(Line::styled(format!(" ✕ {what}"), theme.wrong()));
        lines.push(Line::from(format!("   → {hint}")));
    }
    if state.checked.mistakes.is_empty() {
        lines.push(Line::styled(" ✓ no mistakes; this will be written:", theme.well()));
    }
    for note in &state.checked.notes {
        lines.push(Line::styled(format!(" note: {note}"), theme.is()));
    }
    for (file, text) in &state.files {
        lines.push(Line::from(""));
        lines.push(Line::styled(format!(" {file}"), theme.strong()));
        lines.extend(text.lines().map(|line| Line::from(format!("   {line}"))));
    }
    lines.push(Line::from(""));
    if wizard.is_new_store() && state.checked.plan.is_some() {
        let place = wizard.place.text();
        lines.push(Line::from(format!(" The store is created in {place} when you save.")));
    }
    match &wizard.trial {
        Trial::None => {}
        Trial::Going { progress, .. } => {
            let share = match progress.total_files {
                Some(total) if total > 0 => progress.files as f64 / total as f64,
                _ => 0.0,
            };
            let mut spans = vec![Span::raw(" dry run  ")];
            spans.extend(bar(share, 20, theme.is(), theme.quiet()));
            spans.push(Span::raw(format!("  {}", words::counted(progress.files, "file", "files"))));
            lines.push(Line::from(spans));
        }
        Trial::Ended(Ok(report)) => {
            lines.push(Line::styled(
                format!(
                    " ✓ dry run: {} would be stored, {} to read; {} skipped, {}",
                    words::counted(report.files.new + report.files.changed, "file", "files"),
                    words::bytes(report.bytes.read),
                    words::count(report.files.skipped),
                    words::counted(report.exception_count, "exception", "exceptions")
                ),
                theme.well(),
            ));
            for exception in report.exceptions.iter().take(3) {
                lines.push(Line::styled(
                    format!("   ▲ {}: {}", words::path(&exception.path), exception.reason),
                    theme.wrong(),
                ));
            }
        }
        Trial::Ended(Err(trouble)) => {
            lines.push(Line::styled(format!(" ✕ dry run: {}", trouble.what), theme.wrong()));
        }
    }
    if state.checked.plan.is_some() && !wizard.saving {
        let trial = if matches!(wizard.trial, Trial::None) { " d makes a dry run," } else { "" };
        lines.push(Line::styled(format!("{trial} Enter saves it."), theme.is()));
    }
    if wizard.saving {
        lines.push(Line::styled(" saving …", theme.is()));
    }
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }), area);
}
