//! A new plan, step by step: what to protect, where to, what to leave out, how it is to be called, a
//! look at what would be written, a dry run, and saving.

mod draw;
mod rules;
mod sources;
mod store;
#[cfg(test)]
mod tests;

use std::{collections::BTreeSet, path::Path};

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
};
use skellin_engine::{Cancel, Draft, Event, Progress, RunReport};
use skellin_plan::PlanDraft;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    text_field::TextField,
};
use crate::tui::{
    drawn::Drawn,
    model::Model,
    worker::{DraftState, JobEnd, Report, Request, Trouble},
};
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

#[derive(Clone, Copy)]
enum Turn {
    On,
    Back,
    Leave,
}

const STEPS: &[Key<Turn>] = &[
    key(&[KeyCode::Tab], "Tab", Turn::On, "next step"),
    key(&[KeyCode::BackTab], "Shift Tab", Turn::Back, "previous step"),
    key(&[KeyCode::Esc], "Esc", Turn::Leave, "leave"),
];
const LAST_STEP: &[Key<Turn>] = &[
    key(&[KeyCode::BackTab], "Shift Tab", Turn::Back, "previous step"),
    key(&[KeyCode::Esc], "Esc", Turn::Leave, "leave"),
];

#[derive(Clone, Copy)]
enum Act {
    Up,
    Down,
    DryRun,
    Save,
}

const TEXTS: &[Key<Act>] = &[
    key(&[KeyCode::Up], "↑↓", Act::Up, "fields"),
    key(&[KeyCode::Down, KeyCode::Enter], "", Act::Down, ""),
];
const REVIEW: &[Key<Act>] = &[
    key(&[KeyCode::Char('d')], "d", Act::DryRun, "dry run"),
    key(&[KeyCode::Enter], "Enter", Act::Save, "save"),
];

impl PlanPanel {
    /// `store`: the one its snapshots shall be kept in.
    pub fn open(app: &Model, store: Option<&str>) -> Opened {
        let (stores, keyless) = (&app.store_names, &app.keyless_stores);
        let (panel, request) = Self::new(&app.home, &app.folder, stores, keyless, store);
        Opened::asking(panel, request)
    }

    /// With the request it begins with. `keyless`: the stores whose passphrase is not configured;
    /// `store`: the one its snapshots shall be kept in.
    fn new(
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

    fn try_draft(&mut self, app: &Model) -> Answer {
        let (job, cancel) = (app.next_job(), Cancel::new());
        self.trial = Trial::Going { job, progress: Progress::default(), cancel: cancel.clone() };
        Answer::Ask(Request::DryRun { job, draft: Box::new(self.draft()), cancel })
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

    /// Steps are turned with these keys.
    fn turns(&self) -> &'static [Key<Turn>] {
        if self.page == Page::Review { LAST_STEP } else { STEPS }
    }

    fn is_typing_a_path(&self) -> bool {
        self.page == Page::Sources && self.sources.typed.is_some()
    }

    fn leave(&mut self) -> Answer {
        if let Trial::Going { cancel, .. } = &self.trial {
            cancel.cancel();
        }
        self.rules.end();
        Answer::Dismiss
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

    /// What is typed about the plan itself.
    fn text(&mut self) -> &mut TextField {
        match self.field {
            Field::Name => &mut self.name,
            Field::About => &mut self.about,
            Field::Schedule => &mut self.schedule,
        }
    }

    fn edit_plan(&mut self, key: KeyEvent, app: &Model) -> Answer {
        let at = FIELDS.iter().position(|field| *field == self.field).unwrap_or(0);
        match meaning(TEXTS, key) {
            Some(Act::Down) if self.field == Field::Schedule && key.code == KeyCode::Enter => {
                return self.turn(true, app);
            }
            Some(Act::Up) => self.field = FIELDS[at.saturating_sub(1)],
            Some(_) => self.field = FIELDS[(at + 1).min(FIELDS.len() - 1)],
            None => drop(self.text().key(key)),
        }
        Answer::Stay
    }

    fn review(&mut self, key: KeyEvent, app: &Model) -> Answer {
        let is_fine = self.state.as_ref().is_some_and(|state| state.checked.plan.is_some());
        match meaning(REVIEW, key).filter(|_| is_fine) {
            Some(Act::DryRun) if !matches!(self.trial, Trial::Going { .. }) => self.try_draft(app),
            Some(Act::Save) if !self.saving => {
                self.saving = true;
                let typed = self.store.is_new() || self.store.known_key().is_some();
                let passphrase = typed.then(|| self.store.passphrase.passphrase());
                Answer::Ask(Request::Save(Box::new(self.draft()), passphrase))
            }
            _ => Answer::Stay,
        }
    }
}

impl Panel for PlanPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        let mut told = match self.page {
            Page::Sources if self.is_typing_a_path() => {
                let complete = [("→", "complete")].into_iter();
                return complete.chain(hints(self.sources.keys())).collect();
            }
            Page::Sources => hints(self.sources.keys()),
            Page::Store => hints(self.store.keys()).into_iter().chain(self.store.hint()).collect(),
            Page::Rules => hints(self.rules.keys()),
            Page::Plan => hints(TEXTS),
            Page::Review => hints(REVIEW),
        };
        told.extend(hints(self.turns()));
        told
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        self.trouble = None;
        match meaning(self.turns(), key) {
            Some(Turn::Leave) if !self.is_typing_a_path() => return self.leave(),
            Some(Turn::On) => return self.turn(true, app),
            Some(Turn::Back) => return self.turn(false, app),
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
            Page::Review => return self.review(key, app),
        };
        asked.map_or(Answer::Stay, Answer::Ask)
    }

