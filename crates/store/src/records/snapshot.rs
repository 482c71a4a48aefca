//! Snapshots: the object that makes a run's work visible.

use std::collections::HashSet;

use minicbor::{Decode, Encode, bytes::ByteVec};
use skellin_place::ObjectName;

use crate::{
    containers::{Containers, Location},
    error::{Result, StoreError},
    format::{
        bounds,
        ids::{Class, ContainerId, Fingerprint, Lineage, RunId, hex, random, unhex},
        keys::{Keys, Secret, WRAPPED},
        signed::{Machine, Signed, decode, encode},
    },
    reading::rereading::twice,
    records::needed::NeededRecord,
    store::Store,
    tree::{PageRef, Spot},
};

/// A source as the snapshot has it: a name in the root directory, and where it came from.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct SnapshotSource {
    /// Its name in the root: the last part of the path, made distinct where needed.
    #[n(0)]
    pub name: ByteVec,
    /// Its full path on the machine.
    #[n(1)]
    pub path: ByteVec,
}

/// A path that the run could not handle.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct ExceptionRecord {
    /// Its full path.
    #[n(0)]
    pub path: ByteVec,
    /// Why not.
    #[n(1)]
    pub reason: String,
}

/// A file of the machine's configuration, kept so that a lost machine can be set up again.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct KeptFile {
    /// Its path below the directory of the configuration.
    #[n(0)]
    pub name: String,
    /// What stands in it.
    #[n(1)]
    pub text: String,
}

/// Where the root page lies.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct RootHint {
    #[n(0)]
    run: RunId,
    #[n(1)]
    sequence: u32,
    #[cbor(n(2), with = "minicbor::bytes")]
    salt: [u8; 16],
    #[n(3)]
    block: u16,
    #[n(4)]
    chunk: u16,
    #[n(5)]
    offset: u32,
    #[n(6)]
    length: u32,
}

impl RootHint {
    pub fn of(location: &Location, containers: &Containers) -> Option<Self> {
        let container = containers.get(location.container);
        let Location { block, chunk, offset, length, .. } = *location;
        let ContainerId { run, sequence, .. } = container.id;
        Some(Self { run, sequence, salt: *container.salt.get()?, block, chunk, offset, length })
    }

    fn location(&self, containers: &Containers) -> Location {
        let id = ContainerId { class: Class::Tree, run: self.run, sequence: self.sequence };
        let container = containers.number(id, Some(&self.salt));
        let Self { block, chunk, offset, length, .. } = *self;
        Location { container, block, chunk, offset, length }
    }
}

/// The state of a plan's sources at one moment.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Snapshot {
    /// The run that made it; its id is the snapshot's.
    #[n(0)]
    pub run: RunId,
    /// The plan's name.
    #[n(1)]
    pub plan: String,
    /// The machine's name.
    #[n(2)]
    pub machine: String,
    /// When the run began, in milliseconds since 1970.
    #[n(3)]
    pub started: i64,
    /// When the run ended, in milliseconds since 1970.
    #[n(4)]
    pub ended: i64,
    /// Its sources.
    #[n(5)]
    pub sources: Vec<SnapshotSource>,
    /// Root page of the tree whose entries are the sources.
    #[n(6)]
    pub root: Fingerprint,
    #[n(7)]
    pub(crate) root_hint: Option<RootHint>,
    /// Labels given by the plan or on the command line.
    #[n(8)]
    pub labels: Vec<String>,
    /// The plan's file as it was.
    #[n(9)]
    pub plan_text: String,
    /// Number of paths that are no directories.
    #[n(10)]
    pub files: u64,
    /// Bytes of all files.
    #[n(11)]
    pub bytes: u64,
    /// Bytes of chunks the store did not have before.
    #[n(12)]
    pub new_bytes: u64,
    /// Bytes the run wrote to the place.
    #[n(13)]
    pub stored_bytes: u64,
    /// How many paths the run could not handle.
    #[n(14)]
    pub exceptions: u64,
    /// The first of them.
    #[n(15)]
    pub exception_list: Vec<ExceptionRecord>,
    /// Sockets that were met; they are not stored.
    #[n(16)]
    pub sockets: u64,
    /// The containers it needs.
    #[n(18)]
    pub(crate) needed: NeededRecord,
    /// The wrapped content keys of its run, where it wrote anything under them: of data,
    #[cbor(n(19), with = "minicbor::bytes")]
    pub(crate) data_key: Option<[u8; WRAPPED]>,
    /// and of trees.
    #[cbor(n(20), with = "minicbor::bytes")]
    pub(crate) tree_key: Option<[u8; WRAPPED]>,
    /// What else is configured where it was made; none in snapshots of earlier versions.
    #[n(21)]
    pub configuration: Option<Vec<KeptFile>>,
}

