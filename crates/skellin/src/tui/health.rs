//! Whether all is well, in one line, and the first thing that is not.
//!
//! A plan is safe if its newest snapshot is whole and as new as its schedule asks, something on this
//! machine starts the next run, its store was reached, the goal it names is met, and no drill has
//! found what does not match. Nothing is claimed beyond that.

use ratatui::{
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{Outcome, Work as Recorded, timers::Starter};
use skellin_plan::Weakness;
use unicode_width::UnicodeWidthStr;

use super::{
    lanes::{Known, Lane},
    model::Model,
    standing::sentence,
};
use crate::words::{self, fit};

/// What `safe` means, for whoever asks.
pub(super) const SAFE: &str = "A plan is safe if its newest snapshot is whole and as new as its schedule asks, something on this machine starts the next run, its store was reached, its goal is met, and no drill has found a mismatch.";

/// Why a plan is not safe.
struct Concern {
    what: String,
    /// Whether something is wrong, or only missing.
    is_wrong: bool,
}

/// One line that says whether all is well, and the first thing that is not.
pub(super) fn top_line(app: &Model, width: usize) -> Line<'static> {
    let theme = app.theme;
    let (state, short, style) = state(app);
    let now = words::moment(app.now);
    let room = width.saturating_sub(14 + app.machine.width());
    let state = if state.width() > room { short.unwrap_or(state) } else { state };
    // The date gives way before the state does.
    let with_date = room.saturating_sub(now.width() + 3) >= state.width().min(room);
    let state = fit(&state, if with_date { room - now.width() - 3 } else { room });
    let used = 14 + app.machine.width() + state.width();
    let mut spans = vec![
        Span::styled(" Skellin  ", theme.strong()),
        Span::styled(format!("{}   ", app.machine), theme.quiet()),
        Span::styled(state, style),
    ];
    if with_date {
        spans.push(Span::raw(" ".repeat(width.saturating_sub(used + now.width()))));
        spans.push(Span::styled(format!("{now} "), theme.quiet()));
    }
    Line::from(spans)
}

/// The state in words, in fewer words if there are, and how they look.
fn state(app: &Model) -> (String, Option<String>, Style) {
    let theme = app.theme;
    if app.only_restores() {
        // Whether plans run is the care of whoever may run them.
        let says = "everything can be restored; with this passphrase nothing is changed";
        return (says.to_owned(), Some("restore only".to_owned()), theme.quiet());
    }
    // Other machines look after their plans themselves.
    let own: Vec<&Lane> = app.lanes.iter().filter(|lane| lane.plan.is_some()).collect();
    let all = own.len() + app.mistaken.len();
    let plans = words::counted(all as u64, "plan", "plans");
    let mistaken = app.mistaken.iter().map(|(plan, count)| Concern {
        what: format!(
            "✕ plan {plan} has {}: skellin plan check",
            words::counted(*count as u64, "mistake", "mistakes")
        ),
        is_wrong: true,
    });
    let mut concerns: Vec<Concern> =
        mistaken.chain(own.iter().filter_map(|lane| concern(app, lane))).collect();
    concerns.sort_by_key(|concern| !concern.is_wrong);
    if let Some(first) = concerns.first() {
        let style = if first.is_wrong { theme.wrong() } else { theme.is() };
        return (format!("{} of {plans} safe ─ {}", all - concerns.len(), first.what), None, style);
    }
    let is_loading = own.iter().any(|lane| matches!(lane.known, Known::Loading));
    if all > 0 && (is_loading || app.starter.is_none() || app.journal.is_none()) {
        return ("checking the plans …".to_owned(), None, theme.quiet());
    }
    match own.iter().filter_map(|lane| lane.marks.last()).map(|mark| mark.time).min() {
        None => ("○ no plan yet".to_owned(), None, theme.is()),
        Some(oldest) => {
            let newest = match all {
                1 => "newest snapshot",
                _ => "newest snapshots at most",
            };
            let age = words::age(app.now - oldest);
            let proof = proof(app, &own);
            let long = format!("✓ {plans} safe ─ {newest} {age} old ─ {proof}");
            (long, Some(format!("✓ {plans} safe ─ {age} old ─ {proof}")), theme.well())
        }
    }
}

/// What a plan lacks against its goal, or what a drill has found; known once all that tells is.
fn lacking(app: &Model, lane: &Lane) -> Option<Weakness> {
    let is_known = app.journal.is_some() && app.stores.is_some();
    let weakest = app.weaknesses(lane).into_iter().next().filter(|_| is_known)?;
    // A snapshot that is missing, and damage, have words of their own.
    let is_told = matches!(weakest, Weakness::NoSnapshot | Weakness::Damaged { .. });
    (weakest.is_failure() && !is_told).then_some(weakest)
}

/// Why a plan of this machine is not safe, if it is not.
fn concern(app: &Model, lane: &Lane) -> Option<Concern> {
    if let Some(what) = lane.ailment(app.now) {
        return Some(Concern { what, is_wrong: true });
    }
    let name = &lane.name;
    if let Some(weakest) = lacking(app, lane) {
        let what = format!("✕ {name}: {}", sentence(&weakest, app.now));
        return Some(Concern { what: what.trim_end_matches('.').to_owned(), is_wrong: true });
    }
    if lane.plan.as_ref()?.schedule.is_none() {
        return Some(Concern {
            what: format!("○ {name} has no schedule and runs only by hand"),
            is_wrong: false,
        });
    }
    let what = match app.starter.as_ref()? {
        Starter::Runs(_) => return None,
        Starter::Stopped { what, .. } => format!("✕ nothing starts {name}: {what}"),
        Starter::Missing => format!("✕ nothing starts {name}: skellin timers install"),
    };
    Some(Concern { what, is_wrong: true })
}

/// When the stores of some plans were verified: that of the store for which it is longest ago.
fn proof(app: &Model, lanes: &[&Lane]) -> String {
    let Some(Ok(papers)) = &app.journal else { return "journal not readable".to_owned() };
    let verified = |store: &str| {
        papers.iter().map(|(entry, _)| entry).find_map(|entry| {
            let is_it = entry.work == Recorded::Verify && entry.outcome == Outcome::Done;
            (is_it && entry.store == store).then_some(entry.started)
        })
    };
    let mut oldest = app.now;
    for lane in lanes {
        match verified(&lane.store) {
            None => return format!("{} never verified", lane.store),
            Some(time) => oldest = oldest.min(time),
        }
    }
    format!("verified {} ago", words::age(app.now - oldest))
}
