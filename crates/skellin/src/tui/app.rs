//! The application: what is known, what lies over the screen, and what is under way.

use std::collections::VecDeque;

use crossbeam_channel::Sender;
use ratatui::crossterm::event::{Event, KeyEvent, KeyEventKind};
use skellin_engine::{Cancel, Configuration};

use super::{
    lanes::Work,
    model::Model,
    panels::{Panel, UnlockPanel},
    worker::Request,
};

/// Whether the application goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Step {
    GoOn,
    Close,
}

/// Everything.
pub(super) struct App {
    pub model: Model,
    pub panel: Option<Box<dyn Panel>>,
    pub ahead: VecDeque<KeyEvent>,
    /// When the stores were listed last, in milliseconds since 1970.
    pub listed: i64,
}

impl App {
    pub fn new(
        configuration: &Configuration,
        machine: String,
        now: i64,
        worker: Sender<Request>,
    ) -> Self {
        Self {
            model: Model::new(configuration, machine, now, worker),
            panel: None,
            ahead: VecDeque::new(),
            listed: now,
        }
    }

    /// A key, a click, pasted text.
    pub fn input(&mut self, event: Event) -> Step {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.key(key),
            Event::Mouse(mouse) => self.mouse(mouse),
            Event::Paste(text) => self.paste(&text),
            // A frame of another size is drawn as ever.
            Event::Key(_) | Event::Resize(..) | Event::FocusGained | Event::FocusLost => Step::GoOn,
        }
    }

    /// After each key and report: asks for a passphrase that is wanted, unless something else is
    /// being asked.
    pub fn settle(&mut self) {
        if self.panel.is_none() {
            self.model.end_trying();
        }
        self.model.ask_map();
        self.model.ask_fills();
        if let Some(need) = self.model.need.take()
            && self.panel.is_none()
        {
            self.panel = Some(Box::new(UnlockPanel::new(need.plan, need.store, need.wrong)));
        }
    }

    /// Flags of everything that is under way.
    pub fn under_way(&self) -> Vec<(String, Cancel)> {
        let runs = self.model.lanes.iter().filter_map(|lane| match &lane.work {
            Work::Going { dry_run, cancel, .. } => {
                let what = if *dry_run { "dry run of" } else { "run of" };
                Some((format!("{what} {}", lane.name), cancel.clone()))
            }
            _ => None,
        });
        runs.chain(self.panel.as_ref().and_then(|panel| panel.under_way())).collect()
    }

    /// Stops everything and closes when it has ended.
    pub fn close_down(&mut self) -> Step {
        let work = self.under_way();
        work.iter().for_each(|(_, cancel)| cancel.cancel());
        self.model.closing = true;
        if work.is_empty() { Step::Close } else { Step::GoOn }
    }
}
