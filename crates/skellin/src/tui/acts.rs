//! What keys and clicks do.

use ratatui::crossterm::event::{KeyEvent, MouseButton, MouseEvent, MouseEventKind};
use skellin_engine::{Cancel, Progress};
use skellin_store::Kind;

use super::{
    app::{App, Step},
    hits::Target,
    keys::{self, Action},
    lanes::{Known, Lane, Work},
    model::{Cursor, List, Screen},
    panels::{
        AboutPanel, ClosingPanel, ComparePanel, DrillPanel, EntryPanel, FatesPanel, FinderPanel,
        GoToPanel, HelpPanel, HoldsPanel, LookPanel, Opened, PassphrasesPanel, PlanPanel,
        ProblemsPanel, ReachPanel, RestorePanel, RetainPanel, RulePanel, SearchPanel, StorePanel,
        TroublePanel, VerifyPanel, WhyPanel,
    },
    tray::Gathered,
    worker::{Request, Trouble},
};

const DAY: i64 = 86_400_000;
/// Lines a turn of the mouse's wheel moves.
const WHEEL: isize = 3;

impl App {
    pub(super) fn press(&mut self, key: KeyEvent) -> Step {
        // That a panic leaves a clean terminal can be tested only with one; release builds have none.
        #[cfg(debug_assertions)]
        assert!(
            key.code != ratatui::crossterm::event::KeyCode::F(12)
                || std::env::var_os("SKELLIN_TEST_PANIC").is_none(),
            "a panic asked for by a test"
        );
        let step = match keys::action(key, self.model.place()) {
            _ if self.panel.is_some() => self.panel_key(key),
            Some(action) => self.act(action),
            None => Step::GoOn,
        };
        self.settle();
        step
    }

