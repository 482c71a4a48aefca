//! The span of time the ribbon shows.

const HOUR: i64 = 3_600_000;
const DAY: i64 = 24 * HOUR;

/// Spans from hours to years, in milliseconds, with their names.
const SPANS: &[(i64, &str)] = &[
    (6 * HOUR, "6 hours"),
    (DAY, "a day"),
    (3 * DAY, "3 days"),
    (7 * DAY, "a week"),
    (14 * DAY, "2 weeks"),
    (28 * DAY, "4 weeks"),
    (61 * DAY, "2 months"),
    (183 * DAY, "half a year"),
    (366 * DAY, "a year"),
    (3 * 366 * DAY, "3 years"),
    (10 * 366 * DAY, "10 years"),
];

/// The name of a span.
pub(super) fn name(span: i64) -> &'static str {
    SPANS.iter().find(|(length, _)| *length == span).map_or("", |(_, name)| *name)
}

/// The span of time the ribbon shows.
#[derive(Debug)]
pub(super) struct Window {
    level: usize,
    start: i64,
    chosen: bool,
}

impl Window {
    /// A window in which now stands where there is room for what is to come.
    pub fn new(now: i64) -> Self {
        let mut window = Self { level: 3, start: 0, chosen: false };
        window.home(now);
        window
    }

    pub fn start(&self) -> i64 {
        self.start
    }

    /// In milliseconds.
    pub fn span(&self) -> i64 {
        SPANS[self.level].0
    }

    fn home(&mut self, now: i64) {
        self.start = now - self.span() * 4 / 5;
    }

    /// Shows all since a moment, unless the user has chosen a span.
    pub fn cover(&mut self, oldest: i64, now: i64) {
        if !self.chosen {
            let fits = SPANS.iter().position(|(span, _)| span * 4 / 5 >= now - oldest);
            self.level = fits.unwrap_or(SPANS.len() - 1);
            self.home(now);
        }
    }

    /// Shows less time, or more, around the cursor.
    pub fn zoom(&mut self, closer: bool, cursor: i64) {
        let before = self.span();
        self.chosen = true;
        self.level = match closer {
            true => self.level.saturating_sub(1),
            false => (self.level + 1).min(SPANS.len() - 1),
        };
        // The cursor keeps its column.
        let share = (cursor - self.start) as f64 / before as f64;
        self.start = cursor - (share * self.span() as f64) as i64;
    }

    /// Moves so that a moment is well inside.
    pub fn follow(&mut self, moment: i64) {
        let span = self.span();
        let margin = span / 24;
        if moment < self.start + margin {
            self.start = moment - span / 4;
        } else if moment > self.start + span - margin {
            self.start = moment - span * 3 / 4;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn zooming_keeps_the_cursor_in_its_column_and_following_keeps_it_inside() {
        let now = 1_794_500_000_000;
        let mut window = Window::new(now);
        window.cover(now - 40 * DAY, now);
        assert_eq!(name(window.span()), "2 months");
        let cursor = now - 10 * DAY;
        let share = |window: &Window| (cursor - window.start()) as f64 / window.span() as f64;
        let before = share(&window);
        for closer in [true, true, false, true, false, false, false] {
            window.zoom(closer, cursor);
            assert!((share(&window) - before).abs() < 1e-6);
        }
        for moment in [now - 3000 * DAY, now, now + 3000 * DAY] {
            window.follow(moment);
            assert!((window.start()..window.start() + window.span()).contains(&moment));
        }
        window.cover(0, now);
        assert_ne!(name(window.span()), "10 years", "a chosen span stays");
    }
}
