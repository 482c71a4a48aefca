//! The worker: opens stores, reads trees, restores. It never draws and is never waited for.

use std::{collections::HashMap, sync::Arc};

use crossbeam_channel::{Sender, unbounded};
use skellin_engine::{
    Cancel, Configuration, Destination, EngineError, Event, Existing, Passphrase, RestoreReport,
    RestoreRequest, history,
};
use skellin_store::{Body, Cache, Kind, RunId, Snapshot, Store};

use crate::machine::open_configured;

/// Asked of the worker.
pub(super) enum Request {
    /// Open the store of a plan and list the plan's snapshots.
    Plan { plan: String, store: String, passphrase: Option<Passphrase> },
    /// List a directory of a snapshot; `None` means its sources.
    Directory { store: String, snapshot: RunId, path: Option<Vec<u8>> },
    /// Restore a path, or rehearse it.
    Restore(Box<RestoreOrder>),
}

/// What to restore.
#[derive(Clone)]
pub(super) struct RestoreOrder {
    pub store: String,
    pub snapshot: RunId,
    pub path: Vec<u8>,
    pub destination: Destination,
    pub existing: Existing,
    pub dry_run: bool,
    pub cancel: Cancel,
}

/// Told by the worker.
pub(crate) enum Report {
    /// The snapshots of a plan, or why there are none to be had.
    Plan { plan: String, snapshots: Result<Vec<SnapshotRow>, Trouble> },
    /// What is in a directory.
    Directory { snapshot: RunId, path: Option<Vec<u8>>, rows: Result<Vec<Row>, Trouble> },
    /// Something happened in a restore.
    Event(Event),
    /// A restore or its rehearsal ended.
    Restored { dry_run: bool, report: Result<RestoreReport, Trouble> },
}

/// Whether a passphrase was tried and opens nothing.
pub(crate) type WrongBefore = bool;

/// A failure in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Trouble {
    pub what: String,
    pub hint: Option<String>,
    /// Whether a passphrase would help, and if so, whether one was tried that is wrong.
    pub passphrase: Option<WrongBefore>,
}

impl From<&EngineError> for Trouble {
    fn from(error: &EngineError) -> Self {
        let passphrase = match error {
            EngineError::NoPassphrase(_) => Some(false),
            EngineError::Store(skellin_store::StoreError::WrongPassphrase { .. }) => Some(true),
            _ => None,
        };
        Self { what: error.to_string(), hint: error.hint(), passphrase }
    }
}

/// A snapshot as the ribbon shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SnapshotRow {
    pub id: RunId,
    pub started: i64,
    pub files: u64,
    pub bytes: u64,
    pub new_bytes: u64,
    pub exceptions: u64,
}

/// A path as the tree shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Row {
    pub name: Vec<u8>,
    pub path: Vec<u8>,
    pub kind: Kind,
    pub size: u64,
    pub files: u64,
    /// Seconds since 1970.
    pub modified: i64,
    pub target: Option<Vec<u8>>,
}

struct Worker {
    configuration: Configuration,
    stores: HashMap<String, Arc<Store>>,
    snapshots: HashMap<RunId, Snapshot>,
    out: Arc<dyn Fn(Report) -> bool + Send + Sync>,
}

/// Starts the worker; what is sent to it is done in order. `out` takes what it tells, and says
/// whether anybody listens.
pub(super) fn start(
    configuration: Configuration,
    out: impl Fn(Report) -> bool + Send + Sync + 'static,
) -> Sender<Request> {
    let out = Arc::new(out);
    let (sender, requests) = unbounded();
    std::thread::spawn(move || {
        let mut worker =
            Worker { configuration, stores: HashMap::new(), snapshots: HashMap::new(), out };
        for request in requests {
            let report = worker.answer(request);
            if !(worker.out)(report) {
                return;
            }
        }
    });
    sender
}