    /// Does what a key, a click or the finder asks for.
    pub fn act(&mut self, action: Action) -> Step {
        if self.model.only_restores() && !action.only_restores() {
            return Step::GoOn;
        }
        match action {
            Action::Quit => {
                let work = self.under_way();
                if work.is_empty() {
                    return Step::Close;
                }
                let work = work.into_iter().map(|(what, _)| what).collect();
                self.open(Opened::of(ClosingPanel(work)));
            }
            Action::Help => self.open(Opened::of(HelpPanel::default())),
            Action::Find => self.open(Opened::of(FinderPanel::default())),
            Action::Search => self.open(SearchPanel::open(&self.model)),
            Action::GoTo => self.open(Opened::of(GoToPanel::default())),
            Action::NewPlan => self.open(PlanPanel::open(&self.model, None)),
            Action::NewStore => self.open(StorePanel::open(&self.model)),
            Action::Reach => {
                if let Some(store) = self.chosen_store() {
                    self.open(ReachPanel::open(&self.model, store, false));
                }
            }
            Action::Drill => {
                let lane = self.model.lanes.get(self.model.list.selected);
                if let Some(lane) = lane.filter(|lane| lane.plan.is_some()) {
                    let opened = DrillPanel::open(&self.model, lane.name.clone());
                    self.open(opened);
                }
            }
            Action::Verify => {
                if let Some(store) = self.chosen_store() {
                    self.open(VerifyPanel::open(&self.model, store));
                }
            }
            Action::Holds => {
                if let Some(store) = self.chosen_store() {
                    self.open(HoldsPanel::open(store));
                }
            }
            Action::Passphrases => {
                if let Some(store) = self.chosen_store() {
                    self.open(PassphrasesPanel::open(store));
                }
            }
            Action::Entry => self.open_entry(),
            Action::Examine => self.open(Opened::of(ProblemsPanel::default())),
            Action::Reload => {
                self.model.forget_tree();
                self.model.ask(Request::Configuration);
            }
            Action::Stores => self.show_list(Screen::Stores),
            Action::Journal => self.show_list(Screen::Journal),
            Action::Proof => self.show_list(Screen::Proof),
            Action::Ribbon => self.model.screen = Screen::Ribbon,
            Action::BackToSource => {
                if let Some(lane) = self.model.lanes.get_mut(self.model.lane)
                    && matches!(lane.work, Work::Ended { .. })
                {
                    lane.work = Work::None;
                    self.model.end_review();
                    self.model.refresh();
                }
            }
            Action::NextPlan => {
                self.model.choose_lane((self.model.lane + 1) % self.model.lanes.len().max(1));
            }
            Action::PreviousPlan => {
                let many = self.model.lanes.len().max(1);
                self.model.choose_lane((self.model.lane + many - 1) % many);
            }
            Action::Closer | Action::Wider => {
                let cursor = self.model.cursor_time().unwrap_or(self.model.now);
                self.model.window.zoom(action == Action::Closer, cursor);
            }
            Action::Up => self.move_selection(-1),
            Action::Down => self.move_selection(1),
            Action::PageUp => self.move_selection(-self.page()),
            Action::PageDown => self.move_selection(self.page()),
            Action::Open => self.open_selected(),
            Action::Above => {
                self.model.tree.up();
                self.model.study_versions();
            }
            Action::Look => self.look_into(),
            Action::About => self.open(Opened::of(AboutPanel)),
            Action::EarlierVersion => self.step_version(false),
            Action::LaterVersion => self.step_version(true),
            Action::Compare => self.compare(),
            Action::Gather => self.gather(),
            Action::Tray => self.open_tray(),
            Action::Restore => self.begin_restore(),
            Action::Why => self.ask_why(),
            Action::WriteRule => self.write_rule(),
            Action::TakeBack => {
                if let Some((plan, was, became)) = self.model.undo.take() {
                    self.model.ask(Request::TakeBack { plan, was, became });
                }
            }
            Action::Order => self.model.set_arrangement(self.model.how.next_order()),
            Action::Only => self.model.set_arrangement(self.model.how.next_only()),
            Action::Map => {
                let shown = match self.model.is_wide {
                    true => &mut self.model.shows_map,
                    false => &mut self.model.map_alone,
                };
                *shown = !*shown;
                self.model.map = None;
                self.model.ask_map();
            }
            Action::Fill => {
                let filling = &mut self.model.filling;
                let turned = match self.model.is_wide {
                    true => &mut filling.is_hidden,
                    false => &mut filling.is_alone,
                };
                *turned = !*turned;
            }
            Action::Retain => self.open_retention(),
            Action::Pin => self.pin(),
            Action::DryRun => self.run_plan(true, false),
            Action::Run => self.run_plan(false, false),
            Action::RunAnyway => self.run_plan(false, true),
            Action::Stop => self.stop_run(),
            Action::Now => self.model.put_cursor(Cursor::Is),
            Action::Earlier
            | Action::Later
            | Action::DayEarlier
            | Action::DayLater
            | Action::Oldest => {
                if let Some(cursor) =
                    self.model.current_lane().and_then(|lane| self.along(lane, action))
                {
                    self.model.put_cursor(cursor);
                }
            }
        }
        Step::GoOn
    }

    fn page(&self) -> isize {
        let height =
            if self.model.has_tree() { self.model.tree_height } else { self.model.list.height };
        height.saturating_sub(1).max(1) as isize
    }

    fn show_list(&mut self, screen: Screen) {
        self.model.screen = if self.model.screen == screen { Screen::Ribbon } else { screen };
        self.model.list = List::default();
        self.model.ask(Request::Journal);
        self.model.ask(Request::Stores);
    }

    fn move_selection(&mut self, by: isize) {
        match self.model.has_tree() {
            true => {
                self.model.tree.step(by);
                self.model.study_versions();
            }
            false => {
                let length = super::screens::list_length(&self.model);
                self.model.list.step(by, length);
            }
        }
    }

