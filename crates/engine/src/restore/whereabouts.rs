//! Where paths of a snapshot lie in the destination.

use std::{
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_store::Entry;

use super::{Destination, Shared, target::OpenDirectory};
use crate::{error::Result, history::Located, refusal::Refusal};

/// Where a source's own entry lies, and under which name.
pub(super) fn start(shared: &Shared<'_>, located: &Located) -> Result<(PathBuf, Vec<u8>)> {
    let source = &shared.request.snapshot.sources[located.source];
    match shared.request.destination {
        Destination::Directory(path) => Ok((path.clone(), source.name.to_vec())),
        Destination::InPlace => {
            let path = Path::new(std::ffi::OsStr::from_bytes(&source.path));
            let plain =
                path.is_absolute() && path.components().all(|part| part.as_os_str() != "..");
            let parts = path.parent().zip(path.file_name()).filter(|_| plain);
            let (parent, name) = parts.ok_or_else(|| Refusal::NotInPlace(path.to_path_buf()))?;
            Ok((parent.to_path_buf(), name.as_bytes().to_vec()))
        }
    }
}

/// The directory a selected path lies in, by its path and opened, and the entry of the path; none if
/// it is not there, or if the store cannot say.
pub(super) fn found<'a>(
    shared: &'a Shared<'a>,
    located: &Located,
) -> Result<Option<(PathBuf, Arc<OpenDirectory<'a>>, Entry)>> {
    let (root, name) = start(shared, located)?;
    let Some(mut directory) = OpenDirectory::root(shared, &root)? else { return Ok(None) };
    let mut parts = vec![name];
    parts.extend(located.parts.iter().cloned());
    let Some(name) = parts.pop() else { return Ok(None) };
    for part in parts {
        match directory.existing(&part) {
            Some(below) => directory = below,
            None => return Ok(None),
        }
    }
    Ok(Some((root, directory, Entry { name, ..located.entry.clone() })))
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
    let Some(mut directory) = OpenDirectory::root(shared, &root)? else { return Ok(None) };
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
