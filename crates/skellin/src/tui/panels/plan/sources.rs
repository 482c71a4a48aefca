//! The paths a new plan protects: browsed and selected, or typed.

use std::{
    collections::BTreeSet,
    path::{Path, PathBuf},
};

use ratatui::crossterm::event::{KeyCode, KeyEvent};

use super::super::{
    panel::{Key, is_for_list, key, meaning},
    path_field::PathField,
};
use crate::tui::{
    model::List,
    worker::{Local, Request},
};

/// The step of the sources.
pub(super) struct Sources {
    /// The directory being browsed, and what is in it.
    pub folder: PathBuf,
    pub entries: Option<Result<Vec<Local>, String>>,
    pub list: List,
    pub selected: BTreeSet<PathBuf>,
    /// A path being typed instead.
    pub typed: Option<PathField>,
    /// Why what was typed is not selected.
    pub refused: Option<String>,
}

#[derive(Clone, Copy)]
pub(super) enum Act {
    Step(isize),
    Page(isize),
    Select,
    Open,
    Up,
    TypePath,
    BackToList,
    Take,
}

use KeyCode::{Backspace, Char, Down, Enter, Esc, Left, PageDown, PageUp, Right, Up};

const BROWSING: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Step(-1), "choose"),
    key(&[Down], "", Act::Step(1), ""),
    key(&[PageUp], "", Act::Page(-1), ""),
    key(&[PageDown], "", Act::Page(1), ""),
    key(&[Char(' ')], "Space", Act::Select, "select"),
    key(&[Enter, Right], "Enter →", Act::Open, "open"),
    key(&[Left, Backspace], "←", Act::Up, "up"),
    key(&[Char('/')], "/", Act::TypePath, "type a path"),
];
const TYPING: &[Key<Act>] = &[
    key(&[Enter], "Enter", Act::Take, "select"),
    key(&[Esc], "Esc", Act::BackToList, "back to the list"),
];

impl Sources {
    pub fn new(home: &Path) -> Self {
        Self {
            folder: home.to_owned(),
            entries: None,
            list: List::default(),
            selected: BTreeSet::new(),
            typed: None,
            refused: None,
        }
    }

    /// Takes what is in a directory.
    pub fn listed(&mut self, folder: &Path, entries: &Result<Vec<Local>, String>) {
        if let Some(typed) = &mut self.typed {
            typed.listed(folder, entries);
        }
        if folder == self.folder {
            self.entries = Some(entries.clone());
            self.list = List::default();
        }
    }

    /// Whether a key is about what is still being read.
    pub fn has_to_wait(&self, code: KeyCode) -> bool {
        match &self.typed {
            Some(typed) => typed.is_reading() && matches!(code, Enter | Right),
            None => self.entries.is_none() && is_for_list(code),
        }
    }

    fn entry(&self) -> Option<&Local> {
        match &self.entries {
            Some(Ok(entries)) => entries.get(self.list.selected),
            _ => None,
        }
    }

    fn toggle(&mut self, path: PathBuf) {
        if !self.selected.remove(&path) {
            // What lies in it is included anyway, and what it lies in covers it.
            self.selected.retain(|other| !other.starts_with(&path) && !path.starts_with(other));
            self.selected.insert(path);
        }
    }

    /// The keys that mean something now.
    pub fn keys(&self) -> &'static [Key<Act>] {
        if self.typed.is_some() { TYPING } else { BROWSING }
    }

    /// Takes a key; what has to be read for it.
    pub fn key(&mut self, key: KeyEvent) -> Option<Request> {
        self.refused = None;
        let act = meaning(self.keys(), key);
        if let (Some(typed), None) = (&mut self.typed, act) {
            return typed.key(key);
        }
        let length = match &self.entries {
            Some(Ok(entries)) => entries.len(),
            _ => 0,
        };
        match act? {
            Act::Step(by) => self.step(by, length),
            Act::Page(by) => self.step(by * (self.list.height.max(2) as isize - 1), length),
            Act::Select => {
                if let Some(path) = self.entry().map(|entry| self.folder.join(&entry.name)) {
                    self.toggle(path);
                }
                self.step(1, length)
            }
            Act::TypePath => {
                let (typed, request) = PathField::within(&self.folder);
                self.typed = Some(typed);
                Some(request)
            }
            Act::Open => {
                let below = self.entry().filter(|entry| entry.is_directory);
                let folder = below.map(|entry| self.folder.join(&entry.name))?;
                Some(self.go(folder))
            }
            Act::Up => {
                let folder = self.folder.parent().map(Path::to_path_buf)?;
                Some(self.go(folder))
            }
            Act::BackToList => {
                self.typed = None;
                None
            }
            Act::Take => self.take(),
        }
    }

    /// Takes pasted text; what has to be read for it.
    pub fn paste(&mut self, text: &str) -> Option<Request> {
        self.typed.as_mut()?.insert(text)
    }

    fn go(&mut self, folder: PathBuf) -> Request {
        (self.folder, self.entries) = (folder.clone(), None);
        Request::Local(folder)
    }

    /// Selects the path that was typed, if it is there.
    fn take(&mut self) -> Option<Request> {
        let typed = self.typed.as_ref()?;
        let Some(path) = typed.existing() else {
            self.refused = Some(format!("there is no {}", typed.text()));
            return None;
        };
        self.typed = None;
        // Where it lies is shown, with its mark.
        let folder = path.parent().unwrap_or(&path).to_path_buf();
        self.selected.remove(&path);
        self.toggle(path);
        Some(self.go(folder))
    }

    fn step(&mut self, by: isize, length: usize) -> Option<Request> {
        self.list.step(by, length);
        None
    }
}
