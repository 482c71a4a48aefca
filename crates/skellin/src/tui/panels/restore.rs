//! Bringing a path back: where to, what about what is in the way; a dry run first, then done,
//! watched, and concluded.

use std::{path::PathBuf, time::Duration};

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{Cancel, Destination, Event, Existing, Progress};
use skellin_plan::FarSource;
use skellin_store::RunId;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::{popup, trouble_lines},
    text_field::TextField,
};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        widgets::bar,
        worker::{JobEnd, Report, Request, RestoreOrder, Restored, Trouble},
    },
    words,
};

/// A restore from question to end.
pub(in crate::tui) struct RestorePanel {
    path: Vec<u8>,
    store: String,
    snapshot: RunId,
    time: i64,
    in_place: bool,
    directory: TextField,
    existing: Existing,
    /// Which of the three questions the keys go to.
    field: usize,
    job: u64,
    stage: Stage,
    /// What it waits for, once that takes long.
    waited: Option<String>,
}

enum Stage {
    /// Where to, and what about what is in the way.
    Asking,
    /// The dry run is under way.
    Rehearsing { cancel: Cancel },
    /// What would happen.
    Rehearsed(Box<Restored>),
    /// It happens.
    Working { progress: Progress, cancel: Cancel },
    /// It has happened, or failed.
    Ended(Result<Box<Restored>, Trouble>),
}

#[derive(Clone, Copy)]
enum Act {
    Leave,
    Stop,
    NextField,
    PreviousField,
    Change,
    ChangeBack,
    DryRun,
    Restore,
    Back,
}

use KeyCode::{BackTab, Backspace, Char, Down, Enter, Esc, Left, Right, Tab, Up};

const ASKING: &[Key<Act>] = &[
    key(&[Tab, Down], "Tab", Act::NextField, "next field"),
    key(&[BackTab, Up], "", Act::PreviousField, ""),
    key(&[Char(' '), Right], "Space", Act::Change, "change"),
    key(&[Left], "", Act::ChangeBack, ""),
    key(&[Enter], "Enter", Act::DryRun, "dry run"),
    key(&[Esc], "Esc", Act::Leave, "leave"),
];
/// Where a directory is typed, blanks and arrows are part of that.
const TYPING: &[Key<Act>] = &[
    key(&[Tab, Down], "Tab", Act::NextField, "next field"),
    key(&[BackTab, Up], "", Act::PreviousField, ""),
    key(&[Enter], "Enter", Act::DryRun, "dry run"),
    key(&[Esc], "Esc", Act::Leave, "leave"),
];
const REHEARSING: &[Key<Act>] = &[key(&[Esc], "Esc", Act::Leave, "leave")];
const REHEARSED: &[Key<Act>] = &[
    key(&[Enter], "Enter", Act::Restore, "restore"),
    key(&[Backspace], "Backspace", Act::Back, "change"),
    key(&[Esc], "Esc", Act::Leave, "leave"),
];
const WORKING: &[Key<Act>] = &[key(&[Esc], "Esc", Act::Stop, "stop")];
const ENDED: &[Key<Act>] =
    &[key(&[Enter], "Enter", Act::Leave, "back"), key(&[Esc], "", Act::Leave, "")];

impl RestorePanel {
    pub fn open(path: Vec<u8>, store: String, snapshot: RunId, time: i64, home: &str) -> Opened {
        let directory = TextField::of(&format!("{}/restored", home.trim_end_matches('/')));
        // What lies on another host is never written there.
        let in_place = !FarSource::is_address(&path);
        Opened::of(Self {
            path,
            store,
            snapshot,
            time,
            in_place,
            directory,
            existing: Existing::Leave,
            field: 0,
            job: 0,
            stage: Stage::Asking,
            waited: None,
        })
    }

    fn has_directory(&self) -> bool {
        self.in_place || self.directory.text().starts_with('/')
    }

