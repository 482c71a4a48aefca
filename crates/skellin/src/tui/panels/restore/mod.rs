//! Restoring one path, or all that lie on the tray: where to, what about what lies there; a dry run first,
//! then done, watched, and concluded.

mod lines;

use std::path::PathBuf;

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
};
use skellin_engine::{Cancel, Destination, Event, Existing, Progress};
use skellin_plan::FarSource;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::popup,
    text_field::TextField,
};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        tray::Gathered,
        worker::{JobEnd, OrderItem, Report, Request, RestoreOrder, Restored, Trouble},
    },
    words,
};

/// Columns of the box.
const WIDTH: u16 = 100;
/// The number of the first path among the fields.
const FIRST_ITEM: usize = 4;

/// Where paths go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Where {
    InPlace,
    /// Where they were, with the time in the name.
    Beside,
    Directory,
}

/// A restore from question to end.
pub(in crate::tui) struct RestorePanel {
    items: Vec<Gathered>,
    /// Whether these lie on the tray.
    is_tray: bool,
    place: Where,
    directory: TextField,
    existing: Existing,
    removes_extra: bool,
    /// Which of the questions, or of the paths, the keys go to.
    field: usize,
    job: u64,
    stage: Stage,
    /// What it waits for, once that takes long.
    waited: Option<String>,
}

pub(super) use lines::progress_lines;

enum Stage {
    /// Where to, and what about what is in the way.
    Asking,
    /// The dry run is under way.
    DryRun { cancel: Cancel },
    /// What would happen.
    Foretold(Box<Restored>),
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
    Remove,
    DryRun,
    Restore,
    Back,
}

use KeyCode::{BackTab, Backspace, Char, Delete, Down, Enter, Esc, Left, Right, Tab, Up};

