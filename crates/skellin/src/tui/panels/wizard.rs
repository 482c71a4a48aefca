//! A new plan, step by step: what to protect, where to, how it is to be called, a look at what
//! would be written, a rehearsal, and saving.

use std::{collections::BTreeSet, path::PathBuf};

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use skellin_engine::{Cancel, Draft, Progress, RunReport};
use skellin_plan::{PlaceSpec, PlanDraft, StoreDraft};

use super::{answer::Answer, is_for_list, text_field::TextField};
use crate::tui::{
    model::{List, Model},
    worker::{DraftState, Local, Report, Request, Trouble},
};

/// The steps, in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::tui) enum Page {
    Sources,
    Store,
    Plan,
    Review,
}

pub(in crate::tui) const PAGES: [(Page, &str); 4] = [
    (Page::Sources, "sources"),
    (Page::Store, "store"),
    (Page::Plan, "name and schedule"),
    (Page::Review, "review"),
];

/// Fields of a page that are typed, besides lists.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::tui) enum Field {
    Choice,
    StoreName,
    Place,
    Passphrase,
    Again,
    Keep,
    Name,
    About,
    Schedule,
}

/// The rehearsal of the draft.
pub(in crate::tui) enum Trial {
    None,
    Going { job: u64, progress: Progress, cancel: Cancel },
    Ended(Result<Box<RunReport>, Trouble>),
}

/// A plan in the making.
pub(in crate::tui) struct Wizard {
    pub page: Page,
    pub field: Field,
    /// The directory being browsed, and what is in it.
    pub folder: PathBuf,
    pub entries: Option<Result<Vec<Local>, String>>,
    pub list: List,
    pub sources: BTreeSet<PathBuf>,
    pub stores: Vec<String>,
    /// Number of the store chosen; the number after the last means a new one.
    pub store: usize,
    pub store_name: TextField,
    pub place: TextField,
    pub passphrase: TextField,
    pub again: TextField,
    /// Whether the passphrase is kept in a file only its owner can read.
    pub keep: bool,
    config: PathBuf,
    pub name: TextField,
    pub about: TextField,
    pub schedule: TextField,
    pub state: Option<Box<DraftState>>,
    pub trial: Trial,
    pub saving: bool,
    pub trouble: Option<Trouble>,
}

impl Wizard {
    /// With the requests it begins with.
    /// `store`: the one its snapshots shall be kept in.
    pub fn new(
        home: &str,
        config: &str,
        stores: &[String],
        store: Option<&str>,
    ) -> (Self, Vec<Request>) {
        let chosen = stores.iter().position(|name| Some(name.as_str()) == store);
        let folder = PathBuf::from(home);
        let wizard = Self {
            page: Page::Sources,
            field: Field::Choice,
            folder: folder.clone(),
            entries: None,
            list: List::default(),
            sources: BTreeSet::new(),
            stores: stores.to_vec(),
            store: chosen.unwrap_or(0),
            store_name: TextField::default(),
            place: TextField::default(),
            passphrase: TextField::secret(),
            again: TextField::secret(),
            keep: true,
            config: PathBuf::from(config),
            name: TextField::default(),
            about: TextField::default(),
            schedule: TextField::of("daily at 21:40"),
            state: None,
            trial: Trial::None,
            saving: false,
            trouble: None,
        };
        (wizard, vec![Request::Local(folder)])
    }

    pub fn is_new_store(&self) -> bool {
        self.store == self.stores.len()
    }

    pub fn key_file(&self) -> PathBuf {
        self.config.join("keys").join(format!("{}.key", self.store_name.text()))
    }

    fn draft(&self) -> Draft {
        let store = self.is_new_store().then(|| StoreDraft {
            name: self.store_name.text(),
            place: PlaceSpec::Directory(PathBuf::from(self.place.text())),
            key_file: self.keep.then(|| self.key_file()),
            access: Vec::new(),
        });
        let known = self.stores.get(self.store).cloned();
        let plan = PlanDraft {
            name: self.name.text(),
            about: self.about.text(),
            sources: self.sources.iter().cloned().collect(),
            store: known.unwrap_or_else(|| self.store_name.text()),
            rules: Vec::new(),
            schedule: self.schedule.text().trim().to_owned(),
        };
        Draft { plan, write_key: store.is_some() && self.keep, store }
    }

    pub fn rehearse(&mut self, job: u64) -> Request {
        let cancel = Cancel::new();
        self.trial = Trial::Going { job, progress: Progress::default(), cancel: cancel.clone() };
        Request::Rehearse { job, draft: Box::new(self.draft()), cancel }
    }

    pub fn under_way(&self) -> Option<(String, Cancel)> {
        match &self.trial {
            Trial::Going { cancel, .. } => Some(("dry run".to_owned(), cancel.clone())),
            _ => None,
        }
    }

