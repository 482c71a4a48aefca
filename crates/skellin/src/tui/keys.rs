//! The one table of keys: it drives the handling, the hint line, the help and the finder.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// What can be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Action {
    Earlier,
    Later,
    DayEarlier,
    DayLater,
    Oldest,
    Now,
    GoTo,
    Search,
    NextPlan,
    PreviousPlan,
    Closer,
    Wider,
    Up,
    Down,
    PageUp,
    PageDown,
    Open,
    Above,
    Look,
    EarlierVersion,
    LaterVersion,
    About,
    Compare,
    Gather,
    Tray,
    Restore,
    Why,
    WriteRule,
    TakeBack,
    Order,
    Only,
    Map,
    Fill,
    Retain,
    Pin,
    DryRun,
    Run,
    RunAnyway,
    BackToSource,
    Stop,
    Stores,
    Journal,
    Proof,
    Ribbon,
    NewPlan,
    NewStore,
    Holds,
    Drill,
    Verify,
    Passphrases,
    Reach,
    Examine,
    Entry,
    Find,
    Reload,
    Help,
    Quit,
}

/// Where a key means something.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Where {
    Everywhere,
    Was,
    Is,
    Will,
    /// Is and Will: where a plan can be changed.
    Ahead,
    /// Was and Is: where there is a tree.
    Trees,
    /// Was and Is and Will: wherever the ribbon leads.
    Tenses,
    /// Lists: Stores, Journal, Proof.
    Lists,
    Stores,
    Journal,
    Proof,
}

/// A key and its meaning.
pub(super) struct Binding {
    pub keys: &'static [(KeyCode, KeyModifiers)],
    pub shown: &'static str,
    pub action: Action,
    pub on: Where,
    pub says: &'static str,
    /// What the hint line says, where there is room; empty if it does not.
    pub hint: &'static str,
}

const NONE: KeyModifiers = KeyModifiers::NONE;
const SHIFT: KeyModifiers = KeyModifiers::SHIFT;

const fn binding(
    keys: &'static [(KeyCode, KeyModifiers)],
    shown: &'static str,
    action: Action,
    on: Where,
    says: &'static str,
    hint: &'static str,
) -> Binding {
    Binding { keys, shown, action, on, says, hint }
}

use KeyCode::{
    BackTab, Backspace, Char, Down, End, Enter, Esc, Home, Left, PageDown, PageUp, Right, Tab, Up,
};
use Where::{Ahead, Everywhere, Is, Journal, Lists, Stores, Tenses, Trees, Was, Will};

