//! How the guided store looks.

use crate::tui::drawn::Drawn;
use crate::tui::lines::wrap;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span, Text},
};

use super::{
    Field, KINDS, Kind, Making, PAGES, Page, StorePanel,
    form::{Ask, asked},
};
use crate::{
    tui::{
        hits::Target,
        model::Model,
        panels::{
            guide::{self, field},
            text_field::{TextField, strength},
        },
    },
    words::fit,
};

pub(super) fn draw(
    frame: &mut Frame<'_>,
    app: &Model,
    drawn: &mut Drawn,
    panel: &StorePanel,
    area: Rect,
) {
    let at = PAGES.iter().position(|(page, _)| *page == panel.page).unwrap_or(0);
    let names: Vec<&str> = PAGES.iter().map(|(_, name)| *name).collect();
    let said = "new store; nothing is created before the last step";
    let (body, foot) = guide::frame(frame, app, area, said, &names, at);
    match panel.page {
        Page::Kind => kinds(frame, app, drawn, panel, body),
        Page::Way => way(frame, app, panel, body),
        Page::Folder => folders(frame, app, drawn, panel, body),
        Page::Passphrase => passphrase(frame, app, panel, body),
        Page::Make => make(frame, app, panel, body),
    }
    let theme = app.theme;
    let line = match (panel.page, panel.lacks()) {
        (Page::Make, _) => Line::from(""),
        (_, Some(lacks)) => Line::styled(format!(" next: {lacks}"), theme.is()),
        (_, None) => Line::styled(" ✓ this step is complete: Tab continues", theme.well()),
    };
    frame.render_widget(line, foot);
}

fn kinds(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, panel: &StorePanel, area: Rect) {
    let theme = app.theme;
    let quiet = " Where to keep the snapshots? Two stores far apart are safer than one.";
    let mut lines = vec![Line::styled(quiet, theme.quiet()), Line::from("")];
    for (number, (_, name, about)) in KINDS.iter().enumerate() {
        let here = number == panel.kind;
        let row = area.y + lines.len() as u16;
        drawn.hit(Rect { y: row, height: 1, ..area }, Target::Entry(number));
        lines.push(Line::from(vec![
            Span::styled(if here { " ▸ (•) " } else { "   ( ) " }, theme.is()),
            Span::styled(format!("{name:<18}"), if here { theme.strong() } else { Style::new() }),
            Span::styled((*about).to_owned(), theme.quiet()),
        ]));
    }
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}

fn way(frame: &mut Frame<'_>, app: &Model, panel: &StorePanel, area: Rect) {
    let theme = app.theme;
    let kind = panel.kind();
    let mut lines =
        vec![Line::styled(format!(" {}", KINDS[panel.kind].2), theme.quiet()), Line::from("")];
    for (number, ask) in asked(kind).iter().enumerate() {
        let here = number == panel.at;
        let (label, about) = ask.words(kind);
        let value = match (panel.answers.get(ask), here) {
            _ if ask.is_secret() => panel.secret.shown(here),
            (Some(line), here) => line.shown(here),
            (None, _) => String::new(),
        };
        lines.push(field(app, here, label, value, about, false));
    }
    lines.push(Line::from(""));
    if let Some(file) = panel.secret_file().filter(|_| !panel.text(Ask::Name).is_empty()) {
        let text = format!(" The secret is saved in {}, readable only by you.", file.display());
        lines.push(Line::styled(text, theme.quiet()));
    }
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}

