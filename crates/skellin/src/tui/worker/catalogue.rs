//! Opening stores and listing their snapshots: the names first, which one listing gives, then what
//! each says of itself, newest first.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
};

use skellin_engine::{EngineError, Passphrase, Refusal, history::latest_times};
use skellin_store::{Cache, Lineage, ListedSnapshot, RunId, Snapshot, Store};

use super::{Facts, Group, Report, Shared, Trouble, locked};
use crate::machine::open_configured;

/// So many snapshots are told of at once.
const BATCH: usize = 64;

/// A store that is open, and what is known of its snapshots.
pub(super) struct Open {
    pub store: Arc<Store>,
    listed: Mutex<HashMap<RunId, ListedSnapshot>>,
    read: Mutex<HashMap<RunId, Arc<Snapshot>>>,
    /// Counts listings, so that an older one stops when a newer begins.
    listing: AtomicU64,
}

impl Open {
    /// Fetches what these snapshots say, as far as it is not known, with few requests.
    pub fn fetch(&self, ids: &[RunId]) {
        let unread: Vec<ListedSnapshot> = {
            let (read, listed) = (locked(&self.read), locked(&self.listed));
            let unread = ids.iter().filter(|id| !read.contains_key(id));
            unread.filter_map(|id| listed.get(id).cloned()).collect()
        };
        self.store.fetch_snapshots(&unread);
    }

    /// A snapshot by its id, with the plan it was made by and all else it says.
    pub fn whole_snapshot(&self, id: RunId) -> Result<Snapshot, EngineError> {
        let listed = locked(&self.listed).get(&id).cloned();
        let listed = listed.ok_or(EngineError::Refused(Refusal::SnapshotGone))?;
        Ok(self.store.read_snapshot(&listed)?)
    }

    /// A snapshot by its id.
    pub fn snapshot(&self, id: RunId) -> Result<Arc<Snapshot>, EngineError> {
        if let Some(snapshot) = locked(&self.read).get(&id) {
            return Ok(Arc::clone(snapshot));
        }
        let mut snapshot = self.whole_snapshot(id)?;
        // Of thousands of snapshots nobody here needs what was written down beside the tree.
        (snapshot.plan_text, snapshot.exception_list) = (String::new(), Vec::new());
        snapshot.configuration = None;
        let snapshot = Arc::new(snapshot);
        locked(&self.read).insert(id, Arc::clone(&snapshot));
        Ok(snapshot)
    }
}

/// Opens a store if need be, lists it, and reads its snapshots.
pub(super) fn open(shared: &Shared, name: &str, passphrase: Option<&Passphrase>) {
    let opened = match shared.open_store(name) {
        Ok(open) => Ok(open),
        Err(_) => {
            let configuration = shared.configuration();
            let cache = Cache::ReadWrite(configuration.folders.cache.clone());
            open_configured(&configuration, name, passphrase, cache).map(|store| {
                let open = Arc::new(Open {
                    store,
                    listed: Mutex::default(),
                    read: Mutex::default(),
                    listing: AtomicU64::new(0),
                });
                locked(&shared.stores).insert(name.to_owned(), Arc::clone(&open));
                open
            })
        }
    };
    let listed = opened.and_then(|open| list(shared, name, &open).map(|newest| (open, newest)));
    match listed {
        Ok((open, (groups, newest))) => {
            let number = open.listing.fetch_add(1, Ordering::SeqCst) + 1;
            let restore_only = open.store.is_restore_only();
            shared.tell(Report::Role { store: name.to_owned(), restore_only });
            let store = name.to_owned();
            if shared.tell(Report::Listed { store, groups: Ok(groups) }) {
                read_all(shared, name, &open, &newest, number);
            }
        }
        Err(error) => {
            // The next attempt opens it anew: the place may have come back elsewhere.
            locked(&shared.stores).remove(name);
            let store = name.to_owned();
            shared.tell(Report::Listed { store, groups: Err(Trouble::from(&error)) });
        }
    }
}

