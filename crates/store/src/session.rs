//! A run's side of the store: what it announces, what it writes, and how it ends.
//!
//! The order is the protocol (FORMAT.md, "Runs and reclaim"): the run's record, then the notices;
//! containers, then segments, then the snapshot; then a look whether the run was revoked.

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU32, AtomicU64, Ordering},
    },
};

use skellin_place::ObjectName;

use crate::{
    comparison::Comparison,
    compress::Compression,
    container::{Checkpoint, OpenContainer},
    containers::{ContainerIx, Containers, Location, Standing},
    control::{Ack, ContainerRun, Notice, Revoke, RunRecord},
    error::{Result, StoreError},
    ids::{Class, ContainerId, Fingerprint, Prefix, RunId},
    keys::{Secret, WRAPPED},
    segment::SegmentId,
    signed::Machine,
    snapshot::{ExceptionRecord, RootHint, Snapshot, SnapshotSource, sealed_name},
    store::Store,
    tree::{PageRef, Spot},
    tree_writer::TreeWriter,
    uploads::{Finished, Uploads},
};

/// What a run brings with it.
pub struct SessionStart<'a> {
    /// The plan's name.
    pub plan: &'a str,
    /// The machine's name.
    pub machine: &'a str,
    /// When the run began, in milliseconds since 1970.
    pub started: i64,
    /// How hard to compress.
    pub compression: Compression,
}

/// What a snapshot says beyond what the session knows itself.
pub struct SnapshotDraft {
    /// Sources with their names in the root.
    pub sources: Vec<SnapshotSource>,
    /// Root page.
    pub root: PageRef,
    /// Labels.
    pub labels: Vec<String>,
    /// The plan's text.
    pub plan_text: String,
    /// Paths that are no directories.
    pub files: u64,
    /// Bytes of all files.
    pub bytes: u64,
    /// When the run ended, in milliseconds since 1970.
    pub ended: i64,
    /// How many exceptions there were.
    pub exceptions: u64,
    /// The first of them.
    pub exception_list: Vec<ExceptionRecord>,
    /// Sockets met.
    pub sockets: u64,
}

/// Content this run has met first.
#[derive(Clone, Copy)]
pub(crate) enum Fresh {
    /// In a block that is still open.
    Open { token: u64, chunk: u16 },
    /// Sealed into a container of the run.
    At(Location),
}

const SHARDS: usize = 16;

/// A run in progress.
pub struct Session {
    pub(crate) store: Arc<Store>,
    plan: String,
    machine_name: String,
    pub(crate) machine: Arc<Machine>,
    run: RunId,
    started: i64,
    snapshot_leaf: String,
    pub(crate) compression: Compression,
    run_keys: [(Secret, [u8; WRAPPED]); 2],
    sequences: [AtomicU32; 2],
    tokens: AtomicU64,
    fresh: [Mutex<HashMap<Prefix, Fresh>>; SHARDS],
    pub(crate) tree: Mutex<TreeWriter>,
    uploads: Uploads,
    segment_number: Arc<AtomicU32>,
    checkpoints: Mutex<BTreeMap<Vec<u8>, Fingerprint>>,
    comparison: Comparison,
    known_notices: Mutex<HashSet<ObjectName>>,
    new_bytes: AtomicU64,
    /// Trouble with what is there already, which does not stop a run.
    pub warnings: Vec<StoreError>,
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

impl Session {
    /// Announces a run and learns what the store has.
    ///
    /// # Errors
    /// If the place fails; nothing but the run's record was written then.
    pub fn begin(store: Arc<Store>, start: &SessionStart<'_>) -> Result<Arc<Self>> {
        let SessionStart { plan, machine: machine_name, started, compression } = *start;
        let run = RunId::random()?;
        let lineage = store.keys.lineage(plan, machine_name);
        let machine = Arc::new(Machine::certified(&store.keys, machine_name)?);
        let snapshot_leaf = sealed_name(&store.keys, started, lineage, run)?;
        let record = RunRecord { run, lineage, snapshot: snapshot_leaf.clone(), started };
        store.put_record(&format!("runs/{run}"), &record, &machine)?;
        store.containers.clear_used();

        let key = |class| -> Result<(Secret, [u8; WRAPPED])> {
            let secret = Secret::random()?;
            let wrapped = store.keys.wrap(run, class, &secret)?;
            store.learn_run_key(run, class, &wrapped);
            Ok((secret, wrapped))
        };
        let run_keys = [key(Class::Data)?, key(Class::Tree)?];
        let mut session = Self {
            plan: plan.to_owned(),
            machine_name: machine_name.to_owned(),
            machine: Arc::clone(&machine),
            run,
            started,
            snapshot_leaf,
            compression,
            run_keys,
            sequences: Default::default(),
            tokens: AtomicU64::new(1),
            fresh: Default::default(),
            tree: Mutex::new(TreeWriter::new(compression)?),
            uploads: Uploads::start(Arc::clone(&store))?,
            segment_number: Arc::default(),
            checkpoints: Mutex::default(),
            comparison: Comparison::empty(Arc::clone(&store)),
            known_notices: Mutex::default(),
            new_bytes: AtomicU64::new(0),
            warnings: Vec::new(),
            store,
        };
        let (comparison, warnings) = Comparison::load(&session.store, lineage, Some(run))?;
        session.comparison = comparison;
        session.warnings = warnings;
        session.poll()?;
        Ok(Arc::new(session))
    }

