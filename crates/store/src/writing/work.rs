//! What the workers of a run share when they write: what was met first, open containers, uploads,
//! checkpoints and segments.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU32, AtomicU64, Ordering},
    },
};

use crate::{
    containers::{ContainerIx, Location, Standing},
    error::Result,
    format::{
        compress::Compression,
        container::{Checkpoint, OpenContainer},
        ids::{Class, ContainerId, Fingerprint, Prefix, RunId},
        keys::{Secret, WRAPPED},
        signed::Machine,
    },
    index::{SegmentDraft, SegmentId},
    store::Store,
    tree::PageRef,
    writing::uploads::{Finished, Uploads},
};

/// Content this run has met first.
#[derive(Clone, Copy)]
pub(crate) enum Fresh {
    /// In a block that is still open.
    Open { token: u64, chunk: u16 },
    /// Sealed into a container of the run.
    At(Location),
}

const SHARDS: usize = 16;

/// What the workers of a run share when they write.
pub(crate) struct Writing {
    pub store: Arc<Store>,
    pub machine: Arc<Machine>,
    pub run: RunId,
    pub compression: Compression,
    pub uploads: Uploads,
    run_keys: [(Secret, [u8; WRAPPED]); 2],
    sequences: [AtomicU32; 2],
    tokens: AtomicU64,
    fresh: [Mutex<HashMap<Prefix, Fresh>>; SHARDS],
    segment_number: AtomicU32,
    checkpoints: Mutex<BTreeMap<Vec<u8>, Fingerprint>>,
    new_bytes: AtomicU64,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn class_slot(class: Class) -> usize {
    match class {
        Class::Data => 0,
        Class::Tree => 1,
    }
}

impl Writing {
    /// Makes the keys of a run, and starts its uploaders.
    pub fn start(
        store: &Arc<Store>,
        machine: Arc<Machine>,
        run: RunId,
        compression: Compression,
    ) -> Result<Self> {
        let key = |class| -> Result<(Secret, [u8; WRAPPED])> {
            let secret = Secret::random()?;
            let wrapped = store.keys.wrap(run, class, &secret)?;
            store.learn_run_key(run, class, &wrapped);
            Ok((secret, wrapped))
        };
        Ok(Self {
            machine,
            run,
            compression,
            uploads: Uploads::start(Arc::clone(store))?,
            run_keys: [key(Class::Data)?, key(Class::Tree)?],
            sequences: Default::default(),
            tokens: AtomicU64::new(1),
            fresh: Default::default(),
            segment_number: AtomicU32::new(0),
            checkpoints: Mutex::default(),
            new_bytes: AtomicU64::new(0),
            store: Arc::clone(store),
        })
    }

    /// The wrapped content key of a class.
    pub fn wrapped_key(&self, class: Class) -> [u8; WRAPPED] {
        self.run_keys[class_slot(class)].1
    }

    /// Bytes of chunks the store did not have.
    pub fn new_bytes(&self) -> u64 {
        self.new_bytes.load(Ordering::Relaxed)
    }

    /// Counts bytes the store did not have.
    pub fn add_new_bytes(&self, bytes: u64) {
        self.new_bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    /// What this run did with a content, or its claim to store it now.
    pub fn claim(&self, fingerprint: &Fingerprint, mine: Fresh) -> Option<Fresh> {
        let prefix = fingerprint.prefix();
        let mut shard = locked(&self.fresh[usize::from(prefix[0]) % SHARDS]);
        match shard.entry(prefix) {
            std::collections::hash_map::Entry::Occupied(fresh) => Some(*fresh.get()),
            std::collections::hash_map::Entry::Vacant(slot) => {
                slot.insert(mine);
                None
            }
        }
    }

    /// Says where the chunks of a block went.
    pub fn place_block(&self, fingerprints: &[Fingerprint], at: Location) {
        for (chunk, fingerprint) in fingerprints.iter().enumerate() {
            let prefix = fingerprint.prefix();
            let location = Location { chunk: chunk as u16, ..at };
            let mut shard = locked(&self.fresh[usize::from(prefix[0]) % SHARDS]);
            shard.insert(prefix, Fresh::At(location));
        }
    }

    /// A number for a block that is opened.
    pub fn next_token(&self) -> u64 {
        self.tokens.fetch_add(1, Ordering::Relaxed)
    }

    /// A new container of the run, in a buffer that was used before if there is one.
    pub fn begin_container(&self, class: Class) -> Result<(ContainerIx, OpenContainer)> {
        self.uploads.check()?;
        let slot = class_slot(class);
        let sequence = self.sequences[slot].fetch_add(1, Ordering::Relaxed);
        let id = ContainerId { class, run: self.run, sequence };
        let (key, wrapped) = &self.run_keys[slot];
        let buffer = self.uploads.buffer();
        let layout = &self.store.header.layout;
        let room = (layout.container + layout.container / 16 + layout.data_block) as usize;
        let container =
            OpenContainer::begin(id, self.store.keys.epoch, key, *wrapped, buffer, room)?;
        let number = self.store.containers.number(id, Some(container.salt()));
        let known = self.store.containers.get(number);
        known.set_standing(Standing::Present);
        known.mark_used();
        Ok((number, container))
    }

    /// Hands a full container to the uploaders.
    pub fn finish_container(&self, container: OpenContainer) -> Result<()> {
        let id = container.id();
        let checkpoints = match id.class {
            Class::Data => Vec::new(),
            Class::Tree => std::mem::take(&mut *locked(&self.checkpoints))
                .into_iter()
                .map(|(path, root)| Checkpoint { path: path.into(), root })
                .collect(),
        };
        let parity = self.store.parity_of(id);
        let (bytes, directory) = container.finish(&self.machine, checkpoints, parity)?;
        self.uploads.send(id, bytes, directory)?;
        self.write_due_segment()
    }

    /// Notes a finished directory; what is below it is covered by it. Whether it is time to bring
    /// the trees so far to the place.
    pub fn add_checkpoint(&self, path: &[u8], root: &PageRef) -> bool {
        let mut points = locked(&self.checkpoints);
        let below = [path, b"/"].concat();
        let covered: Vec<Vec<u8>> = points
            .range(below.clone()..)
            .take_while(|(path, _)| path.starts_with(&below))
            .map(|(path, _)| path.clone())
            .collect();
        for path in &covered {
            points.remove(path);
        }
        points.insert(path.to_vec(), root.fingerprint);
        drop(points);
        self.uploads.is_checkpoint_due()
    }

    /// Writes an index segment when enough containers are at the place, or enough time is over.
    fn write_due_segment(&self) -> Result<()> {
        match self.uploads.take_due() {
            Some(finished) => self.write_segment(&finished, SegmentDraft::default()),
            None => Ok(()),
        }
    }

    /// Writes a segment that lists these containers, beside what is in the draft.
    pub fn write_segment(&self, finished: &Finished, mut draft: SegmentDraft) -> Result<()> {
        if finished.is_empty() && draft.containers.is_empty() {
            return Ok(());
        }
        for (id, directory) in finished {
            draft.add(*id, directory);
        }
        self.store.write_segment(self.next_segment(), draft, &self.machine)?;
        // The index answers for these now.
        for row in finished.iter().flat_map(|(_, directory)| &directory.rows) {
            let prefix = row.fingerprint.prefix();
            locked(&self.fresh[usize::from(prefix[0]) % SHARDS]).remove(&prefix);
        }
        Ok(())
    }

    /// The next segment's name.
    pub fn next_segment(&self) -> SegmentId {
        let number = self.segment_number.fetch_add(1, Ordering::Relaxed);
        SegmentId { run: self.run, number }
    }
}
