//! What the plan says of the days to come: schedule, retention, and the runs themselves.

use ratatui::{
    Frame,
    layout::Rect,
    style::Style,
    text::{Line, Span},
};
use skellin_engine::timers::Starter;
use skellin_plan::{Plan, nights};
use unicode_width::UnicodeWidthStr as _;

use super::{
    super::parts::{fact, plain},
    days,
};
use crate::{
    tui::{counting::State, lanes::Lane, model::Model, outlook::Outlook},
    words,
};

/// So far ahead the coming runs are listed, in milliseconds.
const AHEAD: i64 = 14 * 86_400_000;
/// Lines that the coming runs have at least, where days are drawn too.
const LEAST_COMING: usize = 6;

/// The window of a plan, and whether its next run fits.
fn window(app: &Model, lane: &Lane, plan: &Plan) -> Option<(String, bool)> {
    let window = plan.starting.window?;
    let hours = format!("{} to {}", window.from.strftime("%H:%M"), window.to.strftime("%H:%M"));
    let Some(takes) = lane.takes() else {
        return Some((format!("{hours}; no run has been timed yet"), true));
    };
    let takes = words::span(takes);
    let next = lane.next(app.now)?;
    Some(match lane.fits(next) {
        true => (format!("{hours}; a run takes about {takes}: fits"), true),
        false => (format!("▨ {hours}; takes about {takes}: the next will exceed it"), false),
    })
}

/// Who is told of what.
fn tells(plan: &Plan) -> String {
    let tell = &plan.tell;
    let kinds = [
        ("failure", &tell.failure),
        ("late", &tell.late),
        ("exceptions", &tell.exceptions),
        ("success", &tell.success),
    ];
    let told = kinds.iter().filter(|(_, channels)| !channels.is_empty());
    let told: Vec<String> =
        told.map(|(kind, channels)| format!("{kind} to {}", channels.join(", "))).collect();
    match told.is_empty() {
        true => "nobody; add [tell] to the plan".to_owned(),
        false => told.join("; "),
    }
}

/// The sentences of a plan for a lane's store, in lines of a width.
fn retained(lane: &Lane, width: usize) -> Vec<String> {
    let sentences = lane.sentences();
    let mut lines: Vec<String> = Vec::new();
    for sentence in sentences.iter().map(ToString::to_string) {
        match lines.last_mut() {
            Some(line) if line.width() + 5 + sentence.width() <= width => {
                line.push_str("  ·  ");
                line.push_str(&sentence);
            }
            _ => lines.push(sentence),
        }
    }
    lines
}

/// What will be there at the cursor, in a sentence.
fn then(app: &Model, outlook: &Outlook, cursor: i64, width: usize) -> Line<'static> {
    let ((stay, today), (new, coming)) = (outlook.count(false), outlook.count(true));
    let oldest = outlook
        .oldest()
        .map_or(String::new(), |oldest| format!(", the oldest from {}", words::day(oldest)));
    let day = words::day(cursor.max(app.now));
    let mut words = match coming {
        0 => format!("{stay} of today's {today} snapshots stay"),
        _ => format!("{stay} of today's {today} snapshots stay, {new} of {coming} to come"),
    };
    if words.width() + oldest.width() + 16 <= width {
        words.push_str(&oldest);
    }
    Line::from(vec![
        Span::styled(format!("  {day:<13}"), app.theme.will().patch(app.theme.strong())),
        Span::raw(words),
    ])
}