    /// Answers the notices of reclaims that were not answered yet.
    ///
    /// # Errors
    /// If the place fails.
    pub fn poll(&self) -> Result<()> {
        let mut known = locked(&self.known_notices);
        for object in self.store.place.listing("notices")? {
            if known.contains(&object.name) {
                continue;
            }
            let notice: Notice = match self.store.get_record(object.name.as_str()) {
                Ok(notice) => notice,
                // Torn, or resolved since: a reclaim counts only notices it could put.
                Err(error) if error.is_damage() => continue,
                Err(error) => return Err(error),
            };
            self.store.condemn(&notice)?;
            let mut held = self.store.containers.used();
            if let Some(base) = self.comparison.base() {
                held.extend(ContainerRun::spread(&base.containers)?);
            }
            held.sort_unstable();
            held.dedup();
            let ack = Ack { holds: ContainerRun::gather(&held) };
            let name = format!("acks/{}-{}", object.name.leaf(), self.run);
            self.store.put_record(&name, &ack, &self.machine)?;
            known.insert(object.name);
        }
        drop(known);
        Ok(())
    }

    /// The run's id.
    #[must_use]
    pub fn run(&self) -> RunId {
        self.run
    }

    /// What the run compares with.
    #[must_use]
    pub fn comparison(&self) -> &Comparison {
        &self.comparison
    }

    /// Bytes written to the place so far.
    #[must_use]
    pub fn stored_bytes(&self) -> u64 {
        self.uploads.stored_bytes()
    }

    /// Bytes of chunks the store did not have.
    #[must_use]
    pub fn new_bytes(&self) -> u64 {
        self.new_bytes.load(Ordering::Relaxed)
    }

