//! What the workers of a run share: identical workers, each carrying a directory or a file through
//! all steps.
//!
//! Tasks lie on one stack. Files are taken before directories, and a directory is worked through
//! in windows of names, so that what is in memory depends on the depth of the tree and never on
//! its size.

use std::{
    collections::{HashMap, HashSet},
    os::unix::fs::MetadataExt,
    path::PathBuf,
    sync::{Arc, Mutex},
};

use skellin_store::{Comparison, Entry, Recipe, RunId, Session, Store};

use super::{
    RunRequest,
    activity::Activity,
    counters::Counters,
    estimate::Draw,
    report::{RunReport, RunStatus},
    scheduler::{FETCHERS, Scheduler},
};
use crate::{
    cause::Cause,
    counts::ByteCounts,
    depth::deepest,
    error::{EngineError, Result},
    event::{Event, EventSink, Exception},
    filter::Filter,
    locked::locked,
    metadata::Owners,
    sources::Trouble,
    walk::Filtering,
};

/// Files with several names whose content is remembered until the next name comes by.
pub(super) const MOST_LINKED: usize = 100_000;

/// One source.
pub(super) struct Source {
    pub path: PathBuf,
    /// Its name in the root of the snapshot.
    pub name: Vec<u8>,
}

/// Content of a file with several names, for the next of them.
pub(super) struct Linked {
    pub changed: skellin_store::Moment,
    pub size: u64,
    pub recipe: Recipe,
}

/// All that the workers of a run share.
pub(super) struct Pool<'s> {
    pub store: &'s Store,
    pub session: Option<&'s Arc<Session>>,
    pub comparison: &'s Comparison,
    pub sources: Vec<Source>,
    /// The rules, ready for each source; or why they are not.
    pub filters: Vec<Result<Filter, Cause>>,
    /// Directories of our own, by device and inode, and by path.
    pub keep_out: HashSet<(u64, u64)>,
    pub keep_out_paths: Vec<PathBuf>,
    pub workers: usize,
    /// So deep a tree is gone into.
    pub deepest: usize,
    /// Threads that fetch from other hosts.
    pub fetchers: usize,
    pub owners: Owners,
    pub linked: Mutex<HashMap<(u64, u64), Linked>>,
    pub events: &'s dyn EventSink,
    /// Places drawn from what a run would read.
    pub draw: Draw,
    pub tasks: Scheduler<'s>,
    pub counts: Counters<'s>,
    pub activity: Activity,
    roots: Mutex<Vec<(usize, Entry)>>,
}

impl<'s> Pool<'s> {
    pub fn new(
        store: &'s Store,
        session: Option<&'s Arc<Session>>,
        comparison: &'s Comparison,
        request: &RunRequest<'s>,
    ) -> Result<Self> {
        let plan = request.plan;
        let sources = super::name_sources(&plan.sources);
        let now = request.clock.now();
        let filter = |source: &Source| match request.source_hosts.of(&source.path) {
            Ok(origin) => Filter::new(&plan.rules, origin, &source.path, now).map(Ok),
            // What is wrong with one host is told of its source.
            Err(error) => Ok(Err(Cause::other(error.to_string()))),
        };
        let filters: Vec<_> = sources.iter().map(filter).collect::<Result<_, _>>()?;
        let has_far = filters.iter().flatten().any(|filter| filter.origin().is_far());
        let identity = |path: &PathBuf| {
            let metadata = std::fs::metadata(path).ok()?;
            Some((metadata.dev(), metadata.ino()))
        };
        let workers = plan.readers.map_or_else(
            || std::thread::available_parallelism().map_or(2, |count| count.get().clamp(2, 16)),
            |readers| readers as usize,
        );
        let real = |path: &PathBuf| path.canonicalize().ok();
        Ok(Self {
            store,
            session,
            comparison,
            sources,
            filters,
            keep_out: request.keep_out.iter().filter_map(identity).collect(),
            keep_out_paths: request.keep_out.iter().filter_map(real).collect(),
            workers,
            deepest: deepest(workers),
            fetchers: if has_far { FETCHERS } else { 0 },
            owners: Owners::default(),
            linked: Mutex::default(),
            events: request.events,
            draw: Draw::new(),
            tasks: Scheduler::new(request.cancel),
            counts: Counters::new(plan.rules.rules().len(), request.paths),
            activity: Activity::default(),
            roots: Mutex::default(),
        })
    }

    /// By what the names of a source are decided on.
    pub fn filtering<'a>(&'a self, filter: &'a Filter) -> Filtering<'a> {
        Filtering { filter, owners: &self.owners, keep_out: &self.keep_out }
    }

    /// A source is finished; with the last one the work is.
    pub fn root_done(&self, number: usize, entry: Option<Entry>) {
        if let Some(mut entry) = entry {
            entry.name.clone_from(&self.sources[number].name);
            locked(&self.roots).push((number, entry));
        }
        self.tasks.root_done();
    }

    pub fn take_roots(&self) -> Vec<(usize, Entry)> {
        std::mem::take(&mut *locked(&self.roots))
    }

    /// Ends the work early.
    pub fn stop(&self, failure: Option<EngineError>) {
        self.tasks.stop(failure);
    }

    pub fn is_stopped(&self) -> bool {
        self.tasks.is_stopped()
    }

    /// Notes a path that cannot be looked at or read; if its host cannot be asked any more, the
    /// work ends, and the next run goes on with it.
    pub fn trouble(&self, path: &[u8], trouble: Trouble) {
        match trouble.of_the_way() {
            Ok(failure) => self.stop(Some(failure)),
            Err(trouble) => self.exception(path, trouble.cause(true)),
        }
    }

    /// Notes a path that cannot be handled.
    pub fn exception(&self, path: &[u8], cause: Cause) {
        let exception = Exception { path: path.to_vec(), cause };
        self.events.event(Event::Exception(exception.clone()));
        self.counts.note(exception);
    }

    /// Whether totals have to be counted, since no snapshot tells them. Other hosts are not gone
    /// through twice.
    pub fn needs_survey(&self) -> bool {
        self.session.is_some() && self.comparison.base().is_none() && self.fetchers == 0
    }

    /// Files and bytes that are ahead, as far as that is known.
    pub fn totals(&self) -> Option<(u64, u64)> {
        match self.comparison.base() {
            Some(base) => Some((base.files, base.bytes)),
            None => self.counts.survey.totals(),
        }
    }

    pub fn into_report(
        self,
        request: &RunRequest<'_>,
        started: i64,
        snapshot: Option<RunId>,
    ) -> RunReport {
        let counts = &self.counts;
        let interrupted = snapshot.is_none() && (!request.dry_run || request.cancel.is_cancelled());
        let status = match (interrupted, counts.exception_count()) {
            (true, _) => RunStatus::Interrupted,
            (false, 0) => RunStatus::Done,
            (false, _) => RunStatus::Exceptions,
        };
        let (new, stored) =
            self.session.map_or((0, 0), |session| (session.new_bytes(), session.stored_bytes()));
        RunReport {
            run: self.session.map(|session| session.run()),
            snapshot,
            dry_run: request.dry_run,
            status,
            started,
            ended: request.clock.now(),
            files: counts.file_counts(),
            bytes: ByteCounts { read: counts.read.get(), new, stored },
            total_bytes: counts.bytes.get(),
            sockets: counts.sockets.get(),
            exception_count: counts.exception_count(),
            exceptions: counts.take_exceptions(),
            shrinkage: None,
            decided: counts.decided(),
            outlook: None,
            not_entered: Vec::new(),
            not_left: Vec::new(),
            damage: Vec::new(),
        }
    }
}
