//! The work behind the screens. Requests go to threads of their own, so that nothing waits for
//! anything else; what they find comes back as reports. Nothing here draws.

mod browse;
mod catalogue;
mod clerk;
mod jobs;
mod maker;
mod report;
mod sources;

use std::{
    collections::HashMap,
    path::PathBuf,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
};

use crossbeam_channel::{Sender, unbounded};
use skellin_engine::{
    Cancel, Census, Configuration, Destination, Draft, EngineError, Existing, Journal, NewStore,
    Passphrase, Refusal,
};
use skellin_plan::PlanDraft;
use skellin_store::{RunId, Store};

pub(crate) use report::{
    Details, DraftState, Facts, Group, JobEnd, Local, Looked, PassphrasesNow, Report, Restored,
    StoreRow, Tile, Trouble, VersionRow,
};

use super::{arrange::Arrangement, rows::Rows};

/// Rules as a plan has them: names in `rules-from`, and lines of `rules`.
pub(crate) type Written = (Vec<String>, Vec<String>);

/// Asked of the worker.
pub(crate) enum Request {
    /// Open a store if it is not open yet, and list its snapshots.
    Open { store: String, passphrase: Option<Passphrase> },
    /// List a directory of a snapshot; no path means its sources. Tickets that are not the newest
    /// are forgotten.
    Directory {
        ticket: u64,
        store: String,
        snapshot: RunId,
        before: Option<RunId>,
        path: Option<Vec<u8>>,
    },
    /// List a directory of a plan's sources as they are now, beside the newest snapshot; no path
    /// means the sources.
    Live { ticket: u64, plan: String, store: String, newest: Option<RunId>, path: Option<Vec<u8>> },
    /// Count a plan's sources as they are now, beside the newest snapshot.
    Count {
        number: u64,
        plan: String,
        store: String,
        newest: Option<RunId>,
        census: Arc<Census>,
        cancel: Cancel,
    },
    /// Arrange the rows of a large directory. Only those of the newest number count.
    Arrange {
        number: u64,
        ticket: u64,
        path: Vec<u8>,
        rows: Rows,
        how: Arrangement,
        census: Arc<Census>,
    },
    /// Where the space of a directory goes. Only the newest map counts.
    Map { number: u64, plan: String, path: Vec<u8>, census: Arc<Census> },
    /// Follow a path through these snapshots, oldest first. Only the newest study counts.
    Versions { study: u64, store: String, snapshots: Vec<RunId>, path: Vec<u8> },
    /// Read the beginning of a file.
    Look { store: String, snapshot: RunId, path: Vec<u8> },
    /// Read the journal.
    Journal,
    /// Read what an entry of the journal has beside itself.
    Entry(i64),
    /// Send a trial to a channel.
    Tell(String),
    /// Look at the whole set-up for what is to mend.
    Examine,
    /// Look at all stores: whether they are there, and how full.
    Stores,
    /// Go the way to a store's place step by step. `accept`: a host that is not known yet is
    /// accepted.
    Reach { number: u64, store: String, accept: bool },
    /// Read the configuration again.
    Configuration,
    /// What is in a directory of this machine.
    Local(PathBuf),
    /// What lies at a store's place.
    Holds(String),
    /// Do something with the passphrases of a store. `present`: the one to open it with, where the
    /// configuration names none.
    Passphrases { store: String, present: Option<Passphrase>, act: PassphraseAct },
    /// Directories at a place a store may be made at. `accept`: a host that is not known yet is
    /// accepted.
    Folders { number: u64, store: Box<NewStore>, path: String, accept: bool },
    /// Put a secret into a file only its owner can read.
    KeepSecret { file: PathBuf, secret: Passphrase, replace: bool },
    /// Remove such a file, which nothing uses.
    DropSecret(PathBuf),
    /// Make a store.
    MakeStore { store: Box<NewStore>, passphrase: Passphrase },
    /// Look for mistakes in a draft.
    Check(Box<Draft>),
    /// Save a draft.
    Save(Box<Draft>, Option<Passphrase>),
    /// Rehearse a draft against its store, or against an empty one.
    Rehearse { job: u64, draft: Box<Draft>, cancel: Cancel },
    /// Run a plan, or rehearse it.
    Run { job: u64, plan: String, dry_run: bool, agreed: bool, cancel: Cancel },
    /// How much would go along with one more rule, beside how much does now.
    Effect { plan: String, rule: String, cancel: Cancel },
    /// How much a draft would include with each of these rules; told one by one.
    Weigh { draft: Box<PlanDraft>, variants: Vec<Written>, cancel: Cancel },
    /// Add a rule to a plan's file.
    AddRule { plan: String, rule: String },
    /// Give a plan's file the text it had, if it still is what it became.
    TakeBack { plan: String, was: String, became: String },
    /// Why a path goes along with a plan, or does not.
    Explain { plan: String, path: Vec<u8> },
    /// Restore a path, or rehearse it.
    Restore(Box<RestoreOrder>),
}