const ASKING: &[Key<Act>] = &[
    key(&[Tab, Down], "Tab", Act::NextField, "next field"),
    key(&[BackTab, Up], "", Act::PreviousField, ""),
    key(&[Char(' '), Right], "Space", Act::Change, "change"),
    key(&[Left], "", Act::ChangeBack, ""),
    key(&[Enter], "Enter", Act::DryRun, "dry run"),
    key(&[Esc], "Esc", Act::Leave, "leave"),
];
/// On one of the paths.
const ON_PATH: &[Key<Act>] = &[
    key(&[Tab, Down], "Tab", Act::NextField, "next path"),
    key(&[BackTab, Up], "", Act::PreviousField, ""),
    key(&[Delete, Backspace], "Del", Act::Remove, "take off the tray"),
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
const DRY_RUN: &[Key<Act>] = &[key(&[Esc], "Esc", Act::Leave, "leave")];
const FORETOLD: &[Key<Act>] = &[
    key(&[Enter], "Enter", Act::Restore, "restore"),
    key(&[Backspace], "Backspace", Act::Back, "change"),
    key(&[Esc], "Esc", Act::Leave, "leave"),
];
const WORKING: &[Key<Act>] = &[key(&[Esc], "Esc", Act::Stop, "stop")];
const ENDED: &[Key<Act>] =
    &[key(&[Enter], "Enter", Act::Leave, "back"), key(&[Esc], "", Act::Leave, "")];

impl RestorePanel {
    /// For one path.
    pub fn open(item: Gathered, home: &str) -> Opened {
        Opened::of(Self::new(vec![item], false, home))
    }

    /// For all on the tray.
    pub fn tray(items: Vec<Gathered>, home: &str) -> Opened {
        Opened::of(Self::new(items, true, home))
    }

    fn new(items: Vec<Gathered>, is_tray: bool, home: &str) -> Self {
        let directory = TextField::of(&format!("{}/restored", home.trim_end_matches('/')));
        // What lies on another host is never written there.
        let is_far = items.iter().any(|item| FarSource::is_address(&item.path));
        Self {
            items,
            is_tray,
            place: if is_far { Where::Directory } else { Where::InPlace },
            directory,
            existing: Existing::Leave,
            removes_extra: false,
            field: 0,
            job: 0,
            stage: Stage::Asking,
            waited: None,
        }
    }

    fn has_directory(&self) -> bool {
        let text = self.directory.text();
        self.place != Where::Directory
            || text.starts_with('/')
            || FarSource::is_address(text.as_bytes())
    }

    /// What is asked, given what was answered so far.
    fn fields(&self) -> Vec<usize> {
        let mut fields = vec![0];
        if self.place == Where::Directory {
            fields.push(1);
        }
        fields.push(2);
        let is_here = !FarSource::is_address(self.directory.text().as_bytes());
        let may_remove = match self.place {
            Where::InPlace => true,
            Where::Beside => false,
            Where::Directory => is_here,
        };
        if may_remove && self.items.iter().all(|item| item.is_directory) {
            fields.push(3);
        }
        if self.is_tray && self.items.len() > 1 {
            fields.extend((0..self.items.len()).map(|number| FIRST_ITEM + number));
        }
        fields
    }

    fn keys(&self) -> &'static [Key<Act>] {
        match self.stage {
            Stage::Asking if self.field == 1 => TYPING,
            Stage::Asking if self.field >= FIRST_ITEM => ON_PATH,
            Stage::Asking => ASKING,
            Stage::DryRun { .. } => DRY_RUN,
            Stage::Foretold(_) => FORETOLD,
            Stage::Working { .. } => WORKING,
            Stage::Ended(_) => ENDED,
        }
    }

    fn order(&mut self, app: &Model, dry_run: bool) -> Answer {
        let job = app.next_job();
        let cancel = Cancel::new();
        self.job = job;
        self.stage = match dry_run {
            true => Stage::DryRun { cancel: cancel.clone() },
            false => Stage::Working { progress: Progress::default(), cancel: cancel.clone() },
        };
        let destination = match self.place {
            Where::InPlace | Where::Beside => Destination::InPlace,
            Where::Directory => Destination::Directory(PathBuf::from(self.directory.text())),
        };
        let item = |item: &Gathered| OrderItem {
            store: item.store.clone(),
            snapshot: item.snapshot,
            path: item.path.clone(),
        };
        Answer::Ask(Request::Restore(Box::new(RestoreOrder {
            job,
            items: self.items.iter().map(item).collect(),
            destination,
            dated: self.place == Where::Beside,
            existing: self.existing,
            removes_extra: self.removes_extra && self.fields().contains(&3),
            dry_run,
            cancel,
        })))
    }

    fn step(&mut self, on: bool) {
        let fields = self.fields();
        let at = fields.iter().position(|field| *field == self.field).unwrap_or(0);
        let by = if on { 1 } else { fields.len() - 1 };
        self.field = fields[(at + by) % fields.len()];
    }

    fn change(&mut self, on: bool) {
        match self.field {
            0 => {
                self.place = match (self.place, on) {
                    (Where::InPlace, true) | (Where::Directory, false) => Where::Beside,
                    (Where::Beside, true) | (Where::InPlace, false) => Where::Directory,
                    (Where::Directory, true) | (Where::Beside, false) => Where::InPlace,
                }
            }
            2 if on => self.existing = next(self.existing),
            2 => self.existing = next(next(self.existing)),
            3 => {
                self.removes_extra = !self.removes_extra;
                // It is to become what it was.
                if self.removes_extra && self.existing == Existing::Leave {
                    self.existing = Existing::Replace;
                }
            }
            _ => {}
        }
    }

    /// Takes the chosen path off the tray.
    fn remove(&mut self) {
        let Some(number) = self.field.checked_sub(FIRST_ITEM) else { return };
        if self.items.len() > 1 && number < self.items.len() {
            self.items.remove(number);
        }
        if !self.fields().contains(&self.field) {
            self.field = self.fields().last().copied().unwrap_or(0);
        }
    }

    fn leave(&self) -> Answer {
        if let Stage::DryRun { cancel } = &self.stage {
            cancel.cancel();
        }
        if !self.is_tray {
            return Answer::Dismiss;
        }
        let is_done = matches!(&self.stage, Stage::Ended(Ok(restored))
            if !restored.report.interrupted && restored.report.exception_count == 0);
        Answer::Tray(if is_done { Vec::new() } else { self.items.clone() })
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
            Some(Act::Remove) => self.remove(),
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
                    (Stage::DryRun { .. }, Ok(restored)) => Stage::Foretold(restored),
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
        let title = match self.items.as_slice() {
            [only] if !self.is_tray => format!(" Restore {} ", words::path(&only.path)),
            items => {
                let mut times: Vec<i64> = items.iter().map(|item| item.time).collect();
                times.sort_unstable();
                times.dedup();
                let paths = words::counted(items.len() as u64, "path", "paths");
                let times = words::counted(times.len() as u64, "snapshot", "snapshots");
                format!(" Tray: {paths} from {times} ")
            }
        };
        let width = room.whole.width.saturating_sub(4).min(WIDTH).saturating_sub(4);
        popup(frame, app, &title, self.lines(app, usize::from(width)), room.whole, WIDTH);
    }
}

fn next(existing: Existing) -> Existing {
    match existing {
        Existing::Leave => Existing::Replace,
        Existing::Replace => Existing::Rename,
        Existing::Rename => Existing::Leave,
    }
}
