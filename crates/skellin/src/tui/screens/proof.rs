//! Proof: for every plan how many copies there are, how old, and when a store was last verified
//! and a restore last done.

use crate::tui::drawn::Drawn;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    text::{Line, Span},
};
use skellin_engine::{JournalEntry, Outcome, Work};

use super::parts::{Cells, column, list, number, paragraph, plain};
use crate::{
    tui::model::Model,
    words::{self, fit},
};

/// So many proofs are listed at most.
const LATELY: usize = 20;

pub(super) fn title(app: &Model) -> Vec<String> {
    let unproven = app
        .lanes
        .iter()
        .filter(|lane| newest(app, Work::Verify, |_, store| store == lane.store).is_none());
    vec![match unproven.count() {
        0 => "all stores verified".to_owned(),
        many => {
            format!("{} in stores never verified", words::counted(many as u64, "plan", "plans"))
        }
    }]
}

/// The newest good entry of a kind of work: when it began.
fn newest(app: &Model, work: Work, fits: impl Fn(Option<&str>, &str) -> bool) -> Option<i64> {
    let Some(Ok(papers)) = &app.journal else { return None };
    let found = papers.iter().map(|(entry, _)| entry).find(|entry| {
        entry.work == work
            && entry.outcome == Outcome::Done
            && fits(entry.plan.as_deref(), &entry.store)
    });
    found.map(|entry| entry.started)
}

/// What was verified, restored and copied lately on this machine, the newest first.
fn lately(app: &Model, width: usize) -> Vec<Line<'static>> {
    let Some(Ok(papers)) = &app.journal else { return Vec::new() };
    let proofs = papers.iter().map(|(entry, _)| entry).filter(|entry| {
        matches!(entry.work, Work::Verify | Work::Restore | Work::Replicate)
            && entry.outcome != Outcome::Running
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
    let head = Line::styled("  Lately verified, restored and copied", app.theme.strong());
    [vec![Line::from(""), head], lines].concat()
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
    let age = |app: &Model, time: Option<i64>| {
        time.map_or("never".to_owned(), |time| format!("{} ago", words::age(app.now - time)))
    };
    let stores = usize::from(area.width).saturating_sub(72).clamp(10, 30);
    let columns = [
        column("plan", 16),
        number("copies", 6),
        column("in", stores),
        number("newest", 12),
        number("verified", 12),
        number("restored", 12),
    ];
    let row = |app: &Model, row: usize| {
        let lane = &app.lanes[row];
        let verified = newest(app, Work::Verify, |_, store| store == lane.store);
        let restored = newest(app, Work::Restore, |plan, _| plan == Some(lane.name.as_str()));
        let style = if verified.is_some() { app.theme.well() } else { app.theme.is() };
        Cells {
            cells: vec![
                lane.label(),
                (usize::from(!lane.marks.is_empty()) + lane.copies.len()).to_string(),
                std::iter::once(&lane.store)
                    .chain(lane.copies.keys())
                    .cloned()
                    .collect::<Vec<_>>()
                    .join(", "),
                age(app, lane.marks.last().map(|mark| mark.time)),
                age(app, verified),
                age(app, restored),
            ],
            style,
            styled: 4,
        }
    };
    let total = format!(
        "{} (journal of this machine)",
        words::counted(app.lanes.len() as u64, "plan", "plans")
    );
    let rows = (app.lanes.len() as u16 + 3).min(area.height.saturating_sub(5).max(3));
    let [upper, lower] =
        Layout::vertical([Constraint::Length(rows), Constraint::Min(0)]).areas(area);
    list(frame, app, drawn, upper, &columns, &row, &total);
    let store = app.lanes.get(app.list.selected).map_or(String::new(), |lane| lane.store.clone());
    let width = usize::from(area.width);
    let mut lines = vec![Line::styled("  To prove more", app.theme.strong())];
    for proof in [
        format!("skellin verify {store}   reads and verifies every byte of the store"),
        format!("skellin replicate {store} OTHER   makes a second copy"),
        "replicate = [\"OTHER\"] in a plan   makes it after each run".to_owned(),
        "restore a file elsewhere (b in Was) and compare it".to_owned(),
    ] {
        lines.push(Line::from(fit(&format!("  → {proof}"), width)));
    }
    lines.extend(lately(app, width));
    plain(frame, lines, lower);
}
