//! What fills the screen below the ribbon: a module a screen.

mod first;
mod is;
mod journal;
mod proof;
mod stores;
mod was;
mod will;

use ratatui::{
    Frame,
    layout::Rect,
    style::Style,
    text::{Line, Span, Text},
    widgets::{Paragraph, Wrap},
};

use super::{
    app::{App, Cursor, Screen},
    hits::Target,
    lanes::Known,
    worker::Trouble,
};
use crate::words::fit;
pub(super) use was::about_path;

/// Draws it.
pub(super) fn draw(frame: &mut Frame<'_>, app: &mut App, area: Rect) {
    if app.lanes.is_empty() && app.screen == Screen::Ribbon {
        return first::draw(frame, app, area);
    }
    match app.screen {
        Screen::Stores => stores::draw(frame, app, area),
        Screen::Journal => journal::draw(frame, app, area),
        Screen::Proof => proof::draw(frame, app, area),
        Screen::Ribbon => match app.cursor {
            Cursor::Was(_) => was::draw(frame, app, area),
            Cursor::Is => is::draw(frame, app, area),
            Cursor::Will(_) => will::draw(frame, app, area),
        },
    }
}

/// What stands in the title line beside the tense or the screen.
pub(super) fn title(app: &App) -> Vec<String> {
    match app.screen {
        Screen::Stores => stores::title(app),
        Screen::Journal => journal::title(app),
        Screen::Proof => proof::title(app),
        Screen::Ribbon => match app.cursor {
            Cursor::Was(time) => was::title(app, time),
            Cursor::Is => is::title(app),
            Cursor::Will(time) => will::title(app, time),
        },
    }
}

/// Length of the list the arrow keys go through, where there is one.
pub(super) fn list_length(app: &App) -> usize {
    match app.screen {
        Screen::Stores => app.stores.as_ref().map_or(0, Vec::len),
        Screen::Journal => match &app.journal {
            Some(Ok(papers)) => papers.len(),
            _ => 0,
        },
        Screen::Proof => app.lanes.len(),
        Screen::Ribbon => match app.cursor {
            Cursor::Is => is::list_length(app),
            _ => 0,
        },
    }
}

/// A failure with its reason and what to do.
fn trouble_lines(app: &App, trouble: &Trouble) -> Vec<Line<'static>> {
    let mut lines =
        vec![Line::from(""), Line::styled(format!("  ✕ {}", trouble.what), app.theme.wrong())];
    lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("  → {hint}"))));
    lines.push(Line::from("  → then look again with u"));
    lines
}

fn paragraph(frame: &mut Frame<'_>, lines: Vec<Line<'static>>, area: Rect) {
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }), area);
}

/// Whether the store of the current lane is open; draws why not otherwise.
fn is_open(frame: &mut Frame<'_>, app: &App, area: Rect) -> bool {
    let Some(lane) = app.current_lane() else { return false };
    match &lane.known {
        Known::Here => true,
        Known::Loading => {
            let what =
                Line::styled(format!("  opening the store {} …", lane.store), app.theme.quiet());
            paragraph(frame, vec![Line::from(""), what], area);
            false
        }
        Known::Trouble(trouble) => {
            let mut lines = trouble_lines(app, trouble);
            if trouble.passphrase.is_some() {
                lines.push(Line::from("  → then type the passphrase"));
            }
            paragraph(frame, lines, area);
            false
        }
    }
}

/// A column of a list: its title, its width, and whether it stands right.
struct Column {
    title: &'static str,
    width: usize,
    right: bool,
}

const fn column(title: &'static str, width: usize) -> Column {
    Column { title, width, right: false }
}

const fn number(title: &'static str, width: usize) -> Column {
    Column { title, width, right: true }
}

fn cell(text: &str, column: &Column) -> String {
    let text = fit(text, column.width);
    match column.right {
        true => format!("{text:>width$}", width = column.width),
        false => format!("{text:<width$}", width = column.width),
    }
}

/// A row of a list: its cells, and a style for one of them that says how it stands.
struct Cells {
    cells: Vec<String>,
    style: Style,
    styled: usize,
}

/// Draws a list with a head, a selection that can be clicked, and a total below.
fn list(
    frame: &mut Frame<'_>,
    app: &mut App,
    area: Rect,
    columns: &[Column],
    rows: &dyn Fn(&App, usize) -> Cells,
    total: &str,
) {
    let length = list_length(app);
    let height = usize::from(area.height).saturating_sub(2);
    let shown = app.list.window(height, length);
    let theme = app.theme;
    let head: Vec<String> = columns.iter().map(|column| cell(column.title, column)).collect();
    let mut lines = vec![Line::styled(format!("  {}", head.join("  ")), theme.quiet())];
    for row in shown {
        let Cells { cells, style, styled } = rows(app, row);
        let selected = row == app.list.selected;
        let mut spans = vec![Span::styled(if selected { "▌ " } else { "  " }, app.tense_style())];
        for (at, (text, column)) in cells.iter().zip(columns).enumerate() {
            let style = if at == styled { style } else { Style::new() };
            let style = if selected && at == 0 { style.patch(theme.strong()) } else { style };
            spans.push(Span::styled(cell(text, column), style));
            spans.push(Span::raw("  "));
        }
        let y = area.y + lines.len() as u16;
        app.hits.add(Rect { y, height: 1, ..area }, Target::Entry(row));
        lines.push(Line::from(spans));
    }
    lines.push(Line::styled(format!("  {total}"), theme.quiet()));
    frame.render_widget(Text::from(lines), area);
}

/// A label and what stands beside it.
fn fact(app: &App, label: &str, text: impl Into<String>) -> Line<'static> {
    Line::from(vec![
        Span::styled(format!("  {label:<13}"), app.theme.quiet()),
        Span::raw(text.into()),
    ])
}
