//! The ribbon: a lane for each plan, time from left to right, now at the end.

use ratatui::{
    style::Style,
    text::{Line, Span},
};
use unicode_width::UnicodeWidthStr;

use super::{
    scale::DAY,
    state::{App, Known, Lane},
    theme::Theme,
};
use crate::words::{self, fit};

/// Columns for names of plans.
fn name_width(app: &App) -> usize {
    let longest = app.lanes.iter().map(|lane| lane.plan.width()).max().unwrap_or(0);
    longest.clamp(8, 16)
}

/// The axis and the lanes, for a width; at most `height` lines, around the current lane.
pub(super) fn lines(app: &App, width: usize, height: usize) -> Vec<Line<'static>> {
    let name = name_width(app) + 4;
    // The line of now and a margin stand at the end.
    let columns = width.saturating_sub(name + 3).max(10);
    let span = app.scale.milliseconds();
    let start = app.now - span;
    let mut lines = vec![axis(app, name, columns, start, span)];
    let room = height.saturating_sub(1).max(1);
    let first = app.lane.saturating_sub(room / 2).min(app.lanes.len().saturating_sub(room));
    for (number, lane) in app.lanes.iter().enumerate().skip(first).take(room) {
        lines.push(lane_line(app, lane, number == app.lane, name, columns, start, span));
    }
    lines
}

/// Dates under which the marks stand.
fn axis(app: &App, name: usize, columns: usize, start: i64, span: i64) -> Line<'static> {
    let mut text = String::new();
    let format = if span <= 2 * DAY {
        "%a %H:%M"
    } else if span <= 200 * DAY {
        "%d %b"
    } else {
        "%b %Y"
    };
    let step = columns / (columns / 12).max(1);
    let mut column = 0;
    while column + 9 < columns {
        let moment = start + span * column as i64 / columns as i64;
        let label = words::zoned(moment).strftime(format).to_string();
        text.push_str(&format!("{label:<step$}"));
        column += step;
    }
    let text = fit(&text, columns.saturating_sub(1));
    let pad = " ".repeat(columns.saturating_sub(text.width()));
    Line::from(vec![
        Span::raw(" ".repeat(name)),
        Span::styled(format!("{text}{pad}"), app.theme.quiet()),
        Span::styled("now", app.theme.is()),
    ])
}

fn lane_line(
    app: &App,
    lane: &Lane,
    current: bool,
    name: usize,
    columns: usize,
    start: i64,
    span: i64,
) -> Line<'static> {
    let theme = app.theme;
    let label = format!("{:<width$}", fit(&lane.plan, name - 4), width = name - 2);
    let mut spans = vec![
        Span::styled(if current { "▌ " } else { "  " }, theme.was()),
        Span::styled(label, if current { theme.strong() } else { Style::new() }),
    ];
    match &lane.known {
        Known::Loading => {
            spans.push(Span::styled(format!("{:<columns$}", "opening the store …"), theme.quiet()));
        }
        Known::Trouble(trouble) => {
            let text = fit(&format!("✗ {}", trouble.what), columns);
            spans.push(Span::styled(format!("{text:<columns$}"), theme.wrong()));
        }
        Known::Here(_) => spans.extend(marks(theme, lane, current, columns, start, span)),
    }
    spans.push(Span::styled("┃", theme.is()));
    Line::from(spans)
}

/// Marks of the snapshots; several in one column become their number.
fn marks(
    theme: Theme,
    lane: &Lane,
    current: bool,
    columns: usize,
    start: i64,
    span: i64,
) -> Vec<Span<'static>> {
    let column = |started: i64| {
        let at = (started - start) as f64 / span as f64 * columns as f64;
        (at >= 0.0).then(|| (at as usize).min(columns - 1))
    };
    let mut cells: Vec<(usize, bool, bool)> = vec![(0, false, false); columns];
    for (number, snapshot) in lane.snapshots().iter().enumerate() {
        if let Some(column) = column(snapshot.started) {
            let cell = &mut cells[column];
            cell.0 += 1;
            cell.1 |= snapshot.exceptions > 0;
            cell.2 |= current && number == lane.at;
        }
    }
    cells
        .into_iter()
        .map(|(count, exceptions, cursor)| {
            let mark = match (count, exceptions) {
                (0, _) => " ".to_owned(),
                (1, false) => "●".to_owned(),
                (1, true) => "▲".to_owned(),
                (2..=9, _) => count.to_string(),
                _ => "+".to_owned(),
            };
            let style = if exceptions { theme.wrong() } else { theme.was() };
            Span::styled(mark, if cursor { style.patch(theme.cursor()) } else { style })
        })
        .collect()
}