    fn keys(&self) -> &'static [Key<Act>] {
        match self.stage {
            Stage::Asking if self.field == 1 => TYPING,
            Stage::Asking => ASKING,
            Stage::Rehearsing { .. } => REHEARSING,
            Stage::Rehearsed(_) => REHEARSED,
            Stage::Working { .. } => WORKING,
            Stage::Ended(_) => ENDED,
        }
    }

    fn order(&mut self, app: &Model, dry_run: bool) -> Answer {
        let job = app.next_job();
        let cancel = Cancel::new();
        self.job = job;
        self.stage = match dry_run {
            true => Stage::Rehearsing { cancel: cancel.clone() },
            false => Stage::Working { progress: Progress::default(), cancel: cancel.clone() },
        };
        let destination = match self.in_place {
            true => Destination::InPlace,
            false => Destination::Directory(PathBuf::from(self.directory.text())),
        };
        Answer::Ask(Request::Restore(Box::new(RestoreOrder {
            job,
            store: self.store.clone(),
            snapshot: self.snapshot,
            path: self.path.clone(),
            destination,
            existing: self.existing,
            dry_run,
            cancel,
        })))
    }

    fn step(&mut self, on: bool) {
        let fields = if self.in_place { [0, 2].as_slice() } else { [0, 1, 2].as_slice() };
        let at = fields.iter().position(|field| *field == self.field).unwrap_or(0);
        let by = if on { 1 } else { fields.len() - 1 };
        self.field = fields[(at + by) % fields.len()];
    }

    fn change(&mut self, on: bool) {
        match self.field {
            0 => self.in_place = !self.in_place,
            2 if on => self.existing = next(self.existing),
            2 => self.existing = next(next(self.existing)),
            _ => {}
        }
    }

    fn leave(&self) -> Answer {
        if let Stage::Rehearsing { cancel } = &self.stage {
            cancel.cancel();
        }
        Answer::Dismiss
    }

    fn event(&mut self, event: Event) {
        match (event, &mut self.stage) {
            (Event::Progress(latest), Stage::Working { progress, .. }) => *progress = latest,
            (Event::Waiting(waited), _) => {
                self.waited = (!waited.is_over).then(|| waited.to_string());
            }
            _ => {}
        }
    }

    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let was = format!("snapshot of {}", words::moment(self.time));
        let mut lines = vec![Line::styled(was, theme.was()), Line::from("")];
        let asking = matches!(self.stage, Stage::Asking);
        let wherever = if self.in_place { "original location" } else { "another directory" };
        let in_the_way = match self.existing {
            Existing::Leave => "keep",
            Existing::Replace => "replace",
            Existing::Rename => "rename to NAME.kept-TIME",
        };
        let directory = if asking { self.directory.shown(true) } else { self.directory.text() };
        for (field, question, answer) in [
            (0, "Destination", wherever.to_owned()),
            (1, "Directory", directory),
            (2, "Existing files", in_the_way.to_owned()),
        ] {
            if field == 1 && self.in_place {
                continue;
            }
            let here = field == self.field && asking;
            let style = if here { theme.cursor() } else { Style::new() };
            let answer = if asking && field != 1 { format!("‹ {answer} ›") } else { answer };
            lines.push(Line::from(vec![
                Span::raw(format!("{question:<20}")),
                Span::styled(answer, style),
            ]));
        }
        lines.push(Line::from(""));
        self.stage_lines(app, &mut lines);
        lines
    }

    fn stage_lines(&self, app: &Model, lines: &mut Vec<Line<'static>>) {
        let theme = app.theme;
        match &self.stage {
            Stage::Asking if !self.has_directory() => lines.push(Line::styled(
                "The directory must be a full path, starting with /",
                theme.wrong(),
            )),
            Stage::Asking => lines.push(Line::styled(
                "A dry run comes first; nothing is written yet.",
                theme.quiet(),
            )),
            Stage::Rehearsing { .. } => lines.push(Line::styled("dry run …", theme.quiet())),
            Stage::Rehearsed(restored) => {
                lines.push(Line::styled("Dry run; nothing was written yet:", theme.is()));
                report_lines(app, restored, true, lines);
            }
            Stage::Working { progress, .. } => {
                let total = progress.total_bytes.unwrap_or(0);
                let share = if total == 0 { 0.0 } else { progress.bytes as f64 / total as f64 };
                let mut spans = bar(share, 40, theme.was(), theme.quiet());
                spans.push(Span::raw(format!(
                    " {} of {}, {}/s",
                    words::bytes(progress.bytes),
                    words::bytes(total),
                    words::bytes(progress.rate as u64)
                )));
                lines.push(Line::from(spans));
                let left = progress.left.map_or(String::new(), |left| {
                    format!("{} left  ", words::duration(Duration::from_secs(left.as_secs())))
                });
                lines.push(Line::styled(
                    format!("{left}{}", words::path(&progress.path)),
                    theme.quiet(),
                ));
                if let Some(waited) = &self.waited {
                    lines.push(Line::styled(format!("▲ {waited}"), theme.wrong()));
                }
            }
            Stage::Ended(Ok(restored)) => {
                let report = &restored.report;
                let (text, style) = match (report.interrupted, report.exception_count) {
                    (true, _) => ("Stopped. Restored files are complete.", theme.is()),
                    (false, 0) => ("✓ Done.", theme.well()),
                    (false, _) => ("▲ Done, with exceptions:", theme.wrong()),
                };
                lines.push(Line::styled(text, style));
                report_lines(app, restored, false, lines);
            }
            Stage::Ended(Err(trouble)) => lines.extend(trouble_lines(app, trouble)),
        }
    }
}