    /// Where a step along the ribbon leads.
    fn along(&self, lane: &Lane, action: Action) -> Option<Cursor> {
        let newest = || lane.stop_before(i64::MAX).map(Cursor::Was);
        let was = |time: Option<i64>| time.map(Cursor::Was);
        match (action, self.model.cursor) {
            (Action::Oldest, _) => was(lane.first_stop()),
            (Action::Earlier, Cursor::Is) => newest(),
            (Action::Earlier, Cursor::Was(time)) => was(lane.stop_before(time)),
            (Action::Earlier, Cursor::Will(time)) => {
                let before = lane.coming(self.model.now, time - 1).last().copied();
                Some(before.map_or(Cursor::Is, Cursor::Will))
            }
            (Action::Later, Cursor::Was(time)) => {
                Some(lane.stop_after(time).map_or(Cursor::Is, Cursor::Was))
            }
            (Action::Later, Cursor::Is) => lane.next(self.model.now).map(Cursor::Will),
            (Action::Later, Cursor::Will(time)) => lane.next(time).map(Cursor::Will),
            (Action::DayEarlier, cursor) => {
                let from = match cursor {
                    Cursor::Was(time) | Cursor::Will(time) => time,
                    Cursor::Is => self.model.now,
                };
                if from - DAY > self.model.now {
                    return Some(Cursor::Will(from - DAY));
                }
                // The newest of the day before, or of the nearest day before that.
                let earlier = lane.stop_before((from - DAY).min(self.model.now) + 1);
                was(earlier.or_else(|| lane.first_stop()))
            }
            (Action::DayLater, Cursor::Was(time)) => {
                let later = lane.stop_after((time + DAY).saturating_sub(1));
                Some(later.filter(|later| *later <= self.model.now).map_or(Cursor::Is, Cursor::Was))
            }
            (Action::DayLater, Cursor::Is) => Some(Cursor::Will(self.model.now + DAY)),
            (Action::DayLater, Cursor::Will(time)) => Some(Cursor::Will(time + DAY)),
            _ => None,
        }
    }

    /// Goes to the snapshot in which another version of the selected path appeared.
    fn step_version(&mut self, later: bool) {
        let (Some(versions), Some((_, mark))) = (self.model.versions(), self.model.current_mark())
        else {
            return;
        };
        let now = versions.iter().rposition(|version| version.time <= mark.time);
        let wanted = match (later, now) {
            (true, None) => Some(0),
            (true, Some(number)) => Some(number + 1),
            // From where it is missing, back to where it was last.
            (false, Some(number)) if mark.time > versions[number].last_seen => {
                let last = versions[number].last_seen;
                return self.model.put_cursor(Cursor::Was(last));
            }
            (false, Some(number)) => number.checked_sub(1),
            (false, None) => None,
        };
        if let Some(version) = wanted.and_then(|number| versions.get(number)) {
            let time = if later { version.time } else { version.last_seen };
            self.model.put_cursor(Cursor::Was(time));
        }
    }

    /// Opens the selected entry of the journal.
    fn open_entry(&mut self) {
        let Some(Ok(papers)) = &self.model.journal else { return };
        let Some((entry, _)) = papers.get(self.model.list.selected) else { return };
        self.open(EntryPanel::open(entry.clone()));
    }

    fn open_selected(&mut self) {
        let kind = self.model.tree.selected_row().map(|row| row.facts.kind);
        match kind {
            Some(Kind::Directory) => {
                if let Some(path) = self.model.tree.toggle() {
                    self.model.ask_directory(Some(path));
                }
                self.model.study_versions();
            }
            Some(Kind::File) => self.look_into(),
            _ => {}
        }
    }

    fn look_into(&mut self) {
        let is_file =
            self.model.tree.selected_row().is_some_and(|row| row.facts.kind == Kind::File);
        let (Some(path), Some(lane)) =
            (self.model.tree.selected.clone(), self.model.current_lane())
        else {
            return;
        };
        let Some((number, mark)) = self.model.current_mark().filter(|_| is_file) else { return };
        let is_gone = self
            .model
            .tree
            .selected_row()
            .is_some_and(|row| row.facts.change == skellin_engine::Change::Gone);
        // What is gone can be looked into as it was.
        let snapshot = match number.checked_sub(1).filter(|_| is_gone) {
            Some(before) => lane.marks[before],
            None => *mark,
        };
        let store = lane.store.clone();
        self.open(LookPanel::open(path, store, snapshot.id, snapshot.time));
    }

    /// Compares the selected path with how it is now, or was at another time.
    fn compare(&mut self) {
        let Some(path) = self.model.tree.selected.clone() else { return };
        let kind = self.model.tree.selected_row().map_or(Kind::File, |row| row.facts.kind);
        if let Some(opened) = ComparePanel::open(&self.model, path, kind) {
            self.open(opened);
        }
    }

    fn begin_restore(&mut self) {
        if let Some(item) = self.wanted() {
            self.open(RestorePanel::open(item, &self.model.home.clone()));
        }
    }