/// All keys.
pub(super) const BINDINGS: &[Binding] = &[
    binding(&[(Left, NONE)], "←", Action::Earlier, Tenses, "previous snapshot or run", "time"),
    binding(&[(Right, NONE)], "→", Action::Later, Tenses, "next snapshot, now, next run", ""),
    binding(
        &[(Left, SHIFT), (Char(','), NONE)],
        "Shift ←",
        Action::DayEarlier,
        Tenses,
        "one day back",
        "",
    ),
    binding(
        &[(Right, SHIFT), (Char('.'), NONE)],
        "Shift →",
        Action::DayLater,
        Tenses,
        "one day forward",
        "",
    ),
    binding(&[(Home, NONE)], "Home", Action::Oldest, Tenses, "oldest snapshot", ""),
    binding(&[(End, NONE), (Char('n'), NONE)], "n", Action::Now, Everywhere, "now", "now"),
    binding(&[(Char('g'), NONE)], "g", Action::GoTo, Everywhere, "go to a time", "go to"),
    binding(
        &[(Char('/'), NONE)],
        "/",
        Action::Search,
        Everywhere,
        "search all snapshots; Tab: deleted",
        "search",
    ),
    binding(&[(Tab, NONE)], "Tab", Action::NextPlan, Tenses, "next plan", "plan"),
    binding(
        &[(BackTab, SHIFT), (BackTab, NONE)],
        "Shift Tab",
        Action::PreviousPlan,
        Tenses,
        "previous plan",
        "",
    ),
    binding(
        &[(Char('+'), NONE), (Char('='), NONE)],
        "+",
        Action::Closer,
        Everywhere,
        "zoom in",
        "",
    ),
    binding(&[(Char('-'), NONE)], "-", Action::Wider, Everywhere, "zoom out", ""),
    binding(&[(Up, NONE)], "↑", Action::Up, Everywhere, "line up", ""),
    binding(&[(Down, NONE)], "↓", Action::Down, Everywhere, "line down", ""),
    binding(&[(PageUp, NONE)], "PgUp", Action::PageUp, Everywhere, "page up", ""),
    binding(&[(PageDown, NONE)], "PgDn", Action::PageDown, Everywhere, "page down", ""),
    binding(
        &[(Enter, NONE), (Char(' '), NONE)],
        "Enter",
        Action::Open,
        Trees,
        "open directory; in Was view file",
        "open",
    ),
    binding(&[(Backspace, NONE)], "Backspace", Action::Above, Trees, "parent directory", ""),
    binding(&[(Char('l'), NONE)], "l", Action::Look, Was, "view file", ""),
    binding(
        &[(Char('v'), NONE)],
        "v",
        Action::EarlierVersion,
        Was,
        "previous version of this path",
        "versions",
    ),
    binding(
        &[(Char('V'), SHIFT), (Char('V'), NONE)],
        "V",
        Action::LaterVersion,
        Was,
        "next version of this path",
        "",
    ),
    binding(&[(Char('i'), NONE)], "i", Action::About, Was, "details and versions of this path", ""),
    binding(
        &[(Char('c'), NONE)],
        "c",
        Action::Compare,
        Was,
        "compare this path with now, or another time",
        "compare",
    ),
    binding(
        &[(Char('t'), NONE)],
        "t",
        Action::Gather,
        Was,
        "put this path on the tray, or take it off",
        "tray",
    ),
    binding(
        &[(Char('T'), SHIFT), (Char('T'), NONE)],
        "T",
        Action::Tray,
        Everywhere,
        "the tray: restore what lies on it",
        "",
    ),
    binding(&[(Char('b'), NONE)], "b", Action::Restore, Was, "restore this path", "restore"),
    binding(&[(Char('d'), NONE)], "d", Action::DryRun, Is, "dry run", "dry run"),
    binding(&[(Char('r'), NONE)], "r", Action::Run, Is, "run now", "run"),
    binding(
        &[(Char('R'), SHIFT), (Char('R'), NONE)],
        "R",
        Action::RunAnyway,
        Is,
        "run even if much is suddenly gone",
        "run anyway",
    ),
    binding(&[(Char('x'), NONE)], "x", Action::Stop, Is, "stop the run", "stop"),
    binding(
        &[(Esc, NONE)],
        "Esc",
        Action::BackToSource,
        Is,
        "back from the result to the sources",
        "sources",
    ),
    binding(
        &[(Char('w'), NONE)],
        "w",
        Action::WriteRule,
        Is,
        "write a rule for this path, with preview",
        "rule",
    ),
    binding(
        &[(Char('z'), NONE)],
        "z",
        Action::TakeBack,
        Ahead,
        "undo the last change of the plan (Is, too)",
        "undo",
    ),
    binding(
        &[(Char('c'), NONE)],
        "c",
        Action::Only,
        Is,
        "filter: changes, new, gone, excluded …",
        "changes",
    ),
    binding(&[(Char('o'), NONE)], "o", Action::Order, Is, "sort by name, size, changes", "sort"),
    binding(&[(Char('m'), NONE)], "m", Action::Map, Is, "map of space used", ""),
    binding(
        &[(Char('w'), NONE)],
        "w",
        Action::Retain,
        Will,
        "change retention, with preview",
        "retention",
    ),
    binding(
        &[(Char('m'), NONE)],
        "m",
        Action::Fill,
        Will,
        "fill and costs of the plan's stores",
        "fill and costs",
    ),
    binding(&[(Char('k'), NONE)], "k", Action::Pin, Was, "pin this snapshot, or unpin it", "pin"),
    binding(
        &[(Char('y'), NONE)],
        "y",
        Action::Why,
        Tenses,
        "why: the rule for this path; in Will snapshots",
        "why",
    ),
    binding(
        &[(Char('s'), NONE)],
        "s",
        Action::Stores,
        Everywhere,
        "Stores: places, space, newest snapshots",
        "Stores",
    ),
    binding(
        &[(Char('j'), NONE)],
        "j",
        Action::Journal,
        Everywhere,
        "Journal: runs and their results",
        "Journal",
    ),
    binding(
        &[(Char('p'), NONE)],
        "p",
        Action::Proof,
        Everywhere,
        "Proof: copies, verifications, restores",
        "Proof",
    ),
    binding(
        &[(Char('t'), NONE)],
        "t",
        Action::Reach,
        Stores,
        "Stores: test connection, step by step",
        "test connection",
    ),
    binding(
        &[(Char('d'), NONE)],
        "d",
        Action::Drill,
        Where::Proof,
        "Proof: drill a restore of the selected plan",
        "drill",
    ),
    binding(
        &[(Char('v'), NONE)],
        "v",
        Action::Verify,
        Stores,
        "Stores: verify every byte, and repair damage",
        "verify",
    ),
    binding(
        &[(Char('h'), NONE)],
        "h",
        Action::Holds,
        Stores,
        "Stores: content of the place",
        "content",
    ),
    binding(
        &[(Char('k'), NONE)],
        "k",
        Action::Passphrases,
        Stores,
        "Stores: passphrases: list, add, change, revoke",
        "passphrases",
    ),
    binding(
        &[(Char('c'), NONE)],
        "c",
        Action::NewStore,
        Stores,
        "Stores: create a store, step by step",
        "create a store",
    ),
    binding(
        &[(Enter, NONE), (Char(' '), NONE)],
        "Enter",
        Action::Entry,
        Journal,
        "Journal: open entry with steps and output",
        "open",
    ),
    binding(&[(Esc, NONE)], "Esc", Action::Ribbon, Lists, "back to the ribbon", "back"),
    binding(&[(Char('a'), NONE)], "a", Action::NewPlan, Everywhere, "new plan, step by step", ""),
    binding(&[(Char('e'), NONE)], "e", Action::Examine, Everywhere, "problems in the set-up", ""),
    binding(
        &[(Char('f'), NONE)],
        "f",
        Action::Find,
        Everywhere,
        "find an action by typing",
        "find",
    ),
    binding(&[(Char('u'), NONE)], "u", Action::Reload, Everywhere, "refresh", ""),
    binding(
        &[(Char('?'), NONE), (Char('?'), SHIFT)],
        "?",
        Action::Help,
        Everywhere,
        "all keys",
        "keys",
    ),
    binding(
        &[(Char('q'), NONE), (Char('c'), KeyModifiers::CONTROL)],
        "q",
        Action::Quit,
        Everywhere,
        "quit",
        "quit",
    ),
];

