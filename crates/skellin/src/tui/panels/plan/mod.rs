//! A new plan, step by step: what to protect, where to, what to leave out, how it is to be called, a
//! look at what would be written, a dry run, and saving.

mod draw;
mod rules;
mod sources;
mod store;
#[cfg(test)]
mod tests;

use std::{collections::BTreeSet, path::Path};

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use skellin_engine::{Cancel, Draft, Progress, RunReport};
use skellin_plan::PlanDraft;

use super::{answer::Answer, text_field::TextField};
use crate::tui::{
    model::Model,
    worker::{DraftState, Report, Request, Trouble},
};
pub(super) use draw::draw;
use rules::Rules;
use sources::Sources;
use store::StoreStep;

/// The steps, in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Page {
    Sources,
    Store,
    Rules,
    Plan,
    Review,
}

const PAGES: [(Page, &str); 5] = [
    (Page::Sources, "sources"),
    (Page::Store, "store"),
    (Page::Rules, "rules"),
    (Page::Plan, "name and schedule"),
    (Page::Review, "review"),
];

/// What is typed about the plan itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Field {
    Name,
    About,
    Schedule,
}

const FIELDS: [Field; 3] = [Field::Name, Field::About, Field::Schedule];

/// The dry run of the draft.
enum Trial {
    None,
    Going { job: u64, progress: Progress, cancel: Cancel },
    Ended(Result<Box<RunReport>, Trouble>),
}

/// A plan in the making.
pub(in crate::tui) struct PlanPanel {
    page: Page,
    sources: Sources,
    store: StoreStep,
    rules: Rules,
    field: Field,
    name: TextField,
    about: TextField,
    schedule: TextField,
    state: Option<Box<DraftState>>,
    trial: Trial,
    saving: bool,
    trouble: Option<Trouble>,
}

impl PlanPanel {
    /// With the request it begins with. `keyless`: the stores whose passphrase is not configured;
    /// `store`: the one its snapshots shall be kept in.
    pub fn new(
        home: &str,
        config: &str,
        stores: &[String],
        keyless: &BTreeSet<String>,
        store: Option<&str>,
    ) -> (Self, Request) {
        let panel = Self {
            page: Page::Sources,
            sources: Sources::new(Path::new(home)),
            store: StoreStep::new(Path::new(config), stores, keyless, store),
            rules: Rules::new(),
            field: Field::Name,
            name: TextField::default(),
            about: TextField::default(),
            schedule: TextField::of("daily at 21:40"),
            state: None,
            trial: Trial::None,
            saving: false,
            trouble: None,
        };
        (panel, Request::Local(home.into()))
    }

    /// The plan as far as its sources and store go.
    fn bare_draft(&self) -> PlanDraft {
        PlanDraft {
            name: "draft".to_owned(),
            sources: self.sources.selected.iter().cloned().collect(),
            store: self.store.called(),
            ..PlanDraft::default()
        }
    }

