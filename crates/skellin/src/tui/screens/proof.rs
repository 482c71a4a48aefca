//! Proof: for every plan how many copies there are, where and how old, when they were verified and a
//! restore was drilled, how long a full one takes, and the weakest point against the plan's goal.

use jiff::Timestamp;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{JournalEntry, Outcome, Work};
use skellin_plan::{Goals, PlanCopyFacts, Weakness};

use super::parts::{Cells, column, list, number, paragraph, plain};
use crate::{
    tui::{
        drawn::Drawn,
        lanes::Lane,
        model::Model,
        standing::{remedy, sentence},
    },
    words::{self, fit},
};

/// So many proofs are listed at most.
const LATELY: usize = 20;
/// Weeks of a year.
const WEEKS: i64 = 52;
/// A week in milliseconds.
const WEEK: i64 = 7 * 86_400_000;
/// Columns of what a line is called.
const LABEL: usize = 16;

pub(super) fn title(app: &Model) -> Vec<String> {
    let own = app.lanes.iter().filter(|lane| lane.plan.is_some());
    let failing = own.filter(|lane| app.weaknesses(lane).iter().any(Weakness::is_failure)).count();
    let has_goal =
        |lane: &Lane| lane.plan.as_ref().is_some_and(|plan| plan.goals != Goals::default());
    vec![match failing {
        0 if !app.lanes.iter().any(has_goal) => "no goals set".to_owned(),
        0 => "goals met".to_owned(),
        many => format!("{} short of the goal", words::counted(many as u64, "plan", "plans")),
    }]
}

/// What was verified, drilled, restored and copied lately on this machine, the newest first.
fn lately(app: &Model, width: usize) -> Vec<Line<'static>> {
    let Some(Ok(papers)) = &app.journal else { return Vec::new() };
    let proofs = papers.iter().map(|(entry, _)| entry).filter(|entry| {
        matches!(
            entry.work,
            Work::Verify | Work::Repair | Work::Drill | Work::Restore | Work::Replicate
        ) && entry.outcome != Outcome::Running
    });
    let line = |entry: &JournalEntry| {
        let (mark, style) = app.outcome(entry.outcome);
        let of = entry.plan.as_deref().unwrap_or(&entry.store);
        let said = entry.words.clone().unwrap_or_else(|| words::deeds(entry));
        let about = format!("{:<10} {}  {said}", entry.work.word(), fit(&format!("{of:<14}"), 14));
        Line::from(vec![
            Span::styled(format!("  {mark} "), style),
            Span::raw(fit(
                &format!("{}  {about}", words::moment(entry.started)),
                width.saturating_sub(4),
            )),
        ])
    };
    let mut lines: Vec<Line<'static>> = proofs.take(LATELY).map(line).collect();
    if lines.is_empty() {
        lines.push(Line::styled("  nothing yet", app.theme.quiet()));
    }
    let head = Line::styled("  Lately verified, drilled, restored and copied", app.theme.strong());
    [vec![Line::from(""), head], lines].concat()
}

fn age(app: &Model, time: Option<Timestamp>) -> String {
    let ago = |time: Timestamp| format!("{} ago", words::age(app.now - time.as_millisecond()));
    match time {
        // A word, since more does not fit.
        Some(time) if app.now - time.as_millisecond() < 120_000 => "just now".to_owned(),
        time => time.map_or("never".to_owned(), ago),
    }
}

/// The mark before a plan: whether a goal is missed, something is not proven, or all is well.
fn mark(app: &Model, weakest: Option<&Weakness>) -> (&'static str, Style) {
    match weakest {
        Some(weakest) if weakest.is_failure() => ("✕", app.theme.wrong()),
        Some(_) => ("▲", app.theme.is()),
        None => ("✓", app.theme.well()),
    }
}

fn row(app: &Model, lane: &Lane) -> Cells {
    let (proofs, weaknesses) = (app.proofs(lane), app.weaknesses(lane));
    let (have, away) = proofs.counted();
    let (sign, style) = mark(app, weaknesses.first());
    let newest = proofs.copies.iter().filter_map(|copy| copy.newest).max();
    let verified = proofs.copies.iter().map(|copy| copy.verified).min().flatten();
    let back =
        proofs.back.map_or("not measured".to_owned(), |back| words::seconds(back.as_secs_f64()));
    Cells {
        cells: vec![
            format!("{sign} {}", lane.label()),
            format!("{have}, {away} off site"),
            age(app, newest),
            age(app, verified),
            age(app, proofs.drilled),
            back,
        ],
        style,
        styled: 0,
    }
}

