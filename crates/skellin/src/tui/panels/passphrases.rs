//! The passphrases of a store: listed, added, changed, revoked.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{Passphrase, weakness};
use skellin_store::PassphraseSlot;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::{popup, trouble_lines},
    text_field::TextField,
};
use crate::{
    tui::{
        drawn::Drawn,
        model::{List, Model},
        worker::{PassphraseAct, PassphrasesNow, Report, Request, Trouble},
    },
    words,
};

/// What the keys go to.
enum Stage {
    /// Something is under way at the store.
    Busy,
    /// The passphrase in use is typed, where the configuration names none.
    Asking { is_wrong: bool },
    /// One is chosen from the list.
    Listed,
    /// A new one is typed, twice, with a label; it is added, or put in place of the one in use.
    Typing { changes: bool, at: usize },
    /// Whether one is to be revoked.
    Revoking,
}

/// The passphrases of a store.
pub(in crate::tui) struct PassphrasesPanel {
    store: String,
    stage: Stage,
    present: TextField,
    new: TextField,
    again: TextField,
    label: TextField,
    slots: Vec<PassphraseSlot>,
    list: List,
    trouble: Option<Trouble>,
    done: Option<String>,
}

#[derive(Clone, Copy)]
enum Act {
    Leave,
    ToList,
    Open,
    Up,
    Down,
    Add,
    Change,
    Revoke,
    DoRevoke,
    Next,
}

use KeyCode::{BackTab, Char, Down, Enter, Esc, Tab, Up};

const BUSY: &[Key<Act>] = &[key(&[Esc], "Esc", Act::Leave, "back")];
const ASKING: &[Key<Act>] =
    &[key(&[Enter], "Enter", Act::Open, "open"), key(&[Esc], "Esc", Act::Leave, "back")];
const LISTED: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "choose"),
    key(&[Down], "", Act::Down, ""),
    key(&[Char('a')], "a", Act::Add, "add"),
    key(&[Char('c')], "c", Act::Change, "change the one in use"),
    key(&[Char('x')], "x", Act::Revoke, "revoke"),
    key(&[Esc], "Esc", Act::Leave, "back"),
];
const TYPING: &[Key<Act>] = &[
    key(&[Up, BackTab], "↑↓", Act::Up, "fields"),
    key(&[Down, Tab], "", Act::Down, ""),
    key(&[Enter], "Enter", Act::Next, "next, save"),
    key(&[Esc], "Esc", Act::ToList, "back"),
];
const REVOKING: &[Key<Act>] = &[
    key(&[Char('y')], "y", Act::DoRevoke, "revoke it"),
    key(&[Esc], "Esc", Act::ToList, "keep it"),
];

impl PassphrasesPanel {
    pub fn open(store: String) -> Opened {
        let panel = Self {
            store,
            stage: Stage::Busy,
            present: TextField::secret(),
            new: TextField::secret(),
            again: TextField::secret(),
            label: TextField::default(),
            slots: Vec::new(),
            list: List::default(),
            trouble: None,
            done: None,
        };
        let request = panel.request(PassphraseAct::List);
        Opened::asking(panel, request)
    }

    fn request(&self, act: PassphraseAct) -> Request {
        let present: Option<Passphrase> =
            (!self.present.is_empty()).then(|| self.present.passphrase());
        Request::Passphrases { store: self.store.clone(), present, act }
    }

    /// What came of what was asked: a word on it, and all there are now.
    fn take(&mut self, end: Result<PassphrasesNow, Trouble>) {
        match end {
            Ok(PassphrasesNow { done, is_replaced, slots }) => {
                if is_replaced && !self.present.is_empty() {
                    self.present = std::mem::take(&mut self.new);
                }
                (self.done, self.slots, self.trouble) = (done, slots, None);
                (self.new, self.again) = (TextField::secret(), TextField::secret());
                self.label = TextField::default();
                self.list.selected = self.list.selected.min(self.slots.len().saturating_sub(1));
                self.stage = Stage::Listed;
            }
            Err(trouble) => {
                self.stage = match trouble.passphrase {
                    Some(is_wrong) => Stage::Asking { is_wrong },
                    None => Stage::Listed,
                };
                self.trouble = Some(trouble).filter(|trouble| trouble.passphrase.is_none());
            }
        }
    }

