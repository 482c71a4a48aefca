//! Runs: a plan carried out, or dry runs of them.

mod activity;
mod counters;
mod directory;
mod estimate;
mod fetch;
mod file;
mod held;
mod long;
mod look;
mod parts;
mod pool;
mod report;
mod scheduler;
mod shrinkage;
mod source;
mod stored;
mod survey;
mod task;
mod worker;

use std::{
    ffi::OsStr,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

use skellin_plan::{Compress, Expected, Plan};
use skellin_store::{
    Comparison, Compression, KeptFile, RunId, Session, SessionStart, SnapshotDraft, SnapshotSource,
    Store, StoreError, Suspect,
};

pub use estimate::Estimate;
pub use report::{Change, Cost, Outlook, PathChange, RunReport, RunStatus, Shrinkage, TellPath};

use crate::{
    clock::{Cancel, Clock},
    error::{EngineError, Result},
    event::{Event, EventSink, Meter, Progress, Waited, time_left},
    places::SourceHosts,
    size::size,
    sources::Origin,
    waits::{Awaited, SAY_AFTER, watched},
    walk::{Assembled, Assembly},
};
use pool::{Pool, Source};

/// How often progress is told.
const TICK: Duration = Duration::from_millis(100);
/// How often a run looks for notices of reclaims.
const POLL: Duration = Duration::from_secs(60);
/// A run that is revoked is done again so many times.
const MOST_ATTEMPTS: usize = 3;
/// A dry run looks into so many places of other hosts' files.
const MOST_FAR_LOOKS: usize = 16;
/// What interrupted uploads left at the place is removed after this many seconds.
const SWEEP_AGE: u64 = 24 * 3600;

/// What is done around the reading of the sources.
pub trait Surrounding: Sync {
    /// The place is reached, and nothing is read yet.
    ///
    /// # Errors
    /// Why nothing is to be read.
    fn begin(&self) -> Result<()>;

    /// Everything is read, or nothing more will be.
    fn end(&self, so_far: &ReadSoFar);
}

/// Nothing is done around it.
impl Surrounding for () {
    fn begin(&self) -> Result<()> {
        Ok(())
    }

    fn end(&self, _: &ReadSoFar) {}
}

/// How far a run is when its sources are read.
#[derive(Clone, Copy, Debug)]
pub struct ReadSoFar {
    /// Whether everything was read that can be.
    pub whole: bool,
    /// Paths done with.
    pub files: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Paths that could not be handled.
    pub exceptions: u64,
}

/// What a run needs to know.
pub struct RunRequest<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// What else is configured, to be kept in the snapshot.
    pub configuration: &'a [KeptFile],
    /// What its sources lie on.
    pub source_hosts: &'a SourceHosts,
    /// The machine's name.
    pub machine: &'a str,
    /// Whose work in this store is done one after the other, as far as that is made sure of: then runs
    /// of the same origin that have not ended are dead.
    pub origin: Option<&'a str>,
    /// Labels on top of the plan's.
    pub labels: &'a [String],
    /// Whether nothing is to be written.
    pub dry_run: bool,
    /// Told of every path and what becomes of it, in no particular order.
    pub paths: Option<&'a TellPath<'a>>,
    /// Directories of our own that must not be backed up into themselves: the store, the cache.
    pub keep_out: &'a [PathBuf],
    /// Asked whether to go on if much is suddenly gone or different.
    pub agree: &'a (dyn Fn(&Shrinkage) -> bool + Sync),
    /// What is done around the reading of the sources; a dry run does nothing of it.
    pub around: &'a dyn Surrounding,
    /// Whether everything else on the machine goes first.
    pub gentle: bool,
    /// The time.
    pub clock: &'a dyn Clock,
    /// Raised to interrupt.
    pub cancel: &'a Cancel,
    /// Told what happens.
    pub events: &'a dyn EventSink,
}