impl Panel for RestorePanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(self.keys())
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match meaning(self.keys(), key) {
            Some(Act::Leave) => return self.leave(),
            Some(Act::Stop) => {
                if let Stage::Working { cancel, .. } = &self.stage {
                    cancel.cancel();
                }
            }
            Some(Act::NextField) => self.step(true),
            Some(Act::PreviousField) => self.step(false),
            Some(Act::Change) => self.change(true),
            Some(Act::ChangeBack) => self.change(false),
            Some(Act::DryRun) if self.has_directory() => return self.order(app, true),
            Some(Act::DryRun) => {}
            Some(Act::Restore) => return self.order(app, false),
            Some(Act::Back) => self.stage = Stage::Asking,
            None if matches!(self.stage, Stage::Asking) && self.field == 1 => {
                self.directory.key(key);
            }
            None => {}
        }
        Answer::Stay
    }

    fn paste(&mut self, text: &str) -> Answer {
        if matches!(self.stage, Stage::Asking) && self.field == 1 {
            self.directory.insert(text);
        }
        Answer::Stay
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Event { job, event } if job == self.job => self.event(event),
            Report::Ended { job, end: JobEnd::Restore(result) } if job == self.job => {
                self.stage = match (&self.stage, result) {
                    (Stage::Rehearsing { .. }, Ok(restored)) => Stage::Rehearsed(restored),
                    (_, result) => Stage::Ended(result),
                };
            }
            other => return Heard::Not(Box::new(other)),
        }
        Heard::Taken(Answer::Stay)
    }

    fn under_way(&self) -> Option<(String, Cancel)> {
        match &self.stage {
            Stage::Working { cancel, .. } => Some(("restore".to_owned(), cancel.clone())),
            _ => None,
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let title = format!(" Restore {} ", words::path(&self.path));
        popup(frame, app, &title, self.lines(app), room.whole, 96);
    }
}

fn next(existing: Existing) -> Existing {
    match existing {
        Existing::Leave => Existing::Replace,
        Existing::Replace => Existing::Rename,
        Existing::Rename => Existing::Leave,
    }
}

fn report_lines(app: &Model, restored: &Restored, rehearsed: bool, lines: &mut Vec<Line<'static>>) {
    use std::os::unix::ffi::OsStrExt;
    let report = &restored.report;
    let shown = |path: &PathBuf| words::path(path.as_os_str().as_bytes());
    lines.push(Line::from(format!(
        "{}, {}  →  {}",
        words::counted(report.restored, "path", "paths"),
        words::bytes(report.bytes),
        shown(&restored.target)
    )));
    for (count, what) in [
        (report.left, "kept (already exist)"),
        (report.replaced, if rehearsed { "would be replaced" } else { "replaced" }),
        (report.renamed, if rehearsed { "would be renamed" } else { "renamed" }),
    ] {
        if count > 0 {
            let style = if rehearsed { app.theme.is() } else { Style::new() };
            let what = format!("{} {what}", words::counted(count, "path", "paths"));
            lines.push(Line::styled(what, style));
        }
    }
    for path in restored.in_the_way.iter().take(4) {
        lines.push(Line::styled(format!("  exists: {}", shown(path)), app.theme.quiet()));
    }
    let more = restored.in_the_way.len().saturating_sub(4);
    if more > 0 {
        lines.push(Line::styled(format!("  and {more} more"), app.theme.quiet()));
    }
    for exception in report.exceptions.iter().take(5) {
        lines.push(Line::styled(
            format!("▲ {}: {}", words::path(&exception.path), exception.cause.words),
            app.theme.wrong(),
        ));
    }
}
