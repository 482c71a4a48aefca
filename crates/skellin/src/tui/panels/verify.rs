//! A verification of a store: watched, what it found, and the repair of that.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    text::{Line, Span},
};
use skellin_engine::{Cancel, Event, Progress};
use skellin_store::{Damage, VerifyReport};

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::{popup, trouble_lines},
};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        widgets::bar,
        worker::{JobEnd, Report, Request, Trouble, Verified},
    },
    words,
};

/// Columns at most.
const WIDTH: u16 = 84;
/// So many damaged objects are shown,
const SHOWN: usize = 4;
/// and so many files of each.
const FILES: usize = 3;

enum Stage {
    Working { progress: Progress, cancel: Cancel, waited: Option<String>, repair: bool },
    Ended(Result<Box<Verified>, Trouble>),
}

/// A verification of a store.
pub(in crate::tui) struct VerifyPanel {
    store: String,
    job: u64,
    stage: Stage,
}

#[derive(Clone, Copy)]
enum Act {
    Stop,
    Repair,
    Leave,
}

use KeyCode::{Char, Enter, Esc};

const WORKING: &[Key<Act>] = &[key(&[Esc], "Esc", Act::Stop, "stop")];
const ENDED: &[Key<Act>] =
    &[key(&[Enter], "Enter", Act::Leave, "back"), key(&[Esc], "", Act::Leave, "")];
const DAMAGED: &[Key<Act>] = &[
    key(&[Char('m')], "m", Act::Repair, "repair"),
    key(&[Enter], "Enter", Act::Leave, "back"),
    key(&[Esc], "", Act::Leave, ""),
];

impl VerifyPanel {
    pub fn open(app: &Model, store: String) -> Opened {
        let (job, cancel) = (app.next_job(), Cancel::new());
        let panel = Self { store, job, stage: Self::working(cancel.clone(), false) };
        let request = panel.request(cancel, false);
        Opened::asking(panel, request)
    }

    fn working(cancel: Cancel, repair: bool) -> Stage {
        Stage::Working { progress: Progress::default(), cancel, waited: None, repair }
    }

    fn request(&self, cancel: Cancel, repair: bool) -> Request {
        Request::Verify { job: self.job, store: self.store.clone(), repair, cancel }
    }

    fn keys(&self) -> &'static [Key<Act>] {
        match &self.stage {
            Stage::Working { .. } => WORKING,
            Stage::Ended(Ok(verified))
                if verified.repaired.is_none() && !verified.report.damage.is_empty() =>
            {
                DAMAGED
            }
            Stage::Ended(_) => ENDED,
        }
    }

    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        match &self.stage {
            Stage::Working { progress, cancel, waited, repair } => {
                let what = match (cancel.is_cancelled(), repair) {
                    (true, _) => "Stopping …",
                    (false, false) => "Reading every byte of the store, and comparing it.",
                    (false, true) => {
                        "Mending what is damaged, then reading every byte of the store again."
                    }
                };
                let mut lines = vec![Line::from(what), Line::from("")];
                lines.extend(progress_lines(app, progress));
                lines.extend(
                    waited.iter().map(|waited| Line::styled(format!("▲ {waited}"), theme.wrong())),
                );
                lines
            }
            Stage::Ended(Err(trouble)) => trouble_lines(app, trouble),
            Stage::Ended(Ok(verified)) => ended_lines(app, verified),
        }
    }
}

fn progress_lines(app: &Model, progress: &Progress) -> Vec<Line<'static>> {
    let theme = app.theme;
    let all = progress.total_files.unwrap_or(0);
    let share = if all == 0 { 0.0 } else { progress.files as f64 / all as f64 };
    let mut spans = bar(share, 40, theme.was(), theme.quiet());
    let done = format!(" {} of {}", words::count(progress.files), words::count(all));
    spans.push(Span::raw(done));
    let read = match progress.bytes {
        0 => String::new(),
        bytes => format!("{} read", words::bytes(bytes)),
    };
    vec![Line::from(spans), Line::styled(read, theme.quiet())]
}

