//! Directories and files of another host.

use std::{ffi::CStr, sync::Arc};

use skellin_place::{FarFiles, FarPart};

use super::Trouble;
use crate::{metadata::Facts, names::Names};

/// A directory of another host, with all that was told of the names in it.
pub(crate) struct FarDirectory {
    files: Arc<dyn FarFiles>,
    /// From the source on.
    path: String,
    pub facts: Facts,
    names: Names,
    /// In the order of the names.
    told: Vec<Facts>,
    /// Names that no snapshot can hold, with the reasons.
    pub unfit: Vec<(String, &'static str)>,
}

fn below(directory: &str, name: &str) -> String {
    if directory.is_empty() { name.to_owned() } else { format!("{directory}/{name}") }
}

impl FarDirectory {
    /// Lists a directory. `facts` are its own.
    pub fn open(files: &Arc<dyn FarFiles>, path: String, facts: Facts) -> Result<Self, Trouble> {
        let (mut entries, mut unfit) = (Vec::new(), Vec::new());
        for entry in files.names(&path)? {
            let is_name = !entry.name.is_empty()
                && !matches!(entry.name.as_str(), "." | "..")
                && !entry.name.contains(['/', '\0']);
            match is_name {
                true => entries.push((entry.name, Facts::far(&entry.facts))),
                false => unfit.push((entry.name, "its name is not a valid file name")),
            }
        }
        // Directories first, so that they are what is kept of two of one name.
        let is_file = |facts: &Facts| facts.sort() != crate::metadata::Sort::Directory;
        entries.sort_unstable_by(|(a, of_a), (b, of_b)| {
            a.as_bytes().cmp(b.as_bytes()).then(is_file(of_a).cmp(&is_file(of_b)))
        });
        entries.dedup_by(|(later, _), (earlier, _)| {
            let twice = later == earlier;
            if twice {
                unfit.push((later.clone(), "there is a directory of the same name"));
            }
            twice
        });
        let names = Names::sorted(entries.iter().map(|(name, _)| name.as_bytes()));
        let told = entries.into_iter().map(|(_, facts)| facts).collect();
        Ok(Self { files: Arc::clone(files), path, facts, names, told, unfit })
    }

    pub fn first_names(&self, most: usize) -> Names {
        Names::sorted(self.names.iter().take(most))
    }

    fn path(&self, name: &CStr) -> Result<String, Trouble> {
        let gone = || Trouble::Here(rustix::io::Errno::NOENT);
        Ok(below(&self.path, name.to_str().map_err(|_| gone())?))
    }

    pub fn look(&self, name: &CStr) -> Result<Facts, Trouble> {
        let found = self.names.find(name.to_bytes()).and_then(|number| self.told.get(number));
        found.copied().ok_or(Trouble::Here(rustix::io::Errno::NOENT))
    }

    pub fn below(&self, name: &CStr) -> Result<Self, Trouble> {
        Self::open(&self.files, self.path(name)?, self.look(name)?)
    }

    pub fn holds(&self, name: &CStr, marker: &str) -> bool {
        self.path(name).is_ok_and(|path| self.files.facts(&below(&path, marker)).is_ok())
    }

    pub fn link(&self, name: &CStr) -> Result<Vec<u8>, Trouble> {
        Ok(self.files.link(&self.path(name)?)?.into_bytes())
    }

    /// A file in it.
    pub fn file(&self, name: &CStr) -> Result<FarFile, Trouble> {
        Ok(FarFile { files: Arc::clone(&self.files), path: self.path(name)? })
    }
}

/// A file of another host.
#[derive(Clone)]
pub(crate) struct FarFile {
    files: Arc<dyn FarFiles>,
    path: String,
}

impl FarFile {
    /// A source that is a file.
    pub fn source(files: &Arc<dyn FarFiles>) -> Self {
        Self { files: Arc::clone(files), path: String::new() }
    }

    /// The part that begins at `offset`: so many bytes, or fewer at its end.
    pub fn part(&self, offset: u64, length: u64) -> Result<FarPart, Trouble> {
        Ok(self.files.part(&self.path, offset, length)?)
    }

    /// How many bytes are best asked for at a time.
    pub fn stride(&self) -> u64 {
        self.files.stride()
    }
}