/// A line with a label.
fn labelled(app: &Model, label: &str, text: Vec<Span<'static>>) -> Line<'static> {
    let label = Span::styled(format!("  {label:<LABEL$}"), app.theme.quiet());
    Line::from([vec![label], text].concat())
}

/// A copy in words.
fn copy_words(app: &Model, copy: &PlanCopyFacts) -> String {
    let away = if copy.site.is_away { "off site" } else { "on site" };
    let newest = match copy.newest {
        None => "no snapshot".to_owned(),
        some => format!("newest {}", age(app, some)),
    };
    let verified = match (copy.damaged, copy.verified) {
        (Some(since), _) => format!("damaged, found {}", age(app, Some(since))),
        (None, None) => "never verified".to_owned(),
        (None, some) => format!("verified {}", age(app, some)),
    };
    let site =
        if copy.site.name == copy.name { String::new() } else { format!(" ({})", copy.site.name) };
    format!("{}, {away}{site}, {newest}, {verified}", copy.name)
}

fn goal_words(goals: &Goals) -> Option<String> {
    let long = |time: jiff::SignedDuration| words::seconds(time.as_secs_f64());
    let parts = [
        goals.copies.map(|copies| words::counted(u64::from(copies), "copy", "copies")),
        goals.off_site.map(|count| format!("{count} off site")),
        goals.newest_within.map(|time| format!("newest within {}", long(time))),
        goals.back_within.map(|time| format!("full restore within {}", long(time))),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// A year of proofs: a cell a week, the last on the right.
fn year(app: &Model, lane: &Lane, width: usize) -> Vec<Span<'static>> {
    let theme = app.theme;
    let weeks = WEEKS.min(width as i64);
    let drills = app.drills.get(&lane.name).map_or(&[][..], Vec::as_slice);
    let papers = app.journal.as_ref().and_then(|papers| papers.as_ref().ok());
    let stores = lane.stores();
    // Once, and not for each week: a journal is long, and this is drawn with each key.
    let verified: Vec<&JournalEntry> = papers
        .into_iter()
        .flatten()
        .map(|(entry, _)| entry)
        .filter(|entry| {
            entry.work == Work::Verify
                && matches!(entry.outcome, Outcome::Done | Outcome::Damage)
                && stores.contains(&entry.store.as_str())
        })
        .collect();
    let cell = |week: i64| {
        let (from, to) = (app.now - (week + 1) * WEEK, app.now - week * WEEK);
        let is_in = |time: i64| from < time && time <= to;
        let drilled = drills.iter().find(|drill| is_in(drill.started));
        let verified = verified.iter().find(|entry| is_in(entry.started));
        let is_bad = drilled.is_some_and(|drill| drill.wrong > 0)
            || verified.is_some_and(|entry| entry.outcome == Outcome::Damage);
        match (is_bad, drilled.is_some(), verified.is_some()) {
            (true, ..) => Span::styled("✕", theme.wrong()),
            (false, true, _) => Span::styled("■", theme.well()),
            (false, false, true) => Span::styled("▪", theme.well()),
            _ => Span::styled("·", theme.quiet()),
        }
    };
    (0..weeks).rev().map(cell).collect()
}

/// The selected plan: its weakest point, its copies, its year.
fn about(app: &Model, lane: &Lane, width: usize) -> Vec<Line<'static>> {
    let theme = app.theme;
    let (proofs, weaknesses) = (app.proofs(lane), app.weaknesses(lane));
    let (sign, style) = mark(app, weaknesses.first());
    let mut lines = vec![match weaknesses.first() {
        Some(weakest) => labelled(
            app,
            "Weakest point",
            vec![Span::styled(format!("{sign} {}", sentence(weakest, app.now)), style)],
        ),
        None => labelled(
            app,
            "Weakest point",
            vec![Span::styled(
                "✓ none: copies, ages, verifications and drills are as they should be",
                style,
            )],
        ),
    }];
    if let Some(weakest) = weaknesses.first() {
        let text =
            fit(&format!("→ {}", remedy(weakest, &lane.name)), width.saturating_sub(LABEL + 2));
        lines.push(labelled(app, "", vec![Span::raw(text)]));
    }
    for weakness in weaknesses.iter().skip(1).take(2) {
        let text = fit(&sentence(weakness, app.now), width.saturating_sub(LABEL + 2));
        lines.push(labelled(app, "", vec![Span::styled(text, theme.quiet())]));
    }
    let goal = lane.plan.as_ref().and_then(|plan| goal_words(&plan.goals));
    let goal = goal.unwrap_or_else(|| "none: [goal] in the plan sets one".to_owned());
    lines.push(labelled(app, "Goal", vec![Span::raw(fit(&goal, width.saturating_sub(LABEL + 2)))]));
    for (number, copy) in proofs.copies.iter().enumerate() {
        let label = if number == 0 { "Copies" } else { "" };
        let text = fit(&copy_words(app, copy), width.saturating_sub(LABEL + 2));
        lines.push(labelled(app, label, vec![Span::raw(text)]));
    }
    let room = width.saturating_sub(LABEL + 4);
    lines.push(labelled(app, "Last 52 weeks", year(app, lane, room)));
    let legend = "■ drilled  ▪ verified  ✕ damage or mismatch  · nothing proven";
    lines.push(labelled(app, "", vec![Span::styled(fit(legend, room), theme.quiet())]));
    lines
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    if app.lanes.is_empty() {
        let lines = vec![
            Line::from(""),
            Line::from("  There is no plan yet."),
            Line::styled("  → a makes one, step by step", app.theme.is()),
        ];
        return paragraph(frame, lines, area);
    }
    let name = usize::from(area.width).saturating_sub(68).clamp(13, 30);
    let columns = [
        column("plan", name),
        number("copies", 13),
        number("newest", 10),
        number("verified", 10),
        number("drilled", 10),
        number("full restore", 12),
    ];
    let row = |app: &Model, number: usize| row(app, &app.lanes[number]);
    let total = format!(
        "{} (journal of this machine)",
        words::counted(app.lanes.len() as u64, "plan", "plans")
    );
    let rows = (app.lanes.len() as u16 + 3).min(area.height / 2).max(4);
    let [upper, lower] =
        Layout::vertical([Constraint::Length(rows), Constraint::Min(0)]).areas(area);
    list(frame, app, drawn, upper, &columns, &row, &total);
    let width = usize::from(area.width);
    let selected = app.lanes.get(app.list.selected).or_else(|| app.lanes.first());
    let mut lines = selected.map_or_else(Vec::new, |lane| about(app, lane, width));
    lines.extend(lately(app, width));
    plain(frame, lines, lower);
}
