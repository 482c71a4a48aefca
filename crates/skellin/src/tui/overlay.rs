//! What keys, pasted text, clicks and reports do while something lies over the screen: whatever it is,
//! its answer says what is wanted.

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use skellin_store::RunId;

use super::{
    app::{App, Step},
    hits::Target,
    keys::{self, Action},
    lanes::Known,
    model::{Cursor, Model, Screen},
    panels::{Answer, Heard, Opened, Panel, PlanPanel},
    worker::{FoundPath, Report, Request},
};

impl App {
    /// Lays a panel over the screen.
    pub(super) fn open(&mut self, opened: Opened) {
        self.panel = Some(opened.panel);
        if let Some(request) = opened.request {
            self.model.ask(request);
        }
    }

    pub(super) fn panel_key(&mut self, key: KeyEvent) -> Step {
        // A signal by key always asks to close.
        if keys::action(key, keys::Place::Proof) == Some(Action::Quit)
            && !matches!(key.code, KeyCode::Char('q'))
        {
            return self.act(Action::Quit);
        }
        let Some(mut panel) = self.panel.take() else { return Step::GoOn };
        let answer = panel.key(key, &self.model);
        self.answer(panel, answer)
    }

    /// Does what a panel wants done.
    fn answer(&mut self, panel: Box<dyn Panel>, answer: Answer) -> Step {
        match answer {
            Answer::Stay => self.panel = Some(panel),
            Answer::Dismiss => {}
            Answer::Do(action) => return self.act(action),
            Answer::Lane(lane) => self.model.choose_lane(lane),
            Answer::Moment(time) => self.model.go_to(time),
            Answer::Snapshot { plan, time } => self.model.go_to_snapshot(&plan, time),
            Answer::Tray(items) => self.model.tray = items,
            Answer::Path(found) => self.model.go_to_path(*found),
            Answer::Ask(request) => {
                self.panel = Some(panel);
                self.model.ask(request);
            }
            Answer::Leave(request) => self.model.ask(request),
            Answer::Turn(opened) => self.open(opened),
            Answer::Unlock { store, passphrase } => {
                // Every plan of the store opens with it.
                for lane in self.model.lanes.iter_mut().filter(|lane| lane.store == store) {
                    lane.known = Known::Loading;
                }
                self.model.ask(Request::Open { store, passphrase: Some(passphrase) });
            }
            Answer::CloseDown => {
                self.panel = Some(panel);
                return self.close_down();
            }
            Answer::Saved(plan) => {
                self.model.ask(Request::Configuration);
                self.model.wanted_lane = Some(plan);
            }
            Answer::PlanFor(store) => self.open(PlanPanel::open(&self.model, Some(&store))),
            Answer::Try(sentences) => {
                self.panel = Some(panel);
                if let Some(lane) = self.model.lanes.get_mut(self.model.lane) {
                    lane.try_sentences(Some(sentences));
                }
            }
            Answer::Day(time) => {
                self.panel = Some(panel);
                self.model.put_cursor(Cursor::Will(time));
            }
            Answer::Refresh => {
                self.panel = Some(panel);
                self.model.ask(Request::Configuration);
            }
        }
        Step::GoOn
    }

    /// Pasted text is text for what is being typed, and never keys: nothing is agreed to by pasting.
    pub(super) fn paste(&mut self, text: &str) -> Step {
        let line = text.lines().next().unwrap_or_default();
        let Some(mut panel) = self.panel.take() else { return Step::GoOn };
        let answer = panel.paste(line);
        self.answer(panel, answer)
    }

    /// A click anywhere while a panel lies over the screen: what is below is not reached through it.
    pub(super) fn click_panel(&mut self, target: Option<Target>) {
        if let (Some(panel), Some(Target::Entry(entry))) = (&mut self.panel, target) {
            panel.choose(entry);
        }
    }

    /// Hands a report to the panel; one that is none of its business is handed back.
    pub(super) fn panel_report(&mut self, report: Report) -> Option<Report> {
        let Some(mut panel) = self.panel.take() else { return Some(report) };
        match panel.report(report) {
            Heard::Taken(answer) => {
                // Nothing that is found or done closes the application.
                let _ = self.answer(panel, answer);
                None
            }
            Heard::Not(report) => {
                self.panel = Some(panel);
                Some(*report)
            }
        }
    }
}

impl Model {
    /// The version of a path before or after that of a snapshot: its id, its time, its store.
    pub(super) fn neighbour(
        &self,
        path: &[u8],
        snapshot: RunId,
        later: bool,
    ) -> Option<(RunId, i64, String)> {
        let (versions, lane) = (self.versions()?, self.current_lane()?);
        if self.tree.selected.as_deref() != Some(path) {
            return None;
        }
        let time = lane.marks.iter().find(|mark| mark.id == snapshot)?.time;
        let now = versions.iter().rposition(|version| version.time <= time)?;
        let other = if later { now + 1 } else { now.checked_sub(1)? };
        let version = versions.get(other)?;
        Some((version.snapshot, version.time, lane.store.clone()))
    }

    /// Puts the cursor at a moment that was typed.
    fn go_to(&mut self, time: i64) {
        let cursor = if time > self.now {
            Cursor::Will(time)
        } else {
            // The exact moment of the newest snapshot before it, so that steps go on from there.
            let stop = self.current_lane().and_then(|lane| lane.stop_before(time + 1));
            Cursor::Was(stop.unwrap_or(time))
        };
        self.put_cursor(cursor);
    }

    /// Goes to the snapshot that a run of a plan made.
    fn go_to_snapshot(&mut self, plan: &str, time: i64) {
        let mut lanes = self.lanes.iter();
        if let Some(lane) = lanes.position(|lane| lane.name == plan && lane.machine.is_none()) {
            self.choose_lane(lane);
            self.screen = Screen::Ribbon;
            // The run began a moment before its entry says so, or after.
            let near = self.lanes[lane].nearest(time).unwrap_or(time);
            self.put_cursor(Cursor::Was(near));
        }
    }

    /// Goes to a path that was found, in the last snapshot that has it.
    fn go_to_path(&mut self, found: FoundPath) {
        let Some(lane) = self.lanes.iter().position(|lane| lane.label() == found.lane) else {
            return;
        };
        let Some(mark) = self.lanes[lane].marks.iter().find(|mark| mark.id == found.last) else {
            return;
        };
        let time = mark.time;
        self.choose_lane(lane);
        self.tree.reveal(found.path, found.above);
        // What is open now has to be listed, also if the snapshot is the one that is shown.
        self.forget_tree();
        self.put_cursor(Cursor::Was(time));
    }
}
