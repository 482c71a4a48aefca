//! Replacing where there is little room: what must fit at once is told, and files are replaced in the
//! order that needs the least.
//!
//! Each file is written beside the old one, which goes when the new one is in place. Those that free
//! room come first, the smallest first; those that take room after them, the one with the largest
//! old file first. No order needs less (Liu, "An application of generalized tree pebbling", 1987,
//! for the case of independent jobs).

use std::{os::fd::AsFd, path::Path, sync::Arc};

use rustix::fs::{AtFlags, FileType, StatVfs, fstatvfs, statat, statvfs};
use skellin_store::{Body, Entry, Met, TreeWalk};

use super::{
    Existing, Shared,
    drafts::Workshops,
    target::OpenDirectory,
    whereabouts::{found, parent_of, start},
    write::{self, Job},
};
use crate::{error::Result, event::Event, history::Located, locked::locked, size::size};

/// Files below this are replaced as they come, in bytes.
pub(super) const SMALL: u64 = 64 << 10;
/// Of no more files the order is thought about.
const MOST: usize = 200_000;

/// A file that is to be replaced.
struct Replaced {
    entry: Entry,
    path: Vec<u8>,
    /// Bytes the old one gives back.
    old: u64,
}

/// What a restore of a path takes.
#[derive(Default)]
struct Taken {
    replaced: Vec<Replaced>,
    /// Bytes of what is not there yet, and of what is small.
    more: u64,
}

/// Replaces the larger files below a path, if there is little room; those are done with then.
pub(super) fn replace<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    located: &Located,
) -> Result<()> {
    let Some((root, directory, entry)) = found(shared, located)? else {
        return missing(shared, located);
    };
    let Ok(facts) = fstatvfs(directory.as_fd()) else { return Ok(()) };
    let free = free_of(&facts);
    if free >= located.entry.counted().bytes {
        return Ok(());
    }
    let mut taken = gather(shared, directory, entry, located.path.clone())?;
    sort(&mut taken.replaced, |one| (one.entry.size(), one.old));
    let sizes = taken.replaced.iter().map(|one| (one.entry.size(), one.old));
    let needed = most_at_once(sizes, taken.more);
    tell(shared, &root, needed, free);
    if shared.request.dry_run || shared.request.existing != Existing::Replace {
        return Ok(());
    }
    for Replaced { entry, path, .. } in taken.replaced {
        if shared.is_stopped() {
            return Ok(());
        }
        if let Some(directory) = parent_of(shared, &path)? {
            locked(&shared.done).insert(path.clone());
            write::one(
                shared,
                workshops,
                &Job { directory: Some(directory), entry, path, is_repeated: false },
            );
        }
    }
    Ok(())
}

/// Nothing is there yet: everything has to fit.
fn missing(shared: &Shared<'_>, located: &Located) -> Result<()> {
    let needed = located.entry.counted().bytes;
    let (root, _) = start(shared, located)?;
    let there = root.ancestors().find(|above| above.is_dir());
    let Some(Ok(facts)) = there.map(statvfs) else { return Ok(()) };
    let free = free_of(&facts);
    if needed > free {
        tell(shared, &root, needed, free);
    }
    Ok(())
}

fn free_of(facts: &StatVfs) -> u64 {
    facts.f_bavail.saturating_mul(facts.f_frsize)
}

/// Says what must be free, and whether it is.
fn tell(shared: &Shared<'_>, root: &Path, needed: u64, free: u64) {
    let mut note =
        format!("this needs {} free in {}; {} are free", size(needed), root.display(), size(free));
    if needed > free {
        note.push_str(": not everything fits; free space there, or restore fewer paths");
        locked(&shared.short).get_or_insert((needed, free));
    }
    shared.request.events.event(Event::Note(note));
}

