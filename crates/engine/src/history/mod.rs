//! Looking back: snapshots, what is in them, and the versions of a path.

mod bringing;
mod finding;
mod listing;
mod naming;
mod series;
mod versions;

use std::io::Write;

use jiff::Timestamp;
use skellin_plan::{FarSource, SnapshotSpec, When};
use skellin_store::{
    Body, Entry, Item, ListedSnapshot, Met, Order, PageRef, Snapshot, Store, TreeWalk,
};

use crate::{
    clock::is_ahead,
    error::{EngineError, Result},
    refusal::Refusal,
};
pub use bringing::{Bringer, Brought, brought};
pub use finding::{Asked, Hit, Span, find};
pub use listing::{Against, difference, list};
pub use naming::{Followed, follow, named_in};
pub use series::{Series, Which, series};
pub use versions::{Version, same_version, versions};

/// A path in a snapshot.
#[derive(Clone, Debug, PartialEq)]
pub struct Located {
    /// Number of its source in the snapshot.
    pub source: usize,
    /// Parts below the source.
    pub parts: Vec<Vec<u8>>,
    /// Full path on the machine.
    pub path: Vec<u8>,
    /// What it is.
    pub entry: Entry,
}

/// Snapshots of a store, in the order of their runs, with what they say of themselves. Those that cannot be
/// read are handed to `damaged`.
///
/// # Errors
/// If the place fails.
pub fn snapshots(
    store: &Store,
    plan: Option<&str>,
    mut damaged: impl FnMut(&ListedSnapshot, EngineError),
) -> Result<Vec<Snapshot>> {
    let mut found = Vec::new();
    let all = store.snapshots()?;
    store.fetch_snapshots(&all);
    for listed in all {
        match store.read_snapshot(&listed) {
            Ok(snapshot) if plan.is_none_or(|plan| plan == snapshot.plan) => found.push(snapshot),
            Ok(_) => {}
            Err(error) if error.is_unreadable() => damaged(&listed, error.into()),
            Err(error) => return Err(error.into()),
        }
    }
    Ok(found)
}

/// Whose snapshots a name means, and when it is said.
#[derive(Clone, Copy, Debug)]
pub struct Whose<'a> {
    /// This machine, as its plans call it.
    pub own: &'a str,
    /// Another one, if it was named.
    pub named: Option<&'a str>,
    /// The time, in milliseconds since 1970.
    pub now: i64,
}

/// The snapshot that a name was found to mean.
#[derive(Clone, Debug)]
pub struct Meant {
    /// The snapshot.
    pub snapshot: Snapshot,
    /// Its place in the order of the runs.
    pub order: Order,
    /// Of a later run, one that a clock which was ahead has dated into the future: it is not the
    /// newest, and is had by its id.
    pub ahead: Option<ListedSnapshot>,
}

/// The snapshot a name means: this machine's, or the named one's. Where this machine has none of the
/// plan and one other has, it is that one's, as the snapshot itself says. The newest is that of the last
/// run, but for those that are dated later than now while others are not.
///
/// # Errors
/// [`Refusal`] if there is none, with what there is.
pub fn find_snapshot(store: &Store, spec: &SnapshotSpec, whose: Whose<'_>) -> Result<Meant> {
    match spec {
        SnapshotSpec::Id(id) => {
            let listed = store.snapshots()?;
            let mut fitting =
                listed.iter().filter(|snapshot| snapshot.run.to_string().starts_with(id.as_str()));
            match (fitting.next(), fitting.next()) {
                (Some(one), None) => {
                    Ok(Meant { snapshot: store.read_snapshot(one)?, order: one.order, ahead: None })
                }
                (Some(_), Some(_)) => {
                    Err(Refusal::SeveralSnapshotIds(id.as_str().to_owned()).into())
                }
                (None, _) => Err(Refusal::NoSnapshotId(id.as_str().to_owned()).into()),
            }
        }
        SnapshotSpec::Of { plan, when } => {
            let limit = match when {
                When::Newest => Limit::Now(whose.now),
                When::At(moment) => Limit::At(moment.as_millisecond()),
            };
            let listed = store.snapshots()?;
            let wanted = whose.named.unwrap_or(whose.own);
            if let Some(found) = newest_of(store, &listed, (plan, wanted), limit)? {
                return Ok(found);
            }
            let has_any = |machine: &str| {
                let lineage = store.lineage(plan, machine);
                listed.iter().any(|snapshot| snapshot.lineage == lineage)
            };
            let too_young = || match when {
                When::At(moment) => {
                    Refusal::NoSnapshotAsOld { plan: plan.clone(), moment: told(*moment) }
                }
                When::Newest => Refusal::NoSnapshot(plan.clone()),
            };
            if has_any(wanted) {
                return Err(too_young().into());
            }
            let mut machines: Vec<String> = Vec::new();
            for snapshot in snapshots(store, Some(plan), |_, _| {})? {
                if !machines.contains(&snapshot.machine) {
                    machines.push(snapshot.machine);
                }
            }
            match (machines.as_slice(), whose.named) {
                ([], _) => Err(Refusal::NoSnapshot(plan.clone()).into()),
                ([other], None) => {
                    Ok(newest_of(store, &listed, (plan, other), limit)?.ok_or_else(too_young)?)
                }
                (others, _) => Err(Refusal::OtherMachines {
                    machine: wanted.to_owned(),
                    plan: plan.clone(),
                    others: others.to_vec(),
                }
                .into()),
            }
        }
    }
}