    fn keys(&self) -> &'static [Key<Act>] {
        match &self.stage {
            Stage::Busy => BUSY,
            Stage::Asking { .. } => ASKING,
            Stage::Listed => LISTED,
            Stage::Typing { .. } => TYPING,
            Stage::Revoking => REVOKING,
        }
    }

    /// What is typed into.
    fn field(&mut self) -> Option<&mut TextField> {
        match &self.stage {
            Stage::Asking { .. } => Some(&mut self.present),
            Stage::Typing { at: 0, .. } => Some(&mut self.new),
            Stage::Typing { at: 1, .. } => Some(&mut self.again),
            Stage::Typing { .. } => Some(&mut self.label),
            Stage::Busy | Stage::Listed | Stage::Revoking => None,
        }
    }

    /// Why the new one cannot be saved yet.
    fn lacks(&self) -> Option<String> {
        if self.new.is_empty() {
            return Some("choose a passphrase: a few words".to_owned());
        }
        if let Some(why) = weakness(&self.new.passphrase()) {
            return Some(format!("too weak: {why}"));
        }
        (!self.new.is_same(&self.again)).then(|| "the two passphrases differ".to_owned())
    }

    /// The next field, or all is typed.
    fn go_on(&mut self) -> Answer {
        let Stage::Typing { changes, at } = &mut self.stage else { return Answer::Stay };
        if *at < 2 {
            *at += 1;
            return Answer::Stay;
        }
        let changes = *changes;
        if self.lacks().is_some() {
            return Answer::Stay;
        }
        let label = Some(self.label.text().trim().to_owned());
        let label = label.filter(|label| !label.is_empty());
        let new = self.new.passphrase();
        self.act(match changes {
            true => PassphraseAct::Change(new, label),
            false => PassphraseAct::Add(new, label),
        })
    }

    fn step(&mut self, down: bool) {
        match &mut self.stage {
            Stage::Typing { at, .. } => {
                *at = if down { (*at + 1).min(2) } else { at.saturating_sub(1) };
            }
            _ => self.list.step(if down { 1 } else { -1 }, self.slots.len()),
        }
    }

    fn act(&mut self, act: PassphraseAct) -> Answer {
        (self.stage, self.trouble) = (Stage::Busy, None);
        Answer::Ask(self.request(act))
    }

    fn chosen(&self) -> Option<&PassphraseSlot> {
        self.slots.get(self.list.selected)
    }

    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let mut lines = Vec::new();
        for (number, slot) in self.slots.iter().enumerate() {
            let created = slot.created.map(|created| words::moment(created * 1000));
            let text = format!(
                "{}  {:<22}  {:<7} {}",
                &slot.id[..slot.id.len().min(8)],
                created.unwrap_or_default(),
                if slot.is_own { "in use" } else { "" },
                words::path(slot.label.as_deref().unwrap_or_default().as_bytes())
            );
            let here = number == self.list.selected && !matches!(self.stage, Stage::Typing { .. });
            lines.push(Line::styled(text, if here { theme.cursor() } else { Style::new() }));
        }
        if !lines.is_empty() {
            lines.push(Line::from(""));
        }
        match &self.stage {
            Stage::Busy => lines.push(Line::styled("working …", theme.is())),
            Stage::Asking { is_wrong } => {
                lines.push(row("Passphrase", &self.present, true, theme.strong()));
                if *is_wrong {
                    let text = format!("Wrong passphrase for store {}.", self.store);
                    lines.push(Line::styled(text, theme.wrong()));
                }
            }
            Stage::Listed => {
                if let Some(done) = &self.done {
                    lines.push(Line::styled(format!("✓ {done}"), theme.well()));
                }
                let text =
                    "Each passphrase opens the whole store. The one in use cannot be revoked.";
                lines.push(Line::styled(text, theme.quiet()));
            }
            Stage::Typing { changes, at } => {
                let title =
                    if *changes { "Change the passphrase in use" } else { "Add a passphrase" };
                lines.push(Line::styled(title, theme.strong()));
                let fields =
                    [("Passphrase", &self.new), ("Repeat", &self.again), ("Label", &self.label)];
                for (number, (name, field)) in fields.into_iter().enumerate() {
                    lines.push(row(name, field, number == *at, theme.strong()));
                }
                lines.push(match self.lacks() {
                    Some(lacks) => Line::styled(format!("next: {lacks}"), theme.is()),
                    None => Line::styled("Enter on the label saves it", theme.well()),
                });
            }
            Stage::Revoking => {
                let id = self.chosen().map_or("", |slot| &slot.id[..slot.id.len().min(8)]);
                let text = format!("Revoke {id}? Whoever has it can no longer open the store.");
                lines.push(Line::styled(text, theme.wrong()));
            }
        }
        lines.extend(self.trouble.iter().flat_map(|trouble| trouble_lines(app, trouble)));
        lines
    }
}

impl Panel for PassphrasesPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        let mut told = hints(self.keys());
        let reveals = match &self.stage {
            Stage::Asking { .. } => Some(&self.present),
            Stage::Typing { at: 0, .. } => Some(&self.new),
            Stage::Typing { at: 1, .. } => Some(&self.again),
            _ => None,
        };
        if let Some(field) = reveals {
            told.insert(told.len() - 1, field.reveal_hint());
        }
        told
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        match meaning(self.keys(), key) {
            Some(Act::Leave) => return Answer::Dismiss,
            Some(Act::ToList) => self.stage = Stage::Listed,
            Some(Act::Open) => return self.act(PassphraseAct::List),
            Some(Act::Up) => self.step(false),
            Some(Act::Down) => self.step(true),
            Some(act @ (Act::Add | Act::Change)) => {
                self.done = None;
                self.stage = Stage::Typing { changes: matches!(act, Act::Change), at: 0 };
            }
            Some(Act::Revoke) => {
                if !self.slots.is_empty() {
                    self.done = None;
                    self.stage = Stage::Revoking;
                }
            }
            Some(Act::DoRevoke) => {
                if let Some(id) = self.chosen().map(|slot| slot.id.clone()) {
                    return self.act(PassphraseAct::Revoke(id));
                }
            }
            Some(Act::Next) => return self.go_on(),
            None => {
                if let Some(field) = self.field() {
                    field.key(key);
                }
            }
        }
        Answer::Stay
    }

    fn paste(&mut self, text: &str) -> Answer {
        if let Some(field) = self.field() {
            field.insert(text);
        }
        Answer::Stay
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Passphrases { store, end } if store == self.store => {
                self.take(end);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let title = format!(" Passphrases of store {} ", self.store);
        popup(frame, app, &title, self.lines(app), room.whole, 96);
    }
}

fn row(name: &str, field: &TextField, here: bool, strong: Style) -> Line<'static> {
    let style = if here { strong } else { Style::new() };
    Line::from(vec![Span::raw(format!("{name:<12}")), Span::styled(field.shown(here), style)])
}
