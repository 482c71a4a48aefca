//! Nothing is there yet: what a plan is, and how to come by the first.

use ratatui::{Frame, layout::Rect, text::Line};

use super::parts::paragraph;
use crate::{tui::model::Model, words};

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let theme = app.theme;
    let folder = &app.folder;
    let mut lines = vec![
        Line::from(""),
        Line::styled("  There is no plan yet.", theme.strong()),
        Line::from(""),
        Line::from(
            "  A plan says what to back up, what to exclude, which store to use and when to run.",
        ),
        Line::styled(
            "  → a makes one, step by step; nothing is written before you save it",
            theme.is(),
        ),
        Line::from(""),
        Line::styled("  Or write two small files:", theme.quiet()),
        Line::from(""),
        Line::styled(format!("  {folder}/stores.toml"), theme.was()),
        Line::from("      [oak]"),
        Line::from("      place = \"/mnt/oak\""),
        Line::styled(format!("  {folder}/plans/readings.toml"), theme.was()),
        Line::from("      sources = [\"/srv/readings\"]"),
        Line::from("      store = \"oak\""),
        Line::from(""),
        Line::from(
            "  then: skellin plan check, skellin store create oak, skellin run readings --dry-run",
        ),
    ];
    if app.store_mistakes > 0 {
        let mistakes = words::counted(app.store_mistakes as u64, "mistake", "mistakes");
        lines.push(Line::styled(
            format!("  ✕ stores.toml has {mistakes}: skellin plan check"),
            theme.wrong(),
        ));
    }
    for (plan, count) in &app.mistaken {
        let mistakes = words::counted(*count as u64, "mistake", "mistakes");
        lines.push(Line::styled(
            format!("  ✕ plan {plan} has {mistakes}: skellin plan check {plan}"),
            theme.wrong(),
        ));
    }
    paragraph(frame, lines, area);
}
