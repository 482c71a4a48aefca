//! What every panel is: something over the screen that takes keys, pasted text, clicks and reports
//! before the screen does. A new one is a module of its own, and whoever opens it.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent, KeyModifiers},
    layout::Rect,
};
use skellin_engine::{Cancel, Passphrase};
use skellin_plan::retention::Sentence;

use crate::tui::{
    drawn::Drawn,
    keys::Action,
    model::Model,
    tray::Gathered,
    worker::{FoundPath, Report, Request},
};

/// A key and what it does, for the hint line.
pub(in crate::tui) type Hint = (&'static str, &'static str);

/// Something over the screen.
pub(in crate::tui) trait Panel {
    /// What its keys do now; one without keys of its own goes with any.
    fn hints(&self, app: &Model) -> Vec<Hint> {
        let _ = app;
        vec![BACK]
    }

    /// A key was pressed.
    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        let _ = app;
        match (meaning(SCROLL, key), self.scrolled()) {
            (Some(lines), Some(scrolled)) => {
                scrolled.by(lines);
                Answer::Stay
            }
            _ => Answer::Dismiss,
        }
    }

    /// How far its text is scrolled, if it can be.
    fn scrolled(&mut self) -> Option<&mut Scrolled> {
        None
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, room: Room);

    /// A line of text was pasted: it is text where something is typed, and nothing anywhere else.
    fn paste(&mut self, text: &str) -> Answer {
        let _ = text;
        Answer::Stay
    }

    /// An entry of its list was clicked.
    fn choose(&mut self, entry: usize) {
        let _ = entry;
    }

    /// The wheel was turned by so many lines.
    fn scroll(&mut self, lines: isize) {
        if let Some(scrolled) = self.scrolled() {
            scrolled.by(lines);
        }
    }

    /// Something was found or done; a report that is none of its business is handed back.
    fn report(&mut self, report: Report) -> Heard {
        Heard::Not(Box::new(report))
    }

    /// What is under way in it.
    fn under_way(&self) -> Option<(String, Cancel)> {
        None
    }

    /// Whether what a key is about is still being read.
    fn has_to_wait(&self, key: KeyEvent, app: &Model) -> bool {
        let _ = (key, app);
        false
    }
}

/// Where a panel may draw.
#[derive(Clone, Copy, Debug)]
pub(in crate::tui) struct Room {
    /// The whole screen.
    pub whole: Rect,
    /// What the screen fills below the ribbon.
    pub body: Rect,
}

/// A panel, and what it asks the worker first.
pub(in crate::tui) struct Opened {
    pub panel: Box<dyn Panel>,
    pub request: Option<Request>,
}

impl Opened {
    pub fn of(panel: impl Panel + 'static) -> Self {
        Self { panel: Box::new(panel), request: None }
    }

    pub fn asking(panel: impl Panel + 'static, request: Request) -> Self {
        Self { panel: Box::new(panel), request: Some(request) }
    }
}

/// What a panel wants done.
pub(in crate::tui) enum Answer {
    /// Nothing beyond the panel.
    Stay,
    Dismiss,
    /// Close it and do something.
    Do(Action),
    /// Close it and go to a lane.
    Lane(usize),
    /// Close it and put the cursor at a moment.
    Moment(i64),
    /// Close it and go to a snapshot of a plan.
    Snapshot {
        plan: String,
        time: i64,
    },
    /// Close it and go to a path that was found.
    Path(Box<FoundPath>),
    /// Close it; these lie on the tray now.
    Tray(Vec<Gathered>),
    /// Ask the worker.
    Ask(Request),
    /// Close it and ask the worker.
    Leave(Request),
    /// Another panel takes its place.
    Turn(Opened),
    /// Close it and open a store with what was typed.
    Unlock {
        store: String,
        passphrase: Passphrase,
    },
    /// Stop everything and close.
    CloseDown,
    /// Close it: a plan of this name was saved.
    Saved(String),
    /// Make a plan that keeps its snapshots in this store.
    PlanFor(String),
    /// Plans and stores have to be looked at again.
    Refresh,
    /// Show what would stay by these sentences.
    Try(Vec<Sentence>),
    /// Put the cursor at a moment to come, below the panel.
    Day(i64),
}

/// What became of a report.
pub(in crate::tui) enum Heard {
    /// It was taken.
    Taken(Answer),
    /// It is none of the panel's business.
    Not(Box<Report>),
}

/// A key of a panel: its meaning, and what the hint line says of it. A panel has a table of these for
/// each of its stages, by which keys are handled and told.
pub(super) struct Key<A: 'static> {
    codes: &'static [KeyCode],
    shown: &'static str,
    does: A,
    says: &'static str,
}

/// A line of a table of keys; without words the hint line leaves it out.
pub(super) const fn key<A>(
    codes: &'static [KeyCode],
    shown: &'static str,
    does: A,
    says: &'static str,
) -> Key<A> {
    Key { codes, shown, does, says }
}

/// What a key means by a table.
pub(super) fn meaning<A: Copy>(table: &[Key<A>], pressed: KeyEvent) -> Option<A> {
    let chord = KeyModifiers::CONTROL | KeyModifiers::ALT;
    let found = table.iter().find(|key| key.codes.contains(&pressed.code));
    found.filter(|_| !pressed.modifiers.intersects(chord)).map(|key| key.does)
}

/// What a table tells the hint line.
pub(super) fn hints<A>(table: &[Key<A>]) -> Vec<Hint> {
    let told = table.iter().filter(|key| !key.says.is_empty());
    told.map(|key| (key.shown, key.says)).collect()
}

/// Whether a key moves in a list or chooses from it.
pub(super) fn is_for_list(code: KeyCode) -> bool {
    use KeyCode::{Char, Down, Enter, PageDown, PageUp, Right, Up};
    matches!(code, Up | Down | PageUp | PageDown | Enter | Right | Char(' '))
}

/// The key that goes back, alone.
pub(super) const BACK: Hint = ("Esc", "back");

/// How far something long was scrolled, in lines.
#[derive(Clone, Copy, Debug, Default)]
pub(in crate::tui) struct Scrolled(usize);

/// A page of what is scrolled, in lines.
const PAGE: isize = 10;

/// The keys that scroll.
pub(super) const SCROLL: &[Key<isize>] = &[
    key(&[KeyCode::Down], "↑↓", 1, "more"),
    key(&[KeyCode::Up], "", -1, ""),
    key(&[KeyCode::PageDown], "", PAGE, ""),
    key(&[KeyCode::PageUp], "", -PAGE, ""),
];

impl Scrolled {
    pub fn by(&mut self, lines: isize) {
        self.0 = self.0.saturating_add_signed(lines);
    }

    /// Where what is to be seen begins, if so much of so many fits.
    pub fn first(self, height: usize, length: usize) -> usize {
        self.0.min(length.saturating_sub(height))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_of_keys_drives_handling_and_hints() {
        assert_eq!(meaning(SCROLL, KeyEvent::from(KeyCode::PageUp)), Some(-PAGE));
        assert_eq!(meaning(SCROLL, KeyEvent::from(KeyCode::Enter)), None);
        let chord = KeyEvent::new(KeyCode::Down, KeyModifiers::CONTROL);
        assert_eq!(meaning(SCROLL, chord), None, "a chord is another key");
        assert_eq!(hints(SCROLL), [("↑↓", "more")]);
    }
}