    pub fn progress(&mut self, job: u64, latest: Progress) {
        if let Trial::Going { job: going, progress, .. } = &mut self.trial
            && *going == job
        {
            *progress = latest;
        }
    }

    pub fn rehearsed(&mut self, job: u64, result: Result<Box<RunReport>, Trouble>) {
        if matches!(&self.trial, Trial::Going { job: going, .. } if *going == job) {
            self.trial = Trial::Ended(result);
        }
    }

    pub fn report(&mut self, report: Report) -> Answer {
        match report {
            Report::Local(folder, entries) if folder == self.folder => {
                self.entries = Some(entries);
                self.list = List::default();
            }
            Report::Checked(state) => self.state = Some(state),
            Report::Saved(Ok(())) => return Answer::Saved(self.name.text()),
            Report::Saved(Err(trouble)) => (self.saving, self.trouble) = (false, Some(trouble)),
            _ => {}
        }
        Answer::Stay
    }

    pub fn choose(&mut self, entry: usize) {
        match self.page {
            Page::Sources => self.list.selected = entry,
            Page::Store if entry <= self.stores.len() => self.store = entry,
            _ => {}
        }
    }

    /// Why this page is not done yet, in words.
    pub fn lacks(&self) -> Option<&'static str> {
        match self.page {
            Page::Sources if self.sources.is_empty() => Some("select at least one path with Space"),
            Page::Store if !self.is_new_store() => None,
            Page::Store if self.store_name.is_empty() => Some("enter a name for the store"),
            Page::Store if !self.place.text().starts_with('/') => {
                Some("enter the directory of the store as a full path")
            }
            Page::Store if self.passphrase.is_empty() => Some("choose a passphrase: a few words"),
            Page::Store if !self.passphrase.is_same(&self.again) => {
                Some("the two passphrases differ")
            }
            Page::Plan if self.name.is_empty() => Some("enter a name for the plan"),
            _ => None,
        }
    }

    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = match self.page {
            Page::Sources => {
                vec![("↑↓", "choose"), ("Space", "select"), ("Enter →", "open"), ("←", "up")]
            }
            Page::Store if self.field == Field::Passphrase => {
                vec![("↑↓", "fields"), self.passphrase.reveal_hint()]
            }
            Page::Store if self.field == Field::Again => {
                vec![("↑↓", "fields"), self.again.reveal_hint()]
            }
            Page::Store | Page::Plan => vec![("↑↓", "fields")],
            Page::Review => vec![("d", "dry run"), ("Enter", "save")],
        };
        if self.page != Page::Review {
            hints.push(("Tab", "next step"));
        }
        hints.push(("Shift Tab", "previous step"));
        hints.push(("Esc", "leave"));
        hints
    }

    /// Whether what a key is about is still being read.
    pub fn has_to_wait(&self, code: KeyCode) -> bool {
        match self.page {
            Page::Sources => self.entries.is_none() && is_for_list(code),
            Page::Review => self.state.is_none() && code == KeyCode::Char('d'),
            _ => false,
        }
    }

    pub fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        self.trouble = None;
        match key.code {
            KeyCode::Esc => {
                if let Trial::Going { cancel, .. } = &self.trial {
                    cancel.cancel();
                }
                return Answer::Dismiss;
            }
            KeyCode::Tab if self.page != Page::Review => return self.turn(true, app),
            KeyCode::BackTab => return self.turn(false, app),
            _ => {}
        }
        match self.page {
            Page::Sources => self.browse(key),
            Page::Store => self.edit_store(key, app),
            Page::Plan => self.edit_plan(key, app),
            Page::Review => self.review(key),
        }
    }

    /// To the next page or the one before.
    fn turn(&mut self, on: bool, app: &Model) -> Answer {
        if on && self.lacks().is_some() {
            return Answer::Stay;
        }
        let at = PAGES.iter().position(|(page, _)| *page == self.page).unwrap_or(0);
        let to = if on { (at + 1).min(PAGES.len() - 1) } else { at.saturating_sub(1) };
        self.page = PAGES[to].0;
        self.field = match self.page {
            Page::Plan => Field::Name,
            _ => Field::Choice,
        };
        if self.page == Page::Plan
            && self.name.is_empty()
            && let Some(first) = self.sources.first()
        {
            let name = PlanDraft::suggested_name(first);
            let taken = |name: &str| app.lanes.iter().any(|lane| lane.name == name);
            let free = (2..).map(|number| format!("{name}-{number}"));
            let name = std::iter::once(name.clone()).chain(free).find(|name| !taken(name));
            self.name = TextField::of(&name.unwrap_or_default());
        }
        if self.page == Page::Review {
            (self.state, self.trial) = (None, Trial::None);
            return Answer::Ask(Request::Check(Box::new(self.draft())));
        }
        Answer::Stay
    }

    fn entry(&self) -> Option<&Local> {
        match &self.entries {
            Some(Ok(entries)) => entries.get(self.list.selected),
            _ => None,
        }
    }

    fn browse(&mut self, key: KeyEvent) -> Answer {
        let length = match &self.entries {
            Some(Ok(entries)) => entries.len(),
            _ => 0,
        };
        let page = self.list.height.max(2) as isize - 1;
        let folder = match key.code {
            KeyCode::Up => return self.step(-1, length),
            KeyCode::Down => return self.step(1, length),
            KeyCode::PageUp => return self.step(-page, length),
            KeyCode::PageDown => return self.step(page, length),
            KeyCode::Char(' ') => {
                if let Some(path) = self.entry().map(|entry| self.folder.join(&entry.name))
                    && !self.sources.remove(&path)
                {
                    // What lies in it goes along anyway, and what it lies in covers it.
                    self.sources
                        .retain(|other| !other.starts_with(&path) && !path.starts_with(other));
                    self.sources.insert(path);
                }
                return self.step(1, length);
            }
            KeyCode::Enter | KeyCode::Right => {
                let below = self.entry().filter(|entry| entry.is_directory);
                below.map(|entry| self.folder.join(&entry.name))
            }
            KeyCode::Left | KeyCode::Backspace => {
                self.folder.parent().map(std::path::Path::to_path_buf)
            }
            _ => None,
        };
        match folder {
            Some(folder) => {
                (self.folder, self.entries) = (folder.clone(), None);
                Answer::Ask(Request::Local(folder))
            }
            None => Answer::Stay,
        }
    }

    fn step(&mut self, by: isize, length: usize) -> Answer {
        self.list.step(by, length);
        Answer::Stay
    }

    /// Fields of the page, in order.
    fn fields(&self) -> &'static [Field] {
        match self.page {
            Page::Store if self.is_new_store() => &[
                Field::Choice,
                Field::StoreName,
                Field::Place,
                Field::Passphrase,
                Field::Again,
                Field::Keep,
            ],
            Page::Store => &[Field::Choice],
            Page::Plan => &[Field::Name, Field::About, Field::Schedule],
            _ => &[],
        }
    }

    fn move_field(&mut self, down: bool) {
        let fields = self.fields();
        let at = fields.iter().position(|field| *field == self.field).unwrap_or(0);
        let to = if down { (at + 1).min(fields.len() - 1) } else { at.saturating_sub(1) };
        self.field = fields[to];
    }

    fn edit_store(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match (self.field, key.code) {
            (Field::Choice, KeyCode::Down) if self.store < self.stores.len() => self.store += 1,
            (Field::Choice, KeyCode::Up) => self.store = self.store.saturating_sub(1),
            (_, KeyCode::Down) => self.move_field(true),
            (_, KeyCode::Up) => self.move_field(false),
            (Field::Choice | Field::Keep, KeyCode::Enter)
                if self.field == Field::Keep || !self.is_new_store() =>
            {
                return self.turn(true, app);
            }
            (_, KeyCode::Enter) => self.move_field(true),
            (Field::StoreName, _) => drop(self.store_name.key(key)),
            (Field::Place, _) => drop(self.place.key(key)),
            (Field::Passphrase, _) => drop(self.passphrase.key(key)),
            (Field::Again, _) => drop(self.again.key(key)),
            (Field::Keep, KeyCode::Char(' ') | KeyCode::Left | KeyCode::Right) => {
                self.keep = !self.keep;
            }
            _ => {}
        }
        Answer::Stay
    }

    fn edit_plan(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match (self.field, key.code) {
            (Field::Schedule, KeyCode::Enter) => return self.turn(true, app),
            (_, KeyCode::Down | KeyCode::Enter) => self.move_field(true),
            (_, KeyCode::Up) => self.move_field(false),
            (Field::Name, _) => drop(self.name.key(key)),
            (Field::About, _) => drop(self.about.key(key)),
            (Field::Schedule, _) => drop(self.schedule.key(key)),
            _ => {}
        }
        Answer::Stay
    }

    fn review(&mut self, key: KeyEvent) -> Answer {
        let is_fine = self.state.as_ref().is_some_and(|state| state.checked.plan.is_some());
        match key.code {
            KeyCode::Char('d') if is_fine && !matches!(self.trial, Trial::Going { .. }) => {
                Answer::DryRunDraft
            }
            KeyCode::Enter if is_fine && !self.saving => {
                self.saving = true;
                let passphrase = self.is_new_store().then(|| self.passphrase.passphrase());
                Answer::Ask(Request::Save(Box::new(self.draft()), passphrase))
            }
            _ => Answer::Stay,
        }
    }
}
