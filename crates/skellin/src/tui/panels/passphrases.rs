//! The passphrases of a store: listed, added, changed, revoked.

use ratatui::{
    crossterm::event::{KeyCode, KeyEvent},
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{Passphrase, weakness};
use skellin_store::PassphraseSlot;

use super::{answer::Answer, text_field::TextField};
use crate::{
    tui::{
        model::{List, Model},
        worker::{PassphraseAct, PassphrasesNow, Request, Trouble},
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
    pub store: String,
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

impl PassphrasesPanel {
    /// With what to ask the worker first.
    pub fn begin(store: String) -> (Self, Request) {
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
        (panel, request)
    }

    fn request(&self, act: PassphraseAct) -> Request {
        let present: Option<Passphrase> =
            (!self.present.is_empty()).then(|| self.present.passphrase());
        Request::Passphrases { store: self.store.clone(), present, act }
    }

    /// What came of what was asked: a word on it, and all there are now.
    pub fn take(&mut self, store: &str, end: Result<PassphrasesNow, Trouble>) {
        if store != self.store {
            return;
        }
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

    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        match &self.stage {
            Stage::Busy => vec![("Esc", "back")],
            Stage::Asking { .. } => {
                vec![("Enter", "open"), self.present.reveal_hint(), ("Esc", "back")]
            }
            Stage::Listed => vec![
                ("↑↓", "choose"),
                ("a", "add"),
                ("c", "change the one in use"),
                ("x", "revoke"),
                ("Esc", "back"),
            ],
            Stage::Typing { at, .. } => {
                let mut hints = vec![("↑↓", "fields"), ("Enter", "next, save")];
                hints.extend(match at {
                    0 => Some(self.new.reveal_hint()),
                    1 => Some(self.again.reveal_hint()),
                    _ => None,
                });
                hints.push(("Esc", "back"));
                hints
            }
            Stage::Revoking => vec![("y", "revoke it"), ("Esc", "keep it")],
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

    pub fn key(&mut self, key: KeyEvent) -> Answer {
        match (&mut self.stage, key.code) {
            (Stage::Busy | Stage::Asking { .. } | Stage::Listed, KeyCode::Esc) => {
                return Answer::Dismiss;
            }
            (Stage::Typing { .. } | Stage::Revoking, KeyCode::Esc) => self.stage = Stage::Listed,
            (Stage::Busy, _) => {}
            (Stage::Asking { .. }, KeyCode::Enter) => return self.act(PassphraseAct::List),
            (Stage::Asking { .. }, _) => drop(self.present.key(key)),
            (Stage::Listed, KeyCode::Up) => self.list.step(-1, self.slots.len()),
            (Stage::Listed, KeyCode::Down) => self.list.step(1, self.slots.len()),
            (Stage::Listed, KeyCode::Char(c @ ('a' | 'c'))) => {
                self.done = None;
                self.stage = Stage::Typing { changes: c == 'c', at: 0 };
            }
            (Stage::Listed, KeyCode::Char('x')) if !self.slots.is_empty() => {
                self.done = None;
                self.stage = Stage::Revoking;
            }
            (Stage::Revoking, KeyCode::Char('y')) => {
                if let Some(id) = self.chosen().map(|slot| slot.id.clone()) {
                    return self.act(PassphraseAct::Revoke(id));
                }
            }
            (Stage::Typing { at, .. }, KeyCode::Up | KeyCode::BackTab) => {
                *at = at.saturating_sub(1);
            }
            (Stage::Typing { at, .. }, KeyCode::Down | KeyCode::Tab) => *at = (*at + 1).min(2),
            (Stage::Typing { at, .. }, KeyCode::Enter) if *at < 2 => *at += 1,
            (Stage::Typing { changes, .. }, KeyCode::Enter) => {
                let changes = *changes;
                if self.lacks().is_none() {
                    let label = Some(self.label.text().trim().to_owned());
                    let label = label.filter(|label| !label.is_empty());
                    let new = self.new.passphrase();
                    return self.act(match changes {
                        true => PassphraseAct::Change(new, label),
                        false => PassphraseAct::Add(new, label),
                    });
                }
            }
            (Stage::Typing { at, .. }, _) => match at {
                0 => drop(self.new.key(key)),
                1 => drop(self.again.key(key)),
                _ => drop(self.label.key(key)),
            },
            _ => {}
        }
        Answer::Stay
    }

    fn act(&mut self, act: PassphraseAct) -> Answer {
        (self.stage, self.trouble) = (Stage::Busy, None);
        Answer::Ask(self.request(act))
    }

    fn chosen(&self) -> Option<&PassphraseSlot> {
        self.slots.get(self.list.selected)
    }

    pub fn lines(&self, app: &Model) -> Vec<Line<'static>> {
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
        if let Some(trouble) = &self.trouble {
            lines.push(Line::styled(format!("✕ {}", trouble.what), theme.wrong()));
            lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
        }
        lines
    }
}

fn row(name: &str, field: &TextField, here: bool, strong: Style) -> Line<'static> {
    let style = if here { strong } else { Style::new() };
    Line::from(vec![Span::raw(format!("{name:<12}")), Span::styled(field.shown(here), style)])
}
