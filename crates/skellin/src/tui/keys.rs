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
    Restore,
    Why,
    WriteRule,
    TakeBack,
    Order,
    Only,
    Map,
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
    /// Was and Is: where there is a tree.
    Trees,
    /// Was and Is and Will: wherever the ribbon leads.
    Tenses,
    /// Lists: Stores, Journal, Proof.
    Lists,
    Stores,
    Journal,
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
use Where::{Everywhere, Is, Journal, Lists, Stores, Tenses, Trees, Was};

/// All keys.
pub(super) const BINDINGS: &[Binding] = &[
    binding(&[(Left, NONE)], "←", Action::Earlier, Tenses, "to the snapshot or run before", "time"),
    binding(
        &[(Right, NONE)],
        "→",
        Action::Later,
        Tenses,
        "to the next, to now, to what is to come",
        "",
    ),
    binding(
        &[(Left, SHIFT), (Char(','), NONE)],
        "Shift ←",
        Action::DayEarlier,
        Tenses,
        "a day earlier",
        "",
    ),
    binding(
        &[(Right, SHIFT), (Char('.'), NONE)],
        "Shift →",
        Action::DayLater,
        Tenses,
        "a day later",
        "",
    ),
    binding(&[(Home, NONE)], "Home", Action::Oldest, Tenses, "to the oldest snapshot", ""),
    binding(&[(End, NONE), (Char('n'), NONE)], "n", Action::Now, Everywhere, "to now", "now"),
    binding(
        &[(Char('g'), NONE)],
        "g",
        Action::GoTo,
        Everywhere,
        "to a moment you type",
        "go to a moment",
    ),
    binding(&[(Tab, NONE)], "Tab", Action::NextPlan, Tenses, "to the next plan", "plan"),
    binding(
        &[(BackTab, SHIFT), (BackTab, NONE)],
        "Shift Tab",
        Action::PreviousPlan,
        Tenses,
        "to the plan before",
        "",
    ),
    binding(
        &[(Char('+'), NONE), (Char('='), NONE)],
        "+",
        Action::Closer,
        Everywhere,
        "less time on the ribbon",
        "",
    ),
    binding(&[(Char('-'), NONE)], "-", Action::Wider, Everywhere, "more time on the ribbon", ""),
    binding(&[(Up, NONE)], "↑", Action::Up, Everywhere, "a line up", ""),
    binding(&[(Down, NONE)], "↓", Action::Down, Everywhere, "a line down", ""),
    binding(&[(PageUp, NONE)], "PgUp", Action::PageUp, Everywhere, "a page up", ""),
    binding(&[(PageDown, NONE)], "PgDn", Action::PageDown, Everywhere, "a page down", ""),
    binding(
        &[(Enter, NONE), (Char(' '), NONE)],
        "Enter",
        Action::Open,
        Trees,
        "open a directory; in Was look into a file",
        "open",
    ),
    binding(&[(Backspace, NONE)], "Backspace", Action::Above, Trees, "to the directory above", ""),
    binding(&[(Char('l'), NONE)], "l", Action::Look, Was, "look into the file", ""),
    binding(
        &[(Char('v'), NONE)],
        "v",
        Action::EarlierVersion,
        Was,
        "to the version of this path before",
        "versions",
    ),
    binding(
        &[(Char('V'), SHIFT), (Char('V'), NONE)],
        "V",
        Action::LaterVersion,
        Was,
        "to the version of this path after",
        "",
    ),
    binding(
        &[(Char('i'), NONE)],
        "i",
        Action::About,
        Was,
        "all about this path, with its versions",
        "",
    ),
    binding(&[(Char('b'), NONE)], "b", Action::Restore, Was, "bring the path back", "bring back"),
    binding(
        &[(Char('d'), NONE)],
        "d",
        Action::DryRun,
        Is,
        "dry run: what would happen now",
        "dry run",
    ),
    binding(&[(Char('r'), NONE)], "r", Action::Run, Is, "run the plan now", "run"),
    binding(
        &[(Char('R'), SHIFT), (Char('R'), NONE)],
        "R",
        Action::RunAnyway,
        Is,
        "run it also if much is suddenly gone or different",
        "run all the same",
    ),
    binding(&[(Char('x'), NONE)], "x", Action::Stop, Is, "stop the run", "stop"),
    binding(
        &[(Esc, NONE)],
        "Esc",
        Action::BackToSource,
        Is,
        "from the outcome of a run back to the sources",
        "sources",
    ),
    binding(
        &[(Char('w'), NONE)],
        "w",
        Action::WriteRule,
        Is,
        "write a rule about this path, and see what it changes",
        "rule",
    ),
    binding(
        &[(Char('z'), NONE)],
        "z",
        Action::TakeBack,
        Is,
        "take the last change of the plan back",
        "take back",
    ),
    binding(
        &[(Char('c'), NONE)],
        "c",
        Action::Only,
        Is,
        "show only what changes: all of it, new, changed, gone, left out, not readable",
        "changes",
    ),
    binding(
        &[(Char('o'), NONE)],
        "o",
        Action::Order,
        Is,
        "order by name, by size, by change",
        "order",
    ),
    binding(&[(Char('m'), NONE)], "m", Action::Map, Is, "the map of where the space goes", ""),
    binding(
        &[(Char('y'), NONE)],
        "y",
        Action::Why,
        Tenses,
        "why: what the rules say of this path, and which decides",
        "why",
    ),
    binding(
        &[(Char('s'), NONE)],
        "s",
        Action::Stores,
        Everywhere,
        "Stores: places, room, newest snapshots",
        "Stores",
    ),
    binding(
        &[(Char('j'), NONE)],
        "j",
        Action::Journal,
        Everywhere,
        "Journal: what was run and what it said",
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
        "Stores: try the way there, step by step",
        "try the way",
    ),
    binding(
        &[(Char('h'), NONE)],
        "h",
        Action::Holds,
        Stores,
        "Stores: what lies at the place",
        "holds",
    ),
    binding(
        &[(Char('c'), NONE)],
        "c",
        Action::NewStore,
        Stores,
        "Stores: create one, step by step",
        "create a store",
    ),
    binding(
        &[(Enter, NONE), (Char(' '), NONE)],
        "Enter",
        Action::Entry,
        Journal,
        "Journal: open an entry, its steps in time and words",
        "open",
    ),
    binding(&[(Esc, NONE)], "Esc", Action::Ribbon, Lists, "back to the ribbon", "back"),
    binding(&[(Char('a'), NONE)], "a", Action::NewPlan, Everywhere, "add a plan, step by step", ""),
    binding(
        &[(Char('e'), NONE)],
        "e",
        Action::Examine,
        Everywhere,
        "examine the set-up: what is to mend, what no plan takes",
        "",
    ),
    binding(
        &[(Char('f'), NONE)],
        "f",
        Action::Find,
        Everywhere,
        "find what to do, by typing words",
        "find",
    ),
    binding(&[(Char('u'), NONE)], "u", Action::Reload, Everywhere, "look again what is there", ""),
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
        "close",
        "close",
    ),
];

/// What the screen is, as far as keys are concerned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Place {
    Was,
    Is,
    Will,
    List,
    Stores,
    Journal,
}

impl Where {
    /// Whether a key means something here.
    pub fn holds(self, place: Place) -> bool {
        match self {
            Self::Everywhere => true,
            Self::Was => place == Place::Was,
            Self::Is => place == Place::Is,
            Self::Trees => matches!(place, Place::Was | Place::Is),
            Self::Tenses => !matches!(place, Place::List | Place::Stores | Place::Journal),
            Self::Lists => matches!(place, Place::List | Place::Stores | Place::Journal),
            Self::Stores => place == Place::Stores,
            Self::Journal => place == Place::Journal,
        }
    }
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
            [Place::Was, Place::Is, Place::Will, Place::List, Place::Stores, Place::Journal]
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
