//! What there is to mend in the whole set-up.

use ratatui::{
    Frame,
    text::{Line, Span},
};
use skellin_engine::{Finding, Weight};

use super::{
    panel::{BACK, Hint, Panel, Room, SCROLL, Scrolled, hints},
    popup::scrolling,
};
use crate::tui::{drawn::Drawn, health::SAFE, model::Model};

/// What there is to mend.
#[derive(Default)]
pub(in crate::tui) struct ProblemsPanel(Scrolled);

impl Panel for ProblemsPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(SCROLL).into_iter().chain([BACK]).collect()
    }

    fn scrolled(&mut self) -> Option<&mut Scrolled> {
        Some(&mut self.0)
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        scrolling(frame, app, " Problems ", (lines(app), self.0), room.whole, 120);
    }
}

/// The sign of a finding, by its weight.
fn sign(finding: &Finding) -> &'static str {
    match finding.weight {
        Weight::Wrong => "✕ ",
        Weight::Doubtful => "▲ ",
    }
}

/// All findings, each with what to do.
fn lines(app: &Model) -> Vec<Line<'static>> {
    let theme = app.theme;
    let Some(found) = &app.findings else {
        return vec![Line::styled("checking plans, stores and this machine …", theme.quiet())];
    };
    let mut lines = Vec::new();
    for finding in found {
        let style = match finding.weight {
            Weight::Wrong => theme.wrong(),
            Weight::Doubtful => theme.is(),
        };
        lines.push(Line::from(vec![
            Span::styled(sign(finding), style),
            Span::styled(finding.subject.clone(), theme.strong()),
        ]));
        lines.push(Line::from(format!("  {}", finding.what)));
        lines.push(Line::styled(format!("  → {}", finding.hint), theme.quiet()));
    }
    if found.is_empty() {
        lines.push(Line::styled("✓ no problems", theme.well()));
    }
    lines.push(Line::from(""));
    lines.push(Line::styled(SAFE, theme.quiet()));
    lines
}
