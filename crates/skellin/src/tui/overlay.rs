//! What keys, clicks and reports do while something lies over the screen.

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use skellin_engine::Event;
use skellin_store::RunId;

use super::{
    app::{App, Step},
    hits::Target,
    keys::{self, Action},
    lanes::Known,
    model::{Cursor, Screen},
    panels::{Answer, HoldsPanel, Panel, PassphrasesPanel, PlanPanel, ReachPanel, StorePanel},
    worker::{JobEnd, Report, Request},
};

impl App {
    pub(super) fn panel_key(&mut self, key: KeyEvent) -> Step {
        let Some(mut panel) = self.panel.take() else { return Step::GoOn };
        // A signal by key always asks to close.
        if keys::action(key, keys::Place::List) == Some(Action::Quit)
            && !matches!(key.code, KeyCode::Char('q'))
        {
            self.panel = Some(panel);
            return self.act(Action::Quit);
        }
        let answer = match &mut panel {
            Panel::Help { offset } | Panel::Doctor { offset } => match key.code {
                KeyCode::Down | KeyCode::PageDown => {
                    *offset += if key.code == KeyCode::Down { 1 } else { 10 };
                    Answer::Stay
                }
                KeyCode::Up | KeyCode::PageUp => {
                    *offset = offset.saturating_sub(if key.code == KeyCode::Up { 1 } else { 10 });
                    Answer::Stay
                }
                _ => Answer::Dismiss,
            },
            Panel::About
            | Panel::Why { .. }
            | Panel::Trouble(_)
            | Panel::Holds(_)
            | Panel::Told { .. } => Answer::Dismiss,
            Panel::Entry(entry) => entry.key(key),
            Panel::Passphrase { typed, .. } => match key.code {
                KeyCode::Esc => Answer::Dismiss,
                KeyCode::Enter => Answer::Open,
                _ => {
                    typed.key(key);
                    Answer::Stay
                }
            },
            Panel::Restore(restore) => restore.key(key),
            Panel::Finder(finder) => finder.key(key, &self.model),
            Panel::GoTo(go_to) => go_to.key(key, self.model.now),
            Panel::Look(look) => look.key(key),
            Panel::Closing(_) => match key.code {
                KeyCode::Char('s') | KeyCode::Char('c') => Answer::CloseDown,
                _ => Answer::Dismiss,
            },
            Panel::Rule(rule) => rule.key(key),
            Panel::Reach(reach) => reach.key(key.code),
            Panel::Plan(plan) => plan.key(key, &self.model),
            Panel::Store(store) => store.key(key),
            Panel::Passphrases(panel) => panel.key(key),
        };
        self.answer(panel, answer)
    }

    fn answer(&mut self, panel: Panel, answer: Answer) -> Step {
        match (answer, panel) {
            (Answer::Stay, panel) => self.panel = Some(panel),
            (Answer::Dismiss, _) => {}
            (Answer::Do(action), _) => return self.act(action),
            (Answer::Lane(lane), _) => self.model.choose_lane(lane),
            (Answer::Moment(time), _) => self.go_to(time),
            (Answer::Snapshot { plan, time }, _) => self.go_to_snapshot(&plan, time),
            (Answer::Tell(channel), _) => {
                self.model.ask(Request::Tell(channel.clone()));
                self.panel = Some(Panel::Told { channel, end: None });
            }
            (Answer::Ask(request), panel) => {
                self.panel = Some(panel);
                self.model.ask(request);
            }
            (Answer::Open, Panel::Passphrase { store, typed, .. }) => {
                // Every plan of the store opens with it.
                for lane in self.model.lanes.iter_mut().filter(|lane| lane.store == store) {
                    lane.known = Known::Loading;
                }
                self.model.ask(Request::Open { store, passphrase: Some(typed.passphrase()) });
            }
            (Answer::Restore { dry_run }, Panel::Restore(mut restore)) => {
                let job = self.model.next_job();
                let order = restore.order(job, dry_run);
                self.panel = Some(Panel::Restore(restore));
                self.model.ask(Request::Restore(Box::new(order)));
            }
            (Answer::DryRunDraft, Panel::Plan(mut plan)) => {
                let job = self.model.next_job();
                let request = plan.rehearse(job);
                self.panel = Some(Panel::Plan(plan));
                self.model.ask(request);
            }
            (Answer::Version { later }, Panel::Look(look)) => {
                let (path, snapshot) = (look.path.clone(), look.snapshot);
                match self.neighbour(&path, snapshot, later) {
                    Some((id, time, store)) => {
                        self.model.ask(Request::Look { store, snapshot: id, path: path.clone() });
                        self.panel = Some(Panel::look(path, id, time));
                    }
                    None => self.panel = Some(Panel::Look(look)),
                }
            }
            (Answer::CloseDown, Panel::Closing(work)) => {
                self.panel = Some(Panel::Closing(work));
                return self.close_down();
            }
            (Answer::Reach { accept }, Panel::Reach(reach)) => {
                let store = reach.store.clone();
                self.begin_reach(store, accept);
            }
            (Answer::Saved(plan), _) => {
                self.model.ask(Request::Configuration);
                self.model.wanted_lane = Some(plan);
            }
            (Answer::LeaveStore { unused }, _) => {
                if let Some(file) = unused {
                    self.model.ask(Request::DropSecret(file));
                }
            }
            (Answer::PlanFor(store), _) => self.begin_plan(Some(&store)),
            (_, panel) => self.panel = Some(panel),
        }
        Step::GoOn
    }

