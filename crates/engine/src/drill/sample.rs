//! Which files a drill restores: neighbours together, as a full restore meets them, those first that
//! changed lately and that no drill has restored yet.

use std::collections::BinaryHeap;

use skellin_store::{Body, Entry, Kind, Met, Snapshot, Store, TreeWalk};

use crate::{
    clock::Cancel,
    error::{EngineError, Result},
    history::{self, Located},
};

/// Files up to this size cost by their number, longer ones by their bytes.
pub(super) const SMALL: u64 = 128 << 10;
/// Neighbours that are chosen together: so many files,
const CLUSTER_FILES: usize = 128;
/// or so many bytes.
const CLUSTER_BYTES: u64 = 8 << 20;
/// No sample has more bytes, so that it fits where a whole restore would not.
const MOST_BYTES: u64 = 1 << 30;
/// How much likelier a file is chosen that changed since the snapshot before,
const CHANGED: f64 = 4.0;
/// and one that no drill has restored.
const UNTRIED: f64 = 4.0;

/// Files of one size class.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Group {
    pub files: u64,
    pub bytes: u64,
}

impl Group {
    pub fn add(&mut self, bytes: u64) {
        self.files += 1;
        self.bytes = self.bytes.saturating_add(bytes);
    }
}

/// Small files and long ones.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Groups {
    pub small: Group,
    pub large: Group,
}

impl Groups {
    pub fn of(&mut self, size: u64) -> &mut Group {
        if size <= SMALL { &mut self.small } else { &mut self.large }
    }

    pub fn bytes(&self) -> u64 {
        self.small.bytes.saturating_add(self.large.bytes)
    }

    pub fn files(&self) -> u64 {
        self.small.files + self.large.files
    }
}

/// Files that were chosen.
pub(super) struct Sample {
    /// In the order of the tree.
    pub files: Vec<Located>,
    /// All there is to choose from.
    pub totals: Groups,
    /// Files that are too large for a sample.
    pub too_large: u64,
    /// Directories of which pages cannot be read, with the reason.
    pub lost: Vec<(Vec<u8>, skellin_store::StoreError)>,
}

/// Neighbours with what they weigh.
struct Cluster {
    /// The least are chosen: an exponential variate over the weight (Efraimidis and Spirakis,
    /// "Weighted random sampling with a reservoir", 2006).
    rank: f64,
    number: usize,
    files: Vec<Located>,
}

impl PartialEq for Cluster {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Cluster {}

impl PartialOrd for Cluster {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Cluster {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.rank.total_cmp(&other.rank).then(self.number.cmp(&other.number))
    }
}

/// What decides a choice.
pub(super) struct Choice<'a> {
    pub snapshot: &'a Snapshot,
    /// So many files, if there are as many.
    pub files: usize,
    /// When the snapshot before was begun, in milliseconds since 1970.
    pub before: Option<i64>,
    /// Whether a drill has restored a file as it is.
    pub is_tried: &'a dyn Fn(&[u8], &Entry) -> bool,
    /// Another one each time.
    pub seed: [u8; 32],
    pub cancel: &'a Cancel,
}

struct Chosen {
    kept: BinaryHeap<Cluster>,
    kept_files: usize,
    waiting: Vec<Located>,
    bytes: u64,
    weight: f64,
    number: usize,
}

