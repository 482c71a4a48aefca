//! What a path means that is not given in full: relative to where one stands, to a source, or a name
//! alone.

use std::{collections::HashSet, os::unix::ffi::OsStrExt, path::Path};

use skellin_plan::FarSource;
use skellin_store::{Body, Entry, Met, Snapshot, Store, TreeWalk};

use super::{Located, Version, locate, must_locate, snapshots, versions};
use crate::{error::Result, path::join, refusal::Refusal};

/// So many paths of one name are told.
const NAMED: usize = 5;

/// A path that was followed through the snapshots of a plan.
#[derive(Debug)]
pub struct Followed {
    /// The full path.
    pub path: Vec<u8>,
    /// Its distinct versions, oldest first.
    pub versions: Vec<Version>,
    /// When the first snapshot was taken that has it no more, in milliseconds since 1970.
    pub gone_since: Option<i64>,
}

/// Follows what a text means through the snapshots of a plan: a full path, one that begins with a
/// source's name, one relative to a directory or to a source, or else a name. `None` if it is in no
/// snapshot.
///
/// # Errors
/// If several paths have that name, with some of them; or if the store cannot be read.
pub fn follow(store: &Store, plan: &str, text: &[u8], stand: &Path) -> Result<Option<Followed>> {
    let all = snapshots(store, Some(plan), |_, _| {})?;
    let mut candidates = vec![text.to_vec()];
    let is_full = text.starts_with(b"/") || FarSource::is_address(text);
    if !is_full {
        candidates.push(join(stand.as_os_str().as_bytes(), text));
        let sources = all.iter().rev().flat_map(|snapshot| &snapshot.sources);
        let mut below: Vec<Vec<u8>> = sources.map(|source| join(&source.path, text)).collect();
        below.dedup();
        candidates.append(&mut below);
    }
    for path in candidates {
        let followed = through(store, &all, &path)?;
        if followed.is_some() {
            return Ok(followed);
        }
    }
    if is_full || text.contains(&b'/') {
        return Ok(None);
    }
    let found = named(store, &all, text)?;
    match found.as_slice() {
        [] => Ok(None),
        [path] => through(store, &all, path),
        many => {
            let shown = many.iter().take(NAMED).map(|path| String::from_utf8_lossy(path));
            let (count, name) = (many.len(), String::from_utf8_lossy(text).into_owned());
            let shown = shown.map(std::borrow::Cow::into_owned).collect();
            Err(Refusal::SeveralPaths { count, name, shown }.into())
        }
    }
}

/// A path in a snapshot: in full, beginning with a source's name, or relative to a directory, `stand`,
/// or to a source.
///
/// # Errors
/// [`Refusal`] if there is none, or several sources have it; or if the tree cannot be
/// read.
pub fn named_in(store: &Store, snapshot: &Snapshot, text: &[u8], stand: &Path) -> Result<Located> {
    let mut found: Vec<Located> = locate(store, snapshot, text)?.into_iter().collect();
    if found.is_empty() && !text.starts_with(b"/") && !FarSource::is_address(text) {
        found.extend(locate(store, snapshot, &join(stand.as_os_str().as_bytes(), text))?);
        if found.is_empty() {
            for source in &snapshot.sources {
                found.extend(locate(store, snapshot, &join(&source.path, text))?);
            }
        }
    }
    if found.len() > 1 {
        let paths = found.iter().map(|one| String::from_utf8_lossy(&one.path));
        let name = String::from_utf8_lossy(text).into_owned();
        let paths = paths.map(std::borrow::Cow::into_owned).collect();
        return Err(Refusal::SeveralSources { name, paths }.into());
    }
    match found.pop() {
        Some(located) => Ok(located),
        None => must_locate(store, snapshot, text),
    }
}

fn through(store: &Store, all: &[Snapshot], path: &[u8]) -> Result<Option<Followed>> {
    let versions = versions(store, path, all, &|| false, Err)?;
    let Some(last) = versions.last() else { return Ok(None) };
    let has_it =
        |snapshot: &&Snapshot| snapshot.run == last.snapshot || snapshot.started == last.last_seen;
    let at = all.iter().rposition(|snapshot| has_it(&snapshot));
    let gone_since = at.and_then(|at| all.get(at + 1)).map(|snapshot| snapshot.started);
    Ok(Some(Followed { path: path.to_vec(), versions, gone_since }))
}

/// The paths of a name in the newest snapshot that has any. Directories that are the same in several
/// snapshots are looked into once.
fn named(store: &Store, all: &[Snapshot], name: &[u8]) -> Result<Vec<Vec<u8>>> {
    let mut seen = HashSet::new();
    for snapshot in all.iter().rev() {
        let mut found = Vec::new();
        let mut walk = TreeWalk::new(store);
        for source in &snapshot.sources {
            let entry = store.entry(snapshot.root_page(store), &source.name)?;
            if let Some(Entry { body: Body::Directory { root, .. }, .. }) = entry
                && seen.insert((source.path.to_vec(), root.fingerprint))
            {
                walk.enter(root, source.path.to_vec(), ());
            }
            while let Some(met) = walk.advance()? {
                let entry = match met {
                    Met::Entry(entry) => entry,
                    Met::Left(_) => continue,
                    Met::Lost(_, error) => return Err(error.into()),
                };
                let path = walk.path_of(&entry.name);
                if entry.name == name {
                    found.push(path.clone());
                }
                if let Body::Directory { root, .. } = entry.body
                    && seen.insert((path.clone(), root.fingerprint))
                {
                    walk.enter(root, path, ());
                }
            }
        }
        if !found.is_empty() {
            found.sort();
            return Ok(found);
        }
    }
    Ok(Vec::new())
}