/// A moment as people read it on this machine.
fn told(moment: Timestamp) -> String {
    moment.to_zoned(jiff::tz::TimeZone::system()).strftime("%a %-d %b %Y %H:%M").to_string()
}

/// Up to when snapshots count.
#[derive(Clone, Copy)]
enum Limit {
    /// The last run counts, whatever its clock said unless that is later than now.
    Now(i64),
    /// What is dated later does not count.
    At(i64),
}

/// The newest snapshot of a machine's plan up to a limit.
fn newest_of(
    store: &Store,
    listed: &[ListedSnapshot],
    (plan, machine): (&str, &str),
    limit: Limit,
) -> Result<Option<Meant>> {
    let lineage = store.lineage(plan, machine);
    let own = || listed.iter().filter(|known| known.lineage == lineage);
    let found = match limit {
        Limit::At(moment) => own()
            .filter(|known| known.started <= moment)
            .max_by_key(|known| (known.started, known.order)),
        Limit::Now(now) => {
            own().rev().find(|known| !is_ahead(known.started, now)).or_else(|| own().next_back())
        }
    };
    let Some(found) = found else { return Ok(None) };
    let ahead = match limit {
        Limit::Now(now) => {
            own().rev().find(|known| is_ahead(known.started, now) && known.order > found.order)
        }
        Limit::At(_) => None,
    };
    let snapshot = store.read_snapshot(found)?;
    Ok(Some(Meant { snapshot, order: found.order, ahead: ahead.cloned() }))
}

/// When the run of each listed snapshot began at the latest, in milliseconds since 1970: as it is
/// dated, but before the run after it, and not later than now. `listed` in the order of the runs.
#[must_use]
pub fn latest_times(listed: &[&ListedSnapshot], now: i64) -> Vec<i64> {
    let mut next = now.saturating_add(1);
    let mut times: Vec<i64> = listed
        .iter()
        .rev()
        .map(|snapshot| {
            next = snapshot.started.min(next - 1);
            next
        })
        .collect();
    times.reverse();
    times
}

/// Splits a path as given: full, or beginning with a source's name in the snapshot.
fn split_path(snapshot: &Snapshot, path: &[u8]) -> Option<(usize, Vec<Vec<u8>>)> {
    let parts = |rest: &[u8]| {
        let parts = rest.split(|b| *b == b'/').filter(|part| !part.is_empty() && *part != b".");
        parts.map(<[u8]>::to_vec).collect::<Vec<_>>()
    };
    if path.starts_with(b"/") || FarSource::is_address(path) {
        let given = parts(path);
        let under = snapshot.sources.iter().enumerate().filter_map(|(number, source)| {
            let above = parts(&source.path);
            given.starts_with(&above).then_some((above.len(), number))
        });
        let (length, number) = under.max()?;
        return Some((number, given[length..].to_vec()));
    }
    let mut given = parts(path);
    let number =
        snapshot.sources.iter().position(|source| given.first() == Some(&source.name.to_vec()))?;
    given.remove(0);
    Some((number, given))
}