impl Choice<'_> {
    /// Goes through the whole tree once.
    pub fn sample(&self, store: &Store) -> Result<Sample> {
        let mut chosen = Chosen {
            kept: BinaryHeap::new(),
            kept_files: 0,
            waiting: Vec::new(),
            bytes: 0,
            weight: 0.0,
            number: 0,
        };
        let (mut totals, mut too_large, mut lost) = (Groups::default(), 0, Vec::new());
        for root in history::roots(store, self.snapshot)? {
            let mut walk: TreeWalk<'_, Vec<Vec<u8>>> = TreeWalk::new(store);
            match root.entry.body {
                Body::Directory { root: page, .. } => {
                    walk.enter(page, root.path.clone(), Vec::new());
                }
                Body::File { size, .. } => {
                    totals.of(size).add(size);
                    self.add(&mut chosen, root.clone());
                }
                _ => {}
            }
            while let Some(met) = walk.advance()? {
                if self.cancel.is_cancelled() {
                    return Err(EngineError::Cancelled);
                }
                match met {
                    Met::Entry(entry) => {
                        let path = walk.path_of(&entry.name);
                        let mut parts = walk.top().map_or_else(Vec::new, |open| open.with.clone());
                        parts.push(entry.name.clone());
                        match &entry.body {
                            Body::Directory { root, .. } => walk.enter(*root, path, parts),
                            Body::File { size, .. } => {
                                totals.of(*size).add(*size);
                                if *size > MOST_BYTES {
                                    too_large += 1;
                                    continue;
                                }
                                let source = root.source;
                                self.add(&mut chosen, Located { source, parts, path, entry });
                            }
                            _ => {}
                        }
                    }
                    Met::Left(_) => self.close(&mut chosen),
                    Met::Lost(node, error) => lost.push((node.path, error)),
                }
            }
            self.close(&mut chosen);
        }
        let mut clusters = chosen.kept.into_sorted_vec();
        if let Some(last) = clusters.last_mut() {
            let over = chosen.kept_files.saturating_sub(self.files.max(1));
            last.files.truncate(last.files.len() - over);
        }
        let mut bytes = 0u64;
        clusters.retain(|cluster| {
            let own = cluster.files.iter().map(|one| one.entry.size()).sum::<u64>();
            let fits = bytes.saturating_add(own) <= MOST_BYTES;
            bytes += if fits { own } else { 0 };
            fits
        });
        clusters.sort_by_key(|cluster| cluster.number);
        let files = clusters.into_iter().flat_map(|cluster| cluster.files).collect();
        Ok(Sample { files, totals, too_large, lost })
    }

    fn add(&self, chosen: &mut Chosen, file: Located) {
        debug_assert_eq!(file.entry.kind(), Kind::File);
        let modified = file.entry.changed.seconds.max(file.entry.modified.seconds);
        let is_changed = self.before.is_none_or(|before| modified.saturating_mul(1000) >= before);
        let is_tried = (self.is_tried)(&file.path, &file.entry);
        let weight = if is_changed { CHANGED } else { 1.0 } * if is_tried { 1.0 } else { UNTRIED };
        chosen.weight += weight;
        chosen.bytes = chosen.bytes.saturating_add(file.entry.size());
        chosen.waiting.push(file);
        if chosen.waiting.len() >= CLUSTER_FILES || chosen.bytes >= CLUSTER_BYTES {
            self.close(chosen);
        }
    }

    /// What has been gathered is a cluster now, and takes part in the choice.
    fn close(&self, chosen: &mut Chosen) {
        let files = std::mem::take(&mut chosen.waiting);
        let (weight, number) = (std::mem::take(&mut chosen.weight), chosen.number);
        chosen.bytes = 0;
        if files.is_empty() {
            return;
        }
        chosen.number += 1;
        // By its mean: that many files lie beside each other makes none of them likelier.
        let weight = weight / files.len() as f64;
        let hash = blake3::Hasher::new_keyed(&self.seed).update(&files[0].path).finalize();
        let mut word = [0; 8];
        word.copy_from_slice(&hash.as_bytes()[..8]);
        let even = (u64::from_le_bytes(word) as f64 + 1.0) / (u64::MAX as f64 + 2.0);
        chosen.kept_files += files.len();
        chosen.kept.push(Cluster { rank: -even.ln() / weight, number, files });
        while let Some(last) = chosen.kept.peek()
            && chosen.kept_files - last.files.len() >= self.files.max(1)
        {
            chosen.kept_files -= last.files.len();
            chosen.kept.pop();
        }
    }
}
