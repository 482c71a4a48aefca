//! Whether to close while something is under way.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    text::Line,
};

use super::{
    panel::{Answer, Hint, Key, Panel, Room, hints, key, meaning},
    popup::popup,
};
use crate::tui::{drawn::Drawn, model::Model};

/// What is under way, in words.
pub(in crate::tui) struct ClosingPanel(pub Vec<String>);

#[derive(Clone, Copy)]
enum Act {
    Stop,
    GoOn,
}

const KEYS: &[Key<Act>] = &[
    key(&[KeyCode::Char('s'), KeyCode::Char('c')], "s", Act::Stop, "stop and close"),
    key(&[KeyCode::Esc], "Esc", Act::GoOn, "continue"),
];

impl Panel for ClosingPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(KEYS)
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Stop) => Answer::CloseDown,
            Some(Act::GoOn) | None => Answer::Dismiss,
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let mut lines = vec![
            Line::from(format!("{} is still running.", capital(&self.0.join(" and ")))),
            Line::from(""),
        ];
        lines.push(match app.closing {
            true => Line::styled("Stopping; closing when it has stopped.", app.theme.is()),
            false => Line::from("What is stored so far is used by the next run."),
        });
        popup(frame, app, " Close? ", lines, room.whole, 96);
    }
}

/// The first letter as a capital.
fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}