    fn draft(&self) -> Draft {
        let (rules_from, rules) = self.rules.written();
        let plan = PlanDraft {
            name: self.name.text(),
            about: self.about.text(),
            rules_from,
            rules,
            schedule: self.schedule.text().trim().to_owned(),
            ..self.bare_draft()
        };
        Draft { plan, store: self.store.draft(), known_key: self.store.known_key() }
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
            Report::Local(folder, entries) => {
                self.store.place.listed(&folder, &entries);
                self.sources.listed(&folder, &entries);
            }
            Report::Weighed { draft, written, amounts } => {
                self.rules.weighed(&draft, written, amounts);
            }
            Report::Checked(state) => self.state = Some(state),
            Report::Saved(Ok(())) => {
                self.rules.end();
                return Answer::Saved(self.name.text());
            }
            Report::Saved(Err(trouble)) => (self.saving, self.trouble) = (false, Some(trouble)),
            _ => {}
        }
        Answer::Stay
    }

    pub fn choose(&mut self, entry: usize) {
        match self.page {
            Page::Sources => self.sources.list.selected = entry,
            Page::Store => self.store.choose(entry),
            Page::Rules => self.rules.choose(entry),
            _ => {}
        }
    }

    /// Why this page is not done yet, in words.
    fn lacks(&self) -> Option<&'static str> {
        match self.page {
            Page::Sources if self.sources.typed.is_some() => Some("Enter selects the path"),
            Page::Sources if self.sources.selected.is_empty() => {
                Some("select at least one path with Space, or type one after /")
            }
            Page::Store => self.store.lacks(),
            Page::Rules => self.rules.lacks(),
            Page::Plan if self.name.is_empty() => Some("enter a name for the plan"),
            _ => None,
        }
    }

    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = match self.page {
            Page::Sources if self.sources.typed.is_some() => {
                return vec![("→", "complete"), ("Enter", "select"), ("Esc", "back to the list")];
            }
            Page::Sources => vec![
                ("↑↓", "choose"),
                ("Space", "select"),
                ("Enter →", "open"),
                ("←", "up"),
                ("/", "type a path"),
            ],
            Page::Store => {
                let mut hints = vec![("↑↓", "fields")];
                hints.extend(self.store.hint());
                hints
            }
            Page::Rules if self.rules.is_typing() => vec![("↑↓", "choose"), ("Enter", "add")],
            Page::Rules => vec![("↑↓", "choose"), ("Space", "select")],
            Page::Plan => vec![("↑↓", "fields")],
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
            Page::Sources => self.sources.has_to_wait(code),
            Page::Review => self.state.is_none() && code == KeyCode::Char('d'),
            _ => false,
        }
    }

    pub fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        self.trouble = None;
        let is_typing_a_path = self.page == Page::Sources && self.sources.typed.is_some();
        match key.code {
            KeyCode::Esc if !is_typing_a_path => {
                if let Trial::Going { cancel, .. } = &self.trial {
                    cancel.cancel();
                }
                self.rules.end();
                return Answer::Dismiss;
            }
            KeyCode::Tab if self.page != Page::Review => return self.turn(true, app),
            KeyCode::BackTab => return self.turn(false, app),
            _ => {}
        }
        let asked = match self.page {
            Page::Sources => self.sources.key(key),
            Page::Store => match self.store.key(key) {
                store::Led::On => return self.turn(true, app),
                store::Led::Ask(request) => Some(request),
                store::Led::Nowhere => None,
            },
            Page::Rules => match self.rules.key(key) {
                rules::Led::On => return self.turn(true, app),
                rules::Led::Ask(request) => Some(request),
                rules::Led::Nowhere => None,
            },
            Page::Plan => return self.edit_plan(key, app),
            Page::Review => return self.review(key),
        };
        asked.map_or(Answer::Stay, Answer::Ask)
    }

    /// To the next page or the one before.
    fn turn(&mut self, on: bool, app: &Model) -> Answer {
        if on && self.lacks().is_some() {
            return Answer::Stay;
        }
        let at = PAGES.iter().position(|(page, _)| *page == self.page).unwrap_or(0);
        let to = if on { (at + 1).min(PAGES.len() - 1) } else { at.saturating_sub(1) };
        self.page = PAGES[to].0;
        match self.page {
            Page::Rules => {
                let asked = self.rules.begin(self.bare_draft());
                return asked.map_or(Answer::Stay, Answer::Ask);
            }
            Page::Plan => {
                self.field = Field::Name;
                self.suggest_name(app);
            }
            Page::Review => {
                (self.state, self.trial) = (None, Trial::None);
                return Answer::Ask(Request::Check(Box::new(self.draft())));
            }
            Page::Sources | Page::Store => self.store.field = store::Field::Choice,
        }
        Answer::Stay
    }

    fn suggest_name(&mut self, app: &Model) {
        let Some(first) = self.sources.selected.first().filter(|_| self.name.is_empty()) else {
            return;
        };
        let name = PlanDraft::suggested_name(first);
        let taken = |name: &str| app.lanes.iter().any(|lane| lane.name == name);
        let free = (2..).map(|number| format!("{name}-{number}"));
        let name = std::iter::once(name.clone()).chain(free).find(|name| !taken(name));
        self.name = TextField::of(&name.unwrap_or_default());
    }

    fn edit_plan(&mut self, key: KeyEvent, app: &Model) -> Answer {
        let at = FIELDS.iter().position(|field| *field == self.field).unwrap_or(0);
        match (self.field, key.code) {
            (Field::Schedule, KeyCode::Enter) => return self.turn(true, app),
            (_, KeyCode::Down | KeyCode::Enter) => {
                self.field = FIELDS[(at + 1).min(FIELDS.len() - 1)];
            }
            (_, KeyCode::Up) => self.field = FIELDS[at.saturating_sub(1)],
            (Field::Name, _) => drop(self.name.key(key)),
            (Field::About, _) => drop(self.about.key(key)),
            (Field::Schedule, _) => drop(self.schedule.key(key)),
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
                let typed = self.store.is_new() || self.store.known_key().is_some();
                let passphrase = typed.then(|| self.store.passphrase.passphrase());
                Answer::Ask(Request::Save(Box::new(self.draft()), passphrase))
            }
            _ => Answer::Stay,
        }
    }
}
