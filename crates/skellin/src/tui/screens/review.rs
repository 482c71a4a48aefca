//! The head of a review: what a dry run has found, above the tree of what would become of each
//! path.

use ratatui::{
    Frame,
    layout::Rect,
    text::{Line, Text},
};

use super::work::outcome;
use crate::{
    tui::{lanes::Work, model::Model},
    words::fit,
};

/// Draws it; how many lines it has taken.
pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, area: Rect) -> u16 {
    let theme = app.theme;
    let Some(Work::Ended { dry_run: true, result: Ok(report), notes }) =
        app.current_lane().map(|lane| &lane.work)
    else {
        return 0;
    };
    let mut lines = outcome(app, report, true);
    for note in notes.iter().take(2) {
        lines.push(Line::styled(fit(&format!("  note: {note}"), area.width.into()), theme.quiet()));
    }
    let used = (lines.len() as u16).min(area.height);
    frame.render_widget(Text::from(lines), area);
    used
}