    fn paste(&mut self, text: &str) -> Answer {
        let asked = match self.page {
            Page::Sources => self.sources.paste(text),
            Page::Store => self.store.paste(text),
            Page::Rules => {
                self.rules.paste(text);
                None
            }
            Page::Plan => {
                self.text().insert(text);
                None
            }
            Page::Review => None,
        };
        asked.map_or(Answer::Stay, Answer::Ask)
    }

    fn choose(&mut self, entry: usize) {
        match self.page {
            Page::Sources => self.sources.list.selected = entry,
            Page::Store => self.store.choose(entry),
            Page::Rules => self.rules.choose(entry),
            Page::Plan | Page::Review => {}
        }
    }

    fn report(&mut self, report: Report) -> Heard {
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
                return Heard::Taken(Answer::Saved(self.name.text()));
            }
            Report::Saved(Err(trouble)) => (self.saving, self.trouble) = (false, Some(trouble)),
            Report::Event { job, event } if self.trial.is(job) => {
                if let (Event::Progress(latest), Trial::Going { progress, .. }) =
                    (event, &mut self.trial)
                {
                    *progress = latest;
                }
            }
            Report::Ended { job, end: JobEnd::Run(result) } if self.trial.is(job) => {
                self.trial = Trial::Ended(result);
            }
            other => return Heard::Not(Box::new(other)),
        }
        Heard::Taken(Answer::Stay)
    }

    fn under_way(&self) -> Option<(String, Cancel)> {
        match &self.trial {
            Trial::Going { cancel, .. } => Some(("dry run".to_owned(), cancel.clone())),
            _ => None,
        }
    }

    fn has_to_wait(&self, key: KeyEvent, _app: &Model) -> bool {
        match self.page {
            Page::Sources => self.sources.has_to_wait(key.code),
            Page::Review => {
                self.state.is_none() && matches!(meaning(REVIEW, key), Some(Act::DryRun))
            }
            _ => false,
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, room: Room) {
        draw::draw(frame, app, drawn, self, room.whole);
    }
}

impl Trial {
    /// Whether it is the one of this number, under way.
    fn is(&self, number: u64) -> bool {
        matches!(self, Self::Going { job, .. } if *job == number)
    }
}
