//! Walking what is to be restored: directories are made on the way, the rest goes to the writers.

use std::{
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use crossbeam_channel::Sender;
use skellin_store::{Body, Entries, Entry};

use super::{Destination, Shared, groups, target::OpenDirectory, write::Job};
use crate::{
    error::{EngineError, Result},
    history::Located,
    path::join,
};

/// A directory that is being walked.
struct Frame<'a> {
    /// `None` in a rehearsal, where it is not there.
    directory: Option<Arc<OpenDirectory<'a>>>,
    entries: Entries<'a>,
    path: Vec<u8>,
}

/// Restores every selected path.
pub(super) fn all<'a>(shared: &'a Shared<'a>, jobs: &Sender<Job<'a>>) -> Result<()> {
    for located in shared.request.paths {
        if shared.is_stopped() {
            return Ok(());
        }
        one(shared, located, jobs)?;
    }
    Ok(())
}

/// Where a source's own entry lies, and under which name.
fn start(shared: &Shared<'_>, located: &Located) -> Result<(PathBuf, Vec<u8>)> {
    let source = &shared.request.snapshot.sources[located.source];
    match shared.request.destination {
        Destination::Directory(path) => Ok((path.clone(), source.name.to_vec())),
        Destination::InPlace => {
            let path = Path::new(std::ffi::OsStr::from_bytes(&source.path));
            let plain =
                path.is_absolute() && path.components().all(|part| part.as_os_str() != "..");
            let parts = path.parent().zip(path.file_name()).filter(|_| plain);
            let (parent, name) = parts.ok_or_else(|| EngineError::Unknown {
                what: format!("{} cannot be restored in place", path.display()),
                hint: "restore it elsewhere with `--to DIR`".to_owned(),
            })?;
            Ok((parent.to_path_buf(), name.as_bytes().to_vec()))
        }
    }
}

fn one<'a>(shared: &'a Shared<'a>, located: &Located, jobs: &Sender<Job<'a>>) -> Result<()> {
    let (root, name) = start(shared, located)?;
    let mut directory = if shared.request.dry_run && !root.is_dir() {
        None
    } else {
        Some(OpenDirectory::root(shared, &root)?)
    };
    let source = &shared.request.snapshot.sources[located.source];
    let snapshot_root = shared.request.snapshot.root_page(shared.store);
    let mut entry = shared.store.entry(snapshot_root, &source.name)?;
    let mut path = source.path.to_vec();
    // The directories above a selected path are made if need be, and else left alone.
    for part in &located.parts {
        let Some(above) = entry.take() else { return Ok(()) };
        let above = Entry {
            name: if path == source.path.as_slice() { name.clone() } else { above.name.clone() },
            ..above
        };
        directory = match open_below(shared, directory.as_ref(), &above, &path, false) {
            Some(directory) => directory,
            None => return Ok(()),
        };
        entry = match above.body {
            Body::Directory { root, .. } => shared.store.entry(root, part)?,
            _ => None,
        };
        path = join(&path, part);
    }
    let Some(mut entry) = entry else { return Ok(()) };
    if located.parts.is_empty() {
        entry.name = name;
    }
    tree(shared, directory, entry, path, jobs)
}

/// A directory below another; `None` if it has to be passed over.
fn open_below<'a>(
    shared: &Shared<'a>,
    parent: Option<&Arc<OpenDirectory<'a>>>,
    entry: &Entry,
    path: &[u8],
    selected: bool,
) -> Option<Option<Arc<OpenDirectory<'a>>>> {
    if !Entry::is_name(&entry.name) {
        shared.exception(path, "its name would lead elsewhere");
        return None;
    }
    let Some(parent) = parent else { return Some(None) };
    match parent.below(entry, path, selected) {
        Ok(directory) => Some(directory),
        Err(reason) => {
            shared.exception(path, reason);
            None
        }
    }
}

/// Restores an entry and everything below it.
fn tree<'a>(
    shared: &'a Shared<'a>,
    directory: Option<Arc<OpenDirectory<'a>>>,
    entry: Entry,
    path: Vec<u8>,
    jobs: &Sender<Job<'a>>,
) -> Result<()> {
    let mut frames: Vec<Frame<'a>> = Vec::new();
    let mut next = Some((directory, entry, path));
    loop {
        if shared.is_stopped() {
            return Ok(());
        }
        if let Some((parent, entry, path)) = next.take() {
            if let Body::Directory { root, .. } = entry.body {
                if let Some(directory) = open_below(shared, parent.as_ref(), &entry, &path, true) {
                    shared.count(&shared.restored);
                    frames.push(Frame { directory, entries: shared.store.entries(root), path });
                }
            } else if !Entry::is_name(&entry.name) {
                shared.exception(&path, "its name would lead elsewhere");
            } else if groups::is_repeated(shared, &entry, &path) {
                // It is linked when all content is there.
            } else if jobs.send(Job { directory: parent, entry, path }).is_err() {
                return Ok(());
            }
        }
        let Some(frame) = frames.last_mut() else { return Ok(()) };
        match frame.entries.next_entry() {
            Ok(Some(entry)) => {
                let path = join(&frame.path, &entry.name);
                next = Some((frame.directory.clone(), entry, path));
            }
            Ok(None) => drop(frames.pop()),
            Err(error) if error.is_damage() => {
                shared
                    .exception(&frame.path, format!("not all that was in it can be read: {error}"));
                frames.pop();
            }
            Err(error) => return Err(error.into()),
        }
    }
}

/// The directory in the destination that holds a path of the snapshot, opened without following
/// links; `None` if it is not there.
pub(super) fn parent_of<'a>(
    shared: &'a Shared<'a>,
    path: &[u8],
) -> Result<Option<Arc<OpenDirectory<'a>>>> {
    let sources = &shared.request.snapshot.sources;
    let under = sources.iter().enumerate().filter(|(_, source)| {
        path.strip_prefix(source.path.as_slice())
            .is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
    });
    let Some((number, source)) = under.max_by_key(|(_, source)| source.path.len()) else {
        return Ok(None);
    };
    let Some(located) = shared.request.paths.iter().find(|located| located.source == number) else {
        return Ok(None);
    };
    let (root, name) = start(shared, located)?;
    let mut directory = OpenDirectory::root(shared, &root)?;
    let rest = &path[source.path.len()..];
    let mut parts: Vec<&[u8]> =
        rest.split(|b| *b == b'/').filter(|part| !part.is_empty()).collect();
    parts.insert(0, &name);
    parts.pop();
    for part in parts {
        directory = match directory.existing(part) {
            Some(below) => below,
            None => return Ok(None),
        };
    }
    Ok(Some(directory))
}
