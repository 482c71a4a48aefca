//! Comparing: a snapshot with another one, or with a directory as it is now, as one walk through both.

mod live;
mod sight;

use std::path::Path;

use skellin_store::{Body, Entry, Kind, PageRef, Snapshot, Store};

use crate::{
    cause::Cause,
    clock::Cancel,
    depth::deepest,
    error::{EngineError, Result},
    filter::Filter,
    history,
    metadata::Owners,
    path::join,
    sources::Origin,
    walk::{Beside, Filtering},
};
use live::{Content, LiveDir, Met};
pub use sight::{Difference, Sight};

/// A path that differs.
#[derive(Clone, Debug, PartialEq)]
pub struct Differing {
    /// Its full path, as the snapshot calls it.
    pub path: Vec<u8>,
    /// In what.
    pub difference: Difference,
    /// What it was.
    pub before: Option<Sight>,
    /// What it is.
    pub now: Option<Sight>,
}

/// How is compared.
pub struct Comparing<'a> {
    /// The store both lie in.
    pub store: &'a Store,
    /// Whether what is below a directory that is new or gone is told as well.
    pub whole: bool,
    /// Whether files that look the same are read all the same.
    pub read_all: bool,
    /// Raised to interrupt.
    pub cancel: &'a Cancel,
}

/// A directory as it is now, with what of it counts.
#[derive(Clone, Copy)]
pub struct Live<'a> {
    /// Where it is on this machine.
    pub path: &'a Path,
    /// The plan by which paths are included; without one all are.
    pub by: Option<&'a crate::Looking<'a>>,
}

/// Whoever hears what differs.
pub trait Hears {
    /// A path differs.
    fn differs(&mut self, differing: Differing);
    /// A path could not be compared.
    fn lost(&mut self, path: &[u8], cause: Cause);
}

/// One side of a directory that is gone through.
enum Level<'s> {
    Tree(Beside<'s>),
    Live(LiveDir),
}

struct Frame<'s> {
    path: Vec<u8>,
    before: Beside<'s>,
    now: Level<'s>,
}