/// What the screen is, as far as keys are concerned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Place {
    Was,
    Is,
    Will,
    Stores,
    Journal,
    Proof,
}

impl Where {
    /// Whether a key means something here.
    pub fn holds(self, place: Place) -> bool {
        match self {
            Self::Everywhere => true,
            Self::Was => place == Place::Was,
            Self::Is => place == Place::Is,
            Self::Will => place == Place::Will,
            Self::Ahead => matches!(place, Place::Is | Place::Will),
            Self::Trees => matches!(place, Place::Was | Place::Is),
            Self::Tenses => !matches!(place, Place::Proof | Place::Stores | Place::Journal),
            Self::Lists => matches!(place, Place::Proof | Place::Stores | Place::Journal),
            Self::Stores => place == Place::Stores,
            Self::Journal => place == Place::Journal,
            Self::Proof => place == Place::Proof,
        }
    }
}

impl Action {
    /// Whether it changes neither a store nor what is configured: what a passphrase leaves that only
    /// restores.
    pub fn only_restores(self) -> bool {
        use Action as A;
        matches!(
            self,
            A::Earlier
                | A::Later
                | A::DayEarlier
                | A::DayLater
                | A::Oldest
                | A::Now
                | A::GoTo
                | A::Search
                | A::NextPlan
                | A::PreviousPlan
                | A::Closer
                | A::Wider
                | A::Up
                | A::Down
                | A::PageUp
                | A::PageDown
                | A::Open
                | A::Above
                | A::Look
                | A::EarlierVersion
                | A::LaterVersion
                | A::About
                | A::Compare
                | A::Gather
                | A::Tray
                | A::Restore
                | A::Ribbon
                | A::Find
                | A::Reload
                | A::Help
                | A::Quit
        )
    }
}

/// The keys there are; `only_restores`: with a passphrase that only restores.
pub(super) fn bindings(only_restores: bool) -> impl Iterator<Item = &'static Binding> {
    BINDINGS.iter().filter(move |binding| !only_restores || binding.action.only_restores())
}

/// What a key means here, if anything.
pub(super) fn action(key: KeyEvent, place: Place) -> Option<Action> {
    let pressed = |(code, modifiers): &(KeyCode, KeyModifiers)| {
        *code == key.code && *modifiers == key.modifiers
    };
    BINDINGS
        .iter()
        .find(|binding| binding.on.holds(place) && binding.keys.iter().any(pressed))
        .map(|binding| binding.action)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_in_one_place() {
        for place in
            [Place::Was, Place::Is, Place::Will, Place::Proof, Place::Stores, Place::Journal]
        {
            let here = BINDINGS.iter().filter(|binding| binding.on.holds(place));
            let mut all: Vec<String> =
                here.flat_map(|binding| binding.keys).map(|key| format!("{key:?}")).collect();
            let count = all.len();
            all.sort_unstable();
            all.dedup();
            assert_eq!(all.len(), count, "{place:?}");
        }
    }

    #[test]
    fn every_action_has_one_line_in_the_table() {
        let mut actions: Vec<_> = BINDINGS.iter().map(|binding| binding.action).collect();
        let count = actions.len();
        actions.sort_unstable_by_key(|action| format!("{action:?}"));
        actions.dedup();
        assert_eq!(actions.len(), count);
    }
}