/// How long the first upload of a plan takes, as far as one can tell.
fn first_upload(app: &Model, lane: &Lane) -> Option<String> {
    let plan = lane.plan.as_ref().filter(|_| lane.marks.is_empty())?;
    let counting = app.counting()?;
    let total = counting.census.total();
    let bytes = total.taken().bytes;
    let size = match counting.state {
        State::Going => format!("{} so far, counting …", words::bytes(bytes)),
        State::Failed(_) => return None,
        State::Done => words::bytes(bytes),
    };
    let Some((speed, runs)) = app.line_speed(&lane.store) else {
        return Some(format!("{size}; no run to {} has been timed yet", lane.store));
    };
    let takes = jiff::SignedDuration::try_from_secs_f64(bytes as f64 / speed).ok()?;
    let line = format!(
        "{size} at {}/s ({}): about {}",
        words::bytes(speed as u64),
        words::counted(runs as u64, "run", "runs"),
        words::span(i64::try_from(takes.as_millis()).unwrap_or(i64::MAX)),
    );
    let from = jiff::Timestamp::from_millisecond(lane.next(app.now).unwrap_or(app.now)).ok()?;
    let window = plan.starting.window.as_ref();
    Some(match (window, nights(takes, window, from, &lane.zone())) {
        (None, _) => line,
        (Some(_), Some(told)) => format!(
            "{line}, {} of its window, done {}",
            words::counted(told.nights as u64, "night", "nights"),
            words::moment(told.done.as_millisecond())
        ),
        (Some(_), None) => format!("{line}: years of its window"),
    })
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let theme = app.theme;
    let Some(lane) = app.current_lane() else { return };
    let mut lines = vec![Line::from("")];
    let schedule = lane.plan.as_ref().and_then(|plan| plan.schedule.as_ref());
    lines.push(fact(
        app,
        "Schedule",
        match schedule {
            Some(schedule) => schedule.words(),
            None => "by hand only (no schedule)".to_owned(),
        },
    ));
    let (starter, style) = match (&app.starter, schedule) {
        (None, _) => ("loading …".to_owned(), theme.quiet()),
        (Some(Starter::Runs(what)), _) => (what.clone(), Style::new()),
        (Some(_), None) => ("by hand".to_owned(), Style::new()),
        (Some(Starter::Stopped { what, hint }), Some(_)) => {
            (format!("✕ {what} → {hint}"), theme.wrong())
        }
        (Some(Starter::Missing), Some(_)) => (
            "✕ nothing → skellin timers install has systemd or cron start it".to_owned(),
            theme.wrong(),
        ),
    };
    lines.push(Line::from(vec![
        Span::styled(format!("  {:<13}", "Started by"), theme.quiet()),
        Span::styled(starter, style),
    ]));
    if let Some((words, fits)) = lane.plan.as_ref().and_then(|plan| window(app, lane, plan)) {
        let style = if fits { Style::new() } else { theme.wrong() };
        lines.push(Line::from(vec![
            Span::styled(format!("  {:<13}", "Window"), theme.quiet()),
            Span::styled(words, style),
        ]));
        if !fits {
            lines.push(Line::from(format!("{:<15}→ start it earlier, or widen the window", "")));
        }
    }
    if let Some(upload) = first_upload(app, lane) {
        lines.push(fact(app, "First upload", upload));
    }
    if let Some(plan) = &lane.plan {
        lines.push(fact(app, "Notifies", tells(plan)));
    }
    let cursor = app.cursor_time().unwrap_or(app.now);
    let outlook = lane.outlook(app.now, cursor.max(app.now));
    let width = usize::from(area.width);
    match &outlook {
        None => lines.push(fact(
            app,
            "Retention",
            format!(
                "none expires, {} so far; `retain` in the plan says how long they stay",
                words::counted(lane.marks.len() as u64, "snapshot", "snapshots")
            ),
        )),
        Some(outlook) => {
            for (number, text) in retained(lane, width.saturating_sub(16)).iter().enumerate() {
                let label = if number == 0 { "Retention" } else { "" };
                lines.push(fact(app, label, text.clone()));
            }
            let by_itself = lane.plan.as_ref().is_some_and(|plan| plan.starting.expire);
            lines.push(fact(
                app,
                "Expires",
                match by_itself {
                    true => "after each good run".to_owned(),
                    false => format!("by hand: skellin expire {}", lane.name),
                },
            ));
            lines.push(then(app, outlook, cursor, width));
            let height = usize::from(area.height);
            if height >= lines.len() + 9 + LEAST_COMING && width >= 60 {
                lines.push(Line::from(""));
                let until = cursor.max(app.now);
                lines.extend(days::draw(app, outlook, until, &lane.zone(), width));
            }
        }
    }
    lines.push(Line::from(""));
    lines.push(Line::styled("  Next 14 days", theme.strong()));
    let until = app.now + AHEAD;
    let mut coming: Vec<(i64, &str)> = app
        .lanes
        .iter()
        .flat_map(|lane| {
            lane.coming(app.now, until).into_iter().map(|time| (time, lane.name.as_str()))
        })
        .collect();
    coming.sort_unstable();
    let room = usize::from(area.height).saturating_sub(lines.len() + 1).max(1);
    let near = coming.iter().position(|(time, _)| *time >= cursor).unwrap_or(coming.len());
    let first = near.saturating_sub(room / 2).min(coming.len().saturating_sub(room));
    for (time, name) in coming.iter().skip(first).take(room) {
        let here =
            *time == cursor && Some(*name) == app.current_lane().map(|lane| lane.name.as_str());
        let style = if here { theme.will().patch(theme.strong()) } else { Style::new() };
        let lane = app.lanes.iter().find(|lane| lane.name == *name);
        let fits = lane.is_none_or(|lane| lane.fits(*time));
        let takes = lane.and_then(Lane::takes);
        let takes =
            takes.map_or(String::new(), |takes| format!(", takes about {}", words::span(takes)));
        let (mark, tone) = if fits { ("○", theme.will()) } else { ("▨", theme.wrong()) };
        lines.push(Line::from(vec![
            Span::styled(format!("{}{mark} ", if here { "▌ " } else { "  " }), tone),
            Span::styled(
                format!(
                    "{}   {name:<14} in {}{takes}",
                    words::moment(*time),
                    words::age(time - app.now)
                ),
                style,
            ),
        ]));
    }
    lines.push(Line::styled(
        match coming.len() {
            0 => "  nothing: no plan has a schedule".to_owned(),
            many => format!("  {}", words::counted(many as u64, "run", "runs")),
        },
        theme.quiet(),
    ));
    plain(frame, lines, area);
}