impl Comparing<'_> {
    /// Compares two snapshots of the store.
    ///
    /// # Errors
    /// [`EngineError::Cancelled`]; or if the place fails.
    pub fn snapshots(
        &self,
        before: &Snapshot,
        now: &Snapshot,
        hears: &mut dyn Hears,
    ) -> Result<()> {
        let roots = |snapshot| -> Result<Vec<(Vec<u8>, Entry)>> {
            let located = history::roots(self.store, snapshot)?.into_iter();
            Ok(located.map(|one| (one.path, one.entry)).collect())
        };
        let (before, now) = (roots(before)?, roots(now)?);
        let find =
            |all: &[(Vec<u8>, Entry)], path: &[u8]| all.iter().position(|(other, _)| other == path);
        let mut paths: Vec<&Vec<u8>> = before.iter().chain(&now).map(|(path, _)| path).collect();
        paths.sort_unstable();
        paths.dedup();
        for path in paths {
            let (old, new) = (find(&before, path), find(&now, path));
            let (old, new) = (old.map(|at| &before[at].1), new.map(|at| &now[at].1));
            self.entries(path, old, new, hears)?;
        }
        Ok(())
    }

    /// Compares what one path is in two snapshots.
    ///
    /// # Errors
    /// As [`snapshots`](Self::snapshots).
    pub fn entries(
        &self,
        path: &[u8],
        before: Option<&Entry>,
        now: Option<&Entry>,
        hears: &mut dyn Hears,
    ) -> Result<()> {
        let first = self.two_entries(path.to_vec(), (before, now), hears);
        self.walk(first.into_iter().collect(), None, hears)
    }

    /// Compares what a path was with what lies at another now.
    ///
    /// # Errors
    /// As [`snapshots`](Self::snapshots); or if there is nothing to compare with.
    pub fn live(
        &self,
        path: &[u8],
        before: &Entry,
        live: Live<'_>,
        hears: &mut dyn Hears,
    ) -> Result<()> {
        let source = live.by.and_then(|by| by.source(live.path)).unwrap_or(live.path);
        let filter = live.by.map(|by| by.filter(source)).transpose()?;
        let origin = filter.as_ref().map_or(Origin::Here, |filter| filter.origin().clone());
        let facts = match origin.facts(live.path, true) {
            Err(trouble) if trouble.is_not_there() => {
                return self.entries(path, Some(before), None, hears);
            }
            facts => facts.map_err(|trouble| trouble.on(live.path))?,
        };
        let owners = Owners::default();
        let now = Sight::of_facts(&facts, &owners);
        let Body::Directory { root, .. } = before.body else {
            let content = Content::at(&origin, live.path);
            self.one(path, before, now, &content, hears);
            return Ok(());
        };
        if now.kind != Kind::Directory {
            let (before, now) = (Some(Sight::of_entry(before)), Some(now));
            let difference = Difference::Changed;
            hears.differs(Differing { path: path.to_vec(), difference, before, now });
            return Ok(());
        }
        let opened = origin.open(live.path).map_err(|trouble| trouble.on(live.path))?;
        let own = live.by.map_or_else(Default::default, crate::Looking::own);
        let verdict = match &filter {
            Some(filter) => {
                let filtering = Filtering { filter, owners: &owners, keep_out: &own };
                let path = live.path.as_os_str().as_encoded_bytes();
                filtering.verdict_at(source, path).map_err(|trouble| trouble.on(live.path))?
            }
            None => skellin_plan::Verdict::TAKEN,
        };
        let by = filter.as_ref().map(|filter| By { filter, owners: &owners, own: &own });
        let real = live.path.as_os_str().as_encoded_bytes().to_vec();
        let frame = Frame {
            path: path.to_vec(),
            before: Beside::new(self.store, Some(root)),
            now: Level::Live(LiveDir::new(opened, real, verdict)),
        };
        let before = Sight::of_entry(before);
        if !before.same_metadata(&now) && !before.differs_in_time_alone(&now) {
            let (before, now) = (Some(before), Some(now));
            let difference = Difference::Metadata;
            hears.differs(Differing { path: path.to_vec(), difference, before, now });
        }
        self.walk(vec![frame], by.as_ref(), hears)
    }

    fn walk<'s>(
        &'s self,
        mut frames: Vec<Frame<'s>>,
        by: Option<&By<'_>>,
        hears: &mut dyn Hears,
    ) -> Result<()> {
        // Each live directory on the way stays open.
        let most = deepest(2);
        loop {
            let depth = frames.len();
            let Some(frame) = frames.last_mut() else { return Ok(()) };
            if self.cancel.is_cancelled() {
                return Err(EngineError::Cancelled);
            }
            let next = match &mut frame.now {
                Level::Tree(now) => next_of_trees(&mut frame.before, now),
                Level::Live(now) => next_of_live(&mut frame.before, now),
            };
            let (name, was) = match next {
                Ok(Some(next)) => next,
                Ok(None) => {
                    frames.pop();
                    continue;
                }
                Err(EngineError::Store(error)) if error.is_unreadable() => {
                    hears.lost(&frame.path, Cause::store(&error));
                    frames.pop();
                    continue;
                }
                Err(error) => return Err(error),
            };
            let path = join(&frame.path, &name);
            let below = match &mut frame.now {
                Level::Tree(now) => {
                    let now = now.take_named(&name);
                    self.two_entries(path, (was.as_ref(), now.as_ref()), hears)
                }
                Level::Live(directory) => match directory.meet(&name, by) {
                    Ok(Some(met)) => {
                        self.met_live((path, was.as_ref()), &met, by, (depth, most), hears)
                    }
                    // Gone, or excluded now.
                    Ok(None) => self.two_entries(path, (was.as_ref(), None), hears),
                    Err(trouble) => {
                        hears.lost(&path, trouble.cause(true));
                        None
                    }
                },
            };
            frames.extend(below);
        }
    }

    /// A path in two trees: told if it differs; and what is to be gone into, if something below it may.
    fn two_entries<'s>(
        &'s self,
        path: Vec<u8>,
        (before, now): (Option<&Entry>, Option<&Entry>),
        hears: &mut dyn Hears,
    ) -> Option<Frame<'s>> {
        let (old, new) = (before.and_then(root_of), now.and_then(root_of));
        let difference = match (before, now) {
            (None, None) => return None,
            (None, Some(_)) => Some(Difference::New),
            (Some(_), None) => Some(Difference::Gone),
            (Some(before), Some(now)) => {
                let (was, is) = (Sight::of_entry(before), Sight::of_entry(now));
                let two_directories = old.is_some() && new.is_some();
                let same_content = two_directories || before.body.same_content(&now.body);
                match (same_content, was.same_metadata(&is)) {
                    (false, _) => Some(Difference::Changed),
                    // A directory in which something changed is newer by that alone.
                    (true, false) if old.is_none() || !was.differs_in_time_alone(&is) => {
                        Some(Difference::Metadata)
                    }
                    (true, _) => None,
                }
            }
        };
        let is_one_sided = before.is_none() || now.is_none();
        if let Some(difference) = difference {
            let (before, now) = (before.map(Sight::of_entry), now.map(Sight::of_entry));
            hears.differs(Differing { path: path.clone(), difference, before, now });
        }
        let is_entered = match (old, new) {
            (Some(a), Some(b)) => a.fingerprint != b.fingerprint,
            (None, None) => false,
            _ => is_one_sided && self.whole,
        };
        is_entered.then(|| Frame {
            path,
            before: Beside::new(self.store, old),
            now: Level::Tree(Beside::new(self.store, new)),
        })
    }

    /// A path of a live directory: told if it differs; and what is to be gone into.
    fn met_live<'s>(
        &'s self,
        (path, was): (Vec<u8>, Option<&Entry>),
        met: &Met<'_>,
        by: Option<&By<'_>>,
        (depth, most): (usize, usize),
        hears: &mut dyn Hears,
    ) -> Option<Frame<'s>> {
        let owners = Owners::default();
        let now = met.sight(by.map_or(&owners, |by| by.owners));
        let root = was.and_then(root_of);
        let is_directory = now.kind == Kind::Directory;
        match was {
            None if met.is_included => {
                let now = Some(now);
                let difference = Difference::New;
                hears.differs(Differing { path: path.clone(), difference, before: None, now });
            }
            // A directory in which something may be included.
            None => {}
            Some(was) if root.is_some() && is_directory => {
                let before = Sight::of_entry(was);
                if !before.same_metadata(&now) && !before.differs_in_time_alone(&now) {
                    let (before, now) = (Some(before), Some(now));
                    let difference = Difference::Metadata;
                    hears.differs(Differing { path: path.clone(), difference, before, now });
                }
            }
            Some(was) => self.one(&path, was, now, &met.content(), hears),
        }
        let is_entered = is_directory
            && met.is_entered
            && (root.is_some() || was.is_none() && (self.whole || !met.is_included));
        if !is_entered {
            return None;
        }
        let opened = match depth < most {
            true => met.open().map_err(|trouble| trouble.cause(true)),
            false => Err(Cause::too_deep(most)),
        };
        match opened {
            Ok(now) => {
                let before = Beside::new(self.store, root);
                Some(Frame { path, before, now: Level::Live(now) })
            }
            Err(cause) => {
                hears.lost(&path, cause);
                None
            }
        }
    }

    /// A path that was and is, and is not a directory on both sides.
    fn one(
        &self,
        path: &[u8],
        was: &Entry,
        now: Sight,
        content: &Content<'_>,
        hears: &mut dyn Hears,
    ) {
        let before = Sight::of_entry(was);
        let is_same = match content.is_same(self, was, &before, &now) {
            Ok(is_same) => is_same,
            Err(cause) => return hears.lost(path, cause),
        };
        let difference = match is_same {
            false => Difference::Changed,
            true if !before.same_metadata(&now) => Difference::Metadata,
            true => return,
        };
        let (before, now) = (Some(before), Some(now));
        hears.differs(Differing { path: path.to_vec(), difference, before, now });
    }
}