    /// The version of a path before or after that of a snapshot: its id, its time, its store.
    fn neighbour(&self, path: &[u8], snapshot: RunId, later: bool) -> Option<(RunId, i64, String)> {
        let (versions, lane) = (self.model.versions()?, self.model.current_lane()?);
        if self.model.tree.selected.as_deref() != Some(path) {
            return None;
        }
        let time = lane.marks.iter().find(|mark| mark.id == snapshot)?.time;
        let now = versions.iter().rposition(|version| version.time <= time)?;
        let other = if later { now + 1 } else { now.checked_sub(1)? };
        let version = versions.get(other)?;
        Some((version.snapshot, version.time, lane.store.clone()))
    }

    /// Puts the cursor at a moment that was typed.
    pub(super) fn go_to(&mut self, time: i64) {
        let cursor = if time > self.model.now {
            Cursor::Will(time)
        } else {
            // The exact moment of the newest snapshot before it, so that steps go on from there.
            let stop = self.model.current_lane().and_then(|lane| lane.stop_before(time + 1));
            Cursor::Was(stop.unwrap_or(time))
        };
        self.model.put_cursor(cursor);
    }

    /// Goes to the snapshot that a run of a plan made.
    fn go_to_snapshot(&mut self, plan: &str, time: i64) {
        let lanes = self.model.lanes.iter();
        let lane = lanes.into_iter().position(|lane| lane.name == plan && lane.machine.is_none());
        if let Some(lane) = lane {
            self.model.choose_lane(lane);
            self.model.screen = Screen::Ribbon;
            // The run began a moment before its entry says so, or after.
            let near = self.model.lanes[lane].nearest(time).unwrap_or(time);
            self.model.put_cursor(Cursor::Was(near));
        }
    }

    pub(super) fn paste(&mut self, text: &str) -> Step {
        let line = text.lines().next().unwrap_or_default().to_owned();
        if self.panel.is_some() {
            for c in line.chars().filter(|c| !c.is_control()) {
                self.panel_key(KeyEvent::from(KeyCode::Char(c)));
            }
        }
        Step::GoOn
    }

    pub(super) fn look_at_place(&mut self, store: String) {
        self.panel = Some(Panel::Holds(HoldsPanel::new(store.clone())));
        self.model.ask(Request::Holds(store));
    }

    pub(super) fn show_passphrases(&mut self, store: String) {
        let (panel, request) = PassphrasesPanel::begin(store);
        self.panel = Some(Panel::Passphrases(Box::new(panel)));
        self.model.ask(request);
    }

    pub(super) fn begin_store(&mut self) {
        let (home, folder) = (&self.model.home, &self.model.folder);
        let panel = StorePanel::new(home, folder, &self.model.store_names);
        self.panel = Some(Panel::Store(Box::new(panel)));
    }

    /// Begins a plan; `store`: the one it shall keep its snapshots in.
    pub(super) fn begin_plan(&mut self, store: Option<&str>) {
        let (home, folder) = (&self.model.home, &self.model.folder);
        let (stores, keyless) = (&self.model.store_names, &self.model.keyless_stores);
        let (plan, request) = PlanPanel::new(home, folder, stores, keyless, store);
        self.panel = Some(Panel::Plan(Box::new(plan)));
        self.model.ask(request);
    }

    pub(super) fn begin_reach(&mut self, store: String, accept: bool) {
        let number = self.model.next_job();
        let (panel, request) = ReachPanel::begin(store, number, accept);
        self.panel = Some(Panel::Reach(panel));
        self.model.ask(request);
    }

