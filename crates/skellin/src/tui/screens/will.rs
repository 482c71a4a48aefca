//! Will: what the schedules hold, in words.

use ratatui::{
    Frame,
    layout::Rect,
    text::{Line, Span, Text},
};

use super::parts::fact;
use crate::{tui::model::Model, words};

/// So far ahead the coming runs are listed, in milliseconds.
const AHEAD: i64 = 14 * 86_400_000;

pub(super) fn title(app: &Model, time: i64) -> Vec<String> {
    let Some(lane) = app.current_lane() else { return Vec::new() };
    vec![lane.label(), words::moment(time), format!("in {}", words::age(time - app.now))]
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &mut Model, area: Rect) {
    let theme = app.theme;
    let Some(lane) = app.current_lane() else { return };
    let mut lines = vec![Line::from("")];
    let schedule = lane.plan.as_ref().and_then(|plan| plan.schedule.as_ref());
    lines.push(fact(
        app,
        "runs",
        match schedule {
            Some(schedule) => schedule.words(),
            None => "by hand only: the plan has no [schedule]".to_owned(),
        },
    ));
    lines.push(fact(
        app,
        "started by",
        "nothing of its own yet; give cron the line  */10 * * * * skellin due --run --quiet",
    ));
    lines.push(fact(
        app,
        "keeps",
        format!(
            "every snapshot, {} so far: this version expires nothing",
            words::count(lane.marks.len() as u64)
        ),
    ));
    lines.push(Line::from(""));
    lines.push(Line::styled("  What is to come in two weeks", theme.strong()));
    let until = app.now + AHEAD;
    let mut coming: Vec<(i64, &str)> = app
        .lanes
        .iter()
        .flat_map(|lane| {
            lane.coming(app.now, until).into_iter().map(|time| (time, lane.name.as_str()))
        })
        .collect();
    coming.sort_unstable();
    let cursor = app.cursor_time().unwrap_or(app.now);
    let room = usize::from(area.height).saturating_sub(lines.len() + 1).max(1);
    let near = coming.iter().position(|(time, _)| *time >= cursor).unwrap_or(coming.len());
    let first = near.saturating_sub(room / 2).min(coming.len().saturating_sub(room));
    for (time, name) in coming.iter().skip(first).take(room) {
        let here =
            *time == cursor && Some(*name) == app.current_lane().map(|lane| lane.name.as_str());
        let style =
            if here { theme.will().patch(theme.strong()) } else { ratatui::style::Style::new() };
        lines.push(Line::from(vec![
            Span::styled(if here { "▌ ○ " } else { "  ○ " }, theme.will()),
            Span::styled(
                format!("{}   {name:<20} in {}", words::moment(*time), words::age(time - app.now)),
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
    frame.render_widget(Text::from(lines), area);
}
