//! A drill: watched, and what it has shown.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    text::Line,
};
use skellin_engine::{Cancel, Event, Progress, drill::DrillReport};

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::{popup, trouble_lines},
    restore::progress_lines,
};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        worker::{JobEnd, Report, Request, Trouble},
    },
    words,
};

/// Columns at most.
const WIDTH: u16 = 84;
/// So many files that do not match are shown.
const SHOWN: usize = 8;

enum Stage {
    Working { progress: Progress, cancel: Cancel, waited: Option<String> },
    Ended(Result<Box<DrillReport>, Trouble>),
}

/// A drill of a plan.
pub(in crate::tui) struct DrillPanel {
    plan: String,
    job: u64,
    stage: Stage,
}

#[derive(Clone, Copy)]
enum Act {
    Stop,
    Leave,
}

use KeyCode::{Enter, Esc};

const WORKING: &[Key<Act>] = &[key(&[Esc], "Esc", Act::Stop, "stop")];
const ENDED: &[Key<Act>] =
    &[key(&[Enter], "Enter", Act::Leave, "back"), key(&[Esc], "", Act::Leave, "")];

impl DrillPanel {
    pub fn open(app: &Model, plan: String) -> Opened {
        let (job, cancel) = (app.next_job(), Cancel::new());
        let request = Request::Drill { job, plan: plan.clone(), cancel: cancel.clone() };
        let stage = Stage::Working { progress: Progress::default(), cancel, waited: None };
        Opened::asking(Self { plan, job, stage }, request)
    }

    fn keys(&self) -> &'static [Key<Act>] {
        match self.stage {
            Stage::Working { .. } => WORKING,
            Stage::Ended(_) => ENDED,
        }
    }

    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        match &self.stage {
            Stage::Working { progress, cancel, waited } => {
                let what = match cancel.is_cancelled() {
                    true => "Stopping …",
                    false => {
                        "Restoring a sample of the newest snapshot into scratch, and comparing it."
                    }
                };
                let mut lines = vec![Line::from(what), Line::from("")];
                progress_lines(app, progress, &mut lines);
                lines.extend(
                    waited.iter().map(|waited| Line::styled(format!("▲ {waited}"), theme.wrong())),
                );
                lines
            }
            Stage::Ended(Err(trouble)) => trouble_lines(app, trouble),
            Stage::Ended(Ok(report)) => ended_lines(app, report),
        }
    }
}

fn ended_lines(app: &Model, report: &DrillReport) -> Vec<Line<'static>> {
    let theme = app.theme;
    let Some((run, made)) = report.snapshot.filter(|_| !report.interrupted) else {
        return vec![Line::styled("Stopped. Nothing counts as proven.", theme.is())];
    };
    let mut lines = vec![match report.wrong_count {
        0 => Line::styled("✓ Everything matched.", theme.well()),
        many => {
            let many = words::counted(many, "file does", "files do");
            Line::styled(format!("✕ {many} not match:"), theme.wrong())
        }
    }];
    for wrong in report.wrong.iter().take(SHOWN) {
        let text =
            format!("  {}: {}", words::path(&wrong.path), words::harmless(&wrong.cause.words));
        lines.push(Line::from(text));
    }
    if report.wrong_count > SHOWN as u64 {
        let more = words::count(report.wrong_count - SHOWN as u64);
        lines.push(Line::styled(
            format!("  and {more} more: Enter on its entry in the journal"),
            theme.quiet(),
        ));
    }
    lines.push(Line::from(""));
    let mut told = |label: &str, text: String| lines.push(Line::from(format!("{label:<16}{text}")));
    told("Snapshot", format!("{} ({})", words::moment(made), run.short()));
    told(
        "Compared",
        format!(
            "{} of {}, {}",
            words::count(report.files),
            words::counted(report.of.0, "file", "files"),
            words::bytes(report.bytes)
        ),
    );
    if report.live > 0 {
        told("Live files", format!("{} unchanged, and the same", words::count(report.live)));
    }
    if let Some(seconds) = report.whole_seconds {
        told("Full restore", format!("about {}", words::seconds(seconds)));
    }
    lines
}

impl Panel for DrillPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(self.keys())
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        match (meaning(self.keys(), key), &self.stage) {
            (Some(Act::Leave), _) => Answer::Dismiss,
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
            (Report::Ended { job, end: JobEnd::Drill(end) }, _) if job == self.job => {
                self.stage = Stage::Ended(end);
            }
            (other, _) => return Heard::Not(Box::new(other)),
        }
        Heard::Taken(Answer::Stay)
    }

    fn under_way(&self) -> Option<(String, Cancel)> {
        match &self.stage {
            Stage::Working { cancel, .. } => Some(("drill".to_owned(), cancel.clone())),
            Stage::Ended(_) => None,
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let title = format!(" Drill of {} ", self.plan);
        popup(frame, app, &title, self.lines(app), room.body, WIDTH);
    }
}