impl Worker {
    fn answer(&mut self, request: Request) -> Report {
        match request {
            Request::Plan { plan, store, passphrase } => {
                let snapshots = self.plan(&plan, &store, passphrase.as_ref());
                Report::Plan { plan, snapshots: snapshots.map_err(|error| Trouble::from(&error)) }
            }
            Request::Directory { store, snapshot, path } => {
                let rows = self.directory(&store, snapshot, path.as_deref());
                Report::Directory {
                    snapshot,
                    path,
                    rows: rows.map_err(|error| Trouble::from(&error)),
                }
            }
            Request::Restore(order) => {
                let report = self.restore(&order).map_err(|error| Trouble::from(&error));
                Report::Restored { dry_run: order.dry_run, report }
            }
        }
    }

    fn plan(
        &mut self,
        plan: &str,
        store: &str,
        passphrase: Option<&Passphrase>,
    ) -> Result<Vec<SnapshotRow>, EngineError> {
        if !self.stores.contains_key(store) {
            let cache = Cache::ReadWrite(self.configuration.folders.cache.clone());
            let open = open_configured(&self.configuration, store, passphrase, cache)?;
            self.stores.insert(store.to_owned(), open);
        }
        let found = history::snapshots(&self.stores[store], Some(plan), |_, _| {})?;
        let rows = found.iter().map(|snapshot| SnapshotRow {
            id: snapshot.run,
            started: snapshot.started,
            files: snapshot.files,
            bytes: snapshot.bytes,
            new_bytes: snapshot.new_bytes,
            exceptions: snapshot.exceptions,
        });
        let rows = rows.collect();
        self.snapshots.extend(found.into_iter().map(|snapshot| (snapshot.run, snapshot)));
        Ok(rows)
    }

    fn known(&self, store: &str, snapshot: RunId) -> Result<(&Arc<Store>, &Snapshot), EngineError> {
        self.stores.get(store).zip(self.snapshots.get(&snapshot)).ok_or_else(|| {
            EngineError::Unknown {
                what: "the snapshot is no longer known".to_owned(),
                hint: "look again with u".to_owned(),
            }
        })
    }

    fn directory(
        &self,
        store: &str,
        snapshot: RunId,
        path: Option<&[u8]>,
    ) -> Result<Vec<Row>, EngineError> {
        let (store, snapshot) = self.known(store, snapshot)?;
        let row = |path: Vec<u8>, name: Vec<u8>, entry: &skellin_store::Entry| Row {
            name,
            path,
            kind: entry.kind(),
            size: entry.size(),
            files: entry.counted().files,
            modified: entry.modified.seconds,
            target: match &entry.body {
                Body::Link(target) => Some(target.clone()),
                _ => None,
            },
        };
        let Some(path) = path else {
            let roots = history::roots(store, snapshot)?;
            return Ok(roots
                .into_iter()
                .map(|root| row(root.path.clone(), root.path, &root.entry))
                .collect());
        };
        let located = history::must_locate(store, snapshot, path)?;
        let Body::Directory { root, .. } = located.entry.body else { return Ok(Vec::new()) };
        let mut rows = Vec::new();
        for entry in store.entries(root) {
            let entry = entry?;
            let separator: &[u8] = if path.ends_with(b"/") { b"" } else { b"/" };
            rows.push(row([path, separator, &entry.name].concat(), entry.name.clone(), &entry));
        }
        Ok(rows)
    }

    fn restore(&self, order: &RestoreOrder) -> Result<RestoreReport, EngineError> {
        let (store, snapshot) = self.known(&order.store, order.snapshot)?;
        let located = history::must_locate(store, snapshot, &order.path)?;
        let out = Arc::clone(&self.out);
        let events = move |event: Event| {
            // A closed application hears nothing more.
            let _ = out(Report::Event(event));
        };
        let stamp = jiff::Zoned::now().strftime("%Y%m%d-%H%M%S").to_string();
        skellin_engine::restore(
            store,
            &RestoreRequest {
                snapshot,
                paths: &[located],
                destination: &order.destination,
                existing: order.existing,
                dry_run: order.dry_run,
                stamp: &stamp,
                cancel: &order.cancel,
                events: &events,
            },
        )
    }
}