/// The snapshots by plan and machine, and all of them newest first.
fn list(shared: &Shared, name: &str, open: &Open) -> Result<(Vec<Group>, Vec<RunId>), EngineError> {
    let listed = open.store.snapshots()?;
    let now = jiff::Timestamp::now().as_millisecond();
    let newest: Vec<RunId> = listed.iter().rev().map(|snapshot| snapshot.run).collect();
    let mut by_lineage: BTreeMap<[u8; 16], Vec<&ListedSnapshot>> = BTreeMap::new();
    for snapshot in &listed {
        by_lineage.entry(snapshot.lineage.0).or_default().push(snapshot);
    }
    *locked(&open.listed) =
        listed.iter().map(|snapshot| (snapshot.run, snapshot.clone())).collect();
    let configuration = shared.configuration();
    let plans = configuration.plans.iter().filter_map(|file| file.plan.as_ref());
    let known: HashMap<Lineage, (String, String)> = plans
        .filter(|plan| plan.store == name || plan.replicas().any(|store| store == name))
        .map(|plan| {
            let machine = plan.machine.clone().unwrap_or_else(|| shared.machine.clone());
            (open.store.lineage(plan.series(), &machine), (plan.name.clone(), machine))
        })
        .collect();
    let mut groups = Vec::new();
    for (lineage, snapshots) in by_lineage {
        let named = known.get(&Lineage(lineage)).cloned().or_else(|| {
            // Another machine's plan, or one whose file is gone: a snapshot tells its name.
            let told = snapshots.iter().rev().find_map(|one| open.snapshot(one.run).ok());
            told.map(|snapshot| (snapshot.plan.clone(), snapshot.machine.clone()))
        });
        let Some((plan, machine)) = named else { continue };
        // One that a wrong clock has dated stands where its run belongs.
        let times = latest_times(&snapshots, now);
        let marks = snapshots.iter().map(|snapshot| snapshot.run).zip(times).collect();
        groups.push(Group { plan, machine, marks });
    }
    Ok((groups, newest))
}

fn read_all(shared: &Shared, name: &str, open: &Open, newest: &[RunId], number: u64) {
    open.fetch(newest);
    let pins = open.store.pins().unwrap_or_default();
    for ids in newest.chunks(BATCH) {
        if open.listing.load(Ordering::SeqCst) != number {
            return;
        }
        let mut kept = Vec::new();
        let facts = ids.iter().filter_map(|id| {
            // One that is damaged is found by verify; the ribbon shows that it is there.
            let snapshot = open.snapshot(*id).ok()?;
            let facts = Facts {
                dated: snapshot.started,
                files: snapshot.files,
                bytes: snapshot.bytes,
                new_bytes: snapshot.new_bytes,
                stored_bytes: snapshot.stored_bytes,
                exceptions: snapshot.exceptions,
            };
            let is_pinned = pins.contains(id);
            if is_pinned || !snapshot.labels.is_empty() {
                kept.push((*id, snapshot.labels.clone(), is_pinned));
            }
            Some((*id, facts))
        });
        let facts = facts.collect();
        if !kept.is_empty() && !shared.tell(Report::Kept { store: name.to_owned(), kept }) {
            return;
        }
        if !shared.tell(Report::Facts { store: name.to_owned(), facts }) {
            return;
        }
    }
    shared.tell(Report::AllFacts { store: name.to_owned() });
}

/// Pins a snapshot in every open store that has it, or takes its pin away.
pub(super) fn pin(shared: &Shared, store: String, run: RunId, is_pinned: bool) {
    let opened: Vec<Arc<Open>> = locked(&shared.stores).values().cloned().collect();
    let having = opened.iter().filter(|open| locked(&open.listed).contains_key(&run));
    let done = having.map(|open| match is_pinned {
        true => open.store.pin(run, &shared.machine),
        false => open.store.unpin(run),
    });
    let trouble = done.filter_map(Result::err).next();
    let trouble = trouble.map(|error| Trouble::from(EngineError::from(error)));
    shared.tell(Report::Pinned { store, run, is_pinned, trouble });
}
