//! How the stores of a plan fill, what brings the bytes, and what they cost.

use ratatui::{
    Frame,
    layout::Rect,
    style::Style,
    symbols::Marker,
    text::{Line, Span},
    widgets::{Axis, Chart, Dataset, GraphType},
};
use skellin_plan::{FullIn, Price, Spread};
use unicode_width::UnicodeWidthStr as _;

use super::super::parts::{fact, plain};
use crate::{
    tui::{
        lanes::Lane,
        model::Model,
        worker::{Fill, StoreRow},
    },
    words,
};

const DAY: i64 = 86_400_000;
/// Rows of a chart, with its axes.
const CHART: u16 = 10;
/// Days a chart reaches ahead at least, and at most.
const AHEAD: (usize, usize) = (30, 3 * 365);
/// Objects that a run with little new puts; what it has to say comes on top of its containers.
const PUTS_A_RUN: f64 = 10.0;
/// A container's bytes.
const CONTAINER: f64 = (32u64 << 20) as f64;

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let Some(lane) = app.current_lane() else { return };
    let stores = lane.stores();
    let width = usize::from(area.width);
    let bringers = bringers(app, lane, width);
    let mut room = area.height;
    let mut y = area.y;
    let mut put = |frame: &mut Frame<'_>, lines: Vec<Line<'static>>, chart: Option<&Fill>| {
        let height = (lines.len() as u16).min(room);
        plain(frame, lines, Rect { y, height, ..area });
        (y, room) = (y + height, room - height);
        if let Some(fill) = chart.filter(|_| room >= CHART) {
            draw_chart(
                frame,
                app,
                fill,
                Rect { x: area.x + 2, y, width: area.width - 3, height: CHART },
            );
            (y, room) = (y + CHART, room - CHART);
        }
    };
    // As many charts as there is room for beside what is said in words.
    let texts: Vec<Vec<Line<'static>>> =
        stores.iter().map(|store| facts(app, lane, store, width)).collect();
    let said = texts.iter().map(Vec::len).sum::<usize>() + bringers.len();
    let charts = usize::from(area.height).saturating_sub(said) / usize::from(CHART);
    for (number, (store, text)) in stores.iter().zip(texts).enumerate() {
        let tells = |fill: &&Fill| fill.past.len() > 1 && !fill.ahead.is_empty();
        let fill = app.filling.fill(store).filter(tells).filter(|_| number < charts);
        put(frame, text, fill);
    }
    put(frame, bringers, None);
}

/// The day the cursor stands on, in days from now.
fn cursor_day(app: &Model) -> usize {
    let ahead = app.cursor_time().map_or(0, |time| time - app.now).max(0);
    usize::try_from((ahead + DAY / 2) / DAY).unwrap_or(0)
}

/// Bytes after a change that may be less than nothing.
fn held(fill: &Fill, change: f64) -> String {
    words::bytes((fill.held as f64 + change).max(0.0) as u64)
}

fn after(fill: &Fill, days: usize) -> Spread {
    let at = days.min(fill.ahead.len()).checked_sub(1);
    at.map_or(Spread::default(), |at| fill.ahead[at])
}

