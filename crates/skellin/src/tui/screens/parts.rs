//! What the screens share: paragraphs, lists, facts.

use crate::tui::drawn::Drawn;
use crate::tui::lines::{cut, wrap};
use ratatui::{
    Frame,
    layout::Rect,
    style::Style,
    text::{Line, Span, Text},
};

use unicode_width::UnicodeWidthStr;

use super::length::list_length;
use crate::{
    tui::{hits::Target, lanes::Known, model::Model, worker::Trouble},
    words::fit,
};

/// A failure with its reason and what to do.
pub(super) fn trouble_lines(app: &Model, trouble: &Trouble) -> Vec<Line<'static>> {
    let mut lines =
        vec![Line::from(""), Line::styled(format!("  ✕ {}", trouble.what), app.theme.wrong())];
    lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("  → {hint}"))));
    lines.push(Line::from("  → then refresh with u"));
    lines
}

pub(super) fn paragraph(frame: &mut Frame<'_>, lines: Vec<Line<'static>>, area: Rect) {
    frame.render_widget(Text::from(wrap(lines, area.width.into())), area);
}

/// Lines as they are, the longer ones cut visibly.
pub(super) fn plain(frame: &mut Frame<'_>, lines: Vec<Line<'static>>, area: Rect) {
    frame.render_widget(Text::from(cut(lines, area.width.into())), area);
}

/// Whether the store of the current lane is open; draws why not otherwise.
pub(super) fn is_open(frame: &mut Frame<'_>, app: &Model, area: Rect) -> bool {
    let Some(lane) = app.current_lane() else { return false };
    match &lane.known {
        Known::Here => true,
        Known::Loading => {
            let what = Line::styled(format!("  opening store {} …", lane.store), app.theme.quiet());
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
pub(super) struct Column {
    pub title: &'static str,
    pub width: usize,
    pub right: bool,
}

pub(super) const fn column(title: &'static str, width: usize) -> Column {
    Column { title, width, right: false }
}

pub(super) const fn number(title: &'static str, width: usize) -> Column {
    Column { title, width, right: true }
}

pub(super) fn cell(text: &str, column: &Column) -> String {
    let text = fit(text, column.width);
    match column.right {
        true => format!("{text:>width$}", width = column.width),
        false => format!("{text:<width$}", width = column.width),
    }
}

/// A row of a list: its cells, and a style for one of them that says how it stands.
pub(super) struct Cells {
    pub cells: Vec<String>,
    pub style: Style,
    pub styled: usize,
}

/// Draws a list with a head, a selection that can be clicked, and a total below.
pub(super) fn list(
    frame: &mut Frame<'_>,
    app: &Model,
    drawn: &mut Drawn,
    area: Rect,
    columns: &[Column],
    rows: &dyn Fn(&Model, usize) -> Cells,
    total: &str,
) {
    let length = list_length(app);
    let height = usize::from(area.height).saturating_sub(2);
    let shown = drawn.list(app, height, length);
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
        drawn.hit(Rect { y, height: 1, ..area }, Target::Entry(row));
        lines.push(Line::from(spans));
    }
    lines.push(Line::styled(format!("  {total}"), theme.quiet()));
    plain(frame, lines, area);
}

/// A label and what stands beside it.
pub(super) fn fact(app: &Model, label: &str, text: impl Into<String>) -> Line<'static> {
    Line::from(vec![
        Span::styled(format!("  {label:<13}"), app.theme.quiet()),
        Span::raw(text.into()),
    ])
}

/// Parts of a sentence with points between them, as many as there is room for.
pub(super) fn said(parts: Vec<(String, Style)>, width: usize) -> Line<'static> {
    let mut spans = vec![Span::raw("  ")];
    let mut used = 2;
    for (number, (text, style)) in parts.into_iter().enumerate() {
        let between = if number > 0 { "  ·  " } else { "" };
        if used + between.width() + text.width() > width {
            break;
        }
        used += between.width() + text.width();
        spans.extend([Span::raw(between), Span::styled(text, style)]);
    }
    Line::from(spans)
}
