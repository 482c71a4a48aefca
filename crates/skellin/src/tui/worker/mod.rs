//! The work behind the screens. Requests go to threads of their own, so that nothing waits for
//! anything else; what they find comes back as reports. Nothing here draws.

mod browse;
mod catalogue;
mod clerk;
mod compare;
mod drilling;
mod foretell;
mod jobs;
mod maker;
mod report;
mod restoring;
mod search;
mod sources;
mod turns;
mod verifying;

use std::{
    collections::HashMap,
    path::PathBuf,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use crossbeam_channel::{Sender, unbounded};
use skellin_engine::{
    Cancel, Census, Configuration, Draft, EngineError, Journal, NewStore, Passphrase, Refusal,
};
use skellin_plan::PlanDraft;
use skellin_store::{RunId, Store};

pub(crate) use compare::{CompareEnd, CompareOrder, Contrasted, DifferRow, Opposite, SideRow};
#[cfg(test)]
pub(crate) use foretell::foretold;
pub(crate) use foretell::{Fill, FillAsked};
pub(crate) use report::{
    Details, DraftState, Facts, Group, JobEnd, Local, Looked, PassphrasesNow, Report, StoreRow,
    Tile, Trouble, VersionRow,
};
pub(crate) use restoring::{ItemEnd, OrderItem, RestoreOrder, Restored};
pub(crate) use search::{FoundPath, SearchEnd, Sought, SoughtLane};
pub(crate) use verifying::Verified;

use super::{arrange::Arrangement, rows::Rows};
use turns::Turns;

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
    /// Find paths in snapshots.
    Search(Box<Sought>),
    /// Compare a snapshot with another, or with what is there now.
    Compare(Box<CompareOrder>),
    /// Compare the contents of a file.
    Contrast(Box<CompareOrder>),
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
    /// Make a dry run of a draft against its store, or against an empty one.
    DryRun { job: u64, draft: Box<Draft>, cancel: Cancel },
    /// Run a plan, or dry-run it.
    Run { job: u64, plan: String, dry_run: bool, agreed: bool, cancel: Cancel },
    /// How much would be included with one more rule, beside how much is now.
    Effect { plan: String, rule: String, cancel: Cancel },
    /// How much a draft would include with each of these rules; told one by one.
    Weigh { draft: Box<PlanDraft>, variants: Vec<Written>, cancel: Cancel },
    /// Add a rule to a plan's file.
    AddRule { plan: String, rule: String },
    /// Put other sentences into a plan's `retain`, each with its number among those before.
    Retain { plan: String, sentences: Vec<(Option<usize>, String)> },
    /// Pin a snapshot in all stores that have it, or take its pin away.
    Pin { store: String, run: RunId, is_pinned: bool },
    /// How a store will fill.
    Foretell(Box<FillAsked>),
    /// What brought new bytes in these snapshots, oldest first. Only what is asked last counts.
    Bring { plan: String, store: String, snapshots: Vec<RunId> },
    /// Give a plan's file the text it had, if it still is what it became.
    TakeBack { plan: String, was: String, became: String },
    /// Why a plan includes a path, or excludes it.
    Explain { plan: String, path: Vec<u8> },
    /// Restore paths, or make a dry run of it.
    Restore(Box<RestoreOrder>),
    /// Drill a plan.
    Drill { job: u64, plan: String, cancel: Cancel },
    /// Verify a store, and mend what is damaged if that is wanted.
    Verify { job: u64, store: String, repair: bool, cancel: Cancel },
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

/// What the threads share.
struct Shared {
    configuration: Mutex<Configuration>,
    stores: Mutex<HashMap<String, Arc<catalogue::Open>>>,
    journal: Mutex<Option<Arc<Journal>>>,
    turns: NewestOnly,
    machine: String,
    out: Box<dyn Fn(Report) -> bool + Send + Sync>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Work of which only what was asked last counts.
#[derive(Default)]
struct NewestOnly {
    tree: Turns,
    study: Turns,
    search: Turns,
    comparison: Turns,
    map: Turns,
    arrangement: Turns,
    explanation: Turns,
    bringers: Turns,
    examination: Turns,
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
        turns: NewestOnly::default(),
        machine,
        out: Box::new(out),
    });
    let (sender, requests) = unbounded();
    std::thread::spawn(move || {
        let queues = Queues::start(&shared);
        requests.into_iter().for_each(|request| queues.take(&shared, request));
    });
    sender
}

