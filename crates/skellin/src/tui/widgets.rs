//! Small pieces that screens and panels share.

use ratatui::{style::Style, text::Span};

/// A bar that is full to a share.
pub(super) fn bar(share: f64, width: usize, full: Style, empty: Style) -> Vec<Span<'static>> {
    let cells = (share.clamp(0.0, 1.0) * width as f64) as usize;
    vec![Span::styled("█".repeat(cells), full), Span::styled("░".repeat(width - cells), empty)]
}
