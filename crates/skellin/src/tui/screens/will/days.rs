//! A year of small day cells: which snapshots will be there.

use std::collections::BTreeMap;

use jiff::{Timestamp, ToSpan as _, civil::Date, tz::TimeZone};
use ratatui::{
    style::Style,
    text::{Line, Span},
};

use crate::tui::{model::Model, outlook::Outlook};

/// Weeks of a year.
const WEEKS: usize = 53;
/// Columns before the first week.
const LEFT: usize = 8;

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Cell {
    /// Of its snapshots none will be there.
    Gone,
    /// One that is to come will be there.
    Coming,
    /// One of today will be there.
    Stays,
}

fn date(time: i64, zone: &TimeZone) -> Date {
    let moment = Timestamp::from_millisecond(time).unwrap_or(Timestamp::UNIX_EPOCH);
    moment.to_zoned(zone.clone()).date()
}

/// The Monday of a day's week.
fn monday(day: Date) -> Date {
    day.checked_sub(i64::from(day.weekday().to_monday_zero_offset()).days()).unwrap_or(day)
}

/// Weeks from left to right, weekdays from top to bottom, above them months: up to a day, or from the
/// first snapshot on where there has been no year of them yet.
pub(in crate::tui) fn draw(
    app: &Model,
    outlook: &Outlook,
    until: i64,
    zone: &TimeZone,
    width: usize,
) -> Vec<Line<'static>> {
    let theme = app.theme;
    let weeks = width.saturating_sub(LEFT + 2).min(WEEKS);
    let (last, today) = (date(until, zone), date(app.now, zone));
    let first = monday(last).checked_sub((weeks as i64 - 1).weeks()).unwrap_or(last);
    let oldest = outlook.snapshots.first().map_or(today, |one| date(one.time, zone));
    let first = first.max(monday(oldest.min(today)));
    let mut cells: BTreeMap<Date, Cell> = BTreeMap::new();
    for one in &outlook.snapshots {
        let cell = match (one.stays(), one.is_coming) {
            (false, _) => Cell::Gone,
            (true, true) => Cell::Coming,
            (true, false) => Cell::Stays,
        };
        let known = cells.entry(date(one.time, zone)).or_insert(cell);
        *known = (*known).max(cell);
    }
    let mut months = vec![' '; weeks];
    let mut free = 0;
    for week in 0..weeks {
        let Ok(day) = first.checked_add((week as i64).weeks()) else { continue };
        let name = day.strftime("%b").to_string();
        if day.day() <= 7 && week >= free && week + name.chars().count() <= weeks {
            name.chars().enumerate().for_each(|(at, letter)| months[week + at] = letter);
            free = week + name.chars().count() + 1;
        }
    }
    let mut lines = vec![Line::styled(
        format!("{:LEFT$}{}", "", months.into_iter().collect::<String>()),
        theme.quiet(),
    )];
    for (weekday, name) in ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"].iter().enumerate() {
        let mut spans = vec![Span::styled(format!("  {name:<6}"), theme.quiet())];
        for week in 0..weeks {
            let day = first.checked_add((week as i64).weeks().days(weekday as i64));
            let Ok(day) = day else { continue };
            let (sign, style) = match cells.get(&day) {
                _ if day > last => (" ", Style::new()),
                Some(Cell::Stays) => ("●", theme.was()),
                Some(Cell::Coming) => ("○", theme.will()),
                Some(Cell::Gone) => ("◌", theme.quiet()),
                None if day == today => ("|", theme.is()),
                None => ("·", theme.quiet()),
            };
            spans.push(Span::styled(sign, style));
        }
        lines.push(Line::from(spans));
    }
    lines.push(Line::styled(
        format!("{:LEFT$}● stays   ○ to come, stays   ◌ will have expired   · no snapshot", ""),
        theme.quiet(),
    ));
    lines
}
