//! The state of the application, and how keys and reports change it.

use crossbeam_channel::Sender;
use ratatui::crossterm::event::KeyEvent;
use skellin_engine::{Cancel, Configuration, Event, Passphrase, Progress};

use super::{
    dialog::{Answer, Dialog, RestoreDialog, Stage},
    keys::{self, Action},
    scale::Scale,
    theme::Theme,
    tree::Tree,
    worker::{Report, Request, RestoreOrder, SnapshotRow, Trouble},
};

/// Whether the application goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Step {
    GoOn,
    Close,
}

/// What is known of a plan's snapshots.
pub(super) enum Known {
    /// Being looked up.
    Loading,
    Here(Vec<SnapshotRow>),
    Trouble(Trouble),
}

/// A plan on the ribbon.
pub(super) struct Lane {
    pub plan: String,
    pub store: String,
    pub known: Known,
    /// The snapshot the cursor stands on in this lane.
    pub at: usize,
}

impl Lane {
    pub fn snapshots(&self) -> &[SnapshotRow] {
        match &self.known {
            Known::Here(snapshots) => snapshots,
            _ => &[],
        }
    }

    pub fn current(&self) -> Option<&SnapshotRow> {
        self.snapshots().get(self.at)
    }
}

/// Everything.
pub(super) struct App {
    pub machine: String,
    pub lanes: Vec<Lane>,
    /// Plans that cannot be used, since their files have mistakes.
    pub mistaken: Vec<(String, usize)>,
    pub folder: String,
    pub lane: usize,
    pub tree: Tree,
    pub scale: Scale,
    pub dialog: Option<Dialog>,
    pub theme: Theme,
    /// Rows of the tree that fit on the screen, as of the last frame.
    pub tree_height: usize,
    pub now: i64,
    worker: Sender<Request>,
}

impl App {
    pub fn new(configuration: &Configuration, worker: Sender<Request>) -> Self {
        let ready = configuration.plans.iter().filter_map(|file| file.plan.as_ref());
        let lanes: Vec<Lane> = ready
            .map(|plan| Lane {
                plan: plan.name.clone(),
                store: plan.store.clone(),
                known: Known::Loading,
                at: 0,
            })
            .collect();
        let mistaken = configuration.plans.iter().filter(|file| file.plan.is_none());
        let mut app = Self {
            machine: crate::machine::machine_name(),
            lanes,
            mistaken: mistaken.map(|file| (file.name.clone(), file.problems.len())).collect(),
            folder: configuration.folders.config.display().to_string(),
            lane: 0,
            tree: Tree::default(),
            scale: Scale::default(),
            dialog: None,
            theme: Theme::new(),
            tree_height: 1,
            now: jiff::Timestamp::now().as_millisecond(),
            worker,
        };
        app.reload();
        app
    }

    fn ask(&self, request: Request) {
        // The worker lives as long as the application.
        let _ = self.worker.send(request);
    }

    fn reload(&mut self) {
        self.now = jiff::Timestamp::now().as_millisecond();
        for lane in &self.lanes {
            self.ask(Request::Plan {
                plan: lane.plan.clone(),
                store: lane.store.clone(),
                passphrase: None,
            });
        }
    }

    pub fn current_lane(&self) -> Option<&Lane> {
        self.lanes.get(self.lane)
    }

    /// Lists the tree of the snapshot under the cursor.
    fn turn_tree(&mut self) {
        let paths = self.tree.turn();
        let Some(lane) = self.current_lane() else { return };
        let Some(snapshot) = lane.current() else { return };
        for path in paths {
            self.ask(Request::Directory { store: lane.store.clone(), snapshot: snapshot.id, path });
        }
    }

    pub fn key(&mut self, key: KeyEvent) -> Step {
        // That a panic leaves a clean terminal can be tested only with one; release builds have none.
        #[cfg(debug_assertions)]
        assert!(
            key.code != ratatui::crossterm::event::KeyCode::F(12)
                || std::env::var_os("SKELLIN_TEST_PANIC").is_none(),
            "a panic asked for by a test"
        );
        if let Some(dialog) = &mut self.dialog {
            let answer = dialog.key(key);
            self.answer(&answer);
            return Step::GoOn;
        }
        let Some(action) = keys::action(key) else { return Step::GoOn };
        match action {
            Action::Quit => return Step::Close,
            Action::Help => self.dialog = Some(Dialog::Help),
            Action::Earlier => self.move_in_time(|at, _| at.saturating_sub(1)),
            Action::Later => self.move_in_time(|at, last| (at + 1).min(last)),
            Action::Oldest => self.move_in_time(|_, _| 0),
            Action::Newest => self.move_in_time(|_, last| last),
            Action::NextPlan => self.move_lane(1),
            Action::PreviousPlan => self.move_lane(self.lanes.len().saturating_sub(1)),
            Action::Up => self.tree.step(-1),
            Action::Down => self.tree.step(1),
            Action::PageUp => self.tree.step(-(self.tree_height as isize)),
            Action::PageDown => self.tree.step(self.tree_height as isize),
            Action::Open => self.toggle(),
            Action::Close => self.tree.up(),
            Action::BringBack => {
                if let Some(row) = self.tree.selected_row() {
                    self.dialog = Some(Dialog::Restore(RestoreDialog::new(row.path.clone())));
                }
            }
            Action::Closer => self.scale.closer(),
            Action::Wider => self.scale.wider(),
            Action::Reload => self.reload(),
        }
        Step::GoOn
    }

