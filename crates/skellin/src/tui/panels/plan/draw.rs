//! How a plan in the making looks.

use crate::tui::drawn::Drawn;
use crate::tui::lines::wrap;
use std::os::unix::ffi::OsStrExt;

use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span, Text},
};

use super::{
    super::{
        guide,
        text_field::{TextField, strength},
    },
    Field, PAGES, Page, PlanPanel, Trial,
    sources::Sources,
    store::{Field as StoreField, StoreStep},
};
use skellin_plan::FORMS;

use crate::{
    tui::{hits::Target, model::Model, widgets::bar},
    words::{self, fit, fit_name},
};

pub(super) fn draw(
    frame: &mut Frame<'_>,
    app: &Model,
    drawn: &mut Drawn,
    panel: &PlanPanel,
    area: Rect,
) {
    let at = PAGES.iter().position(|(page, _)| *page == panel.page).unwrap_or(0);
    let names: Vec<&str> = PAGES.iter().map(|(_, name)| *name).collect();
    let head = "new plan; nothing is written before you save it";
    let (body, foot) = guide::frame(frame, app, area, head, &names, at);
    let theme = app.theme;
    match panel.page {
        Page::Sources => sources(frame, app, drawn, &panel.sources, body),
        Page::Store => store(frame, app, drawn, &panel.store, body),
        Page::Rules => rules(frame, app, drawn, panel, body),
        Page::Plan => plan(frame, app, panel, body),
        Page::Review => review(frame, app, panel, body),
    }
    let said = match (&panel.trouble, panel.lacks()) {
        (Some(trouble), _) => Line::styled(
            format!(
                " ✕ {}{}",
                trouble.what,
                trouble.hint.as_ref().map_or(String::new(), |hint| format!(" → {hint}"))
            ),
            theme.wrong(),
        ),
        (None, Some(lacks)) => Line::styled(format!(" next: {lacks}"), theme.is()),
        (None, None) if panel.page == Page::Review => Line::from(""),
        (None, None) => Line::styled(" ✓ this step is complete: Tab continues", theme.well()),
    };
    frame.render_widget(said, foot);
}

fn sources(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, step: &Sources, area: Rect) {
    let theme = app.theme;
    let marked = (step.selected.len() as u16).clamp(1, 5) + 1;
    let [title, list, chosen] =
        Layout::vertical([Constraint::Length(1), Constraint::Min(1), Constraint::Length(marked)])
            .areas(area);
    let width = usize::from(area.width);
    let head = match (&step.typed, &step.refused) {
        (_, Some(refused)) => Line::styled(fit(&format!(" ✕ {refused}"), width), theme.wrong()),
        (Some(typed), None) => {
            let about = typed.completion().map(|completion| format!("→ {completion}"));
            guide::field(app, true, "path", typed.shown(true), &about.unwrap_or_default(), false)
        }
        (None, None) => {
            let shown = words::path(step.folder.as_os_str().as_bytes());
            Line::styled(fit(&format!(" in {shown}"), width), theme.strong())
        }
    };
    frame.render_widget(head, title);
    let mut lines = Vec::new();
    match &step.entries {
        None => lines.push(Line::styled("   loading …", theme.quiet())),
        Some(Err(error)) => lines.push(Line::styled(format!("   ✕ {error}"), theme.wrong())),
        Some(Ok(entries)) if entries.is_empty() => {
            lines.push(Line::styled("   empty", theme.quiet()));
        }
        Some(Ok(entries)) => {
            let mut window = step.list;
            window.offset = window.selected.saturating_sub(usize::from(list.height) / 2);
            for number in window.rows(list.height.into(), entries.len()) {
                let entry = &entries[number];
                let path = step.folder.join(&entry.name);
                let mark = if step.selected.contains(&path) {
                    "[x]"
                } else if step.selected.iter().any(|source| path.starts_with(source)) {
                    "[+]"
                } else {
                    "[ ]"
                };
                let slash = if entry.is_directory { "/" } else { "" };
                let size =
                    if entry.is_directory { String::new() } else { words::bytes(entry.size) };
                let name = format!(" {mark} {}{slash}", words::path(entry.name.as_bytes()));
                let name = fit_name(&name, width.saturating_sub(12));
                let line = format!("{name:<wide$}{size:>10} ", wide = width.saturating_sub(11));
                let style = match (number == step.list.selected, mark) {
                    (true, _) => theme.cursor(),
                    (false, "[x]") => theme.well(),
                    _ => Style::new(),
                };
                let row = list.y + lines.len() as u16;
                drawn.hit(Rect { y: row, height: 1, ..list }, Target::Entry(number));
                lines.push(Line::styled(line, style));
            }
        }
    }
    frame.render_widget(Text::from(lines), list);
    let mut lines = vec![Line::styled(
        format!(" Selected: {}", words::counted(step.selected.len() as u64, "path", "paths")),
        theme.strong(),
    )];
    for path in step.selected.iter().take(5) {
        lines.push(Line::from(fit(
            &format!("   {}", words::path(path.as_os_str().as_bytes())),
            width,
        )));
    }
    frame.render_widget(Text::from(lines), chosen);
}