/// What is said of a store.
fn facts(app: &Model, lane: &Lane, store: &str, width: usize) -> Vec<Line<'static>> {
    let theme = app.theme;
    let mut lines = vec![Line::from("")];
    let row = app.stores.as_ref().and_then(|stores| stores.iter().find(|row| row.name == store));
    let place = row.map_or(String::new(), |row| format!("  {}", row.place));
    lines.push(Line::from(vec![
        Span::styled(format!("  {store}"), theme.strong()),
        Span::styled(place, theme.quiet()),
    ]));
    let Some(row) = row else {
        lines.push(Line::styled("  looking …", theme.quiet()));
        return lines;
    };
    if let Err(trouble) = &row.state {
        lines.push(Line::styled(format!("  ✕ {}", trouble.what), theme.wrong()));
        return lines;
    }
    let Some(fill) = app.filling.fill(store) else {
        let what = match row.usage {
            Some(_) => "  reading its snapshots …",
            None => "  not open: how full it is is not known",
        };
        lines.push(Line::styled(what, theme.quiet()));
        return lines;
    };
    let free = fill.free.map_or(String::new(), |free| format!(", {} free", words::bytes(free)));
    lines.push(fact(app, "Used", format!("{}{free}", words::bytes(fill.held))));
    if fill.ahead.is_empty() {
        let days = words::counted(fill.days_known as u64, "day", "days");
        lines.push(fact(app, "Growth", format!("known after 5 days of runs ({days} so far)")));
    } else {
        let week = after(fill, 7);
        let sign = if week.likely < 0.0 { "−" } else { "+" };
        let known = words::counted(fill.days_known as u64, "day", "days");
        lines.push(fact(
            app,
            "Growth",
            format!("about {sign}{} a week (by {known})", words::bytes(week.likely.abs() as u64)),
        ));
        let day = cursor_day(app);
        let then = after(fill, day);
        let label = words::day(app.now + day as i64 * DAY);
        let text = format!(
            "about {}, {} to {} (8 of 10 cases)",
            held(fill, then.likely),
            held(fill, then.low),
            held(fill, then.high)
        );
        lines.push(Line::from(vec![
            Span::styled(format!("  {label:<13}"), theme.will().patch(theme.strong())),
            Span::raw(text),
        ]));
        lines.push(full(app, fill, row));
    }
    lines.extend(costs(app, lane, fill, width));
    lines
}

/// The day on which a store will be full.
fn full(app: &Model, fill: &Fill, row: &StoreRow) -> Line<'static> {
    let day = |days: usize| words::day(fill.now + days as i64 * DAY);
    let Some(FullIn { soonest, likely, latest }) = fill.full else {
        let what = match row.room {
            None => "the place does not say what is free",
            Some(_) => "not known",
        };
        return fact(app, "Full", what);
    };
    match (soonest, likely, latest) {
        (None, ..) => fact(app, "Full", "not within 3 years"),
        (Some(soonest), None, _) => fact(
            app,
            "Full",
            format!("hardly within 3 years; in 1 of 10 cases on {}", day(soonest)),
        ),
        (Some(soonest), Some(likely), latest) => {
            let latest = latest.map_or("later".to_owned(), day);
            let text = format!("about {} ({} to {latest})", day(likely), day(soonest));
            let style = if likely < 60 { app.theme.wrong() } else { Style::new() };
            let sign = if likely < 60 { "▲ " } else { "" };
            Line::from(vec![
                Span::styled(format!("  {:<13}", "Full"), app.theme.quiet()),
                Span::styled(format!("{sign}{text}"), style),
            ])
        }
    }
}

/// What a store costs by each of its prices.
fn costs(app: &Model, lane: &Lane, fill: &Fill, width: usize) -> Vec<Line<'static>> {
    let prices = app.filling.prices.get(&fill.store).map_or(&[][..], Vec::as_slice);
    let Some(first) = prices.first() else { return Vec::new() };
    let day = cursor_day(app);
    let (now, then) = (fill.held as f64, fill.held as f64 + after(fill, day).likely);
    let month = |price: &Price, bytes: f64| {
        let written = after(fill, 30).likely.max(0.0);
        let runs = runs_a_month(app, &fill.store);
        price.month(bytes.max(0.0) as u64)
            + price.puts(runs * PUTS_A_RUN + (written / CONTAINER).ceil())
    };
    let year = |price: &Price| -> f64 {
        (0..12).map(|at| month(price, now + after(fill, at * 365 / 12).likely)).sum()
    };
    let newest = lane.marks.last().and_then(|mark| mark.facts);
    let whole = newest.map_or(fill.held, |facts| facts.bytes.min(fill.held));
    let titles = [
        "a month now".to_owned(),
        words::day(app.now + day as i64 * DAY),
        "12 months".to_owned(),
        "full restore".to_owned(),
    ];
    let head: String = titles.iter().map(|title| format!("{title:>13}")).collect();
    let head = format!("  {:<13}{head}", format!("Costs, {}", words::harmless(&first.currency)));
    if head.width() > width {
        let text = format!(
            "{} a month, {} in 12 months ({})",
            money(month(first, now)),
            money(year(first)),
            words::harmless(&first.currency)
        );
        return vec![fact(app, "Costs", text)];
    }
    let mut lines = vec![Line::styled(head, app.theme.quiet())];
    for (number, price) in prices.iter().enumerate() {
        let name = if price.name.is_empty() { "as priced" } else { price.name.as_str() };
        let cells = [month(price, now), month(price, then), year(price), price.fetch(whole)];
        let cells: String = cells.iter().map(|cell| format!("{:>13}", money(*cell))).collect();
        let style = if number == 0 { Style::new() } else { app.theme.quiet() };
        let name = words::fit(&words::harmless(name), 12);
        lines.push(Line::styled(format!("  {name:<13}{cells}"), style));
    }
    lines
}