/// A path in a snapshot; `None` if it is not in it.
///
/// # Errors
/// If the tree cannot be read.
pub fn locate(store: &Store, snapshot: &Snapshot, path: &[u8]) -> Result<Option<Located>> {
    let Some((number, parts)) = split_path(snapshot, path) else { return Ok(None) };
    Ok(match descend(store, snapshot, number, &parts)? {
        Reached::There(path, entry) => Some(Located { source: number, parts, path, entry }),
        Reached::Missing { .. } | Reached::NoDirectory => None,
    })
}

/// How far the parts of a path lead.
enum Reached<'p> {
    /// To the end: the full path, and what is there.
    There(Vec<u8>, Entry),
    /// To a directory that has no such part.
    Missing { directory: Vec<u8>, root: PageRef, part: &'p [u8] },
    /// To something that is no directory, or not even to the source.
    NoDirectory,
}

/// Goes down from a source, part by part.
fn descend<'p>(
    store: &Store,
    snapshot: &Snapshot,
    number: usize,
    parts: &'p [Vec<u8>],
) -> Result<Reached<'p>> {
    let source = &snapshot.sources[number];
    let entry = store.entry(snapshot.root_page(store), &source.name)?;
    let Some(mut entry) = entry else { return Ok(Reached::NoDirectory) };
    let mut full = source.path.to_vec();
    for part in parts {
        let Body::Directory { root, .. } = entry.body else { return Ok(Reached::NoDirectory) };
        match store.entry(root, part)? {
            Some(below) => entry = below,
            None => return Ok(Reached::Missing { directory: full, root, part }),
        }
        full = crate::path::join(&full, part);
    }
    Ok(Reached::There(full, entry))
}

/// As [`locate`], where a missing path is an error that says so.
///
/// # Errors
/// [`Refusal`], or if the tree cannot be read.
pub fn must_locate(store: &Store, snapshot: &Snapshot, path: &[u8]) -> Result<Located> {
    if let Some(located) = locate(store, snapshot, path)? {
        return Ok(located);
    }
    let near = nearest_path(store, snapshot, path)?;
    let near = near.map(|near| String::from_utf8_lossy(&near).into_owned());
    Err(Refusal::NotInSnapshot { path: String::from_utf8_lossy(path).into_owned(), near }.into())
}

/// So many names of a directory are compared with one that is not there.
const MOST_COMPARED: usize = 100_000;

/// The path that is spelled most like one that is not in a snapshot: its first part that is missing is
/// compared with what is beside it.
fn nearest_path(store: &Store, snapshot: &Snapshot, path: &[u8]) -> Result<Option<Vec<u8>>> {
    let Some((number, parts)) = split_path(snapshot, path) else {
        let text = String::from_utf8_lossy(path);
        let sources: Vec<_> =
            snapshot.sources.iter().map(|one| String::from_utf8_lossy(&one.path)).collect();
        let near = skellin_plan::nearest(&text, sources.iter().map(|source| &**source));
        return Ok(near.map(|near| near.as_bytes().to_vec()));
    };
    let Reached::Missing { directory, root, part } = descend(store, snapshot, number, &parts)?
    else {
        return Ok(None);
    };
    let mut names = Vec::new();
    let mut entries = store.entries(root);
    while let Some(one) = entries.next_entry()?
        && names.len() < MOST_COMPARED
    {
        names.extend(String::from_utf8(one.name).ok());
    }
    let text = String::from_utf8_lossy(part);
    let near = skellin_plan::nearest(&text, names.iter().map(String::as_str));
    Ok(near.map(|near| crate::path::join(&directory, near.as_bytes())))
}

/// The sources of a snapshot.
///
/// # Errors
/// If the root cannot be read.
pub fn roots(store: &Store, snapshot: &Snapshot) -> Result<Vec<Located>> {
    let mut found = Vec::new();
    for (number, source) in snapshot.sources.iter().enumerate() {
        if let Some(entry) = store.entry(snapshot.root_page(store), &source.name)? {
            found.push(Located {
                source: number,
                parts: Vec::new(),
                path: source.path.to_vec(),
                entry,
            });
        }
    }
    Ok(found)
}

