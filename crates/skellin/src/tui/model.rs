//! What is known and where one stands: plans, snapshots, trees, papers, and the cursor among them.

use std::collections::{BTreeMap, BTreeSet};

use crossbeam_channel::Sender;
use ratatui::style::Style;
use skellin_engine::{
    Configuration, DrillRecord, Exception, Finding, JournalEntry, Outcome, timers::Starter,
};
use skellin_plan::{Site, StoreConfig};
use skellin_store::RunId;

use super::{
    arrange::Arrangement,
    counting::{Counting, Map},
    filling::Filling,
    hits::Hits,
    keys,
    lanes::{Known, Lane, Mark, Work},
    picture::Depth,
    theme::Theme,
    tray::Gathered,
    tree::Tree,
    window::Window,
    worker::{Request, StoreRow, Trouble, VersionRow},
};

/// Where the cursor stands on the ribbon; moments in milliseconds since 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Cursor {
    Was(i64),
    Is,
    Will(i64),
}

/// What fills the screen below the ribbon.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Screen {
    /// What the cursor's tense asks for.
    Ribbon,
    Stores,
    Journal,
    Proof,
}

/// Where a list stands.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct List {
    pub selected: usize,
    pub offset: usize,
    /// Rows that fit, as of the last frame.
    pub height: usize,
}

impl List {
    pub fn step(&mut self, by: isize, length: usize) {
        self.selected = self.selected.saturating_add_signed(by).min(length.saturating_sub(1));
    }

    /// The rows to draw, if so many fit: from where it stood on, but with the selected one.
    pub fn rows(&self, height: usize, length: usize) -> std::ops::Range<usize> {
        let (height, selected) = (height.max(1), self.selected.min(length.saturating_sub(1)));
        let first = self.offset.clamp((selected + 1).saturating_sub(height), selected);
        first..length.min(first + height)
    }
}

/// What the tree shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Shown {
    Snapshot(RunId),
    /// The sources as they are now, beside the newest snapshot.
    Live(Option<RunId>),
}

/// What is known of the selected path's versions.
pub(super) enum Study {
    None,
    Going { path: Vec<u8> },
    Known { path: Vec<u8>, versions: Vec<VersionRow> },
    Failed { path: Vec<u8>, trouble: Trouble },
}

pub(super) type Papers = Vec<(JournalEntry, Vec<Exception>)>;

/// A store that wants its passphrase.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Need {
    pub plan: String,
    pub store: String,
    /// Whether one was tried that is wrong.
    pub wrong: bool,
}

/// Everything that is known.
pub(super) struct Model {
    pub machine: String,
    pub folder: String,
    pub home: String,
    /// Plans that cannot be used, since their files have mistakes.
    pub mistaken: Vec<(String, usize)>,
    /// Mistakes in the stores' file.
    pub store_mistakes: usize,
    pub store_names: Vec<String>,
    /// Those whose passphrase is not configured.
    pub keyless_stores: BTreeSet<String>,
    /// Stores that were opened with a passphrase that only restores.
    pub restore_only: BTreeSet<String>,
    /// Where each store stands.
    pub sites: BTreeMap<String, Site>,
    /// What drills of each plan have shown, the newest first.
    pub drills: BTreeMap<String, Vec<DrillRecord>>,
    pub lanes: Vec<Lane>,
    pub lane: usize,
    pub cursor: Cursor,
    pub window: Window,
    pub screen: Screen,
    pub tree: Tree,
    /// Trees of the other lanes, with what is open and selected in them.
    trees: BTreeMap<String, Tree>,
    /// What the tree shows.
    shown: Option<Shown>,
    pub study: Study,
    /// How much the sources hold, by plan.
    pub(super) counts: BTreeMap<String, Counting>,
    /// How the tree of Is is arranged.
    pub how: Arrangement,
    /// Where the space of the selected directory goes, and whether that is to be seen.
    pub map: Option<Map>,
    pub shows_map: bool,
    /// Where there is no room beside the tree: whether the map stands in its place.
    pub map_alone: bool,
    /// Whether there is room beside the tree, as of the last frame.
    pub is_wide: bool,
    /// A passphrase to be asked for.
    pub need: Option<Need>,
    pub theme: Theme,
    /// What pictures are drawn with.
    pub depth: Depth,
    pub hits: Hits,
    /// Rows of the tree that fit on the screen, as of the last frame.
    pub tree_height: usize,
    pub list: List,
    /// Paths of any snapshots that are to be restored together.
    pub tray: Vec<Gathered>,
    pub journal: Option<Result<Papers, Trouble>>,
    pub stores: Option<Vec<StoreRow>>,
    /// What there is to mend in the set-up.
    pub findings: Option<Vec<Finding>>,
    /// What starts runs on this machine, once that is known.
    pub starter: Option<Starter>,
    /// By what somebody can be told.
    pub channels: Vec<String>,
    /// What is known of stores to come.
    pub(super) filling: Filling,
    pub now: i64,
    /// The plan whose file was changed last, what its text was, and what it became.
    pub undo: Option<(String, String, String)>,
    /// A plan to show as soon as it is there.
    pub wanted_lane: Option<String>,
    /// Whether it closes as soon as nothing is under way any more.
    pub closing: bool,
    /// The newest tree that was asked for, and the newest study of versions.
    pub(super) ticket: u64,
    studies: u64,
    jobs: std::cell::Cell<u64>,
    worker: Sender<Request>,
}