/// Small amounts with what tells them apart.
fn money(amount: f64) -> String {
    match amount {
        amount if amount >= 0.995 || amount == 0.0 => format!("{amount:.2}"),
        amount if amount < 0.000_05 => "< 0.0001".to_owned(),
        amount => format!("{amount:.4}"),
    }
}

/// Runs and copies that go to a store in a month.
fn runs_a_month(app: &Model, store: &str) -> f64 {
    let lanes = app.lanes.iter().filter(|lane| lane.stores().contains(&store));
    lanes.map(|lane| lane.coming(app.now, app.now + 30 * DAY).len() as f64).sum()
}

/// The directories that bring the new bytes.
fn bringers(app: &Model, lane: &Lane, width: usize) -> Vec<Line<'static>> {
    let theme = app.theme;
    if lane.marks.len() < 2 {
        return Vec::new();
    }
    let mut lines = vec![
        Line::from(""),
        Line::styled("  New bytes of the last 15 runs, before compression", theme.strong()),
    ];
    match app.filling.brought(&lane.label()) {
        None => lines.push(Line::styled("  comparing snapshots …", theme.quiet())),
        Some(Err(trouble)) => {
            lines.push(Line::styled(format!("  ✕ {}", trouble.what), theme.wrong()));
        }
        Some(Ok(found)) if found.is_empty() => {
            lines.push(Line::styled("  none: nothing has changed", theme.quiet()));
        }
        Some(Ok(found)) => {
            for one in found {
                let rest = if one.is_rest { "  (the rest of it)" } else { "" };
                let path = end_of(&words::path(&one.path), width.saturating_sub(18 + rest.len()));
                lines.push(Line::from(vec![
                    Span::raw(format!("  {:>11}  ", words::bytes(one.bytes))),
                    Span::raw(path),
                    Span::styled(rest, theme.quiet()),
                ]));
            }
        }
    }
    lines
}

/// The end of a path that is too long, since that tells more.
fn end_of(path: &str, columns: usize) -> String {
    if path.width() <= columns {
        return path.to_owned();
    }
    let mut kept: Vec<char> = Vec::new();
    let mut used = 1;
    for c in path.chars().rev() {
        used += unicode_width::UnicodeWidthChar::width(c).unwrap_or(0);
        if used > columns {
            break;
        }
        kept.push(c);
    }
    std::iter::once('…').chain(kept.into_iter().rev()).collect()
}

/// The next larger amount that halves to a round one, as units go.
fn round(bytes: f64) -> f64 {
    const STEPS: [f64; 13] =
        [2.0, 4.0, 8.0, 12.0, 20.0, 32.0, 50.0, 80.0, 128.0, 200.0, 320.0, 512.0, 800.0];
    let mut unit = 1.0;
    loop {
        if let Some(step) = STEPS.iter().find(|step| **step * unit >= bytes) {
            return step * unit;
        }
        unit *= 1024.0;
    }
}

