//! The one table of keys: it drives the handling, the hint line and the help.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// What a key does on the main screen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Action {
    Earlier,
    Later,
    Oldest,
    Newest,
    NextPlan,
    PreviousPlan,
    Up,
    Down,
    PageUp,
    PageDown,
    Open,
    Close,
    BringBack,
    Closer,
    Wider,
    Reload,
    Help,
    Quit,
}

/// A key and its meaning.
pub(super) struct Binding {
    pub keys: &'static [KeyCode],
    pub shown: &'static str,
    pub action: Action,
    pub says: &'static str,
    /// Whether the hint line shows it where there is room.
    pub hinted: bool,
}

/// All keys of the main screen.
pub(super) const BINDINGS: &[Binding] = &[
    Binding {
        keys: &[KeyCode::Left],
        shown: "←",
        action: Action::Earlier,
        says: "a snapshot earlier",
        hinted: true,
    },
    Binding {
        keys: &[KeyCode::Right],
        shown: "→",
        action: Action::Later,
        says: "a snapshot later",
        hinted: true,
    },
    Binding {
        keys: &[KeyCode::Home],
        shown: "Home",
        action: Action::Oldest,
        says: "the oldest snapshot",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::End],
        shown: "End",
        action: Action::Newest,
        says: "the newest snapshot",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Tab],
        shown: "Tab",
        action: Action::NextPlan,
        says: "next plan",
        hinted: true,
    },
    Binding {
        keys: &[KeyCode::BackTab],
        shown: "Shift-Tab",
        action: Action::PreviousPlan,
        says: "previous plan",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Up],
        shown: "↑",
        action: Action::Up,
        says: "a path up",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Down],
        shown: "↓",
        action: Action::Down,
        says: "a path down",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::PageUp],
        shown: "PgUp",
        action: Action::PageUp,
        says: "a page up",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::PageDown],
        shown: "PgDn",
        action: Action::PageDown,
        says: "a page down",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Enter, KeyCode::Char(' ')],
        shown: "Enter",
        action: Action::Open,
        says: "open or close a directory",
        hinted: true,
    },
    Binding {
        keys: &[KeyCode::Backspace],
        shown: "Backspace",
        action: Action::Close,
        says: "to the directory above",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Char('b')],
        shown: "b",
        action: Action::BringBack,
        says: "bring the path back",
        hinted: true,
    },
    Binding {
        keys: &[KeyCode::Char('+'), KeyCode::Char('=')],
        shown: "+",
        action: Action::Closer,
        says: "fewer days on the ribbon",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Char('-')],
        shown: "-",
        action: Action::Wider,
        says: "more days on the ribbon",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Char('u')],
        shown: "u",
        action: Action::Reload,
        says: "look again what is there",
        hinted: false,
    },
    Binding {
        keys: &[KeyCode::Char('?')],
        shown: "?",
        action: Action::Help,
        says: "all keys",
        hinted: true,
    },
    Binding {
        keys: &[KeyCode::Char('q')],
        shown: "q",
        action: Action::Quit,
        says: "close",
        hinted: true,
    },
];

/// What a key means, if anything.
pub(super) fn action(key: KeyEvent) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    BINDINGS.iter().find(|binding| binding.keys.contains(&key.code)).map(|binding| binding.action)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things() {
        let mut all: Vec<_> = BINDINGS.iter().flat_map(|binding| binding.keys).collect();
        let count = all.len();
        all.sort_unstable_by_key(|key| format!("{key:?}"));
        all.dedup();
        assert_eq!(all.len(), count);
    }
}