/// What to do with the passphrases of a store.
pub(crate) enum PassphraseAct {
    List,
    /// A new one, with a label.
    Add(Passphrase, Option<String>),
    /// Another one in place of the one in use.
    Change(Passphrase, Option<String>),
    /// By its id.
    Revoke(String),
}

/// What to restore.
#[derive(Clone, Debug)]
pub(crate) struct RestoreOrder {
    pub job: u64,
    pub store: String,
    pub snapshot: RunId,
    pub path: Vec<u8>,
    pub destination: Destination,
    pub existing: Existing,
    pub dry_run: bool,
    pub cancel: Cancel,
}

/// What the threads share.
struct Shared {
    configuration: Mutex<Configuration>,
    stores: Mutex<HashMap<String, Arc<catalogue::Open>>>,
    journal: Mutex<Option<Arc<Journal>>>,
    /// The newest ticket of a directory.
    ticket: AtomicU64,
    /// The newest study of versions.
    study: AtomicU64,
    /// The newest map.
    map: AtomicU64,
    /// The newest arrangement.
    arrangement: AtomicU64,
    /// Ends the explanation and the examination that are under way, for newer ones.
    explaining: Mutex<Cancel>,
    examining: Mutex<Cancel>,
    machine: String,
    out: Box<dyn Fn(Report) -> bool + Send + Sync>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A token for something newer; what was begun under the one before ends.
fn renewed(token: &Mutex<Cancel>) -> Cancel {
    let fresh = Cancel::new();
    std::mem::replace(&mut *locked(token), fresh.clone()).cancel();
    fresh
}

impl Shared {
    fn configuration(&self) -> Configuration {
        locked(&self.configuration).clone()
    }

    fn open_store(&self, name: &str) -> Result<Arc<catalogue::Open>, EngineError> {
        locked(&self.stores)
            .get(name)
            .cloned()
            .ok_or_else(|| Refusal::NotOpen(name.to_owned()).into())
    }

    fn store(&self, name: &str) -> Result<Arc<Store>, EngineError> {
        Ok(Arc::clone(&self.open_store(name)?.store))
    }

    /// The journal, opened when it is first needed.
    fn journal(&self) -> Result<Arc<Journal>, EngineError> {
        let mut journal = locked(&self.journal);
        if let Some(journal) = &*journal {
            return Ok(Arc::clone(journal));
        }
        let state = locked(&self.configuration).folders.state.clone();
        Ok(Arc::clone(journal.insert(Arc::new(Journal::open(&state)?))))
    }

