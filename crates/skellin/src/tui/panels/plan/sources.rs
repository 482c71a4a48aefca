//! The paths a new plan protects: browsed and selected, or typed.

use std::{
    collections::BTreeSet,
    path::{Path, PathBuf},
};

use ratatui::crossterm::event::{KeyCode, KeyEvent};

use super::super::path_field::PathField;
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
            Some(typed) => typed.is_reading() && matches!(code, KeyCode::Enter | KeyCode::Right),
            None => self.entries.is_none() && super::super::is_for_list(code),
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
            // What lies in it goes along anyway, and what it lies in covers it.
            self.selected.retain(|other| !other.starts_with(&path) && !path.starts_with(other));
            self.selected.insert(path);
        }
    }

    /// Takes a key; what has to be read for it.
    pub fn key(&mut self, key: KeyEvent) -> Option<Request> {
        self.refused = None;
        if self.typed.is_some() {
            return self.type_path(key);
        }
        let length = match &self.entries {
            Some(Ok(entries)) => entries.len(),
            _ => 0,
        };
        let page = self.list.height.max(2) as isize - 1;
        let folder = match key.code {
            KeyCode::Up => return self.step(-1, length),
            KeyCode::Down => return self.step(1, length),
            KeyCode::PageUp => return self.step(-page, length),
            KeyCode::PageDown => return self.step(page, length),
            KeyCode::Char(' ') => {
                if let Some(path) = self.entry().map(|entry| self.folder.join(&entry.name)) {
                    self.toggle(path);
                }
                return self.step(1, length);
            }
            KeyCode::Char('/') => {
                let (typed, request) = PathField::within(&self.folder);
                self.typed = Some(typed);
                return Some(request);
            }
            KeyCode::Enter | KeyCode::Right => {
                let below = self.entry().filter(|entry| entry.is_directory);
                below.map(|entry| self.folder.join(&entry.name))
            }
            KeyCode::Left | KeyCode::Backspace => self.folder.parent().map(Path::to_path_buf),
            _ => None,
        };
        let folder = folder?;
        (self.folder, self.entries) = (folder.clone(), None);
        Some(Request::Local(folder))
    }

    fn type_path(&mut self, key: KeyEvent) -> Option<Request> {
        let typed = self.typed.as_mut()?;
        match key.code {
            KeyCode::Esc => self.typed = None,
            KeyCode::Enter => match typed.existing() {
                Some(path) => {
                    self.typed = None;
                    // Where it lies is shown, with its mark.
                    let folder = path.parent().unwrap_or(&path).to_path_buf();
                    self.selected.remove(&path);
                    self.toggle(path);
                    (self.folder, self.entries) = (folder.clone(), None);
                    return Some(Request::Local(folder));
                }
                None => self.refused = Some(format!("there is no {}", typed.text())),
            },
            _ => return typed.key(key),
        }
        None
    }

    fn step(&mut self, by: isize, length: usize) -> Option<Request> {
        self.list.step(by, length);
        None
    }
}