/// Looks at what is in the way below a path.
fn gather<'a>(
    shared: &'a Shared<'a>,
    directory: Arc<OpenDirectory<'a>>,
    first: Entry,
    path: Vec<u8>,
) -> Result<Taken> {
    let mut taken = Taken::default();
    let mut walk: TreeWalk<'a, Option<Arc<OpenDirectory<'a>>>> = TreeWalk::new(shared.store);
    let mut next = Some((Some(directory), first, path));
    loop {
        if shared.is_stopped() {
            return Ok(taken);
        }
        if let Some((parent, entry, path)) = next.take() {
            if let Body::Directory { root, .. } = entry.body {
                let below = parent.and_then(|parent| parent.existing(&entry.name));
                walk.enter(root, path, below);
            } else {
                taken.add(shared.request.existing, parent.as_deref(), entry, path);
            }
        }
        match walk.advance()? {
            None => return Ok(taken),
            Some(Met::Entry(entry)) => {
                let path = walk.path_of(&entry.name);
                let parent = walk.top().and_then(|open| open.with.clone());
                next = Some((parent, entry, path));
            }
            // The restore itself names what cannot be read.
            Some(Met::Left(_) | Met::Lost(..)) => {}
        }
    }
}

impl Taken {
    fn add(
        &mut self,
        existing: Existing,
        parent: Option<&OpenDirectory<'_>>,
        entry: Entry,
        path: Vec<u8>,
    ) {
        let there = parent.and_then(|parent| {
            statat(parent.as_fd(), entry.name.as_slice(), AtFlags::SYMLINK_NOFOLLOW).ok()
        });
        if there.is_some() && existing == Existing::Leave {
            return;
        }
        let is_file = matches!(entry.body, Body::File { .. });
        let there = there.filter(|there| {
            existing == Existing::Replace
                && is_file
                && FileType::from_raw_mode(there.st_mode) == FileType::RegularFile
        });
        match there {
            // What has several names is linked at the end.
            Some(there)
                if entry.links.is_none() && entry.size() >= SMALL && self.replaced.len() < MOST =>
            {
                let blocks = u64::try_from(there.st_blocks).unwrap_or(0);
                let old = if there.st_nlink == 1 { blocks.saturating_mul(512) } else { 0 };
                self.replaced.push(Replaced { entry, path, old });
            }
            _ if is_file => self.more = self.more.saturating_add(entry.size()),
            _ => {}
        }
    }
}

/// Sorts what is replaced so that the least must fit at once; `sizes` tells the new and the old size.
fn sort<T>(replaced: &mut [T], sizes: impl Fn(&T) -> (u64, u64)) {
    replaced.sort_by_key(|one| {
        let (new, old) = sizes(one);
        let frees = old >= new;
        (!frees, if frees { new } else { u64::MAX - old })
    });
}

/// How many bytes must be free so that each of these, new and old size, can be written before its old
/// file goes, and after them so many more.
fn most_at_once(sizes: impl Iterator<Item = (u64, u64)>, more: u64) -> u64 {
    let (mut used, mut most) = (0i128, 0i128);
    for (new, old) in sizes {
        most = most.max(used + i128::from(new));
        used += i128::from(new) - i128::from(old);
    }
    most = most.max(used + i128::from(more));
    u64::try_from(most).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn permutations(items: &[(u64, u64)]) -> Vec<Vec<(u64, u64)>> {
        if items.is_empty() {
            return vec![Vec::new()];
        }
        let mut all = Vec::new();
        for (number, first) in items.iter().enumerate() {
            let mut rest = items.to_vec();
            rest.remove(number);
            for mut order in permutations(&rest) {
                order.insert(0, *first);
                all.push(order);
            }
        }
        all
    }

    proptest! {
        #[test]
        fn no_order_needs_less(sizes in prop::collection::vec((0u64..50, 0u64..50), 0..6), more in 0u64..20) {
            let least = permutations(&sizes)
                .into_iter()
                .map(|order| most_at_once(order.into_iter(), more))
                .min()
                .unwrap_or(0);
            let mut sorted = sizes;
            sort(&mut sorted, |one| *one);
            prop_assert_eq!(most_at_once(sorted.into_iter(), more), least);
        }
    }
}