    /// Tells something; whether anybody listens.
    fn tell(&self, report: Report) -> bool {
        (self.out)(report)
    }
}

/// Starts the worker. `out` takes what it tells, and says whether anybody listens.
pub(super) fn start(
    configuration: Configuration,
    machine: String,
    out: impl Fn(Report) -> bool + Send + Sync + 'static,
) -> Sender<Request> {
    let shared = Arc::new(Shared {
        configuration: Mutex::new(configuration),
        stores: Mutex::default(),
        journal: Mutex::default(),
        ticket: AtomicU64::new(0),
        study: AtomicU64::new(0),
        map: AtomicU64::new(0),
        arrangement: AtomicU64::new(0),
        explaining: Mutex::default(),
        examining: Mutex::default(),
        machine,
        out: Box::new(out),
    });
    let (sender, requests) = unbounded();
    std::thread::spawn(move || {
        // What is there now comes to the screen the same way as what was.
        let browsing = queue(&shared, |shared, request| match request {
            Request::Live { .. } => sources::answer(shared, request),
            other => browse::answer(shared, other),
        });
        let studies = queue(&shared, browse::answer);
        let papers = queue(&shared, clerk::answer);
        let sources = queue(&shared, sources::answer);
        for request in requests {
            match request {
                Request::Directory { ticket, .. } | Request::Live { ticket, .. } => {
                    shared.ticket.fetch_max(ticket, Ordering::SeqCst);
                    let _ = browsing.send(request);
                }
                Request::Look { .. } => drop(browsing.send(request)),
                Request::Versions { study, .. } => {
                    shared.study.fetch_max(study, Ordering::SeqCst);
                    let _ = studies.send(request);
                }
                Request::Open { store, passphrase } => {
                    let shared = Arc::clone(&shared);
                    std::thread::spawn(move || {
                        catalogue::open(&shared, &store, passphrase.as_ref());
                    });
                }
                // What may wait for a disk or a line for long keeps nothing else waiting.
                Request::Explain { plan, path } => {
                    let (shared, cancel) = (Arc::clone(&shared), renewed(&shared.explaining));
                    std::thread::spawn(move || clerk::explain(&shared, &plan, path, &cancel));
                }
                Request::Examine => {
                    let (shared, cancel) = (Arc::clone(&shared), renewed(&shared.examining));
                    std::thread::spawn(move || clerk::examine(&shared, &cancel));
                }
                Request::Effect { .. }
                | Request::Tell(_)
                | Request::Stores
                | Request::Reach { .. } => {
                    let shared = Arc::clone(&shared);
                    std::thread::spawn(move || clerk::answer(&shared, request));
                }
                Request::Weigh { .. }
                | Request::Folders { .. }
                | Request::MakeStore { .. }
                | Request::Holds(_)
                | Request::Passphrases { .. } => {
                    let shared = Arc::clone(&shared);
                    std::thread::spawn(move || maker::answer(&shared, request));
                }
                Request::KeepSecret { .. } | Request::DropSecret(_) => {
                    maker::answer(&shared, request);
                }
                Request::Count { .. } => {
                    let shared = Arc::clone(&shared);
                    std::thread::spawn(move || sources::answer(&shared, request));
                }
                Request::Map { number, .. } => {
                    shared.map.fetch_max(number, Ordering::SeqCst);
                    let _ = sources.send(request);
                }
                Request::Arrange { number, .. } => {
                    shared.arrangement.fetch_max(number, Ordering::SeqCst);
                    let _ = sources.send(request);
                }
                Request::Run { .. } | Request::Restore(_) | Request::Rehearse { .. } => {
                    let shared = Arc::clone(&shared);
                    std::thread::spawn(move || jobs::work(&shared, request));
                }
                other => drop(papers.send(other)),
            }
        }
    });
    sender
}

/// A thread that answers requests one after the other.
fn queue(shared: &Arc<Shared>, answer: fn(&Shared, Request)) -> Sender<Request> {
    let (sender, requests) = unbounded();
    let shared = Arc::clone(shared);
    std::thread::spawn(move || requests.into_iter().for_each(|request| answer(&shared, request)));
    sender
}

#[cfg(test)]
mod tests;
