//! What all that is done step by step looks like.

use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span},
    widgets::Clear,
};

use crate::tui::model::Model;

/// Draws the head and the steps; the areas for the step itself and for the line below it.
pub(super) fn frame(
    frame: &mut Frame<'_>,
    app: &Model,
    area: Rect,
    said: &str,
    steps: &[&str],
    at: usize,
) -> (Rect, Rect) {
    frame.render_widget(Clear, area);
    let theme = app.theme;
    let [head, above, body, foot, _hints] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(2),
        Constraint::Min(1),
        Constraint::Length(1),
        Constraint::Length(1),
    ])
    .areas(area);
    frame.render_widget(
        Line::from(vec![
            Span::styled(" Skellin  ", theme.strong()),
            Span::styled(said.to_owned(), theme.quiet()),
        ]),
        head,
    );
    // Four more characters a step: mark, number and two blanks.
    let names: usize = steps.iter().map(|name| name.chars().count() + 4).sum();
    let is_wide = 1 + names + 6 * steps.len().saturating_sub(1) <= usize::from(area.width);
    let between = if is_wide { "  ──  " } else { " ─ " };
    let mut spans = vec![Span::raw(" ")];
    for (number, name) in steps.iter().enumerate() {
        let (mark, style) = match number.cmp(&at) {
            std::cmp::Ordering::Less => ("✓", theme.well()),
            std::cmp::Ordering::Equal => ("▸", theme.is().patch(theme.strong())),
            std::cmp::Ordering::Greater => (" ", theme.quiet()),
        };
        spans.push(Span::styled(format!("{mark} {} {name}", number + 1), style));
        let gap = if number + 1 < steps.len() { between } else { "" };
        spans.push(Span::styled(gap, theme.quiet()));
    }
    frame.render_widget(Line::from(spans), above);
    (body, foot)
}

/// Something that is asked: its label, what was answered, and a word about it, which is shown where
/// the keys go, or `always`.
pub(super) fn field(
    app: &Model,
    here: bool,
    label: &str,
    value: String,
    about: &str,
    always: bool,
) -> Line<'static> {
    let theme = app.theme;
    let value = if value.is_empty() && here { "▏".to_owned() } else { value };
    let about = if here || always { format!("   {about}") } else { String::new() };
    Line::from(vec![
        Span::styled(if here { " ▸ " } else { "   " }, theme.is()),
        Span::raw(format!("{label:<14} ")),
        Span::styled(value, if here { theme.strong() } else { Style::new() }),
        Span::styled(about, theme.quiet()),
    ])
}