impl Snapshot {
    /// The root page.
    #[must_use]
    pub fn root_page(&self, store: &Store) -> PageRef {
        let spot = match &self.root_hint {
            Some(hint) => Spot::At(hint.location(&store.containers)),
            None => Spot::Unknown,
        };
        PageRef { fingerprint: self.root, spot }
    }
}

/// A snapshot as the listing shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListedSnapshot {
    /// The object.
    pub object: ObjectName,
    /// When its run began by the machine's clock, in milliseconds since 1970.
    pub started: i64,
    /// Its place in the order of the runs of its lineage: later ones have larger numbers, whatever
    /// the clock said.
    pub order: Order,
    /// Plan and machine.
    pub lineage: Lineage,
    /// The run that made it.
    pub run: RunId,
}

/// Where a run stands among those of its lineage: its time in milliseconds since 1970, or one more
/// than that of the run before it where the clock says less (a hybrid logical clock, Kulkarni et al.,
/// "Logical Physical Clocks", 2014).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Order(pub i64);

impl Order {
    /// That of a run that begins now, after another.
    pub(crate) fn after(before: Option<Self>, started: i64) -> Self {
        Self(before.map_or(started, |before| before.0.saturating_add(1).max(started)))
    }
}

/// The name a snapshot will have: sealed time, order, lineage and run.
pub(crate) fn sealed_name(
    keys: &Keys,
    (started, order): (i64, Order),
    lineage: Lineage,
    run: RunId,
) -> Result<String> {
    let nonce: [u8; 12] = random()?;
    let times = [started.to_be_bytes(), order.0.to_be_bytes()].concat();
    let plain = [times.as_slice(), &lineage.0, &run.0].concat();
    Ok(hex(&seal_with(&keys.names, nonce, &plain)?))
}

fn seal_with(key: &Secret, nonce: [u8; 12], plain: &[u8]) -> Result<Vec<u8>> {
    use ring::aead::{Aad, Nonce};
    let mut body = plain.to_vec();
    let aad = Aad::from(b"skellin snapshot name v1");
    key.aead()
        .seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), aad, &mut body)
        .map_err(|_| StoreError::damaged("a snapshot's name", "it does not seal"))?;
    Ok([nonce.as_slice(), &body].concat())
}

fn open_name(keys: &Keys, leaf: &str) -> Option<ListedSnapshot> {
    let plain = keys.names.open(&unhex(leaf)?, b"skellin snapshot name v1")?;
    let (started, rest) = plain.split_first_chunk::<8>()?;
    let (order, rest) = rest.split_first_chunk::<8>()?;
    let (lineage, run) = rest.split_first_chunk::<16>()?;
    Some(ListedSnapshot {
        object: ObjectName::new(format!("snapshots/{leaf}")).ok()?,
        started: i64::from_be_bytes(*started),
        order: Order(i64::from_be_bytes(*order)),
        lineage: Lineage(*lineage),
        run: RunId(run.try_into().ok()?),
    })
}

/// What was just written reads back as something else.
pub(crate) fn unlike(object: &str) -> StoreError {
    StoreError::damaged(object, "reading it back gave something else than was written")
}