fn ended_lines(app: &Model, verified: &Verified) -> Vec<Line<'static>> {
    let theme = app.theme;
    let found = &verified.report;
    let objects = |count: u64| words::counted(count, "object", "objects");
    match &verified.repaired {
        None if found.damage.is_empty() => {
            let mut lines = vec![Line::styled("✓ No damage.", theme.well()), Line::from("")];
            lines.extend(scope(found));
            lines
        }
        None => {
            let are = words::counted(
                found.damage.len() as u64,
                "object is damaged",
                "objects are damaged",
            );
            let mut lines = vec![Line::styled(format!("✕ {are}:"), theme.wrong())];
            lines.extend(damage_lines(app, &found.damage));
            lines.push(Line::from(""));
            lines.push(Line::from(
                "m repairs it from parity, second copies, files of this machine and other stores.",
            ));
            lines
        }
        Some((mended, left)) if left.damage.is_empty() => {
            let mut lines = vec![
                Line::styled(
                    format!("✓ {} repaired. No damage is left.", objects(*mended)),
                    theme.well(),
                ),
                Line::from(""),
            ];
            for one in found.damage.iter().take(SHOWN) {
                lines.push(Line::styled(format!("  {}", one.object), theme.quiet()));
            }
            lines.extend(more_lines(app, found.damage.len()));
            lines.push(Line::from(""));
            lines.extend(scope(left));
            lines
        }
        Some((mended, left)) => {
            let mut lines = vec![
                Line::from(format!("{} repaired.", objects(*mended))),
                Line::styled(
                    format!(
                        "✕ {} cannot be repaired from what is here:",
                        objects(left.damage.len() as u64)
                    ),
                    theme.wrong(),
                ),
            ];
            lines.extend(damage_lines(app, &left.damage));
            lines.push(Line::from(""));
            lines.push(Line::from(
                "Bring back a drive or store that has these files, then repair again.",
            ));
            lines
        }
    }
}

fn scope(report: &VerifyReport) -> Vec<Line<'static>> {
    let told = |label: &str, text: String| Line::from(format!("{label:<12}{text}"));
    vec![
        told("Snapshots", words::count(report.snapshots)),
        told("Containers", words::count(report.containers)),
        told("Read", words::bytes(report.bytes_read)),
    ]
}

fn damage_lines(app: &Model, damage: &[Damage]) -> Vec<Line<'static>> {
    let theme = app.theme;
    let mut lines = Vec::new();
    for one in damage.iter().take(SHOWN) {
        lines.push(Line::from(format!("  {}: {}", one.object, words::harmless(&one.why))));
        if one.files.is_empty() {
            lines.push(Line::styled("    no file is lost by it", theme.quiet()));
        }
        for file in one.files.iter().take(FILES) {
            let text = format!("    {} of {}", words::path(&file.path), file.snapshot.short());
            lines.push(Line::styled(text, theme.wrong()));
        }
        if one.files.len() > FILES {
            let more = words::count((one.files.len() - FILES) as u64);
            lines.push(Line::styled(format!("    and {more} more files"), theme.quiet()));
        }
    }
    lines.extend(more_lines(app, damage.len()));
    lines
}

/// How many objects are not shown.
fn more_lines(app: &Model, all: usize) -> Option<Line<'static>> {
    let more = all.checked_sub(SHOWN).filter(|more| *more > 0)?;
    let text = format!("  and {} more", words::count(more as u64));
    Some(Line::styled(text, app.theme.quiet()))
}

impl Panel for VerifyPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(self.keys())
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        match (meaning(self.keys(), key), &self.stage) {
            (Some(Act::Leave), _) => Answer::Dismiss,
            (Some(Act::Repair), _) => {
                let cancel = Cancel::new();
                self.stage = Self::working(cancel.clone(), true);
                Answer::Ask(self.request(cancel, true))
            }
            (Some(Act::Stop), Stage::Working { cancel, .. }) => {
                cancel.cancel();
                Answer::Stay
            }
            _ => Answer::Stay,
        }
    }

    fn report(&mut self, report: Report) -> Heard {
        match (report, &mut self.stage) {
            (Report::Event { job, event }, Stage::Working { progress, waited, .. })
                if job == self.job =>
            {
                match event {
                    Event::Progress(latest) => *progress = latest,
                    Event::Waiting(now) => *waited = (!now.is_over).then(|| now.to_string()),
                    _ => {}
                }
            }
            (Report::Ended { job, end: JobEnd::Verify(end) }, _) if job == self.job => {
                self.stage = Stage::Ended(end);
            }
            (other, _) => return Heard::Not(Box::new(other)),
        }
        Heard::Taken(Answer::Stay)
    }

    fn under_way(&self) -> Option<(String, Cancel)> {
        match &self.stage {
            Stage::Working { cancel, repair, .. } => {
                let what = if *repair { "repair" } else { "verification" };
                Some((what.to_owned(), cancel.clone()))
            }
            Stage::Ended(_) => None,
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let title = format!(" Verification of store {} ", self.store);
        popup(frame, app, &title, self.lines(app), room.body, WIDTH);
    }
}
