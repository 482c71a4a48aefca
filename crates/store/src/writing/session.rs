//! A run's side of the store: what it announces, what it writes, and how it ends.
//!
//! The order is the protocol (FORMAT.md, "Runs and reclaim"): the run's record, then the notices;
//! containers, then segments, then the snapshot; then a look whether the run was revoked.

use std::{
    collections::HashSet,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use skellin_place::ObjectName;

use crate::{
    error::{Result, StoreError},
    format::{
        compress::Compression,
        ids::{Class, ContainerId, Lineage, RunId},
        signed::Machine,
    },
    mistakes::{Mistake, is_made},
    records::{
        bundles::BUNDLED,
        control::{Ack, ContainerRun, Revoke, RunRecord},
        needed::NeededTiers,
        snapshot::{
            ExceptionRecord, KeptFile, Order, RootHint, Snapshot, SnapshotSource, sealed_name,
        },
    },
    store::Store,
    tree::{PageRef, PageSink, Refs, Spot},
    writing::{comparison::Comparison, tree_writer::TreeWriter, work::Writing},
};

/// A look for notices is not repeated within this time where asking takes long.
const POLLED_LATELY: Duration = Duration::from_secs(60);

/// Where no other run is open, what was not written to for so many seconds will not be any more.
const SETTLED_DRAFT: u64 = 120;

/// What a run brings with it.
pub struct SessionStart<'a> {
    /// The plan's name.
    pub plan: &'a str,
    /// The machine's name.
    pub machine: &'a str,
    /// When the run began, in milliseconds since 1970.
    pub started: i64,
    /// Its place in the order of the runs of its lineage, if that is known: the copy of a snapshot
    /// has the original's.
    pub order: Option<Order>,
    /// Whose work in this store is done one after the other, so that none of it but this run lives: a
    /// machine, its state and a lock that is held. None where that is not known.
    pub origin: Option<&'a str>,
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
    /// What else is configured on the machine.
    pub configuration: Vec<KeptFile>,
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

/// A run in progress.
pub struct Session {
    pub(crate) writing: Writing,
    plan: String,
    machine_name: String,
    started: i64,
    pub(crate) snapshot_leaf: String,
    pub(crate) tree: Mutex<TreeWriter>,
    comparison: Comparison,
    pub(crate) lineage: Lineage,
    pub(crate) order: Order,
    /// How many snapshots the store had when it began.
    listed: usize,
    known_notices: Mutex<HashSet<ObjectName>>,
    pub(crate) polled: Mutex<Instant>,
    notes: Mutex<Vec<StoreError>>,
    /// Trouble with what is there already, which does not stop a run.
    pub warnings: Vec<StoreError>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Session {
    /// Announces a run and learns what the store has.
    ///
    /// # Errors
    /// If the place fails; nothing but the run's record was written then.
    pub fn begin(store: &Arc<Store>, start: &SessionStart<'_>) -> Result<Arc<Self>> {
        let SessionStart { plan, machine: machine_name, started, order, origin, compression } =
            *start;
        let origin = origin.map(|origin| store.keys.lineage(origin, "origin"));
        let lineage = store.keys.lineage(plan, machine_name);
        let run = match is_made(Mistake::NameReused) {
            true => RunId(lineage.0),
            false => RunId::random()?,
        };
        let machine = Arc::new(Machine::certified(&store.keys, machine_name)?);
        // Whatever became of it since, what its containers are is looked up after the notices.
        let (last, listed) = store.last_of(lineage, store.nearby.last_clean(lineage))?;
        let order = order.unwrap_or(Order::after(last.as_ref().map(|last| last.order), started));
        let snapshot_leaf = sealed_name(&store.keys, (started, order), lineage, run)?;
        let snapshot = snapshot_leaf.clone();
        let record = RunRecord { run, lineage, snapshot, started, order: order.0, origin };
        let early = is_made(Mistake::NoticesBeforeRecord)
            .then(|| store.condemn_from_notices(&HashSet::new()))
            .transpose()?;
        store.put_record(&format!("runs/{run}"), &record, &machine)?;
        store.containers.clear_used();
        let writing = Writing::start(store, machine, run, compression)?;
        let notices = match early {
            Some(early) => early,
            None => store.condemn_from_notices(&HashSet::new())?,
        };
        let (comparison, warnings) =
            Comparison::load(store, lineage, Some(&record), last.as_ref())?;
        if comparison.is_alone() {
            // Leftovers cost room, no more.
            let _ = store.place.sweep(SETTLED_DRAFT);
        }
        let known_notices = Mutex::default();
        acknowledge(&writing, comparison.base(), &notices, &known_notices)?;
        let session = Self {
            lineage,
            order,
            listed,
            writing,
            plan: plan.to_owned(),
            machine_name: machine_name.to_owned(),
            started,
            snapshot_leaf,
            tree: Mutex::new(TreeWriter::new(compression)?),
            comparison,
            known_notices,
            polled: Mutex::new(Instant::now()),
            notes: Mutex::default(),
            warnings,
        };
        Ok(Arc::new(session))
    }

    /// Answers the notices of reclaims that were not answered yet.
    ///
    /// # Errors
    /// If the place fails.
    pub fn poll(&self) -> Result<()> {
        *locked(&self.polled) = Instant::now();
        let known = locked(&self.known_notices).clone();
        let notices = self.writing.store.condemn_from_notices(&known)?;
        acknowledge(&self.writing, self.comparison.base(), &notices, &self.known_notices)
    }

    /// The store.
    #[must_use]
    pub fn store(&self) -> &Store {
        &self.writing.store
    }

    /// The record that says that the run is open.
    pub(crate) fn record_name(&self) -> Result<ObjectName> {
        Ok(ObjectName::new(format!("runs/{}", self.writing.run))?)
    }

    /// The notices of reclaims that it has answered.
    pub(crate) fn notices(&self) -> Vec<ObjectName> {
        let mut notices: Vec<_> = locked(&self.known_notices).iter().cloned().collect();
        notices.sort();
        notices
    }

    /// The run's id.
    #[must_use]
    pub fn run(&self) -> RunId {
        self.writing.run
    }

    /// What the run compares with.
    #[must_use]
    pub fn comparison(&self) -> &Comparison {
        &self.comparison
    }

    /// Bytes written to the place so far.
    #[must_use]
    pub fn stored_bytes(&self) -> u64 {
        self.writing.uploads.stored_bytes()
    }

    /// Bytes of chunks the store did not have.
    #[must_use]
    pub fn new_bytes(&self) -> u64 {
        self.writing.new_bytes()
    }

    /// Notes that a directory of the source is finished, so that an interrupted run can be taken
    /// up there.
    ///
    /// # Errors
    /// If the tree container could not be closed.
    pub fn checkpoint(&self, path: &[u8], root: &PageRef) -> Result<()> {
        if self.writing.add_checkpoint(path, root) {
            self.close_tree()?;
        }
        Ok(())
    }

    /// As [`poll`](Self::poll), unless that was done lately.
    pub(crate) fn poll_now_and_then(&self) -> Result<()> {
        // By itself: who asks holds it no more when it is polled.
        let last = *locked(&self.polled);
        if last.elapsed() < POLLED_LATELY {
            return Ok(());
        }
        self.poll()
    }

    /// Brings the open tree container on its way, however full.
    pub(crate) fn close_tree(&self) -> Result<()> {
        let closed = locked(&self.tree).close(&self.writing)?;
        closed.map_or(Ok(()), |container| self.writing.finish_container(container))
    }

    /// Ends the run: what is open is closed, everything is acknowledged, the index is written,
    /// then the snapshot.
    ///
    /// # Errors
    /// [`StoreError::Revoked`] if a reclaim lost patience and the run has to be done again; else
    /// the first failure. Without `Ok` no snapshot may be counted on.
    pub fn finish(&self, draft: SnapshotDraft) -> Result<Snapshot> {
        self.finish_unless(draft, &|| false)
    }

    /// As [`finish`](Self::finish), unless somebody interrupts before the snapshot is begun.
    ///
    /// # Errors
    /// [`StoreError::Cancelled`] then; else as [`finish`](Self::finish).
    pub fn finish_unless(
        &self,
        draft: SnapshotDraft,
        is_cancelled: &dyn Fn() -> bool,
    ) -> Result<Snapshot> {
        let tiers = self.put_needed()?;
        self.close_tree()?;
        let mut finished = Vec::new();
        if !is_made(Mistake::SnapshotBeforeContainers) {
            finished = self.writing.uploads.drain(is_cancelled)?;
        }
        let (unlisted, replaced) = self.comparison.take_unlisted();
        self.writing.write_segment(&finished, unlisted)?;
        // A reclaim that waits for an answer gets one now. Without it a run that was short would be
        // checked again, no more: a far place is spared the question.
        match self.writing.store.place.is_far() {
            true => self.poll_now_and_then()?,
            false => self.poll()?,
        }
        self.be_sound()?;
        let spot = locked(&self.tree).resolve(draft.root.spot);
        let root_hint = match spot {
            Spot::At(location) => RootHint::of(&location, &self.writing.store.containers),
            Spot::Open { .. } | Spot::Unknown => None,
        };
        let used = self.writing.store.containers.used();
        let key_of = |class| {
            let wrote = |id: &ContainerId| (id.run, id.class) == (self.writing.run, class);
            used.iter().any(wrote).then(|| self.writing.wrapped_key(class))
        };
        let snapshot = Snapshot {
            run: self.writing.run,
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
            needed: tiers.record(&used),
            data_key: key_of(Class::Data),
            tree_key: key_of(Class::Tree),
            configuration: Some(draft.configuration).filter(|kept| !kept.is_empty()),
        };
        if is_cancelled() {
            return Err(StoreError::Cancelled);
        }
        let record = self.record_name()?;
        let store = &self.writing.store;
        let written = store.write_snapshot(&self.snapshot_leaf, &snapshot, &self.writing.machine);
        // Whoever took the run for dead has removed what was written of its snapshot.
        self.be_wanted()?;
        written?;
        // The snapshot is there: what follows is housekeeping, and may wait for the next run. While
        // the record is there nobody takes what is being merged for left behind.
        // What broken segments held is in others now.
        if !replaced.is_empty() {
            let _ = store.delete_segments(&replaced);
        }
        let _ = store.merge_segments(&self.writing.machine, || self.writing.next_segment());
        if (self.listed + 1).is_multiple_of(BUNDLED) {
            let _ = store.bundle_snapshots(self.writing.run);
        }
        if let Err(error) = store.place.delete(&record) {
            locked(&self.notes).push(error.into());
        }
        store.nearby.end(self.lineage, self.writing.run);
        store.nearby.prune();
        let _ = store.settle(self.comparison.dead(), &self.writing.machine, self.started);
        Ok(snapshot)
    }

    /// Fails if a reclaim, or a later run, took this run for dead before its snapshot was there. In
    /// this order: whoever settles a run puts the verdict before its revoke goes.
    fn be_wanted(&self) -> Result<()> {
        let store = &self.writing.store;
        match store.get_record::<Revoke>(&format!("revokes/{}", self.writing.run)) {
            _ if is_made(Mistake::RevokeNotRead) => {}
            Err(StoreError::Place(error)) if error.is_not_found() => {}
            // One that is torn may have been meant: checking again costs time, no more.
            Ok(_) => return Err(StoreError::Revoked),
            Err(error) if error.is_damage() => return Err(StoreError::Revoked),
            Err(error) => return Err(error),
        }
        if is_made(Mistake::VerdictNotRead) {
            return Ok(());
        }
        // Settled to the end already: the verdict came before its revoke went. Its own record tells less,
        // since a write that comes twice brings that back.
        match store.dead_runs()?.contains(&self.writing.run) {
            true => Err(StoreError::Revoked),
            false => Ok(()),
        }
    }

    /// Trouble after the snapshot was listed, which costs it nothing.
    #[must_use]
    pub fn take_notes(&self) -> Vec<StoreError> {
        std::mem::take(&mut *locked(&self.notes))
    }

    /// Fails if the snapshot in the making refers to a container that turned out to be lost.
    fn be_sound(&self) -> Result<()> {
        let all = self.writing.store.containers.all();
        match all.iter().find(|container| container.is_used() && container.is_lost()) {
            Some(lost) => Err(StoreError::Unsound(lost.id.to_string())),
            None => Ok(()),
        }
    }

    /// Stores what the list of the snapshot's containers shares with those that follow it. What this
    /// run writes itself stands in the snapshot: nobody knows yet how much that will be.
    fn put_needed(&self) -> Result<NeededTiers> {
        let store = &self.writing.store;
        let mut used = store.containers.used();
        used.retain(|id| id.run != self.writing.run);
        store.next_tiers(self.comparison.base().map(|base| &base.needed), &used, self)
    }

    /// Gives the run up; what was not acknowledged may or may not be at the place.
    pub fn abandon(&self) {
        self.writing.uploads.abandon();
    }
}

/// Answers notices whose victims are used no more: what is in use now is told.
fn acknowledge(
    writing: &Writing,
    base: Option<&Snapshot>,
    notices: &[ObjectName],
    known: &Mutex<HashSet<ObjectName>>,
) -> Result<()> {
    for notice in notices {
        let mut held = writing.store.containers.used();
        match base.map(|base| writing.store.needed(&base.needed)) {
            Some(Ok(needed)) => held.extend(needed),
            // What is taken over of it is in use, and told.
            Some(Err(error)) if error.is_unreadable() => {}
            Some(Err(error)) => return Err(error),
            None => {}
        }
        held.sort_unstable();
        held.dedup();
        if is_made(Mistake::EmptyAnswer) {
            held.clear();
        }
        let ack = Ack { holds: ContainerRun::gather(&held) };
        let name = format!("acks/{}-{}", notice.leaf(), writing.run);
        writing.store.put_record(&name, &ack, &writing.machine)?;
        locked(known).insert(notice.clone());
    }
    Ok(())
}

impl PageSink for Session {
    fn put_page(&self, body: &[u8], refs: &Refs) -> Result<PageRef> {
        let store = &self.writing.store;
        let fingerprint = store.keys.fingerprint(Class::Tree, body);
        if let Some(location) = store.known_page(&fingerprint)? {
            return Ok(PageRef { fingerprint, spot: Spot::At(location) });
        }
        let put = locked(&self.tree).put(&self.writing, fingerprint, body, refs);
        let (page, full) = put?;
        full.map_or(Ok(page), |full| self.writing.finish_container(full).map(|()| page))
    }
}
