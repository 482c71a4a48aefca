//! What is asked and shown over the screen: a passphrase, the way of a restore, its rehearsal,
//! its progress and its end.

use std::path::PathBuf;

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use skellin_engine::{Cancel, Destination, Existing, Passphrase, Progress, RestoreReport};

use super::worker::Trouble;

/// Something that takes the keys before the screen does.
pub(super) enum Dialog {
    Help,
    Passphrase { plan: String, store: String, typed: Passphrase, wrong: bool },
    Restore(RestoreDialog),
}

/// A restore from question to end.
pub(super) struct RestoreDialog {
    /// The path to bring back.
    pub path: Vec<u8>,
    pub in_place: bool,
    pub directory: String,
    pub existing: Existing,
    /// Which of the three questions the keys go to.
    pub field: usize,
    pub stage: Stage,
}

pub(super) enum Stage {
    /// Where to, and what about files in the way.
    Asking,
    /// The rehearsal is under way.
    Rehearsing,
    /// What would happen.
    Rehearsed(RestoreReport),
    /// It happens.
    Working { progress: Progress, cancel: Cancel },
    /// It has happened, or failed.
    Ended(Result<RestoreReport, Trouble>),
}

/// What a key led to.
pub(super) enum Answer {
    /// Nothing beyond the dialog.
    Stay,
    Dismiss,
    /// Open the store with what was typed.
    Open,
    /// Rehearse the restore.
    Rehearse,
    /// Restore.
    Start,
}

impl Dialog {
    pub fn key(&mut self, key: KeyEvent) -> Answer {
        match self {
            Self::Help => Answer::Dismiss,
            Self::Passphrase { typed, .. } => match key.code {
                KeyCode::Esc => Answer::Dismiss,
                KeyCode::Enter => Answer::Open,
                KeyCode::Backspace => {
                    // A whole character, however many bytes it has.
                    while typed.pop().is_some_and(|byte| byte & 0xC0 == 0x80) {}
                    Answer::Stay
                }
                KeyCode::Char(c) => {
                    typed.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
                    Answer::Stay
                }
                _ => Answer::Stay,
            },
            Self::Restore(restore) => restore.key(key),
        }
    }

    pub fn paste(&mut self, text: &str) {
        let line = text.lines().next().unwrap_or_default();
        match self {
            Self::Passphrase { typed, .. } => typed.extend_from_slice(line.as_bytes()),
            Self::Restore(RestoreDialog { field: 1, stage: Stage::Asking, directory, .. }) => {
                directory.push_str(line);
            }
            _ => {}
        }
    }
}

impl RestoreDialog {
    pub fn new(path: Vec<u8>) -> Self {
        let home = std::env::var("HOME").unwrap_or_else(|_| "/".to_owned());
        let directory = format!("{}/restored", home.trim_end_matches('/'));
        let existing = Existing::Leave;
        Self { path, in_place: false, directory, existing, field: 0, stage: Stage::Asking }
    }

    pub fn destination(&self) -> Destination {
        match self.in_place {
            true => Destination::InPlace,
            false => Destination::Directory(PathBuf::from(&self.directory)),
        }
    }

    fn key(&mut self, key: KeyEvent) -> Answer {
        match (&mut self.stage, key.code) {
            (Stage::Working { cancel, .. }, KeyCode::Esc) => {
                cancel.cancel();
                Answer::Stay
            }
            (Stage::Working { .. }, _) => Answer::Stay,
            (Stage::Ended(_), KeyCode::Esc | KeyCode::Enter) | (_, KeyCode::Esc) => Answer::Dismiss,
            (Stage::Rehearsed(_), KeyCode::Enter) => Answer::Start,
            (Stage::Asking, KeyCode::Enter) if self.in_place || self.directory.starts_with('/') => {
                Answer::Rehearse
            }
            (Stage::Asking, code) => {
                self.ask(code);
                Answer::Stay
            }
            _ => Answer::Stay,
        }
    }

    fn ask(&mut self, code: KeyCode) {
        match (self.field, code) {
            (_, KeyCode::Tab | KeyCode::Down) => self.field = (self.field + 1) % 3,
            (_, KeyCode::BackTab | KeyCode::Up) => self.field = (self.field + 2) % 3,
            (0, KeyCode::Left | KeyCode::Right | KeyCode::Char(' ')) => {
                self.in_place = !self.in_place;
            }
            (1, KeyCode::Backspace) => drop(self.directory.pop()),
            (1, KeyCode::Char(c)) => self.directory.push(c),
            (2, KeyCode::Left) => self.existing = next(next(self.existing)),
            (2, KeyCode::Right | KeyCode::Char(' ')) => self.existing = next(self.existing),
            _ => {}
        }
    }
}

fn next(existing: Existing) -> Existing {
    match existing {
        Existing::Leave => Existing::Replace,
        Existing::Replace => Existing::Rename,
        Existing::Rename => Existing::Leave,
    }
}