impl Model {
    pub fn new(
        configuration: &Configuration,
        machine: String,
        now: i64,
        worker: Sender<Request>,
    ) -> Self {
        let mut model = Self {
            machine,
            folder: String::new(),
            home: std::env::var("HOME").unwrap_or_else(|_| "/".to_owned()),
            mistaken: Vec::new(),
            store_mistakes: 0,
            store_names: Vec::new(),
            keyless_stores: BTreeSet::new(),
            restore_only: BTreeSet::new(),
            sites: BTreeMap::new(),
            drills: BTreeMap::new(),
            lanes: Vec::new(),
            lane: 0,
            cursor: Cursor::Is,
            window: Window::new(now),
            screen: Screen::Ribbon,
            tree: Tree::default(),
            trees: BTreeMap::new(),
            shown: None,
            study: Study::None,
            counts: BTreeMap::new(),
            how: Arrangement::default(),
            map: None,
            shows_map: true,
            map_alone: false,
            is_wide: true,
            need: None,
            theme: Theme::new(),
            depth: Depth::new(Theme::new().has_colours()),
            hits: Hits::default(),
            tree_height: 1,
            list: List::default(),
            tray: Vec::new(),
            journal: None,
            stores: None,
            findings: None,
            starter: None,
            channels: Vec::new(),
            filling: Filling::default(),
            now,
            undo: None,
            wanted_lane: None,
            closing: false,
            ticket: 0,
            studies: 0,
            jobs: std::cell::Cell::new(0),
            worker,
        };
        model.configure(configuration);
        model
    }

    pub(super) fn ask(&self, request: Request) {
        // The worker lives as long as the application.
        let _ = self.worker.send(request);
    }

    /// A number that nothing else under way has.
    pub(super) fn next_job(&self) -> u64 {
        self.jobs.set(self.jobs.get() + 1);
        self.jobs.get()
    }

    /// Takes the plans of a configuration; what was known of them before stays.
    pub fn configure(&mut self, configuration: &Configuration) {
        let current = self.current_lane().map(Lane::label);
        let mut before: Vec<Lane> = std::mem::take(&mut self.lanes);
        self.folder = configuration.folders.config.display().to_string();
        self.store_names = configuration.stores.fine.keys().cloned().collect();
        let keyless = configuration.stores.fine.values().filter(|store| store.passphrase.is_none());
        self.keyless_stores = keyless.map(|store| store.name.clone()).collect();
        let site = |store: &StoreConfig| (store.name.clone(), Site::of(store, &self.machine));
        self.sites = configuration.stores.fine.values().map(site).collect();
        let prices = configuration.stores.fine.values();
        self.filling.prices =
            prices.map(|store| (store.name.clone(), store.prices.clone())).collect();
        self.channels = configuration.channels.fine.keys().cloned().collect();
        self.store_mistakes = configuration.stores.problems.len();
        let mistaken = configuration.plans.iter().filter(|file| file.plan.is_none());
        self.mistaken = mistaken.map(|file| (file.name.clone(), file.problems.len())).collect();
        for plan in configuration.plans.iter().filter_map(|file| file.plan.as_ref()) {
            let kept = before.iter().position(|lane| {
                lane.name == plan.name && lane.store == plan.store && lane.plan.is_some()
            });
            let lane = match kept {
                Some(kept) => {
                    let mut lane = before.swap_remove(kept);
                    lane.plan = Some(plan.clone());
                    lane.try_sentences(None);
                    lane
                }
                None => Lane::new(plan.name.clone(), plan.store.clone(), None, Some(plan.clone())),
            };
            self.lanes.push(lane);
        }
        let others = before.into_iter().filter(|lane| lane.plan.is_none());
        self.lanes.extend(others);
        let kept = current.and_then(|name| self.lanes.iter().position(|lane| lane.label() == name));
        self.lane = kept.unwrap_or(0).min(self.lanes.len().saturating_sub(1));
        if let Some(wanted) = self.wanted_lane.take()
            && let Some(lane) = self.lanes.iter().position(|lane| lane.name == wanted)
        {
            self.choose_lane(lane);
            self.put_cursor(Cursor::Is);
        }
        self.look_again();
    }