    /// A click on something the panel's hint line says; `None` if the panel has no such thing.
    pub(super) fn click_in_panel(&mut self, action: Action) -> Option<Step> {
        self.panel.as_ref()?;
        // The screen below is not reached through a panel.
        let _ = action;
        Some(Step::GoOn)
    }

    pub(super) fn click_panel(&mut self, target: Option<Target>) {
        if let (Some(Panel::Finder(finder)), Some(Target::Entry(entry))) = (&mut self.panel, target)
        {
            finder.choose(entry);
        }
        if let (Some(Panel::Plan(plan)), Some(Target::Entry(entry))) = (&mut self.panel, target) {
            plan.choose(entry);
        }
        if let (Some(Panel::Store(store)), Some(Target::Entry(entry))) = (&mut self.panel, target) {
            store.choose(entry);
        }
    }

    pub(super) fn panel_wheel(&mut self, by: isize) -> Step {
        let code = if by > 0 { KeyCode::Down } else { KeyCode::Up };
        for _ in 0..by.unsigned_abs() {
            self.panel_key(KeyEvent::from(code));
        }
        Step::GoOn
    }

    pub(super) fn panel_report(&mut self, report: Report) {
        match (&mut self.panel, report) {
            (Some(Panel::Look(look)), Report::Looked { path, snapshot, looked }) => {
                look.take(&path, snapshot, looked);
            }
            (Some(Panel::Rule(panel)), Report::Effect { rule, amounts }) => {
                panel.take_effect(&rule, amounts);
            }
            (Some(Panel::Rule(panel)), Report::PlanChanged { texts: Err(trouble), .. }) => {
                panel.fail(trouble);
            }
            (panel, Report::PlanChanged { plan, texts: Ok((was, became)) }) => {
                *panel = None;
                self.model.undo = Some((plan, was, became));
                self.model.forget_tree();
                self.model.ask(Request::Configuration);
            }
            (panel, Report::PlanChanged { texts: Err(trouble), .. }) => {
                *panel = Some(Panel::Trouble(trouble));
            }
            (Some(Panel::Why { path, reasons }), Report::Explained { path: of, reasons: told })
                if *path == of =>
            {
                *reasons = Some(told);
            }
            (Some(Panel::Holds(holds)), Report::Holds { store, found }) => {
                holds.take(&store, found);
            }
            (Some(Panel::Passphrases(panel)), Report::Passphrases { store, end }) => {
                panel.take(&store, end);
            }
            (Some(Panel::Entry(entry)), Report::Entry { id, details }) => entry.take(id, details),
            (Some(Panel::Told { channel, end }), Report::Told { channel: of, end: told })
                if *channel == of =>
            {
                *end = Some(told);
            }
            (Some(Panel::Reach(reach)), Report::ReachStep { number, step }) => {
                reach.take_step(number, step);
            }
            (Some(Panel::Reach(reach)), Report::Reached { number, end }) => {
                let is_there = end.is_ok();
                reach.take_end(number, end);
                if is_there {
                    self.model.look_again();
                }
            }
            (Some(Panel::Store(_)), report) => {
                let is_made = matches!(report, Report::StoreMade(Ok(())));
                if let Some(Panel::Store(mut store)) = self.panel.take() {
                    let answer = store.report(report);
                    self.answer(Panel::Store(store), answer);
                }
                if is_made {
                    self.model.ask(Request::Configuration);
                    self.model.look_again();
                }
            }
            (Some(Panel::Plan(_)), report) => {
                if let Some(Panel::Plan(mut plan)) = self.panel.take() {
                    let answer = plan.report(report);
                    self.answer(Panel::Plan(plan), answer);
                }
            }
            _ => {}
        }
    }

    pub(super) fn panel_event(&mut self, job: u64, event: Event) {
        match (&mut self.panel, event) {
            (Some(Panel::Restore(restore)), Event::Progress(progress)) => {
                restore.progress(job, progress);
            }
            (Some(Panel::Restore(restore)), Event::Waiting(waited)) => restore.waits(job, &waited),
            (Some(Panel::Plan(plan)), Event::Progress(progress)) => {
                plan.progress(job, progress);
            }
            _ => {}
        }
    }

    pub(super) fn panel_end(&mut self, job: u64, end: JobEnd) {
        match (&mut self.panel, end) {
            (Some(Panel::Restore(restore)), JobEnd::Restore(result)) => restore.end(job, result),
            (Some(Panel::Plan(plan)), JobEnd::Run(result)) => plan.rehearsed(job, result),
            _ => {}
        }
        self.model.ask(Request::Journal);
    }
}