fn store(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, step: &StoreStep, area: Rect) {
    let theme = app.theme;
    let mut lines = vec![
        Line::styled(
            " A store keeps snapshots: deduplicated, compressed, encrypted.",
            theme.quiet(),
        ),
        Line::from(""),
    ];
    let names = step.names.iter().map(String::as_str).chain(["a new store …"]);
    for (number, name) in names.enumerate() {
        let mark = if number == step.chosen { "(•)" } else { "( )" };
        let here = step.field == StoreField::Choice && number == step.chosen;
        let row = area.y + lines.len() as u16;
        drawn.hit(Rect { y: row, height: 1, ..area }, Target::Entry(number));
        lines.push(Line::styled(
            format!(" {} {mark} {name}", if here { "▸" } else { " " }),
            if here { theme.strong() } else { Style::new() },
        ));
    }
    let shown = |which: StoreField, field: &TextField| field.shown(step.field == which);
    let field = |which: StoreField, label: &str, value: String, about: &str| {
        // How strong a passphrase is stays in sight.
        let always = which == StoreField::Passphrase;
        guide::field(app, step.field == which, label, value, about, always)
    };
    let keep = || match step.keep {
        true => format!("‹ in {} ›", step.key_file().display()),
        false => "‹ not saved: ask each time ›".to_owned(),
    };
    if step.is_new() {
        let completion = step.place.completion().map(|completion| format!("→ {completion}"));
        let about = completion.as_deref().unwrap_or("on another disk; created if needed");
        let place = step.place.shown(step.field == StoreField::Place);
        let passphrase = shown(StoreField::Passphrase, &step.passphrase);
        let strong = strength(step.passphrase.length());
        lines.extend([
            Line::from(""),
            field(StoreField::Name, "name", shown(StoreField::Name, &step.name), "for example oak"),
            field(StoreField::Place, "directory", place, about),
            field(StoreField::Passphrase, "passphrase", passphrase, strong),
            field(StoreField::Again, "repeat", shown(StoreField::Again, &step.again), ""),
            field(StoreField::Keep, "save", keep(), "readable only by you"),
            Line::from(""),
            Line::styled(
                " Without the passphrase the store cannot be read: keep a copy of it elsewhere.",
                theme.is(),
            ),
        ]);
    } else if step.is_keyless() {
        let passphrase = shown(StoreField::Passphrase, &step.passphrase);
        lines.extend([
            Line::from(""),
            Line::styled(
                format!(
                    " The passphrase of {} is not configured: scheduled runs cannot start without it.",
                    step.called()
                ),
                theme.is(),
            ),
            field(StoreField::Passphrase, "passphrase", passphrase, "empty: ask each time"),
            field(StoreField::Keep, "save", keep(), "readable only by you"),
        ]);
    }
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}

fn rules(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, panel: &PlanPanel, area: Rect) {
    let lines = panel.rules.lines(app, area.width.into());
    for number in 0..panel.rules.count() {
        let row = Rect { y: area.y + 2 + number as u16, height: 1, ..area };
        drawn.hit(row.intersection(area), Target::Entry(number));
    }
    frame.render_widget(Text::from(lines), area);
}

fn plan(frame: &mut Frame<'_>, app: &Model, panel: &PlanPanel, area: Rect) {
    let theme = app.theme;
    let field = |which: Field, label: &str, typed: &TextField, about: &str| {
        // How a schedule is understood stays in sight.
        let (here, always) = (panel.field == which, which == Field::Schedule);
        guide::field(app, here, label, typed.shown(here), about, always)
    };
    let read_back = match skellin_plan::Schedule::parse(&panel.schedule.text()) {
        _ if panel.schedule.text().trim().is_empty() => "empty: by hand only".to_owned(),
        Ok(schedule) => schedule.words(),
        Err((what, hint)) => format!("✕ {what} → {hint}"),
    };
    let mut lines = vec![
        field(Field::Name, "name", &panel.name, "a-z, 0-9, - and _"),
        field(Field::About, "about", &panel.about, "description"),
        field(Field::Schedule, "runs", &panel.schedule, &read_back),
        Line::from(""),
        Line::styled(" Forms of backup:", theme.strong()),
    ];
    for (number, (form, what)) in FORMS.iter().enumerate() {
        let mark = if number == 0 { "(•)" } else { "( )" };
        let style = if number == 0 { Style::new() } else { theme.quiet() };
        lines.push(Line::styled(format!("   {mark} {form:<10} {what}"), style));
    }
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}

fn review(frame: &mut Frame<'_>, app: &Model, panel: &PlanPanel, area: Rect) {
    let theme = app.theme;
    let mut lines = Vec::new();
    let Some(state) = &panel.state else {
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
    if panel.store.is_new() && state.checked.plan.is_some() {
        let place = panel.store.place.text();
        lines.push(Line::from(format!(" The store is created in {place} when you save.")));
    }
    match &panel.trial {
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
                    format!("   ▲ {}: {}", words::path(&exception.path), exception.cause.words),
                    theme.wrong(),
                ));
            }
        }
        Trial::Ended(Err(trouble)) => {
            lines.push(Line::styled(format!(" ✕ dry run: {}", trouble.what), theme.wrong()));
        }
    }
    if state.checked.plan.is_some() && !panel.saving {
        let trial = if matches!(panel.trial, Trial::None) { " d makes a dry run," } else { "" };
        lines.push(Line::styled(format!("{trial} Enter saves it."), theme.is()));
    }
    if panel.saving {
        lines.push(Line::styled(" saving …", theme.is()));
    }
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}