/// A piece of work.
type Task = Box<dyn FnOnce(&Shared) + Send>;

/// Threads that do one thing after the other, each of its kind.
struct Queues {
    /// Trees: what was and what is there now come to the screen the same way.
    trees: Sender<Task>,
    studies: Sender<Task>,
    papers: Sender<Task>,
    sources: Sender<Task>,
}

impl Queues {
    fn start(shared: &Arc<Shared>) -> Self {
        let queue = || {
            let (sender, tasks) = unbounded::<Task>();
            let shared = Arc::clone(shared);
            std::thread::spawn(move || tasks.into_iter().for_each(|task| task(&shared)));
            sender
        };
        Self { trees: queue(), studies: queue(), papers: queue(), sources: queue() }
    }

    /// Has a request answered: by a queue, or by a thread of its own where it may wait for a disk or a
    /// line for long, so that it keeps nothing else waiting.
    fn take(&self, shared: &Arc<Shared>, request: Request) {
        let turns = &shared.turns;
        // Queues live as long as this one.
        let queued = |queue: &Sender<Task>, task: Task| drop(queue.send(task));
        let apart = |task: Task| {
            let shared = Arc::clone(shared);
            std::thread::spawn(move || task(&shared));
        };
        match request {
            Request::Directory { ticket, store, snapshot, before, path } => {
                let over = turns.tree.turn(ticket);
                let asked = browse::Directory { ticket, store, snapshot, before, path };
                queued(&self.trees, Box::new(move |it| browse::directory(it, asked, &over)));
            }
            Request::Live { ticket, plan, store, newest, path } => {
                let (over, of) = (turns.tree.turn(ticket), sources::Of { plan, store, newest });
                let task = move |it: &Shared| sources::directory(it, ticket, &of, path, &over);
                queued(&self.trees, Box::new(task));
            }
            Request::Look { store, snapshot, path } => {
                let task = move |it: &Shared| browse::beginning(it, &store, snapshot, path);
                queued(&self.trees, Box::new(task));
            }
            Request::Versions { study, store, snapshots, path } => {
                let over = turns.study.turn(study);
                let task = move |it: &Shared| browse::study(it, &store, &snapshots, path, &over);
                queued(&self.studies, Box::new(task));
            }
            Request::Search(sought) => {
                let over = turns.search.turn(sought.number);
                apart(Box::new(move |it| search::search(it, &sought, &over)));
            }
            Request::Compare(order) => {
                let over = turns.comparison.turn(order.number);
                apart(Box::new(move |it| compare::compare(it, &order, &over)));
            }
            Request::Contrast(order) => {
                queued(&self.studies, Box::new(move |it| compare::contrast(it, &order)));
            }
            Request::Map { number, plan, path, census } => {
                let over = turns.map.turn(number);
                let task =
                    move |it: &Shared| sources::mapped(it, number, &plan, &path, &census, &over);
                queued(&self.sources, Box::new(task));
            }
            Request::Arrange { number, ticket, path, rows, how, census } => {
                let over = (turns.arrangement.turn(number), turns.tree.turn(ticket));
                let asked = sources::Unarranged { ticket, path, rows, how, census };
                let task = move |it: &Shared| sources::arranged(it, asked, [&over.0, &over.1]);
                queued(&self.sources, Box::new(task));
            }
            Request::Count { number, plan, store, newest, census, cancel } => {
                let of = sources::Of { plan, store, newest };
                apart(Box::new(move |it| sources::census(it, number, &of, &census, &cancel)));
            }
            Request::Open { store, passphrase } => {
                apart(Box::new(move |it| catalogue::open(it, &store, passphrase.as_ref())));
            }
            Request::Explain { plan, path } => {
                let over = turns.explanation.next();
                apart(Box::new(move |it| clerk::explain(it, &plan, path, &over)));
            }
            Request::Examine => {
                let over = turns.examination.next();
                apart(Box::new(move |it| clerk::examine(it, &over)));
            }
            Request::Effect { plan, rule, cancel } => {
                apart(Box::new(move |it| clerk::measured(it, &plan, rule, &cancel)));
            }
            Request::Tell(channel) => apart(Box::new(move |it| clerk::tell(it, channel))),
            Request::Stores => apart(Box::new(clerk::all_stores)),
            Request::Reach { number, store, accept } => {
                apart(Box::new(move |it| clerk::reach(it, number, &store, accept)));
            }
            Request::Weigh { draft, variants, cancel } => {
                apart(Box::new(move |it| maker::weighed(it, &draft, variants, &cancel)));
            }
            Request::Folders { number, store, path, accept } => {
                apart(Box::new(move |it| maker::around(it, number, &store, &path, accept)));
            }
            Request::MakeStore { store, passphrase } => {
                apart(Box::new(move |it| maker::make(it, &store, &passphrase)));
            }
            Request::Holds(store) => apart(Box::new(move |it| maker::holdings(it, store))),
            Request::Passphrases { store, present, act } => {
                apart(Box::new(move |it| maker::change_passphrases(it, store, present, act)));
            }
            Request::Run { job, plan, dry_run, agreed, cancel } => {
                let how = (dry_run, agreed);
                apart(Box::new(move |it| jobs::run(it, job, &plan, how, &cancel)));
            }
            Request::DryRun { job, draft, cancel } => {
                apart(Box::new(move |it| jobs::dry_run_draft(it, job, &draft, &cancel)));
            }
            Request::Drill { job, plan, cancel } => {
                apart(Box::new(move |it| drilling::drill(it, job, &plan, &cancel)));
            }
            Request::Verify { job, store, repair, cancel } => {
                apart(Box::new(move |it| verifying::verify(it, job, (&store, repair), &cancel)));
            }
            Request::Restore(order) => apart(Box::new(move |it| restoring::restore(it, &order))),
            // Before anything that is asked for next: that reads the file.
            Request::KeepSecret { file, secret, replace } => {
                maker::put_away(shared, file, &secret, replace);
            }
            // It was made here a moment ago; that it is gone already is as well.
            Request::DropSecret(file) => drop(std::fs::remove_file(file)),
            Request::Journal => queued(&self.papers, Box::new(clerk::journal)),
            Request::Entry(id) => queued(&self.papers, Box::new(move |it| clerk::entry(it, id))),
            Request::Configuration => queued(&self.papers, Box::new(clerk::configure)),
            Request::Local(path) => {
                queued(&self.papers, Box::new(move |it| clerk::list_local(it, path)));
            }
            Request::Check(draft) => {
                queued(&self.papers, Box::new(move |it| clerk::check_draft(it, &draft)));
            }
            Request::Save(draft, passphrase) => {
                let task = move |it: &Shared| clerk::save(it, &draft, passphrase.as_ref());
                queued(&self.papers, Box::new(task));
            }
            Request::AddRule { plan, rule } => {
                queued(&self.papers, Box::new(move |it| clerk::add_rule(it, plan, &rule)));
            }
            Request::Retain { plan, sentences } => {
                queued(&self.papers, Box::new(move |it| clerk::retain(it, plan, &sentences)));
            }
            Request::Pin { store, run, is_pinned } => {
                apart(Box::new(move |it| catalogue::pin(it, store, run, is_pinned)));
            }
            Request::Foretell(asked) => {
                queued(&self.sources, Box::new(move |it| foretell::fill(it, &asked)));
            }
            Request::Bring { plan, store, snapshots } => {
                let over = turns.bringers.next();
                let task =
                    move |it: &Shared| foretell::brought(it, plan, &store, &snapshots, &over);
                queued(&self.studies, Box::new(task));
            }
            Request::TakeBack { plan, was, became } => {
                let task = move |it: &Shared| clerk::take_back(it, plan, was, became);
                queued(&self.papers, Box::new(task));
            }
        }
    }
}

#[cfg(test)]
mod tests;