    pub(crate) fn add_new_bytes(&self, bytes: u64) {
        self.new_bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    /// Where the store has a content, which is then counted as used.
    pub(crate) fn known(&self, fingerprint: &Fingerprint) -> Option<Location> {
        self.store.known(fingerprint)
    }

    /// What this run did with a content, or its claim to store it now.
    pub(crate) fn claim(&self, fingerprint: &Fingerprint, mine: Fresh) -> Option<Fresh> {
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
    pub(crate) fn place_block(&self, fingerprints: &[Fingerprint], at: Location) {
        for (chunk, fingerprint) in fingerprints.iter().enumerate() {
            let prefix = fingerprint.prefix();
            let location = Location { chunk: chunk as u16, ..at };
            let mut shard = locked(&self.fresh[usize::from(prefix[0]) % SHARDS]);
            shard.insert(prefix, Fresh::At(location));
        }
    }

    pub(crate) fn next_token(&self) -> u64 {
        self.tokens.fetch_add(1, Ordering::Relaxed)
    }

    /// A new container of the run, in a buffer that was used before if there is one.
    pub(crate) fn begin_container(&self, class: Class) -> Result<(ContainerIx, OpenContainer)> {
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
    pub(crate) fn finish_container(&self, container: OpenContainer) -> Result<()> {
        let id = container.id();
        let checkpoints = match id.class {
            Class::Data => Vec::new(),
            Class::Tree => std::mem::take(&mut *locked(&self.checkpoints))
                .into_iter()
                .map(|(path, root)| Checkpoint { path: path.into(), root })
                .collect(),
        };
        let (bytes, directory) = container.finish(&self.machine, checkpoints)?;
        self.uploads.send(id, bytes, directory)?;
        self.write_due_segment()
    }

    /// Notes that a directory of the source is finished, so that an interrupted run can be taken
    /// up there.
    ///
    /// # Errors
    /// If the tree container could not be closed.
    pub fn checkpoint(&self, path: &[u8], root: &PageRef) -> Result<()> {
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
        if self.uploads.is_checkpoint_due() {
            locked(&self.tree).close(self)?;
        }
        Ok(())
    }

    /// Writes an index segment when enough containers are at the place, or enough time is over.
    fn write_due_segment(&self) -> Result<()> {
        match self.uploads.take_due() {
            Some(finished) => self.write_segment(&finished),
            None => Ok(()),
        }
    }

    fn write_segment(&self, finished: &Finished) -> Result<()> {
        if finished.is_empty() {
            return Ok(());
        }
        let mut draft = crate::segment::SegmentDraft::default();
        for (id, directory) in finished {
            crate::index::add_to_draft(&mut draft, *id, directory);
        }
        self.store.write_segment(self.next_segment(), draft, &self.machine)?;
        // The index answers for these now.
        for row in finished.iter().flat_map(|(_, directory)| &directory.rows) {
            let prefix = row.fingerprint.prefix();
            locked(&self.fresh[usize::from(prefix[0]) % SHARDS]).remove(&prefix);
        }
        Ok(())
    }

    fn next_segment(&self) -> SegmentId {
        let number = self.segment_number.fetch_add(1, Ordering::Relaxed);
        SegmentId { run: self.run, number }
    }

    /// Ends the run: what is open is closed, everything is acknowledged, the index is written,
    /// then the snapshot.
    ///
    /// # Errors
    /// [`StoreError::Revoked`] if a reclaim lost patience and the run has to be done again; else
    /// the first failure. Without `Ok` no snapshot may be counted on.
    pub fn finish(&self, draft: SnapshotDraft) -> Result<Snapshot> {
        locked(&self.tree).close(self)?;
        let finished = self.uploads.drain()?;
        self.write_segment(&finished)?;
        self.poll()?;
        let spot = locked(&self.tree).resolve(draft.root.spot);
        let root_hint = match spot {
            Spot::At(location) => RootHint::of(&location, &self.store.containers),
            Spot::Open { .. } | Spot::Unknown => None,
        };
        let mut containers = ContainerRun::gather(&self.store.containers.used());
        self.add_wrapped_keys(&mut containers);
        let snapshot = Snapshot {
            run: self.run,
            plan: self.plan.clone(),
            machine: self.machine_name.clone(),
            started: self.started,
            ended: draft.ended,
            sources: draft.sources,
            root: draft.root.fingerprint,
            root_hint,
            labels: draft.labels,
            plan_text: draft.plan_text,
            files: draft.files,
            bytes: draft.bytes,
            new_bytes: self.new_bytes(),
            stored_bytes: self.stored_bytes(),
            exceptions: draft.exceptions,
            exception_list: draft.exception_list,
            sockets: draft.sockets,
            containers,
        };
        self.store.write_snapshot(&self.snapshot_leaf, &snapshot, &self.machine)?;
        match self.store.get_record::<Revoke>(&format!("revokes/{}", self.run)) {
            Err(StoreError::Place(error)) if error.is_not_found() => {}
            // One that is torn may have been meant: checking again costs time, no more.
            Ok(_) => return Err(StoreError::Revoked),
            Err(error) if error.is_damage() => return Err(StoreError::Revoked),
            Err(error) => return Err(error),
        }
        self.store.place.delete(&ObjectName::new(format!("runs/{}", self.run))?)?;
        // The snapshot is there: what follows is housekeeping, and may wait for the next run.
        let _ = self.store.merge_segments(&self.machine, || self.next_segment());
        Ok(snapshot)
    }

    fn add_wrapped_keys(&self, runs: &mut [ContainerRun]) {
        let of_base = self.comparison.base().into_iter().flat_map(|base| &base.containers);
        let known: HashMap<(RunId, u8), [u8; WRAPPED]> =
            of_base.filter_map(|run| Some(((run.run, run.class), run.wrapped?))).collect();
        for run in runs {
            run.wrapped = if run.run == self.run {
                let slot = if run.class == Class::Data.code() { 0 } else { 1 };
                Some(self.run_keys[slot].1)
            } else {
                known.get(&(run.run, run.class)).copied()
            };
        }
    }

    pub(crate) fn containers(&self) -> &Containers {
        &self.store.containers
    }

    /// Gives the run up; what was not acknowledged may or may not be at the place.
    pub fn abandon(&self) {
        self.uploads.abandon();
    }
}
