//! The store a new plan keeps its snapshots in: one that is there, or a new one in a directory.

use std::{
    collections::BTreeSet,
    path::{Path, PathBuf},
};

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use skellin_engine::NewStore;
use skellin_plan::{PlaceSpec, StoreDraft};

use super::super::{
    panel::{Hint, Key, key, meaning},
    path_field::PathField,
    text_field::TextField,
};
use crate::tui::worker::Request;

/// What is asked about the store.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Field {
    Choice,
    Name,
    Place,
    Passphrase,
    Again,
    Keep,
}

/// The step of the store.
pub(super) struct StoreStep {
    pub names: Vec<String>,
    /// Those whose passphrase stands nowhere, so that scheduled runs cannot start.
    keyless: BTreeSet<String>,
    /// Number of the store chosen; the number after the last means a new one.
    pub chosen: usize,
    pub field: Field,
    pub name: TextField,
    pub place: PathField,
    pub passphrase: TextField,
    pub again: TextField,
    /// Whether the passphrase is kept in a file only its owner can read.
    pub keep: bool,
    config: PathBuf,
}

/// What a key on this step leads to.
pub(super) enum Led {
    Nowhere,
    On,
    Ask(Request),
}

#[derive(Clone, Copy)]
pub(super) enum Act {
    Up,
    Down,
    Next,
    Turn,
}

use KeyCode::{Char, Down, Enter, Left, Right, Up};

const FIELDS: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "fields"),
    key(&[Down], "", Act::Down, ""),
    key(&[Enter], "", Act::Next, ""),
];
const KEEP: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "fields"),
    key(&[Down], "", Act::Down, ""),
    key(&[Enter], "", Act::Next, ""),
    key(&[Char(' '), Left, Right], "Space", Act::Turn, "change"),
];

impl StoreStep {
    pub fn new(
        config: &Path,
        names: &[String],
        keyless: &BTreeSet<String>,
        chosen: Option<&str>,
    ) -> Self {
        let at = names.iter().position(|name| Some(name.as_str()) == chosen);
        Self {
            names: names.to_vec(),
            keyless: keyless.clone(),
            chosen: at.unwrap_or(0),
            field: Field::Choice,
            name: TextField::default(),
            place: PathField::for_directories(),
            passphrase: TextField::secret(),
            again: TextField::secret(),
            keep: true,
            config: config.to_owned(),
        }
    }

    pub fn is_new(&self) -> bool {
        self.chosen == self.names.len()
    }

    /// Whether the store is there and its passphrase stands nowhere.
    pub fn is_keyless(&self) -> bool {
        self.names.get(self.chosen).is_some_and(|name| self.keyless.contains(name))
    }

    /// Name of the store.
    pub fn called(&self) -> String {
        self.names.get(self.chosen).cloned().unwrap_or_else(|| self.name.text())
    }

    pub fn key_file(&self) -> PathBuf {
        self.config.join("keys").join(format!("{}.key", self.called()))
    }

    /// The store to be made, if it is a new one.
    pub fn draft(&self) -> Option<NewStore> {
        let draft = || StoreDraft {
            name: self.name.text(),
            place: PlaceSpec::Directory(PathBuf::from(self.place.text())),
            key_file: self.keep.then(|| self.key_file()),
            access: Vec::new(),
        };
        self.is_new().then(|| NewStore { draft: draft(), on: None, write_key: self.keep })
    }

    /// The file for the passphrase of a store that is there, if it was typed to be kept.
    pub fn known_key(&self) -> Option<PathBuf> {
        (self.is_keyless() && self.keep && !self.passphrase.is_empty()).then(|| self.key_file())
    }

    /// Why this step is not done yet, in words.
    pub fn lacks(&self) -> Option<&'static str> {
        if !self.is_new() {
            return None;
        }
        if self.name.is_empty() {
            return Some("enter a name for the store");
        }
        if !self.place.text().starts_with('/') {
            return Some("enter the directory of the store as a full path");
        }
        if self.passphrase.is_empty() {
            return Some("choose a passphrase: a few words");
        }
        (!self.passphrase.is_same(&self.again)).then_some("the two passphrases differ")
    }

    /// The keys that mean something now.
    pub fn keys(&self) -> &'static [Key<Act>] {
        if self.field == Field::Keep { KEEP } else { FIELDS }
    }

    /// What else the hint line says.
    pub fn hint(&self) -> Option<Hint> {
        match self.field {
            Field::Passphrase => Some(self.passphrase.reveal_hint()),
            Field::Again => Some(self.again.reveal_hint()),
            Field::Choice if self.is_keyless() => Some(("Enter", "passphrase")),
            Field::Place if self.place.completion().is_some() => Some(("→", "complete")),
            _ => None,
        }
    }

    fn fields(&self) -> &'static [Field] {
        use Field::{Again, Choice, Keep, Name, Passphrase, Place};
        match (self.is_new(), self.is_keyless()) {
            (true, _) => &[Choice, Name, Place, Passphrase, Again, Keep],
            (false, true) => &[Choice, Passphrase, Keep],
            (false, false) => &[Choice],
        }
    }

    fn move_field(&mut self, down: bool) -> Led {
        let fields = self.fields();
        let at = fields.iter().position(|field| *field == self.field).unwrap_or(0);
        let to = if down { (at + 1).min(fields.len() - 1) } else { at.saturating_sub(1) };
        self.field = fields[to];
        Led::Nowhere
    }

    pub fn key(&mut self, key: KeyEvent) -> Led {
        let Some(act) = meaning(self.keys(), key) else {
            match self.field {
                Field::Place => return self.place.key(key).map_or(Led::Nowhere, Led::Ask),
                _ => drop(self.typed().map(|field| field.key(key))),
            }
            return Led::Nowhere;
        };
        match (act, self.field) {
            (Act::Down, Field::Choice) if self.chosen < self.names.len() => {
                self.choose(self.chosen + 1);
            }
            (Act::Up, Field::Choice) => self.choose(self.chosen.saturating_sub(1)),
            (Act::Down, _) => return self.move_field(true),
            (Act::Up, _) => return self.move_field(false),
            (Act::Next, _) if self.fields().last() == Some(&self.field) => return Led::On,
            (Act::Next, _) => return self.move_field(true),
            (Act::Turn, _) => self.keep = !self.keep,
        }
        Led::Nowhere
    }

    /// Takes pasted text; what has to be read for it.
    pub fn paste(&mut self, text: &str) -> Option<Request> {
        match self.field {
            Field::Place => self.place.insert(text),
            _ => {
                self.typed()?.insert(text);
                None
            }
        }
    }

    /// What is typed into, but for the directory.
    fn typed(&mut self) -> Option<&mut TextField> {
        match self.field {
            Field::Name => Some(&mut self.name),
            Field::Passphrase => Some(&mut self.passphrase),
            Field::Again => Some(&mut self.again),
            Field::Choice | Field::Place | Field::Keep => None,
        }
    }

    /// Another store; what was typed for one never goes to another.
    pub fn choose(&mut self, entry: usize) {
        if entry <= self.names.len() && entry != self.chosen {
            (self.chosen, self.field) = (entry, Field::Choice);
            (self.passphrase, self.again) = (TextField::secret(), TextField::secret());
        }
    }
}
