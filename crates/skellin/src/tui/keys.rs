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
    /// Key and meaning as the hint line shows them, where there is room; empty if it does not.
    pub hint: &'static str,
}

/// All keys of the main screen.
pub(super) const BINDINGS: &[Binding] = &[
    Binding {
        keys: &[KeyCode::Left],
        shown: "←",
        action: Action::Earlier,
        says: "a snapshot earlier",
        hint: "←→ time",
    },
    Binding {
        keys: &[KeyCode::Right],
        shown: "→",
        action: Action::Later,
        says: "a snapshot later",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::Home],
        shown: "Home",
        action: Action::Oldest,
        says: "the oldest snapshot",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::End],
        shown: "End",
        action: Action::Newest,
        says: "the newest snapshot",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::Tab],
        shown: "Tab",
        action: Action::NextPlan,
        says: "next plan",
        hint: "Tab next plan",
    },
    Binding {
        keys: &[KeyCode::BackTab],
        shown: "Shift-Tab",
        action: Action::PreviousPlan,
        says: "previous plan",
        hint: "",
    },
    Binding { keys: &[KeyCode::Up], shown: "↑", action: Action::Up, says: "a path up", hint: "" },
    Binding {
        keys: &[KeyCode::Down],
        shown: "↓",
        action: Action::Down,
        says: "a path down",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::PageUp],
        shown: "PgUp",
        action: Action::PageUp,
        says: "a page up",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::PageDown],
        shown: "PgDn",
        action: Action::PageDown,
        says: "a page down",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::Enter, KeyCode::Char(' ')],
        shown: "Enter",
        action: Action::Open,
        says: "open or close a directory",
        hint: "Enter open",
    },
    Binding {
        keys: &[KeyCode::Backspace],
        shown: "Backspace",
        action: Action::Close,
        says: "to the directory above",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::Char('b')],
        shown: "b",
        action: Action::BringBack,
        says: "bring the path back",
        hint: "b bring back",
    },
    Binding {
        keys: &[KeyCode::Char('+'), KeyCode::Char('=')],
        shown: "+",
        action: Action::Closer,
        says: "fewer days on the ribbon",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::Char('-')],
        shown: "-",
        action: Action::Wider,
        says: "more days on the ribbon",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::Char('u')],
        shown: "u",
        action: Action::Reload,
        says: "look again what is there",
        hint: "",
    },
    Binding {
        keys: &[KeyCode::Char('?')],
        shown: "?",
        action: Action::Help,
        says: "all keys",
        hint: "? all keys",
    },
    Binding {
        keys: &[KeyCode::Char('q')],
        shown: "q",
        action: Action::Quit,
        says: "close",
        hint: "q close",
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