/// Carries a plan out.
///
/// An interrupted run is no error: its report says so, and the next run goes on from what was
/// stored.
///
/// # Errors
/// If the store or all sources fail; then there is no snapshot.
pub fn run(store: &Arc<Store>, request: &RunRequest<'_>) -> Result<RunReport> {
    let work = if request.dry_run { "dry-run" } else { "run" };
    request.events.event(Event::Begun { work, name: request.plan.name.clone() });
    let mut attempt = 1;
    let place: &dyn Awaited = store.place();
    let leave = || {
        request.around.end(&ReadSoFar { whole: false, files: 0, bytes: 0, exceptions: 0 });
    };
    let once = || {
        let awaited = [place, request.source_hosts];
        let work = || run_once(store, request);
        watched(&awaited, request.events, request.cancel, &leave, work)
    };
    let result = loop {
        match once() {
            Err(EngineError::Store(StoreError::Revoked)) if attempt < MOST_ATTEMPTS => {
                let note = "a reclaim overtook the run; checking it again";
                request.events.event(Event::Note(note.to_owned()));
                attempt += 1;
            }
            Err(EngineError::Store(error @ StoreError::Unsound(_))) if attempt < MOST_ATTEMPTS => {
                let note = format!("{error}; starting again and reading those files");
                request.events.event(Event::Note(note));
                attempt += 1;
            }
            Err(EngineError::Store(error))
                if error.is_narrow() && !request.cancel.is_cancelled() =>
            {
                let Some(note) = narrower(store, &error) else {
                    break Err(EngineError::Store(error));
                };
                request.events.event(Event::Note(note));
            }
            other => break other,
        }
    };
    if store.has_cache_failed() {
        let note = "the cache cannot be read; continuing without it";
        request.events.event(Event::Note(note.to_owned()));
    }
    let damage = match request.dry_run {
        true => Vec::new(),
        false => record_damage(store, request.machine, request.events),
    };
    request.events.event(Event::Ended);
    let mut report = result?;
    if !damage.is_empty() && report.status == RunStatus::Done {
        report.status = RunStatus::Exceptions;
    }
    report.damage = damage;
    Ok(report)
}

/// Makes containers smaller, since the line breaks before they are through; what is said of that.
pub(crate) fn narrower(store: &Store, error: &StoreError) -> Option<String> {
    let most = size(store.narrow()?.into());
    Some(format!("{error}; starting again with containers of {most}, using what arrived"))
}

/// Leaves a record of the damage that was met in a store; what nobody had met before.
pub fn record_damage(store: &Store, machine: &str, events: &dyn EventSink) -> Vec<Suspect> {
    let met = store.unrecorded_damage();
    if store.is_restore_only() {
        return met;
    }
    if let Err(error) = store.record_damage(machine) {
        let note = format!("{error}; the damage could not be recorded in the store");
        events.event(Event::Note(note));
    }
    met
}

fn run_once(store: &Arc<Store>, request: &RunRequest<'_>) -> Result<RunReport> {
    let started = request.clock.now();
    let plan = request.plan;
    if request.dry_run {
        let comparison = Comparison::dry_run(store, plan.series(), request.machine)?;
        let pool = Pool::new(store, None, &comparison, request)?;
        let begun = Instant::now();
        let ended = work(&pool, request, None);
        let ended = ended.and_then(|()| pool.tasks.take_failure());
        let walk = begun.elapsed();
        let noticed = shrinkage::notice(&pool, plan.shrink, &pool.take_roots());
        // That every source is gone is asked about like any other loss.
        let ended = match ended {
            Err(EngineError::NoSources(_)) if noticed.is_some() => Ok(()),
            other => other,
        };
        let outlook = match ended.is_ok() && !request.cancel.is_cancelled() {
            true => Some(look_ahead(&pool, store, request, walk)?),
            false => None,
        };
        let report = finish_report(pool, request, started, ended, None)?;
        return Ok(RunReport { shrinkage: noticed, outlook, ..report });
    }
    store.sweep(SWEEP_AGE);
    let compression = compression(plan);
    let start = SessionStart {
        plan: plan.series(),
        machine: request.machine,
        started,
        order: None,
        origin: request.origin,
        compression,
    };
    let session = Session::begin(store, &start)?;
    for warning in &session.warnings {
        request.events.event(Event::Note(format!("{warning}; the run continues without it")));
    }
    if session.comparison().is_resuming() {
        let note = "an earlier run was interrupted; using what it stored";
        request.events.event(Event::Note(note.to_owned()));
    }
    let pool = Pool::new(store, Some(&session), session.comparison(), request)?;
    let ended = request
        .around
        .begin()
        .and_then(|()| work(&pool, request, Some(&session)))
        .and_then(|()| pool.tasks.take_failure());
    request.around.end(&ReadSoFar {
        whole: ended.is_ok() && !request.cancel.is_cancelled(),
        files: pool.counts.files.get(),
        bytes: pool.counts.read.get(),
        exceptions: pool.counts.exception_count(),
    });
    let is_missing = matches!(ended, Err(EngineError::NoSources(_)));
    if (ended.is_err() && !is_missing) || request.cancel.is_cancelled() {
        session.abandon();
        return finish_report(pool, request, started, ended, None);
    }
    let mut roots = pool.take_roots();
    if let Some(noticed) = shrinkage::notice(&pool, plan.shrink, &roots)
        && !(request.agree)(&noticed)
    {
        session.abandon();
        let report = finish_report(pool, request, started, Ok(()), None)?;
        return Ok(RunReport { status: RunStatus::Guarded, shrinkage: Some(noticed), ..report });
    }
    // Nothing is no state that anybody wants kept, whoever agrees.
    let snapshot = ended.and_then(|()| conclude(&pool, &session, request, &mut roots));
    for error in session.take_notes() {
        let note = format!(
            "{error}; the snapshot is complete, but the record of the run stays in the store"
        );
        request.events.event(Event::Note(note));
    }
    match snapshot {
        Ok(run) => finish_report(pool, request, started, Ok(()), Some(run)),
        Err(error) => {
            session.abandon();
            finish_report(pool, request, started, Err(error), None)
        }
    }
}