/// Measured past and forecast of a store, with the range of the latter.
fn draw_chart(frame: &mut Frame<'_>, app: &Model, fill: &Fill, area: Rect) {
    let theme = app.theme;
    let days = |time: i64| (time - fill.now) as f64 / DAY as f64;
    let day = cursor_day(app);
    let past: Vec<(f64, f64)> = fill.past.iter().map(|(end, bytes)| (days(*end), *bytes)).collect();
    let known = past.first().map_or(0.0, |(day, _)| -day);
    let ahead = (known as usize).max(day * 5 / 4).clamp(AHEAD.0, AHEAD.1).min(fill.ahead.len());
    // No further back than ahead twice: what is to come is what is asked here.
    let back = known.min(2.0 * ahead.max(AHEAD.0) as f64).max(1.0);
    let course = |of: fn(&Spread) -> f64| -> Vec<(f64, f64)> {
        let now = fill.held as f64;
        let to_come = fill.ahead.iter().take(ahead).enumerate();
        std::iter::once((0.0, now))
            .chain(to_come.map(|(at, spread)| ((at + 1) as f64, (now + of(spread)).max(0.0))))
            .collect()
    };
    let (low, likely, high) = (course(|it| it.low), course(|it| it.likely), course(|it| it.high));
    let shown = past.iter().filter(|(day, _)| *day >= -back).chain(&high);
    let most = shown.map(|(_, bytes)| *bytes).fold(1.0, f64::max);
    let all = fill.free.map(|free| fill.held.saturating_add(free) as f64);
    let limit = all.filter(|all| *all <= most * 2.0);
    let top = round(limit.unwrap_or(most).max(most) * 1.05);
    let full = limit.map(|limit| [(-back, limit), (ahead as f64, limit)]);
    let cursor = [(day as f64, 0.0), (day as f64, top)];
    let line = |data, style, marker| {
        Dataset::default().data(data).style(style).marker(marker).graph_type(GraphType::Line)
    };
    let mut sets = vec![
        line(&low, theme.quiet(), Marker::Dot),
        line(&high, theme.quiet(), Marker::Dot),
        line(&past, theme.was(), Marker::Braille),
        line(&likely, theme.will(), Marker::Braille),
    ];
    if (1..=ahead).contains(&day) {
        sets.push(line(&cursor, theme.quiet(), Marker::Braille));
    }
    sets.extend(full.as_ref().map(|full| line(full, theme.wrong(), Marker::Braille)));
    let date = |days: f64| words::day(fill.now + (days * DAY as f64) as i64);
    // Labels stand at equal distances.
    let middle = (ahead as f64 - back) / 2.0;
    let middle = if middle.abs() < 1.0 { "now".to_owned() } else { date(middle) };
    let x = Axis::default().bounds([-back, ahead as f64]).style(theme.quiet()).labels([
        date(-back),
        middle,
        date(ahead as f64),
    ]);
    let y = Axis::default().bounds([0.0, top]).style(theme.quiet()).labels([
        "0 B".to_owned(),
        words::bytes((top / 2.0) as u64),
        words::bytes(top as u64),
    ]);
    let above = Rect { height: area.height - 1, ..area };
    frame.render_widget(Chart::new(sets).x_axis(x).y_axis(y).legend_position(None), above);
    let mut said = vec![
        Span::styled("⠒⠒", theme.was()),
        Span::styled(" measured   ", theme.quiet()),
        Span::styled("⠒⠒", theme.will()),
        Span::styled(" likely   ", theme.quiet()),
        Span::styled("•• 8 of 10 cases lie between", theme.quiet()),
    ];
    if full.is_some() {
        said.extend([Span::styled("   ⠒⠒", theme.wrong()), Span::styled(" full", theme.quiet())]);
    }
    let below = Rect { y: area.y + area.height - 1, height: 1, ..area };
    frame.render_widget(Line::from(said), below);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn amounts_and_paths_keep_what_tells_them_apart() {
        assert_eq!((money(0.0).as_str(), money(12.345).as_str()), ("0.00", "12.35"));
        assert_eq!((money(0.0123).as_str(), money(0.000_01).as_str()), ("0.0123", "< 0.0001"));
        assert_eq!(end_of("/srv/readings/2026", 9), "…ngs/2026");
        assert_eq!(end_of("/srv", 9), "/srv");
        assert_eq!([round(1.0), round(900.0), round(1e6)], [2.0, 2048.0, 2_097_152.0]);
    }
}