    pub fn paste(&mut self, text: &str) -> Step {
        if let Some(dialog) = &mut self.dialog {
            dialog.paste(text);
        }
        Step::GoOn
    }

    fn move_in_time(&mut self, to: impl FnOnce(usize, usize) -> usize) {
        let Some(lane) = self.lanes.get_mut(self.lane) else { return };
        let Some(last) = lane.snapshots().len().checked_sub(1) else { return };
        let to = to(lane.at, last);
        if to != lane.at {
            lane.at = to;
            self.turn_tree();
        }
    }

    fn move_lane(&mut self, by: usize) {
        if self.lanes.len() < 2 {
            return;
        }
        self.lane = (self.lane + by) % self.lanes.len();
        // A path of another plan means nothing here.
        self.tree = Tree::default();
        self.ask_passphrase_if_needed();
        self.turn_tree();
    }

    fn toggle(&mut self) {
        let Some(path) = self.tree.toggle() else { return };
        let Some(lane) = self.current_lane() else { return };
        let Some(snapshot) = lane.current() else { return };
        self.ask(Request::Directory {
            store: lane.store.clone(),
            snapshot: snapshot.id,
            path: Some(path),
        });
    }

    fn ask_passphrase_if_needed(&mut self) {
        let Some(lane) = self.current_lane() else { return };
        if let Known::Trouble(Trouble { passphrase: Some(wrong), .. }) = &lane.known {
            let wrong = *wrong;
            let (plan, store, typed) =
                (lane.plan.clone(), lane.store.clone(), Passphrase::default());
            self.dialog = Some(Dialog::Passphrase { plan, store, typed, wrong });
        }
    }

    fn answer(&mut self, answer: &Answer) {
        match answer {
            Answer::Stay => {}
            Answer::Dismiss => self.dialog = None,
            Answer::Open => {
                if let Some(Dialog::Passphrase { store, typed, .. }) = self.dialog.take() {
                    // Every plan of the store opens with it.
                    for lane in self.lanes.iter_mut().filter(|lane| lane.store == store) {
                        lane.known = Known::Loading;
                        let (plan, store) = (lane.plan.clone(), lane.store.clone());
                        let _ = self.worker.send(Request::Plan {
                            plan,
                            store,
                            passphrase: Some(typed.clone()),
                        });
                    }
                }
            }
            Answer::Rehearse => self.order(true),
            Answer::Start => self.order(false),
        }
    }

    /// Has the restore of the dialog rehearsed or done.
    fn order(&mut self, dry_run: bool) {
        let place =
            self.current_lane().and_then(|lane| Some((lane.store.clone(), lane.current()?.id)));
        let (Some(Dialog::Restore(restore)), Some((store, snapshot))) = (&mut self.dialog, place)
        else {
            return;
        };
        let cancel = Cancel::new();
        restore.stage = match dry_run {
            true => Stage::Rehearsing,
            false => Stage::Working { progress: Progress::default(), cancel: cancel.clone() },
        };
        let (path, destination, existing) =
            (restore.path.clone(), restore.destination(), restore.existing);
        self.ask(Request::Restore(Box::new(RestoreOrder {
            store,
            snapshot,
            path,
            destination,
            existing,
            dry_run,
            cancel,
        })));
    }

    pub fn report(&mut self, report: Report) -> Step {
        match report {
            Report::Plan { plan, snapshots } => self.take_plan(&plan, snapshots),
            Report::Directory { snapshot, path, rows } => {
                let current = self.current_lane().and_then(Lane::current).map(|row| row.id);
                if current == Some(snapshot) {
                    self.tree.take(path, rows);
                }
            }
            Report::Event(Event::Progress(latest)) => {
                if let Some(Dialog::Restore(RestoreDialog {
                    stage: Stage::Working { progress, .. },
                    ..
                })) = &mut self.dialog
                {
                    *progress = latest;
                }
            }
            Report::Event(_) => {}
            Report::Restored { dry_run, report } => {
                if let Some(Dialog::Restore(restore)) = &mut self.dialog {
                    restore.stage = match report {
                        Ok(report) if dry_run => Stage::Rehearsed(report),
                        other => Stage::Ended(other),
                    };
                }
            }
        }
        Step::GoOn
    }

    fn take_plan(&mut self, plan: &str, snapshots: Result<Vec<SnapshotRow>, Trouble>) {
        let Some(number) = self.lanes.iter().position(|lane| lane.plan == plan) else { return };
        let lane = &mut self.lanes[number];
        let before = lane.current().map(|row| row.id);
        lane.known = match snapshots {
            Ok(snapshots) => Known::Here(snapshots),
            Err(trouble) => Known::Trouble(trouble),
        };
        let kept = before.and_then(|id| lane.snapshots().iter().position(|row| row.id == id));
        lane.at = kept.unwrap_or(lane.snapshots().len().saturating_sub(1));
        let oldest = self
            .lanes
            .iter()
            .flat_map(|lane| lane.snapshots().first())
            .map(|row| row.started)
            .min();
        if let Some(oldest) = oldest {
            self.scale.cover(self.now - oldest);
        }
        if number == self.lane && self.dialog.is_none() {
            self.ask_passphrase_if_needed();
            if kept.is_none() || !self.tree.is_loaded() {
                self.turn_tree();
            }
        }
    }
}
