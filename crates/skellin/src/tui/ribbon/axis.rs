//! Dates over the lanes: at whole hours, days, months or years, as many as there is room for.

use jiff::{Span, Zoned};

use crate::words;

const HOUR: i64 = 3_600_000;
const DAY: i64 = 24 * HOUR;

/// Where labels may stand: how far apart in milliseconds, and how they are written.
enum Step {
    Hours(i64),
    Days(i64),
    Months(i64),
    Years(i64),
}

const STEPS: &[(Step, i64, &str)] = &[
    (Step::Hours(1), HOUR, "%H:%M"),
    (Step::Hours(3), 3 * HOUR, "%H:%M"),
    (Step::Hours(6), 6 * HOUR, "%a %H:%M"),
    (Step::Hours(12), 12 * HOUR, "%a %H:%M"),
    (Step::Days(1), DAY, "%a %d %b"),
    (Step::Days(2), 2 * DAY, "%a %d %b"),
    (Step::Days(7), 7 * DAY, "%a %d %b"),
    (Step::Days(14), 14 * DAY, "%a %d %b"),
    (Step::Months(1), 30 * DAY, "%b %Y"),
    (Step::Months(3), 91 * DAY, "%b %Y"),
    (Step::Years(1), 366 * DAY, "%Y"),
    (Step::Years(2), 732 * DAY, "%Y"),
];

const NOW: &str = "now";
/// Columns a label needs, with a gap.
const LABEL: i64 = 12;

/// The labels of a span of time, a character for each column. `now`: the column of now, which is
/// labelled before all others.
pub(super) fn labels(start: i64, span: i64, columns: usize, now: Option<usize>) -> Vec<char> {
    let mut cells = vec![' '; columns];
    let now = now.map(|column| column..(column + NOW.len()).min(columns));
    if let Some(now) = &now {
        cells[now.clone()].iter_mut().zip(NOW.chars()).for_each(|(cell, c)| *cell = c);
    }
    let least = span / (columns as i64).max(1) * LABEL;
    let chosen = STEPS.iter().find(|(_, length, _)| *length >= least);
    let Some((step, _, format)) = chosen.or(STEPS.last()) else { return cells };
    let Some(mut at) = first(step, start) else { return cells };
    while at.timestamp().as_millisecond() < start + span {
        let offset = i128::from(at.timestamp().as_millisecond() - start);
        if offset >= 0 {
            let column = (offset * columns as i128 / i128::from(span)) as usize;
            let text = at.strftime(format).to_string();
            let end = column + text.chars().count();
            let is_free = now.as_ref().is_none_or(|now| end < now.start || column > now.end);
            if end <= columns && is_free {
                cells[column..end].iter_mut().zip(text.chars()).for_each(|(cell, c)| *cell = c);
            }
        }
        let Some(next) = next(step, &at) else { break };
        at = next;
    }
    cells
}

/// The last place for a label at or before a moment.
fn first(step: &Step, start: i64) -> Option<Zoned> {
    let zoned = words::zoned(start);
    let day = zoned.start_of_day().ok()?;
    match step {
        Step::Hours(_) | Step::Days(1 | 2) => Some(day),
        // On Mondays.
        Step::Days(_) => {
            let since = i64::from(zoned.weekday().to_monday_zero_offset());
            day.checked_sub(Span::new().days(since)).ok()
        }
        Step::Months(_) => {
            let month = (zoned.month() - 1) / 3 * 3 + 1;
            let month = if matches!(step, Step::Months(1)) { zoned.month() } else { month };
            zoned.date().with().month(month).day(1).build().ok()?.to_zoned(words::zone()).ok()
        }
        Step::Years(_) => {
            zoned.date().with().month(1).day(1).build().ok()?.to_zoned(words::zone()).ok()
        }
    }
}

fn next(step: &Step, at: &Zoned) -> Option<Zoned> {
    let span = match *step {
        // Civil hours, so that labels stand at the same times on both sides of a clock change.
        Step::Hours(hours) => {
            let civil = at.datetime().checked_add(Span::new().hours(hours)).ok()?;
            return civil.to_zoned(words::zone()).ok().filter(|next| next > at);
        }
        Step::Days(days) => Span::new().days(days),
        Step::Months(months) => Span::new().months(months),
        Step::Years(years) => Span::new().years(years),
    };
    at.checked_add(span).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    const MONDAY: i64 = 1_794_787_200_000; // 2026-11-16T00:00Z

    fn line(start: i64, span: i64, columns: usize) -> String {
        labels(start, span, columns, None).into_iter().collect()
    }

    #[test]
    fn labels_stand_at_whole_hours_days_months_and_years() {
        assert_eq!(line(MONDAY, 6 * HOUR, 36).trim_end(), "00:00             03:00");
        assert_eq!(
            line(MONDAY + 12 * HOUR, 4 * DAY, 60).trim_end(),
            "       Tue 17 Nov     Wed 18 Nov     Thu 19 Nov"
        );
        assert!(line(MONDAY, 183 * DAY, 100).contains("Dec 2026"));
        assert!(line(MONDAY, 3660 * DAY, 100).contains("2030"));
    }

    #[test]
    fn no_span_and_no_width_breaks_it_and_now_always_stands() {
        for span in [HOUR, DAY, 28 * DAY, 366 * DAY, 3660 * DAY] {
            for columns in [10, 11, 40, 63, 200] {
                for now in 0..columns - 2 {
                    let cells = labels(MONDAY + 12_345, span, columns, Some(now));
                    assert_eq!(cells.len(), columns);
                    assert_eq!(cells[now..now + 3], ['n', 'o', 'w']);
                    assert!(now == 0 || cells[now - 1] == ' ');
                }
            }
        }
    }
}
