//! The passphrase of a store that is not open yet.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    text::{Line, Span},
};

use super::{
    panel::{Answer, Hint, Key, Panel, Room, key, meaning},
    popup::popup,
    text_field::TextField,
};
use crate::tui::{drawn::Drawn, model::Model};

/// A passphrase being typed.
pub(in crate::tui) struct UnlockPanel {
    plan: String,
    store: String,
    typed: TextField,
    /// Whether one was tried that is wrong.
    wrong: bool,
}

#[derive(Clone, Copy)]
enum Act {
    Open,
    Leave,
}

const KEYS: &[Key<Act>] = &[
    key(&[KeyCode::Enter], "Enter", Act::Open, "open the store"),
    key(&[KeyCode::Esc], "Esc", Act::Leave, "not now"),
];

impl UnlockPanel {
    pub fn new(plan: String, store: String, wrong: bool) -> Self {
        Self { plan, store, typed: TextField::secret(), wrong }
    }
}

impl Panel for UnlockPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        let mut hints = super::panel::hints(KEYS);
        hints.insert(1, self.typed.reveal_hint());
        hints
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Leave) => Answer::Dismiss,
            Some(Act::Open) => {
                let (store, passphrase) = (self.store.clone(), self.typed.passphrase());
                Answer::Unlock { store, passphrase }
            }
            None => {
                self.typed.key(key);
                Answer::Stay
            }
        }
    }

    fn paste(&mut self, text: &str) -> Answer {
        self.typed.insert(text);
        Answer::Stay
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let theme = app.theme;
        let Self { plan, store, .. } = self;
        let mut lines = vec![
            Line::from(format!("Store {store} of plan {plan} needs its passphrase.")),
            Line::from(""),
            Line::from(vec![
                Span::raw("Passphrase  "),
                Span::styled(self.typed.shown(true), theme.strong()),
            ]),
        ];
        if self.wrong {
            lines.push(Line::styled(format!("Wrong passphrase for store {store}."), theme.wrong()));
        }
        popup(frame, app, " Passphrase ", lines, room.whole, 96);
    }
}