/// Visits a path and everything below it, directories before what is in them.
///
/// # Errors
/// If the tree cannot be read, or the visitor fails.
pub fn walk(
    store: &Store,
    from: &Located,
    visit: &mut dyn FnMut(&[u8], &Entry) -> Result<()>,
) -> Result<()> {
    visit(&from.path, &from.entry)?;
    let mut walk = TreeWalk::new(store);
    if let Body::Directory { root, .. } = from.entry.body {
        walk.enter(root, from.path.clone(), ());
    }
    while let Some(met) = walk.advance()? {
        match met {
            Met::Entry(entry) => {
                let path = walk.path_of(&entry.name);
                visit(&path, &entry)?;
                if let Body::Directory { root, .. } = entry.body {
                    walk.enter(root, path, ());
                }
            }
            Met::Left(_) => {}
            Met::Lost(_, error) => return Err(error.into()),
        }
    }
    Ok(())
}

/// Writes the content of a file.
///
/// # Errors
/// If it is no file, if its content cannot be read, or if it cannot be written.
pub fn print(store: &Store, located: &Located, out: &mut dyn Write) -> Result<()> {
    let Body::File { recipe, .. } = &located.entry.body else {
        let path = String::from_utf8_lossy(&located.path).into_owned();
        return Err(Refusal::NotAFile(path).into());
    };
    let failed = |source: std::io::Error| EngineError::local("write", "the output", source);
    for item in store.items(recipe) {
        match item? {
            Item::Chunk(chunk) => {
                store.chunk(&chunk, |bytes| out.write_all(bytes))?.map_err(failed)?;
            }
            Item::Hole(length) => {
                std::io::copy(&mut std::io::Read::take(std::io::repeat(0), length), out)
                    .map_err(failed)?;
            }
        }
    }
    out.flush().map_err(failed)
}

/// The first bytes of a file, at most so many.
///
/// # Errors
/// If it is no file, or if its content cannot be read.
pub fn head(store: &Store, located: &Located, most: usize) -> Result<Vec<u8>> {
    /// Takes bytes until there are enough.
    struct Head(Vec<u8>, usize);
    impl Write for Head {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            match bytes.len().min(self.1 - self.0.len()) {
                0 if !bytes.is_empty() => Err(std::io::ErrorKind::WriteZero.into()),
                length => {
                    self.0.extend_from_slice(&bytes[..length]);
                    Ok(length)
                }
            }
        }

        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let mut head = Head(Vec::new(), most);
    match print(store, located, &mut head) {
        Err(_) if head.0.len() == most => Ok(head.0),
        other => other.map(|()| head.0),
    }
}

/// A moment in milliseconds since 1970 as a timestamp.
#[must_use]
pub fn timestamp(milliseconds: i64) -> Timestamp {
    Timestamp::from_millisecond(milliseconds).unwrap_or(Timestamp::UNIX_EPOCH)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use skellin_place::ObjectName;
    use skellin_store::{Lineage, RunId};

    use super::*;

    proptest! {
        #[test]
        fn runs_stand_in_their_order_and_not_after_now_whatever_their_clocks_said(
            dated in prop::collection::vec(-50i64..150, 0..12),
        ) {
            let now = 100;
            let listed: Vec<ListedSnapshot> = dated
                .iter()
                .enumerate()
                .map(|(number, started)| ListedSnapshot {
                    object: ObjectName::new(format!("snapshots/{number}")).expect("a name"),
                    started: *started,
                    order: Order(number as i64),
                    lineage: Lineage([1; 16]),
                    run: RunId([number as u8; 16]),
                })
                .collect();
            let times = latest_times(&listed.iter().collect::<Vec<_>>(), now);
            prop_assert!(times.windows(2).all(|pair| pair[0] < pair[1]), "{times:?}");
            prop_assert!(times.iter().all(|time| *time <= now));
            let is_fine = dated.windows(2).all(|pair| pair[0] < pair[1])
                && dated.iter().all(|started| *started <= now);
            prop_assert!(!is_fine || times == dated);
        }
    }
}