fn compression(plan: &Plan) -> Compression {
    match plan.compress {
        Compress::Off => Compression::Off,
        Compress::Fast => Compression::Fast,
        Compress::Default => Compression::Default,
        Compress::High => Compression::High,
    }
}

/// What a run would take, as far as the dry run itself can tell: the time is that of looking
/// and of reading at the pace of the samples.
fn look_ahead(
    pool: &Pool<'_>,
    store: &Arc<Store>,
    request: &RunRequest<'_>,
    walk: Duration,
) -> Result<Outlook> {
    let looked_at = AtomicUsize::new(0);
    let read = |path: &[u8], start, length| {
        let around = pool
            .sources
            .iter()
            .position(|source| Path::new(OsStr::from_bytes(path)).starts_with(&source.path));
        match pool.filters.get(around?)?.as_ref().ok()?.origin() {
            Origin::Here => estimate::read_piece(path, start, length),
            // Each look takes its time; a few tell enough.
            far if looked_at.fetch_add(1, Ordering::Relaxed) < MOST_FAR_LOOKS => {
                far.part(path, start, length)
            }
            Origin::Far(..) => None,
        }
    };
    let sampled = pool.draw.look(&read, store, compression(request.plan), request.cancel)?;
    let to_read = pool.counts.read.get() as f64;
    let pace = sampled.took.as_secs_f64() / (sampled.read.max(1) as f64 * pool.workers as f64);
    let reading = if sampled.read > 0 { to_read * pace } else { 0.0 };
    let seconds = walk.as_secs_f64() + reading;
    let time = Expected { seconds, range: (seconds, seconds) };
    Ok(Outlook { stored: sampled.estimate, time, runs: 0, cost: None, free: None })
}

/// Lets the workers work, and tells how far they are.
fn work(pool: &Pool<'_>, request: &RunRequest<'_>, session: Option<&Arc<Session>>) -> Result<()> {
    let matchers = source::start(pool)?;
    if matchers == 0 {
        return Err(EngineError::NoSources(request.plan.name.clone()));
    }
    std::thread::scope(|scope| {
        let workers: Vec<_> = (0..pool.workers)
            .map(|_| {
                scope.spawn(|| {
                    // Whatever ends a worker, panics included, must wake the others.
                    let _guard = pool.tasks.guard();
                    if request.gentle {
                        step_back();
                    }
                    worker::work(pool);
                })
            })
            .collect();
        for _ in 0..pool.fetchers {
            scope.spawn(|| {
                let _guard = pool.tasks.guard();
                fetch::work(pool);
            });
        }
        let survey = pool.needs_survey().then(|| scope.spawn(|| survey::count(pool)));
        let (mut meter, mut last_poll) = (Meter::new(), Instant::now());
        let mut said: Option<Vec<u8>> = None;
        while !pool.tasks.wait(TICK) {
            say_what_hangs(pool, request, &mut said);
            if request.cancel.is_cancelled() {
                pool.stop(None);
            }
            request.events.event(Event::Progress(progress(pool, &mut meter)));
            if let Some(session) = session
                && last_poll.elapsed() >= POLL
            {
                last_poll = Instant::now();
                if let Err(error) = session.poll() {
                    pool.stop(Some(error.into()));
                }
            }
        }
        pool.stop(None);
        let mut panicked = false;
        for worker in workers {
            panicked |= worker.join().is_err();
        }
        if let Some(survey) = survey {
            panicked |= survey.join().is_err();
        }
        request.events.event(Event::Progress(progress(pool, &mut meter)));
        if panicked {
            let what = "a worker of the run panicked; this is a bug".to_owned();
            return Err(StoreError::Stopped(what).into());
        }
        Ok(())
    })
}