    /// Puts the selected path on the tray, or takes it off.
    fn gather(&mut self) {
        let Some(item) = self.wanted() else { return };
        let same = |other: &Gathered| {
            (&other.path, other.snapshot, &other.store) == (&item.path, item.snapshot, &item.store)
        };
        let tray = &mut self.model.tray;
        match tray.iter().position(same) {
            Some(at) => drop(tray.remove(at)),
            None => tray.push(item),
        }
    }

    fn open_tray(&mut self) {
        let (items, home) = (self.model.tray.clone(), self.model.home.clone());
        if items.is_empty() {
            let what = "Nothing lies on the tray".to_owned();
            let hint = Some("in a snapshot, t puts the selected path on it".to_owned());
            return self
                .open(Opened::of(TroublePanel(Trouble { hint, ..Trouble::of_words(what) })));
        }
        self.open(RestorePanel::tray(items, &home));
    }

    /// The selected path, in the snapshot it would be restored from.
    fn wanted(&self) -> Option<Gathered> {
        let path = self.model.tree.selected.clone()?;
        let present = self.model.tree.selected_row().map(|row| row.facts.change);
        let lane = self.model.current_lane()?;
        let (number, mark) = self.model.current_mark()?;
        // A path that is gone here comes from the snapshot that had it last.
        let from = match present {
            Some(skellin_engine::Change::Gone) => number.checked_sub(1).map(|one| lane.marks[one]),
            Some(_) => Some(*mark),
            None => {
                let versions = self.model.versions().unwrap_or_default();
                let last = versions.iter().rfind(|version| version.time <= mark.time);
                let before = last.or(versions.first());
                before
                    .and_then(|version| lane.at(version.last_seen))
                    .map(|number| lane.marks[number])
            }
        };
        let from = from?;
        let row = self.model.tree.selected_row();
        let last = self.model.versions().and_then(<[_]>::last);
        let is_directory = match (&row, last) {
            (Some(row), _) => row.facts.kind == Kind::Directory,
            (None, last) => last.is_some_and(|version| version.kind == Kind::Directory),
        };
        let size = row.map_or(last.map_or(0, |version| version.size), |row| row.facts.size);
        let store = lane.store.clone();
        Some(Gathered { path, store, snapshot: from.id, time: from.time, is_directory, size })
    }

    /// Runs the plan of the current lane, or dry-runs it.
    /// `agreed`: it makes its snapshot also if much is suddenly gone or different.
    fn run_plan(&mut self, dry_run: bool, agreed: bool) {
        let job = self.model.next_job();
        let now = self.model.now;
        let Some(lane) = self.model.lanes.get_mut(self.model.lane) else { return };
        let is_ready = lane.plan.is_some()
            && matches!(lane.known, Known::Here)
            && !matches!(lane.work, Work::Going { .. });
        if !is_ready {
            return;
        }
        let cancel = Cancel::new();
        lane.work = Work::Going {
            job,
            dry_run,
            begun: now,
            progress: Progress::default(),
            exceptions: Vec::new(),
            notes: Vec::new(),
            cancel: cancel.clone(),
        };
        let plan = lane.name.clone();
        self.model.list = List::default();
        self.model.ask(Request::Run { job, plan, dry_run, agreed, cancel });
    }

    /// Asks why the selected path is included or excluded: the tree's in Was, the list's in Is; in Will
    /// why snapshots stay.
    fn ask_why(&mut self) {
        if matches!(self.model.cursor, Cursor::Will(_)) {
            return self.open(Opened::of(FatesPanel::default()));
        }
        let Some(lane) = self.model.current_lane().filter(|lane| lane.plan.is_some()) else {
            return;
        };
        let path = match self.model.has_tree() {
            true => self.model.tree.selected.clone(),
            false => super::screens::listed_path(&self.model),
        };
        if let Some(path) = path {
            let plan = lane.name.clone();
            self.open(WhyPanel::open(plan, path));
        }
    }

    /// The store that is selected in its list.
    fn chosen_store(&self) -> Option<String> {
        let stores = self.model.stores.as_ref().filter(|_| self.model.screen == Screen::Stores)?;
        stores.get(self.model.list.selected).map(|store| store.name.clone())
    }

