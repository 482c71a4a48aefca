//! A path that is typed, with what it may become from the directories of this machine.

use std::path::{Path, PathBuf};

use ratatui::crossterm::event::{KeyCode, KeyEvent};

use super::text_field::TextField;
use crate::tui::worker::{Local, Request};

/// A path being typed, and the names in the directory it has come to.
#[derive(Default)]
pub(super) struct PathField {
    field: TextField,
    folder: PathBuf,
    names: Option<Vec<(String, bool)>>,
    directories_only: bool,
}

impl PathField {
    /// For directories only, and empty.
    pub fn for_directories() -> Self {
        Self { directories_only: true, ..Self::default() }
    }

    /// Beginning in a directory; what is there has to be asked for.
    pub fn within(folder: &Path) -> (Self, Request) {
        let mut text = folder.display().to_string();
        if !text.ends_with('/') {
            text.push('/');
        }
        let field = TextField::of(&text);
        let path = Self { field, folder: folder.to_owned(), ..Self::default() };
        (path, Request::Local(folder.to_owned()))
    }

    pub fn text(&self) -> String {
        self.field.text()
    }

    pub fn shown(&self, here: bool) -> String {
        self.field.shown(here)
    }

    /// The directory the path has come to, and what is typed of a name in it.
    fn parts(&self) -> (PathBuf, String) {
        let text = self.field.text();
        match text.rfind('/') {
            Some(at) => (PathBuf::from(&text[..=at]), text[at + 1..].to_owned()),
            None => (PathBuf::new(), text),
        }
    }

    /// Whether the directory it has come to is still being read.
    pub fn is_reading(&self) -> bool {
        self.names.is_none() && self.folder.is_absolute()
    }

    /// What the name being typed would become.
    pub fn completion(&self) -> Option<String> {
        let (_, rest) = self.parts();
        let is_meant = |name: &str| {
            name.starts_with(&rest)
                && name.len() >= rest.len()
                && (rest.starts_with('.') || !name.starts_with('.'))
        };
        let found =
            self.names.iter().flatten().find(|(name, _)| !rest.is_empty() && is_meant(name));
        found.map(|(name, is_directory)| format!("{name}{}", if *is_directory { "/" } else { "" }))
    }

    /// The path, if it is there.
    pub fn existing(&self) -> Option<PathBuf> {
        let (folder, rest) = self.parts();
        let names = self.names.as_ref()?;
        if rest.is_empty() {
            // Compared by components, a closing slash counts for nothing; it goes here.
            return Some(folder.components().collect());
        }
        names.iter().any(|(name, _)| *name == rest).then(|| folder.join(rest))
    }

    /// Takes a key; what has to be read for it. `→` at the end takes the completion.
    pub fn key(&mut self, key: KeyEvent) -> Option<Request> {
        match (key.code, self.completion()) {
            (KeyCode::Right, Some(completion)) if self.field.is_at_end() => {
                let (folder, _) = self.parts();
                self.field = TextField::of(&format!("{}{completion}", folder.display()));
            }
            _ => drop(self.field.key(key)),
        }
        self.follow()
    }

    /// Takes pasted text; what has to be read for it.
    pub fn insert(&mut self, text: &str) -> Option<Request> {
        self.field.insert(text);
        self.follow()
    }

    /// What has to be read if the path has come to another directory.
    fn follow(&mut self) -> Option<Request> {
        let (folder, _) = self.parts();
        if folder == self.folder {
            return None;
        }
        (self.folder, self.names) = (folder.clone(), None);
        folder.is_absolute().then_some(Request::Local(folder))
    }

    /// Takes what is in a directory, if it is the one it has come to.
    pub fn listed(&mut self, folder: &Path, entries: &Result<Vec<Local>, String>) {
        if folder != self.folder {
            return;
        }
        self.names = entries.as_ref().ok().map(|entries| {
            let fits = |entry: &&Local| entry.is_directory || !self.directories_only;
            let named = |entry: &Local| Some((entry.name.to_str()?.to_owned(), entry.is_directory));
            entries.iter().filter(fits).filter_map(named).collect()
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn local(name: &str, is_directory: bool) -> Local {
        Local { name: name.into(), is_directory, size: 0 }
    }

    fn type_text(field: &mut PathField, text: &str) -> Vec<PathBuf> {
        let asked = text.chars().filter_map(|c| field.key(KeyEvent::from(KeyCode::Char(c))));
        asked
            .map(|request| match request {
                Request::Local(folder) => folder,
                _ => panic!("only directories are read"),
            })
            .collect()
    }

    #[test]
    fn a_path_is_completed_from_what_is_there() {
        let mut field = PathField::default();
        assert_eq!(type_text(&mut field, "/srv/re"), [PathBuf::from("/"), "/srv/".into()]);
        assert!(field.is_reading() && field.completion().is_none());
        let there = vec![local("old", true), local("readings", true), local("records.csv", false)];
        field.listed(Path::new("/srv/"), &Ok(there));
        assert_eq!(field.completion().as_deref(), Some("readings/"));
        assert_eq!(field.existing(), None, "half a name is no path");
        let asked = field.key(KeyEvent::from(KeyCode::Right));
        assert_eq!(field.text(), "/srv/readings/");
        assert!(
            matches!(asked, Some(Request::Local(folder)) if folder == Path::new("/srv/readings/"))
        );
        field.listed(Path::new("/srv/"), &Ok(Vec::new()));
        assert!(field.is_reading(), "what comes late for another directory is let go");
        field.listed(Path::new("/srv/readings"), &Ok(vec![local(".hidden", true)]));
        assert_eq!(field.existing(), Some(PathBuf::from("/srv/readings")));
        assert_eq!(field.completion(), None);
    }

    #[test]
    fn only_directories_complete_where_only_they_serve() {
        let mut field = PathField::for_directories();
        type_text(&mut field, "/srv/re");
        field.listed(
            Path::new("/srv/"),
            &Ok(vec![local("records.csv", false), local("rest", true)]),
        );
        assert_eq!(field.completion().as_deref(), Some("rest/"));
        field.listed(Path::new("/srv/"), &Err("permission denied".to_owned()));
        assert_eq!((field.completion(), field.existing()), (None, None));
    }
}