fn folders(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, panel: &StorePanel, area: Rect) {
    let theme = app.theme;
    let is_drive = panel.kind() == Kind::Drive;
    let [title, list, chosen] =
        Layout::vertical([Constraint::Length(1), Constraint::Min(1), Constraint::Length(4)])
            .areas(area);
    let width = usize::from(area.width);
    let shown = match (panel.folder.as_str(), is_drive) {
        ("", true) => " mounted drives".to_owned(),
        (mount, true) => format!(" on the drive at {mount}"),
        ("", false) => " in the bucket".to_owned(),
        ("~", false) => " in the home directory of the account".to_owned(),
        (folder, false) => format!(" in {folder}"),
    };
    frame.render_widget(Line::styled(fit(&shown, width), theme.strong()), title);
    let mut lines = Vec::new();
    match &panel.folders {
        None => lines.push(Line::styled("   loading …", theme.quiet())),
        Some(Err(trouble)) => {
            lines.push(Line::styled(format!("   ✕ {}", trouble.what), theme.wrong()));
            match trouble.new_host {
                true => {
                    let text = "   → compare it with the key on the host, then accept it with k";
                    lines.push(Line::styled(text, theme.is()));
                }
                false => {
                    let hint = trouble.hint.iter();
                    lines.extend(hint.map(|hint| Line::from(format!("   → {hint}"))));
                }
            }
        }
        Some(Ok(names)) if names.is_empty() => {
            let text = if is_drive { "no drive is mounted" } else { "no directories" };
            lines.push(Line::styled(format!("   {text}"), theme.quiet()));
        }
        Some(Ok(names)) => {
            let mut window = panel.list;
            window.offset = window.selected.saturating_sub(usize::from(list.height) / 2);
            for number in window.rows(list.height.into(), names.len()) {
                let here = number == panel.list.selected;
                let mark = if is_drive && names[number] == panel.folder { "(•) " } else { "" };
                let slash = if is_drive { "" } else { "/" };
                let name = fit(&format!("   {mark}{}{slash}", names[number]), width);
                let style = if here { theme.cursor() } else { Style::new() };
                let row = list.y + lines.len() as u16;
                drawn.hit(Rect { y: row, height: 1, ..list }, Target::Entry(number));
                lines.push(Line::styled(format!("{name:<width$}"), style));
            }
        }
    }
    frame.render_widget(Text::from(wrap(lines, list.width.into())), list);
    let about = "a name, or a full path; created with the store";
    let label = if is_drive { "directory" } else { "new directory" };
    let place = panel.store_at(&panel.path()).map(|new| new.draft.place.to_string());
    let lines = vec![
        Line::from(""),
        field(app, true, label, panel.new_folder.shown(true), about, true),
        Line::from(vec![
            Span::raw("   the place      "),
            Span::styled(place.unwrap_or_else(|why| format!("– {why}")), theme.strong()),
        ]),
    ];
    frame.render_widget(Text::from(lines), chosen);
}

fn passphrase(frame: &mut Frame<'_>, app: &Model, panel: &StorePanel, area: Rect) {
    let theme = app.theme;
    let keep = match panel.keep {
        true => format!("‹ in {} ›", panel.file("key").display()),
        false => "‹ not saved: ask each time ›".to_owned(),
    };
    let secret = |which: Field, typed: &TextField| typed.shown(panel.field == which);
    let row = |which, label, value, about: &str, always| {
        field(app, panel.field == which, label, value, about, always)
    };
    let lines = vec![
        Line::styled(" Everything in the store is encrypted with this passphrase.", theme.quiet()),
        Line::from(""),
        row(
            Field::First,
            "passphrase",
            secret(Field::First, &panel.passphrase),
            strength(panel.passphrase.length()),
            true,
        ),
        row(Field::Again, "repeat", secret(Field::Again, &panel.again), "", false),
        row(Field::Keep, "save", keep, "readable only by you; Space changes it", false),
        Line::from(""),
        Line::styled(
            " Without the passphrase the store cannot be read: keep a copy of it elsewhere.",
            theme.is(),
        ),
    ];
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}

fn make(frame: &mut Frame<'_>, app: &Model, panel: &StorePanel, area: Rect) {
    let theme = app.theme;
    let mut lines = Vec::new();
    if matches!(panel.making, Making::No) {
        match panel.store_at(&panel.path()) {
            Ok(new) => {
                let file = panel.config.join("stores.toml");
                let text = format!(" This will be appended to {}:", file.display());
                lines.push(Line::styled(text, theme.strong()));
                let text = new.draft.text().unwrap_or_else(|why| format!("✕ {why}"));
                lines.extend(text.lines().map(|line| Line::from(format!("   {line}"))));
                lines.push(Line::from(""));
                lines.push(Line::styled(
                    " Enter creates the directory, tests writing and reading, and creates the store.",
                    theme.is(),
                ));
            }
            Err(why) => lines.push(Line::styled(format!(" ✕ {why}"), theme.wrong())),
        }
    }
    for step in &panel.steps {
        lines.push(Line::from(vec![
            Span::styled(" ✓ ", theme.well()),
            Span::styled(format!("{:<11}", step.step), theme.quiet()),
            Span::raw(step.found.clone()),
        ]));
    }
    match &panel.making {
        Making::No => {}
        Making::Going => lines.push(Line::styled("   testing …", theme.is())),
        Making::Done(Ok(())) => {
            lines.push(Line::from(""));
            lines.push(Line::styled(
                format!(" ✓ Store {} created.", panel.text(Ask::Name)),
                theme.well(),
            ));
            lines.push(Line::styled(" → Enter makes a plan for it.", theme.is()));
        }
        Making::Done(Err(trouble)) => {
            lines.push(Line::styled(format!(" ✕ {}", trouble.what), theme.wrong()));
            lines.extend(trouble.hint.iter().map(|hint| Line::from(format!(" → {hint}"))));
            let text = " Nothing was written. Enter tries again; Shift Tab goes back.";
            lines.push(Line::styled(text, theme.quiet()));
        }
    }
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}