    /// Asks for everything anew.
    pub fn look_again(&mut self) {
        self.filling.forget();
        self.list_stores(true);
        self.ask(Request::Journal);
        self.ask(Request::Stores);
        self.ask(Request::Examine);
    }

    /// Has the snapshots of all stores listed; `all`: also of those for whose passphrase somebody would
    /// be asked again.
    pub fn list_stores(&self, all: bool) {
        let copies = self.lanes.iter().filter_map(|lane| lane.plan.as_ref());
        let copies = copies.flat_map(|plan| plan.replicas().map(str::to_owned));
        let mut stores: Vec<String> =
            self.lanes.iter().map(|lane| lane.store.clone()).chain(copies).collect();
        stores.sort();
        stores.dedup();
        let is_locked = |store: &String| {
            self.lanes.iter().filter(|lane| lane.store == *store).any(|lane| {
                matches!(&lane.known, Known::Trouble(trouble) if trouble.passphrase.is_some())
            })
        };
        for store in stores.into_iter().filter(|store| all || !is_locked(store)) {
            self.ask(Request::Open { store, passphrase: None });
        }
    }

    /// The sign of how work ended, and its style.
    pub fn outcome(&self, outcome: Outcome) -> (&'static str, Style) {
        match outcome {
            Outcome::Done => ("✓", self.theme.well()),
            Outcome::Running => ("▶", self.theme.is()),
            Outcome::Exceptions | Outcome::Guarded => ("▲", self.theme.wrong()),
            Outcome::Interrupted => ("◐", self.theme.wrong()),
            Outcome::Failed | Outcome::Damage => ("✕", self.theme.wrong()),
        }
    }

    pub fn current_lane(&self) -> Option<&Lane> {
        self.lanes.get(self.lane)
    }

    /// Whether every store that is open was opened with a passphrase that only restores.
    pub fn only_restores(&self) -> bool {
        let only = &self.restore_only;
        !only.is_empty()
            && self
                .lanes
                .iter()
                .all(|lane| only.contains(&lane.store) || !matches!(lane.known, Known::Here))
    }

    /// The moment the cursor stands on.
    pub fn cursor_time(&self) -> Option<i64> {
        match self.cursor {
            Cursor::Was(time) | Cursor::Will(time) => Some(time),
            Cursor::Is => Some(self.now),
        }
    }

    /// The snapshot under the cursor: the newest at or before its moment.
    pub fn current_mark(&self) -> Option<(usize, &Mark)> {
        let Cursor::Was(time) = self.cursor else { return None };
        let lane = self.current_lane()?;
        let number = lane.at(time)?;
        Some((number, &lane.marks[number]))
    }

    /// What the screen is, as far as keys are concerned.
    pub fn place(&self) -> keys::Place {
        match (self.screen, self.cursor) {
            (Screen::Ribbon, Cursor::Was(_)) => keys::Place::Was,
            (Screen::Ribbon, Cursor::Is) => keys::Place::Is,
            (Screen::Ribbon, Cursor::Will(_)) => keys::Place::Will,
            (Screen::Stores, _) => keys::Place::Stores,
            (Screen::Journal, _) => keys::Place::Journal,
            _ => keys::Place::Proof,
        }
    }

    pub fn tense_style(&self) -> Style {
        match self.cursor {
            Cursor::Was(_) => self.theme.was(),
            Cursor::Is => self.theme.is(),
            Cursor::Will(_) => self.theme.will(),
        }
    }

    /// Whether the screen is the tree of a snapshot, or of the sources as they are.
    pub fn has_tree(&self) -> bool {
        let at_rest = |lane: &Lane| {
            matches!(lane.work, Work::None | Work::Ended { dry_run: true, result: Ok(_), .. })
        };
        match self.place() {
            keys::Place::Was => true,
            keys::Place::Is => self.current_lane().is_some_and(at_rest),
            _ => false,
        }
    }

    /// Whether the ribbon shows the life of the selected path.
    pub fn has_strip(&self) -> bool {
        self.has_tree() && self.tree.selected.is_some()
    }

    /// Versions of the selected path, if they are known.
    pub fn versions(&self) -> Option<&[VersionRow]> {
        match &self.study {
            Study::Known { path, versions } if Some(path) == self.tree.selected.as_ref() => {
                Some(versions)
            }
            _ => None,
        }
    }