fn info(keys: &Keys, leaf: &str) -> Vec<u8> {
    let head = b"skellin snapshot v1".as_slice();
    [head, &keys.store.0, &keys.epoch.to_le_bytes(), leaf.as_bytes()].concat()
}

impl Store {
    /// All snapshots that are listed: present, or their second copy is and their run has ended;
    /// neither marked expired nor their run declared dead. In the order of their runs.
    ///
    /// # Errors
    /// If the place fails, or a marker is damaged.
    pub fn snapshots(&self) -> Result<Vec<ListedSnapshot>> {
        let mut gone = self.expired_runs()?;
        gone.extend(self.dead_runs()?);
        let mut snapshots = self.present_snapshots("snapshots")?;
        let there: HashSet<RunId> = snapshots.iter().map(|snapshot| snapshot.run).collect();
        let mut spared = self.present_snapshots("spares")?;
        spared.retain(|snapshot| !there.contains(&snapshot.run));
        if !spared.is_empty() {
            // A second copy of a run that has not ended is what an interruption leaves behind.
            let open = self.open_runs()?;
            spared.retain(|snapshot| !open.contains(&snapshot.run));
            snapshots.extend(spared);
            snapshots.sort_by_key(|snapshot| (snapshot.order, snapshot.run));
        }
        snapshots.retain(|snapshot| !gone.contains(&snapshot.run));
        Ok(snapshots)
    }

    /// Runs that have not ended well, as far as is known.
    pub(crate) fn open_runs(&self) -> Result<HashSet<RunId>> {
        let listed = self.place.listing("runs")?;
        Ok(listed.iter().filter_map(|object| RunId::parse(object.name.leaf())).collect())
    }

    /// All snapshots of which a folder has a copy, in the order of their runs.
    pub(crate) fn present_snapshots(&self, folder: &str) -> Result<Vec<ListedSnapshot>> {
        let listed = self.place.listing(folder)?;
        let opened = listed.iter().filter_map(|object| open_name(&self.keys, object.name.leaf()));
        let mut snapshots: Vec<_> = opened.collect();
        snapshots.sort_by_key(|snapshot| (snapshot.order, snapshot.run));
        Ok(snapshots)
    }

    /// The last listed snapshot of a lineage, in the order of its runs, to compare with, and how many snapshots there are of
    /// all; one of which only the second copy is left is passed over. `clean`: a run that is known to have ended well; no
    /// verdict can have declared it dead since.
    pub(crate) fn last_of(
        &self,
        lineage: Lineage,
        clean: Option<RunId>,
    ) -> Result<(Option<ListedSnapshot>, usize)> {
        let mut gone = self.expired_runs()?;
        let mut snapshots = self.present_snapshots("snapshots")?;
        let all = snapshots.len();
        snapshots.retain(|found| found.lineage == lineage && !gone.contains(&found.run));
        if snapshots.last().is_some_and(|last| Some(last.run) != clean) {
            gone = self.dead_runs()?;
            snapshots.retain(|found| !gone.contains(&found.run));
        }
        Ok((snapshots.pop(), all))
    }

    /// Objects among the snapshots and their second copies whose names do not open: not the
    /// store's, or damaged.
    ///
    /// # Errors
    /// If the place fails.
    pub fn unreadable_names(&self) -> Result<Vec<ObjectName>> {
        let mut found = Vec::new();
        for folder in ["snapshots", "spares"] {
            let names = self.place.listing(folder)?.into_iter().map(|object| object.name);
            found.extend(names.filter(|name| {
                let is_tree =
                    folder == "spares" && ContainerId::parse(Class::Tree, name.leaf()).is_some();
                !is_tree && open_name(&self.keys, name.leaf()).is_none()
            }));
        }
        Ok(found)
    }

    /// The lineage of a plan on a machine in this store.
    #[must_use]
    pub fn lineage(&self, plan: &str, machine: &str) -> Lineage {
        self.keys.lineage(plan, machine)
    }

