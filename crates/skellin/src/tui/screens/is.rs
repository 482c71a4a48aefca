//! Is: the plan as it stands now, what a run would do, and the run while it goes on.

use crate::tui::drawn::Drawn;
use ratatui::{Frame, layout::Rect, text::Line};
use unicode_width::UnicodeWidthStr;

use super::{
    live,
    parts::{fact, is_open, paragraph, plain},
    review, work,
};
use crate::{
    tui::{
        lanes::{Known, Lane, Work},
        model::Model,
    },
    words::{self, fit},
};

/// Rows from which all that is to say of the plan stands above its sources.
const HIGH: u16 = 24;

pub(super) fn title(app: &Model) -> Vec<String> {
    let Some(lane) = app.current_lane() else { return Vec::new() };
    let about = lane.plan.as_ref().and_then(|plan| plan.about.clone());
    let state = match &lane.work {
        Work::Going { dry_run: true, .. } => "dry run running",
        Work::Going { .. } => "running",
        Work::Ended { dry_run: true, .. } => "dry run result",
        _ => "now",
    };
    [Some(lane.label()), Some(state.to_owned()), about].into_iter().flatten().collect()
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    let Some(lane) = app.current_lane() else { return };
    let Some(plan) = &lane.plan else {
        let lines = vec![
            Line::from(""),
            Line::from(format!(
                "  {} has no plan file on this machine, only snapshots.",
                lane.label()
            )),
            Line::styled("  → browse and restore them: ← goes to the newest", app.theme.is()),
        ];
        return paragraph(frame, lines, area);
    };
    let is_high = area.height >= HIGH;
    let mut lines = if is_high { vec![Line::from("")] } else { Vec::new() };
    let sources: Vec<String> =
        plan.sources.iter().map(|source| source.display().to_string()).collect();
    if is_high {
        lines.push(fact(app, "Sources", sources.join("  ")));
        let rules = match plan.rules.rules() {
            [] => "no rules".to_owned(),
            [rule] => format!("1 rule: {}", rule.text),
            many => format!("{} rules; skellin plan show {} lists them", many.len(), plan.name),
        };
        lines.push(fact(app, "Rules", rules));
        lines.push(fact(app, "Store", lane.store.clone()));
    }
    lines.push(fact(
        app,
        "Schedule",
        match &plan.schedule {
            Some(schedule) => schedule.words(),
            None => "by hand only: no schedule".to_owned(),
        },
    ));
    if let Some(next) = lane.next(app.now) {
        let text = format!("{}, in {}", words::moment(next), words::age(next - app.now));
        lines.push(fact(app, "Next run", text));
    }
    lines.push(fact(
        app,
        "Last run",
        last_run(app, lane, usize::from(area.width).saturating_sub(16)),
    ));
    lines.extend(to_mend(app, lane, usize::from(area.width)));
    lines.push(Line::from(""));
    let head = lines.len() as u16;
    plain(frame, lines, area);
    let below = Rect { y: area.y + head, height: area.height.saturating_sub(head), ..area };
    if below.height == 0 || !is_open(frame, app, below) {
        return;
    }
    match &app.lanes[app.lane].work {
        Work::None => live::draw(frame, app, drawn, below),
        Work::Ended { dry_run: true, result: Ok(_), .. } => {
            let head = review::draw(frame, app, below);
            let below =
                Rect { y: below.y + head, height: below.height.saturating_sub(head), ..below };
            live::draw(frame, app, drawn, below);
        }
        Work::Going { .. } => work::going(frame, app, below),
        Work::Ended { .. } => work::ended(frame, app, drawn, below),
    }
}

/// The first thing to mend that concerns this plan or no plan at all.
fn to_mend(app: &Model, lane: &Lane, width: usize) -> Option<Line<'static>> {
    let found = app.findings.as_ref()?;
    let own = [format!("plan {}", lane.name), format!("store {}", lane.store)];
    let mut concerning = found
        .iter()
        .filter(|finding| own.contains(&finding.subject) || finding.subject.starts_with('/'));
    let first = concerning.next()?;
    let more = match concerning.count() {
        0 => "e: details".to_owned(),
        more => format!("{more} more: e"),
    };
    let text = format!("▲ {}: {}", first.subject, first.what);
    let room = width.saturating_sub(15 + 2 + more.width());
    let line = fact(app, "Problems", format!("{}  {more}", fit(&text, room)));
    Some(line)
}

/// The newest snapshot, with as much of what it says of itself as fits.
fn last_run(app: &Model, lane: &Lane, width: usize) -> String {
    let Some(mark) = lane.marks.last() else {
        let is_open = matches!(lane.known, Known::Here);
        let what =
            if is_open { "never: no snapshot yet" } else { "unknown: the store is not open" };
        return what.to_owned();
    };
    let mut text = format!("{}, {} ago", words::moment(mark.time), words::age(app.now - mark.time));
    if let Some(facts) = mark.facts {
        for part in [
            words::counted(facts.files, "file", "files"),
            words::bytes(facts.bytes),
            format!("{} new", words::bytes(facts.new_bytes)),
        ] {
            if text.width() + part.width() + 2 <= width {
                text = format!("{text}, {part}");
            }
        }
    }
    text
}