    /// Puts the cursor somewhere, and brings what is to be seen there.
    pub fn put_cursor(&mut self, cursor: Cursor) {
        let newest = || self.current_lane()?.marks.last().map(|mark| mark.time);
        self.cursor = match cursor {
            // There is nothing to be done now or later.
            Cursor::Is | Cursor::Will(_) if self.only_restores() => {
                newest().map_or(cursor, Cursor::Was)
            }
            cursor => cursor,
        };
        self.screen = Screen::Ribbon;
        if let Some(time) = self.cursor_time() {
            self.window.follow(time);
        }
        self.refresh();
    }

    /// Goes to another lane; the cursor keeps its moment, and each lane its own path.
    pub fn choose_lane(&mut self, lane: usize) {
        if lane == self.lane || lane >= self.lanes.len() {
            return;
        }
        self.stop_counting();
        self.map = None;
        let mut tree = std::mem::take(&mut self.tree);
        tree.turn();
        self.trees.insert(self.lanes[self.lane].label(), tree);
        self.lane = lane;
        self.tree = self.trees.remove(&self.lanes[lane].label()).unwrap_or_default();
        self.shown = None;
        self.list = List::default();
        self.refresh();
    }

    /// Has the tree listed, if the snapshot under the cursor is another one now.
    pub fn refresh(&mut self) {
        self.ask_passphrase_if_needed();
        let Some(wanted) = self.wanted_tree() else { return };
        if let Shown::Live(newest) = wanted {
            self.count_sources(newest);
        }
        if self.shown == Some(wanted) {
            self.study_versions();
            return;
        }
        self.shown = Some(wanted);
        self.ticket += 1;
        self.arrange_tree();
        for path in self.tree.turn() {
            self.ask_directory(path);
        }
        self.study_versions();
    }

    /// The tree that belongs to where the cursor stands.
    fn wanted_tree(&self) -> Option<Shown> {
        if self.cursor != Cursor::Is {
            return self.current_mark().map(|(_, mark)| Shown::Snapshot(mark.id));
        }
        let lane = self.current_lane()?;
        let is_ready = lane.plan.is_some() && matches!(lane.known, Known::Here);
        is_ready.then(|| Shown::Live(lane.marks.last().map(|mark| mark.id)))
    }

    /// Whether a tree is on the screen, or being sent there.
    pub(super) fn is_tree_asked_for(&self) -> bool {
        self.has_tree() && self.wanted_tree().is_some()
    }

    /// Forgets which tree is shown, so that it is listed again.
    pub fn forget_tree(&mut self) {
        self.shown = None;
        self.forget_count();
    }

    pub(super) fn ask_directory(&self, path: Option<Vec<u8>>) {
        if let (Cursor::Is, Some(lane)) = (self.cursor, self.current_lane()) {
            let (plan, store) = (lane.name.clone(), lane.store.clone());
            let newest = lane.marks.last().map(|mark| mark.id);
            return self.ask(Request::Live { ticket: self.ticket, plan, store, newest, path });
        }
        let Some((number, mark)) = self.current_mark() else { return };
        let Some(lane) = self.current_lane() else { return };
        let before = number.checked_sub(1).map(|before| lane.marks[before].id);
        self.ask(Request::Directory {
            ticket: self.ticket,
            store: lane.store.clone(),
            snapshot: mark.id,
            before,
            path,
        });
    }

    /// Has the selected path followed through time, if that has not been done.
    pub fn study_versions(&mut self) {
        self.ask_map();
        let Some(path) = self.tree.selected.clone() else { return };
        let is_known = match &self.study {
            Study::None => false,
            Study::Going { path: known }
            | Study::Known { path: known, .. }
            | Study::Failed { path: known, .. } => *known == path,
        };
        let Some(lane) = self.lanes.get(self.lane).filter(|_| !is_known) else { return };
        let snapshots = lane.marks.iter().map(|mark| mark.id).collect();
        let store = lane.store.clone();
        self.study = Study::Going { path: path.clone() };
        self.studies += 1;
        let study = self.studies;
        self.ask(Request::Versions { study, store, snapshots, path });
    }

    pub(super) fn ask_passphrase_if_needed(&mut self) {
        let Some(lane) = self.current_lane() else { return };
        let Known::Trouble(trouble) = &lane.known else { return };
        if let Some(wrong) = trouble.passphrase {
            let (plan, store) = (lane.name.clone(), lane.store.clone());
            self.need = Some(Need { plan, store, wrong });
        }
    }
}