    /// Reads a snapshot, from its spare copy if need be.
    ///
    /// # Errors
    /// If neither copy can be read.
    pub fn read_snapshot(&self, listed: &ListedSnapshot) -> Result<Snapshot> {
        let leaf = listed.object.leaf();
        let known = self.nearby.snapshot(leaf).or_else(|| self.take_fetched(leaf));
        if let Some(snapshot) = known
            .and_then(|sealed| self.open_snapshot(listed, listed.object.as_str(), &sealed).ok())
        {
            return Ok(snapshot);
        }
        match self.read_snapshot_copy(listed, listed.object.as_str()) {
            Err(first) if first.is_unreadable() => {
                let spare = format!("spares/{}", listed.object.leaf());
                self.read_snapshot_copy(listed, &spare).map_err(|_| first)
            }
            other => other,
        }
    }

    /// Reads one copy of a snapshot.
    pub(crate) fn read_snapshot_copy(
        &self,
        listed: &ListedSnapshot,
        object: &str,
    ) -> Result<Snapshot> {
        let name = ObjectName::new(object)?;
        let (sealed, snapshot) = twice(&*self.place, || {
            let sealed = self.place.fetch(&name, bounds::SNAPSHOT)?;
            let snapshot = self.open_snapshot(listed, object, &sealed)?;
            Ok((sealed, snapshot))
        })?;
        self.nearby.keep_snapshot(listed.object.leaf(), &sealed);
        Ok(snapshot)
    }

    /// Opens a snapshot as it lies at the place.
    pub(crate) fn open_snapshot(
        &self,
        listed: &ListedSnapshot,
        object: &str,
        sealed: &[u8],
    ) -> Result<Snapshot> {
        let damaged = |why: &str| StoreError::damaged(object, why);
        let leaf = listed.object.leaf();
        let plain = self
            .keys
            .envelope(Class::Tree)
            .open(sealed, &info(&self.keys, leaf))
            .ok_or_else(|| damaged("it is not authentic"))?;
        let context = format!("snapshot {leaf}");
        let signed = Signed::decode(&plain, object)?;
        let machine = signed.certificate.machine.clone();
        let body = signed.verified(&self.keys, context.as_bytes(), object)?;
        let snapshot: Snapshot = decode(&body, object)?;
        let lineage = self.keys.lineage(&snapshot.plan, &snapshot.machine);
        if (snapshot.run, snapshot.started, lineage) != (listed.run, listed.started, listed.lineage)
        {
            return Err(damaged("its name belongs to another snapshot"));
        }
        if snapshot.machine != machine {
            return Err(damaged("it is signed by another machine"));
        }
        for (class, key) in [(Class::Data, &snapshot.data_key), (Class::Tree, &snapshot.tree_key)] {
            if let Some(wrapped) = key {
                self.learn_run_key(snapshot.run, class, wrapped);
            }
        }
        Ok(snapshot)
    }

    /// Writes a snapshot, twice, and proves that it reads back. The second copy comes first, since
    /// the other makes it listed.
    pub(crate) fn write_snapshot(
        &self,
        leaf: &str,
        snapshot: &Snapshot,
        machine: &Machine,
    ) -> Result<u64> {
        let context = format!("snapshot {leaf}");
        let signed = machine.sign(context.as_bytes(), encode(snapshot)).encode();
        let sealed = self.keys.envelope(Class::Tree).seal(&signed, &info(&self.keys, leaf))?;
        for folder in ["spares", "snapshots"] {
            self.place.create(&ObjectName::new(format!("{folder}/{leaf}"))?, &sealed)?;
        }
        // At far places the one that is listed will do: each look takes a way and back.
        let looked_at: &[&str] =
            if self.place.is_far() { &["snapshots"] } else { &["spares", "snapshots"] };
        for folder in looked_at {
            let object = ObjectName::new(format!("{folder}/{leaf}"))?;
            if self.place.fetch(&object, bounds::SNAPSHOT)? != sealed {
                return Err(unlike(object.as_str()));
            }
        }
        self.nearby.keep_snapshot(leaf, &sealed);
        Ok(2 * sealed.len() as u64)
    }
}