/// The root page of a directory.
fn root_of(entry: &Entry) -> Option<PageRef> {
    match entry.body {
        Body::Directory { root, .. } => Some(root),
        _ => None,
    }
}

/// By what live paths are included.
struct By<'a> {
    filter: &'a Filter,
    owners: &'a Owners,
    own: &'a std::collections::HashSet<(u64, u64)>,
}

/// The next name of either tree, and what it was.
fn next_of_trees(
    before: &mut Beside<'_>,
    now: &mut Beside<'_>,
) -> Result<Option<(Vec<u8>, Option<Entry>)>> {
    let ahead = now.peek()?.map(<[u8]>::to_vec);
    next_of(before, ahead)
}

fn next_of_live(
    before: &mut Beside<'_>,
    now: &mut LiveDir,
) -> Result<Option<(Vec<u8>, Option<Entry>)>> {
    next_of(before, now.peek().map(<[u8]>::to_vec))
}

fn next_of(
    before: &mut Beside<'_>,
    ahead: Option<Vec<u8>>,
) -> Result<Option<(Vec<u8>, Option<Entry>)>> {
    if let Some(gone) = before.next_before(ahead.as_deref())? {
        return Ok(Some((gone.name.clone(), Some(gone))));
    }
    let Some(name) = ahead else { return Ok(None) };
    let was = before.meet(&name, |_| {})?;
    Ok(Some((name, was)))
}
