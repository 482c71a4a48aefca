//! The sources as they are now, with the verdict of the rules on every name, beside the newest
//! snapshot: listed directory by directory, or counted as a whole.

mod arena;
mod census;
mod comparison;

use std::{
    collections::HashSet,
    os::unix::{ffi::OsStrExt, fs::MetadataExt},
    path::{Path, PathBuf},
};

use skellin_plan::Plan;
use skellin_store::{Kind, Snapshot, Store};

pub use arena::{Share, Shares};
pub use census::{Census, Part};

use crate::{
    error::{EngineError, Result},
    filter::Filter,
    history,
    metadata::Owners,
    places::SourceHosts,
    run::Change,
    sources::{Origin, SourceDir, Trouble},
    walk::Filtering,
};
use comparison::{Before, Found, change, each, kind};

/// What sources are looked at by.
#[derive(Clone, Copy)]
pub struct Looking<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// What its sources lie on.
    pub source_hosts: &'a SourceHosts,
    /// The newest snapshot; without one everything is new.
    pub before: Option<(&'a Store, &'a Snapshot)>,
    /// Directories of our own that are never backed up.
    pub keep_out: &'a [PathBuf],
    /// The time, in milliseconds since 1970.
    pub now: i64,
}

impl Looking<'_> {
    /// The rules, ready for a source.
    pub(crate) fn filter(&self, source: &Path) -> Result<Filter> {
        let origin = self.source_hosts.of(source)?;
        Filter::new(&self.plan.rules, origin, source, self.now)
    }

    /// The source a path belongs to.
    pub(crate) fn source(&self, path: &Path) -> Option<&Path> {
        let around = self.plan.sources.iter().filter(|source| path.starts_with(source));
        around.max_by_key(|source| source.as_os_str().len()).map(PathBuf::as_path)
    }

    /// Our own directories, by device and inode.
    pub(crate) fn own(&self) -> HashSet<(u64, u64)> {
        let found = self.keep_out.iter().filter_map(|path| std::fs::metadata(path).ok());
        found.map(|metadata| (metadata.dev(), metadata.ino())).collect()
    }
}

/// A name in a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PreviewEntry {
    /// The name; a source has its full path.
    pub name: Vec<u8>,
    /// What it is.
    pub kind: Kind,
    /// Bytes of a file.
    pub size: u64,
    /// When it was modified, in seconds since 1970.
    pub modified: i64,
    /// What a run would make of it. What is in a directory is not looked at.
    pub change: Change,
    /// Number of the rule that decides.
    pub rule: Option<usize>,
}

impl PreviewEntry {
    fn of(found: &Found<'_>) -> Self {
        let (name, change, rule) = (found.name.to_vec(), found.change, found.verdict.rule);
        match (found.facts, found.was) {
            (Some(facts), _) => {
                let kind = kind(facts);
                let size = if kind == Kind::File { facts.size() } else { 0 };
                Self { name, kind, size, modified: facts.modified().seconds, change, rule }
            }
            (None, Some(was)) => Self {
                name,
                kind: was.kind(),
                size: was.size(),
                modified: was.modified.seconds,
                change,
                rule,
            },
            // Nothing is found that neither is nor was.
            (None, None) => Self { name, kind: Kind::File, size: 0, modified: 0, change, rule },
        }
    }
}

/// Lists a directory of a plan's sources, or the sources themselves, until the visitor has had
/// enough and says `false`.
///
/// # Errors
/// If the directory cannot be read, or the rules cannot be made ready.
pub fn list_preview(
    looking: &Looking<'_>,
    path: Option<&Path>,
    visit: &mut dyn FnMut(PreviewEntry) -> bool,
) -> Result<()> {
    let Some(path) = path else { return list_sources(looking, visit) };
    list_directory(looking, path, usize::MAX, visit)
}

/// Lists the names of a directory that are read first, sorted among themselves, if it holds more
/// than so many: something to show while all of it is being listed. Whether it does.
///
/// # Errors
/// As [`list_preview`].
pub fn list_first(
    looking: &Looking<'_>,
    path: &Path,
    most: usize,
    visit: &mut dyn FnMut(PreviewEntry) -> bool,
) -> Result<bool> {
    let Some(source) = looking.source(path) else { return Ok(false) };
    let origin = looking.source_hosts.of(source)?;
    // Another host tells all names at once.
    let Some(source_dir) = open(&origin, path)?.filter(|_| !origin.is_far()) else {
        return Ok(false);
    };
    let (names, _) = source_dir.names(most);
    if names.len() < most {
        return Ok(false);
    }
    list_directory(looking, path, most, visit)?;
    Ok(true)
}

fn list_directory(
    looking: &Looking<'_>,
    path: &Path,
    most: usize,
    visit: &mut dyn FnMut(PreviewEntry) -> bool,
) -> Result<()> {
    let Some(source) = looking.source(path) else { return Ok(()) };
    let filter = looking.filter(source)?;
    let verdict = filter.explain(source, path, true).verdict;
    let bytes = path.as_os_str().as_bytes();
    let mut old = match most {
        usize::MAX => Before::at(looking.before, bytes)?,
        _ => Before::by_name(looking.before, bytes)?,
    };
    let mut visit = |found: Found<'_>| visit(PreviewEntry::of(&found));
    let Some(source_dir) = open(filter.origin(), path)? else {
        // The directory is gone; what was in it is all there is to show.
        old.gone_before(None, &mut visit)?;
        return Ok(());
    };
    let (names, failure) = source_dir.names(most);
    let (owners, own) = (Owners::default(), looking.own());
    let filtering = Filtering { filter: &filter, owners: &owners, keep_out: &own };
    each(filtering, (bytes, verdict), (&source_dir, &names), old, &mut visit)?;
    match failure {
        Some(why) => Err(EngineError::local("read", path, std::io::Error::other(why))),
        None => Ok(()),
    }
}

/// Opens a directory by its full path; `None` if it is not there, or is none.
fn open(origin: &Origin, path: &Path) -> Result<Option<SourceDir>> {
    match origin.open(path) {
        Ok(source_dir) => Ok(Some(source_dir)),
        Err(trouble) if trouble.is_not_there() => Ok(None),
        Err(trouble) => Err(trouble.on(path)),
    }
}

fn list_sources(looking: &Looking<'_>, visit: &mut dyn FnMut(PreviewEntry) -> bool) -> Result<()> {
    let owners = Owners::default();
    for source in &looking.plan.sources {
        let name = source.as_os_str().as_bytes();
        let old = match looking.before {
            Some((store, snapshot)) => history::locate(store, snapshot, name)?,
            None => None,
        };
        let old = old.map(|located| located.entry);
        let filter = looking.filter(source)?;
        let facts = match filter.origin().facts(source, true).map_err(Trouble::of_the_way) {
            Ok(facts) => Some(facts),
            Err(Ok(failure)) => return Err(failure),
            Err(Err(_)) => None,
        };
        let found = match (&facts, &old) {
            (None, None) => continue,
            (None, Some(was)) => Found::gone(name, was),
            (Some(facts), was) => {
                let verdict = filter.source(name, facts, &owners);
                let change = change(facts, verdict, was.as_ref());
                let (facts, was) = (Some(facts), was.as_ref());
                Found { name, facts, verdict, is_own: false, is_entered: true, was, change }
            }
        };
        if !visit(PreviewEntry::of(&found)) {
            break;
        }
    }
    Ok(())
}
