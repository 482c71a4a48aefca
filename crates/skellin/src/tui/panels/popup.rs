//! A box in the middle of the screen.

use ratatui::{
    Frame,
    layout::Rect,
    text::{Line, Span},
    widgets::{Block, Clear, Padding, Paragraph},
};

use super::panel::Scrolled;
use crate::{
    tui::{lines::wrap, model::Model, worker::Trouble},
    words::fit,
};

/// A box with lines in it, as wide as it has to be and `most` columns at most.
pub(super) fn popup(
    frame: &mut Frame<'_>,
    app: &Model,
    title: &str,
    lines: Vec<Line<'static>>,
    area: Rect,
    most: u16,
) {
    let theme = app.theme;
    let width = area.width.saturating_sub(4).min(most);
    let inner = usize::from(width.saturating_sub(4)).max(1);
    let lines = wrap(lines, inner);
    let height = (lines.len() as u16 + 2).min(area.height.saturating_sub(2));
    let place = Rect {
        x: area.x + (area.width - width) / 2,
        y: area.y + area.height.saturating_sub(height) / 2,
        width,
        height,
    };
    frame.render_widget(Clear, place);
    let title = fit(title, usize::from(width).saturating_sub(4));
    let block = Block::bordered()
        .title(Span::styled(title, theme.strong()))
        .border_style(app.tense_style())
        .padding(Padding::horizontal(1));
    frame.render_widget(Paragraph::new(lines).block(block), place);
}

/// A box whose lines may be more than there is room for.
pub(super) fn scrolling(
    frame: &mut Frame<'_>,
    app: &Model,
    title: &str,
    (lines, scrolled): (Vec<Line<'static>>, Scrolled),
    area: Rect,
    most: u16,
) {
    let height = usize::from(area.height.saturating_sub(4)).max(1);
    let first = scrolled.first(height, lines.len());
    let shown = lines.into_iter().skip(first).take(height).collect();
    popup(frame, app, title, shown, area, most);
}

/// What failed, and what to do.
pub(super) fn trouble_lines(app: &Model, trouble: &Trouble) -> Vec<Line<'static>> {
    let mut lines = vec![Line::styled(format!("✕ {}", trouble.what), app.theme.wrong())];
    lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
    lines
}
