//! Keys typed ahead: a key that is about something still being read waits until that is there, and
//! keys after it wait behind it, so that what is typed in one go does what it would do slowly.
//! Only a confirmation never waits: nobody agrees to what is not on the screen yet.

use ratatui::crossterm::event::{KeyCode, KeyEvent};

use super::{
    app::{App, Step},
    keys::{self, Action},
    lanes::Known,
    model::{Model, Study},
};

/// More keys than this are hardly meant: something lies on the keyboard.
const MOST: usize = 64;

impl App {
    /// A key is pressed.
    pub fn key(&mut self, key: KeyEvent) -> Step {
        let asks_to_close = keys::action(key, keys::Place::Proof) == Some(Action::Quit)
            && key.code != KeyCode::Char('q');
        if asks_to_close || (key.code == KeyCode::Esc && !self.ahead.is_empty()) {
            self.ahead.clear();
            return if asks_to_close { self.press(key) } else { Step::GoOn };
        }
        if !self.ahead.is_empty() || self.has_to_wait(key) {
            if self.ahead.len() < MOST {
                self.ahead.push_back(key);
            }
            return Step::GoOn;
        }
        self.press(key)
    }

    /// Something has come: keys that waited for it are pressed now.
    pub(super) fn press_waiting(&mut self) -> Step {
        while let Some(key) = self.ahead.front().copied() {
            if self.has_to_wait(key) {
                break;
            }
            self.ahead.pop_front();
            if self.press(key) == Step::Close {
                return Step::Close;
            }
        }
        Step::GoOn
    }

    fn has_to_wait(&self, key: KeyEvent) -> bool {
        match &self.panel {
            Some(panel) => panel.has_to_wait(key, &self.model),
            None => keys::action(key, self.model.place())
                .is_some_and(|action| self.model.has_to_wait(action)),
        }
    }
}

impl Model {
    /// Whether what an action is about is still being read.
    fn has_to_wait(&self, action: Action) -> bool {
        let is_opening =
            self.current_lane().is_some_and(|lane| matches!(lane.known, Known::Loading));
        match action {
            Action::Earlier
            | Action::DayEarlier
            | Action::Oldest
            | Action::Run
            | Action::RunAnyway
            | Action::DryRun => is_opening,
            Action::Up | Action::Down | Action::PageUp | Action::PageDown if self.has_tree() => {
                is_opening || self.is_tree_coming() || self.tree.is_opening()
            }
            Action::Open
            | Action::Above
            | Action::Look
            | Action::About
            | Action::Why
            | Action::WriteRule
                if self.has_tree() =>
            {
                is_opening || self.is_tree_coming()
            }
            Action::Restore | Action::Gather | Action::Compare => {
                is_opening
                    || self.is_tree_coming()
                    || (!self.tree.is_present() && self.is_studying())
            }
            Action::EarlierVersion | Action::LaterVersion => {
                is_opening || self.is_tree_coming() || self.is_studying()
            }
            Action::Reach | Action::Holds | Action::Passphrases => self.stores.is_none(),
            Action::Entry => self.journal.is_none(),
            _ => false,
        }
    }

    /// Whether the versions of the selected path are still being looked for.
    pub fn is_studying(&self) -> bool {
        matches!(self.study, Study::Going { .. })
    }

    /// Whether the selected row is still to come.
    fn is_tree_coming(&self) -> bool {
        self.is_tree_asked_for() && self.tree.is_coming()
    }
}
