//! What there is to mend in the whole set-up.

use ratatui::text::{Line, Span};
use skellin_engine::{Finding, Weight};

use crate::tui::{health::SAFE, model::Model};

/// The sign of a finding, by its weight.
pub(in crate::tui) fn sign(finding: &Finding) -> &'static str {
    match finding.weight {
        Weight::Wrong => "✕ ",
        Weight::Doubtful => "▲ ",
    }
}

/// All findings, each with what to do.
pub(super) fn lines(app: &Model) -> Vec<Line<'static>> {
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