    /// Begins a rule about the selected path: the other way round than it is decided now.
    fn write_rule(&mut self) {
        use std::os::unix::ffi::OsStrExt;
        let Some(lane) = self.model.current_lane() else { return };
        let (Some(plan), Some(row)) = (&lane.plan, self.model.tree.selected_row()) else { return };
        let sources = plan.sources.iter().map(|source| source.as_os_str().as_bytes());
        let Some(source) =
            sources.filter(|source| row.path.starts_with(source)).max_by_key(|source| source.len())
        else {
            return;
        };
        let take = row.facts.change == skellin_engine::Change::Skipped;
        let is_directory = row.facts.kind == Kind::Directory;
        let opened =
            RulePanel::open(plan.name.clone(), source, row.path.clone(), is_directory, take);
        self.open(opened.unwrap_or_else(|what| Opened::of(TroublePanel(Trouble::of_words(what)))));
    }

    /// Lays out the sentences of the current plan, to be tried and changed.
    fn open_retention(&mut self) {
        let Some(lane) = self.model.current_lane() else { return };
        if let Some(plan) = &lane.plan {
            self.open(RetainPanel::open(plan, &lane.store));
        }
    }

    /// Pins the snapshot that is shown, or takes its pin away.
    fn pin(&mut self) {
        let (Some((_, mark)), Some(lane)) = (self.model.current_mark(), self.model.current_lane())
        else {
            return;
        };
        let (store, run) = (lane.store.clone(), mark.id);
        let is_pinned = !lane.is_pinned(run);
        self.model.ask(Request::Pin { store, run, is_pinned });
    }

    fn stop_run(&mut self) {
        if let Some(Lane { work: Work::Going { cancel, .. }, .. }) =
            self.model.lanes.get(self.model.lane)
        {
            cancel.cancel();
        }
    }

    pub fn mouse(&mut self, event: MouseEvent) -> Step {
        let target = self.model.hits.at(event.column, event.row);
        match event.kind {
            MouseEventKind::Down(MouseButton::Left) => match target {
                // The screen below is not reached through a panel.
                Some(_) if self.panel.is_some() => self.click_panel(target),
                Some(Target::Do(action)) => return self.act(action),
                Some(Target::Lane(lane)) => self.model.choose_lane(lane),
                Some(Target::Moment { lane, from, to }) => self.click_moment(lane, from, to),
                Some(Target::Row(row)) => {
                    let again = self.model.tree.is_present() && self.model.tree.position() == row;
                    self.model.tree.select(row);
                    if again {
                        self.open_selected();
                    }
                    self.model.study_versions();
                }
                Some(Target::Entry(entry)) => {
                    let length = super::screens::list_length(&self.model);
                    self.model.list.selected = entry.min(length.saturating_sub(1));
                }
                None => {}
            },
            MouseEventKind::ScrollUp | MouseEventKind::ScrollDown => {
                let down = event.kind == MouseEventKind::ScrollDown;
                if let Some(panel) = &mut self.panel {
                    panel.scroll(if down { WHEEL } else { -WHEEL });
                    return Step::GoOn;
                }
                match target {
                    Some(Target::Moment { .. }) => {
                        return self.act(if down { Action::Later } else { Action::Earlier });
                    }
                    _ => self.move_selection(if down { WHEEL } else { -WHEEL }),
                }
            }
            _ => {}
        }
        Step::GoOn
    }

    /// A click on a lane: the newest stop in that column, or the nearest before it.
    fn click_moment(&mut self, lane: usize, from: i64, to: i64) {
        self.model.choose_lane(lane);
        let Some(current) = self.model.current_lane() else { return };
        let cursor =
            if (from..to).contains(&self.model.now) && current.stop_after(from - 1).is_none() {
                Cursor::Is
            } else if from > self.model.now {
                let coming =
                    current.coming(self.model.now, to).into_iter().find(|moment| *moment >= from);
                Cursor::Will(coming.unwrap_or(from))
            } else {
                match current.stop_before(to) {
                    Some(stop) => Cursor::Was(stop),
                    None => Cursor::Was(from),
                }
            };
        self.model.put_cursor(cursor);
    }
}
