//! Where paths of a snapshot lie in the destination.

use std::{
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use jiff::{Timestamp, tz::TimeZone};
use skellin_store::Entry;

use super::{Destination, Shared, target::OpenDirectory};
use crate::{error::Result, history::Located, refusal::Refusal};

/// What file systems take, in bytes.
const LONGEST_NAME: usize = 255;
/// What follows the last dot of a name is no ending if it is longer, in bytes.
const LONGEST_ENDING: usize = 8;

/// Where a source's own entry lies, and under which name; without a name it is that directory itself: the
/// top of the file system, in place.
pub(super) fn start(shared: &Shared<'_>, located: &Located) -> Result<(PathBuf, Vec<u8>)> {
    let source = &shared.request.snapshot.sources[located.source];
    match shared.request.destination {
        Destination::Directory(path) => Ok((path.clone(), source.name.to_vec())),
        Destination::InPlace if source.path.as_slice() == b"/" => {
            Ok((PathBuf::from("/"), Vec::new()))
        }
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

/// The directory from which a selected path is reached, and the names from there to it; none if it is
/// that directory itself.
fn parts_of(shared: &Shared<'_>, located: &Located) -> Result<(PathBuf, Vec<Vec<u8>>)> {
    let (root, name) = start(shared, located)?;
    let mut parts: Vec<Vec<u8>> = Some(name).filter(|name| !name.is_empty()).into_iter().collect();
    parts.extend(located.parts.iter().cloned());
    if let Some(last) = parts.last_mut() {
        *last = named(shared, std::mem::take(last));
    }
    Ok((root, parts))
}

/// The name a selected path gets.
pub(super) fn named(shared: &Shared<'_>, name: Vec<u8>) -> Vec<u8> {
    match shared.request.dated {
        true => dated_name(&name, shared.request.snapshot.started),
        false => name,
    }
}

/// A name with a time in it, in milliseconds since 1970, as this machine's clock shows it: before its
/// ending, so that what opens such files still knows them.
#[must_use]
pub fn dated_name(name: &[u8], time: i64) -> Vec<u8> {
    let time = Timestamp::from_millisecond(time).unwrap_or_default().to_zoned(TimeZone::system());
    let time = time.strftime(".%Y-%m-%dT%H%M%S").to_string();
    let dot = name
        .iter()
        .rposition(|byte| *byte == b'.')
        .filter(|at| (1..=LONGEST_ENDING).contains(&(name.len() - at - 1)) && *at > 0);
    let (stem, ending) = name.split_at(dot.unwrap_or(name.len()));
    let mut room = LONGEST_NAME.saturating_sub(time.len() + ending.len()).min(stem.len());
    // No character is cut in two.
    while room < stem.len() && room > 0 && stem[room] & 0xC0 == 0x80 {
        room -= 1;
    }
    [&stem[..room], time.as_bytes(), ending].concat()
}

/// The directory a selected path is, opened without following links, with the path of the directory it was
/// reached from; `None` if it is not there.
pub(super) fn itself<'a>(
    shared: &'a Shared<'a>,
    located: &Located,
) -> Result<Option<Arc<OpenDirectory<'a>>>> {
    let (root, parts) = parts_of(shared, located)?;
    let Some(mut directory) = OpenDirectory::root(shared, &root)? else { return Ok(None) };
    for part in parts {
        match directory.existing(&part) {
            Some(below) => directory = below,
            None => return Ok(None),
        }
    }
    Ok(Some(directory))
}

/// The directory a selected path lies in, by its path and opened, and the entry of the path; none if
/// it is not there, or if the store cannot say.
pub(super) fn found<'a>(
    shared: &'a Shared<'a>,
    located: &Located,
) -> Result<Option<(PathBuf, Arc<OpenDirectory<'a>>, Entry)>> {
    let (root, mut parts) = parts_of(shared, located)?;
    let Some(mut directory) = OpenDirectory::root(shared, &root)? else { return Ok(None) };
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
    let under = shared.request.paths.iter().filter_map(|located| {
        let rest = path.strip_prefix(located.path.as_slice())?;
        let fits = rest.is_empty() || rest.starts_with(b"/") || located.path.ends_with(b"/");
        fits.then_some((located, rest))
    });
    let Some((located, rest)) = under.max_by_key(|(located, _)| located.path.len()) else {
        return Ok(None);
    };
    let (root, mut parts) = parts_of(shared, located)?;
    let Some(mut directory) = OpenDirectory::root(shared, &root)? else { return Ok(None) };
    let below = rest.split(|b| *b == b'/').filter(|part| !part.is_empty());
    parts.extend(below.map(<[u8]>::to_vec));
    parts.pop();
    for part in parts {
        directory = match directory.existing(&part) {
            Some(below) => below,
            None => return Ok(None),
        };
    }
    Ok(Some(directory))
}