/// Says once which path a worker waits for, if none of the places is to blame.
fn say_what_hangs(pool: &Pool<'_>, request: &RunRequest<'_>, said: &mut Option<Vec<u8>>) {
    let hanging = pool.activity.longest().filter(|(_, since)| *since >= SAY_AFTER);
    let waiting = |path: &[u8], since, is_over| {
        let subject = String::from_utf8_lossy(path).into_owned();
        request.events.event(Event::Waiting(Waited { subject, why: None, since, is_over }));
    };
    if let Some(before) = said.take_if(|said| hanging.as_ref().is_none_or(|(path, _)| path != said))
    {
        waiting(&before, Duration::ZERO, true);
    }
    let Some((path, since)) = hanging else { return };
    let blamed = pool.store.place().waiting().is_some() || request.source_hosts.waiting().is_some();
    if !blamed && said.as_ref() != Some(&path) {
        waiting(&path, since, false);
        *said = Some(path);
    }
}

/// So much nicer a gentle run's threads are (nice(2)).
const NICER: i32 = 10;

/// Lets everything else go first: the share of the processors of this thread, and of those it starts,
/// becomes small, and where nothing else was said their place in the disk's queue follows from it
/// (ioprio_set(2)).
pub fn step_back() {
    // A run that may not do even that is still a run.
    let _ = rustix::process::nice(NICER);
}

fn progress(pool: &Pool<'_>, meter: &mut Meter) -> Progress {
    let counts = &pool.counts;
    let (files, bytes) = (counts.files.get(), counts.bytes.get());
    let rate = meter.rate(Instant::now(), bytes as f64);
    // A total by the snapshot before says nothing any more once it is passed.
    let (total_files, total_bytes) = pool.totals().unzip();
    let total_bytes = total_bytes.filter(|total| *total >= bytes);
    Progress {
        files,
        total_files: total_files.filter(|total| *total >= files),
        bytes,
        total_bytes,
        read: counts.read.get(),
        rate,
        left: total_bytes.and_then(|total| time_left((total - bytes) as f64, rate)),
        path: pool.activity.newest(),
        exceptions: counts.exception_count(),
    }
}

/// Everything is stored: the root, then the snapshot.
fn conclude(
    pool: &Pool<'_>,
    session: &Arc<Session>,
    request: &RunRequest<'_>,
    roots: &mut [(usize, skellin_store::Entry)],
) -> Result<RunId> {
    if roots.is_empty() {
        return Err(EngineError::NoSources(request.plan.name.clone()));
    }
    roots.sort_by(|(_, a), (_, b)| a.name.cmp(&b.name));
    let mut assembly = Assembly::default();
    roots.iter().for_each(|(_, entry)| assembly.put(entry.clone()));
    let Assembled { root, below, .. } = assembly.finish(Some(session))?;
    let sources = roots.iter().map(|(source, entry)| SnapshotSource {
        name: entry.name.clone().into(),
        path: pool.sources[*source].path.as_os_str().as_bytes().to_vec().into(),
    });
    let mut labels = request.plan.labels.clone();
    labels.extend(
        request.labels.iter().filter(|label| !request.plan.labels.contains(label)).cloned(),
    );
    let exceptions = pool.counts.exception_count();
    let draft = SnapshotDraft {
        sources: sources.collect(),
        root,
        labels,
        plan_text: request.plan.text.clone(),
        configuration: request.configuration.to_vec(),
        files: below.files,
        bytes: below.bytes,
        ended: request.clock.now(),
        exceptions,
        exception_list: pool.counts.exception_records(),
        sockets: pool.counts.sockets.get(),
    };
    let snapshot = session.finish_unless(draft, &|| request.cancel.is_cancelled())?;
    Ok(snapshot.run)
}

fn finish_report(
    pool: Pool<'_>,
    request: &RunRequest<'_>,
    started: i64,
    ended: Result<()>,
    snapshot: Option<RunId>,
) -> Result<RunReport> {
    match ended {
        Err(error) if !error.is_cancelled() => Err(error),
        _ => Ok(pool.into_report(request, started, snapshot)),
    }
}

/// Names of the sources in the root: the last part of each path, made distinct.
fn name_sources(paths: &[PathBuf]) -> Vec<Source> {
    let mut taken: Vec<Vec<u8>> = Vec::new();
    let mut sources = Vec::new();
    for path in paths {
        let base = path.file_name().map_or(b"root".to_vec(), |name| name.as_bytes().to_vec());
        let mut name = base.clone();
        let mut number = 2;
        while taken.contains(&name) {
            name = [base.as_slice(), format!("~{number}").as_bytes()].concat();
            number += 1;
        }
        taken.push(name.clone());
        sources.push(Source { path: path.clone(), name });
    }
    sources
}
