//! How much time the ribbon shows.

/// Days the ribbon may show.
const SPANS: &[i64] = &[1, 2, 7, 14, 21, 42, 120, 365, 1095, 3650];
/// A day in milliseconds.
pub(super) const DAY: i64 = 86_400_000;

/// How much time the ribbon shows.
#[derive(Default)]
pub(super) struct Scale {
    level: usize,
    chosen: bool,
}

impl Scale {
    /// Shows so much time, in milliseconds, unless the user has chosen.
    pub fn cover(&mut self, time: i64) {
        if !self.chosen {
            let fits = SPANS.iter().position(|days| days * DAY >= time);
            self.level = fits.unwrap_or(SPANS.len() - 1);
        }
    }

    /// Shows less time.
    pub fn closer(&mut self) {
        self.chosen = true;
        self.level = self.level.saturating_sub(1);
    }

    /// Shows more time.
    pub fn wider(&mut self) {
        self.chosen = true;
        self.level = (self.level + 1).min(SPANS.len() - 1);
    }

    /// The time it shows, in milliseconds.
    pub fn milliseconds(&self) -> i64 {
        SPANS[self.level] * DAY
    }
}
