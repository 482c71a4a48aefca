//! A drill: a restore into scratch that is compared with what was backed up and, where it did not change,
//! with what lies in its source; and what a restore of everything would take.

mod checking;
mod estimate;
mod sample;
mod scratch;

use std::{
    path::Path,
    sync::{
        PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Instant,
};

use skellin_plan::{SnapshotSpec, When};
use skellin_store::{Entry, RunId, Snapshot, Store};

use crate::{
    cause::{Cause, CauseKind},
    clock::Cancel,
    error::{EngineError, Result},
    event::{Event, EventSink, Exception, Progress},
    history::{self, Located, Whose},
    refusal::Refusal,
    restore::{Destination, Existing, Extra, RestoreReport, RestoreRequest, restore},
};
use checking::{Checking, Found};
use estimate::Taken;
use sample::{Choice, Groups};
use scratch::Scratch;

/// So many files a sample has where nothing else is asked for.
pub const SAMPLE: usize = 1000;
/// Of so many small files the first tell nothing of how long the others take.
const WARM: usize = 200;

/// How much is restored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Share {
    /// A sample of about so many files.
    Files(usize),
    /// Everything.
    All,
}

/// What a drill needs to know.
pub struct DrillRequest<'a> {
    /// The snapshot.
    pub snapshot: &'a Snapshot,
    /// When the snapshot before it was begun, in milliseconds since 1970.
    pub before: Option<i64>,
    /// How much of it is restored.
    pub share: Share,
    /// Below this directory it is restored to.
    pub scratch: &'a Path,
    /// Whether the snapshot is of this machine, so that sources can be compared with.
    pub is_own: bool,
    /// Whether a drill has restored a file as it is.
    pub is_tried: &'a dyn Fn(&[u8], &Entry) -> bool,
    /// Decides which files a sample has.
    pub seed: [u8; 32],
    /// Raised to interrupt.
    pub cancel: &'a Cancel,
    /// Told what happens.
    pub events: &'a dyn EventSink,
}

/// What a drill has found.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct DrillReport {
    /// The snapshot, and when it was begun.
    pub snapshot: Option<(RunId, i64)>,
    /// Whether everything was restored.
    pub is_whole: bool,
    /// Files that were restored and compared.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files and bytes of the snapshot.
    pub of: (u64, u64),
    /// Files that were compared with their source as well.
    pub live: u64,
    /// Files that a sample never has, since they are too large.
    pub too_large: u64,
    /// Seconds the restore took.
    pub seconds: f64,
    /// Seconds a restore of everything takes, or took.
    pub whole_seconds: Option<f64>,
    /// How many files are not what they should be.
    pub wrong_count: u64,
    /// The first of them.
    pub wrong: Vec<Exception>,
    /// The files of the sample.
    pub sample: Vec<(Vec<u8>, Entry)>,
    /// Whether it was interrupted.
    pub interrupted: bool,
}

/// Tells of several restores as of one.
struct Together<'a> {
    events: &'a dyn EventSink,
    total: Groups,
    done: AtomicU64,
    done_bytes: AtomicU64,
}

impl EventSink for Together<'_> {
    fn event(&self, event: Event) {
        match event {
            Event::Begun { .. } | Event::Ended => {}
            Event::Progress(progress) => self.events.event(Event::Progress(Progress {
                files: progress.files + self.done.load(Ordering::Relaxed),
                total_files: Some(self.total.files()),
                bytes: progress.bytes + self.done_bytes.load(Ordering::Relaxed),
                total_bytes: Some(self.total.bytes()),
                ..progress
            })),
            other => self.events.event(other),
        }
    }
}

/// The newest snapshot of a plan of a machine, and when the one before it was begun. `now` in
/// milliseconds since 1970.
///
/// # Errors
/// If there is none, or the store cannot be read.
pub fn newest(store: &Store, of: (&str, &str), now: i64) -> Result<(Snapshot, Option<i64>)> {
    let whose = Whose { own: of.1, named: None, now };
    let spec = SnapshotSpec::Of { plan: of.0.to_owned(), when: When::Newest };
    let found = history::find_snapshot(store, &spec, whose)?;
    let listed = store.snapshots()?;
    let lineage = listed.iter().find(|one| one.run == found.snapshot.run).map(|one| one.lineage);
    let earlier = listed
        .iter()
        .filter(|one| Some(one.lineage) == lineage && one.order < found.order)
        .max_by_key(|one| one.order);
    Ok((found.snapshot, earlier.map(|one| one.started)))
}

/// Does a drill.
///
/// # Errors
/// If the store or the scratch directory fails as a whole. What concerns single files is in the report.
pub fn drill(store: &Store, request: &DrillRequest<'_>) -> Result<DrillReport> {
    let name = request.snapshot.plan.clone();
    request.events.event(Event::Begun { work: "drill", name: name.clone() });
    let scratch = Scratch::make(request.scratch, &name)?;
    let done = Drilling { store, request, scratch: &scratch, found: Found::default() }.work();
    request.events.event(Event::Ended);
    let removed = scratch.remove();
    let report = match done {
        Err(error) if error.is_cancelled() => {
            DrillReport { interrupted: true, ..DrillReport::default() }
        }
        done => done?,
    };
    removed?;
    Ok(report)
}

struct Drilling<'a> {
    store: &'a Store,
    request: &'a DrillRequest<'a>,
    scratch: &'a Scratch,
    found: Found,
}

impl Drilling<'_> {
    fn work(self) -> Result<DrillReport> {
        match self.request.share {
            Share::All => self.all(),
            Share::Files(files) => self.some(files),
        }
    }

    fn need_room(&self, bytes: u64) -> Result<()> {
        let path = self.scratch.path();
        let Ok(facts) = rustix::fs::statvfs(path) else { return Ok(()) };
        let free = facts.f_bavail.saturating_mul(facts.f_frsize);
        match free < bytes {
            true => Err(Refusal::NoRoomToDrill { path: path.to_path_buf(), bytes, free }.into()),
            false => Ok(()),
        }
    }

    /// Restores paths; how long that took, and what came of it.
    fn restored(
        &self,
        paths: &[Located],
        destination: &Destination,
        events: &dyn EventSink,
    ) -> Result<(f64, RestoreReport)> {
        let begun = Instant::now();
        let report = restore(
            self.store,
            &RestoreRequest {
                snapshot: self.request.snapshot,
                paths,
                destination,
                existing: Existing::Leave,
                extra: Extra::Leave,
                dated: false,
                keep: &[],
                host: None,
                dry_run: false,
                through: &[],
                keep_set_id: false,
                stamp: "drill",
                cancel: self.request.cancel,
                events,
            },
        )?;
        for exception in &report.exceptions {
            self.found.keep(&exception.path, exception.cause.clone());
        }
        self.found.told.fetch_add(report.exception_count, Ordering::Relaxed);
        let untold = report.exception_count.saturating_sub(report.exceptions.len() as u64);
        self.found.wrong_count.fetch_add(untold, Ordering::Relaxed);
        if report.interrupted {
            return Err(EngineError::Cancelled);
        }
        Ok((begun.elapsed().as_secs_f64(), report))
    }

    fn checking<'c>(&'c self, destination: &'c Destination) -> Checking<'c> {
        Checking {
            store: self.store,
            snapshot: self.request.snapshot,
            scratch: destination,
            is_own: self.request.is_own,
            cancel: self.request.cancel,
            events: self.request.events,
            found: &self.found,
        }
    }

    /// Restores everything.
    fn all(self) -> Result<DrillReport> {
        let (snapshot, cancel) = (self.request.snapshot, self.request.cancel);
        let roots = history::roots(self.store, snapshot)?;
        self.need_room(snapshot.bytes)?;
        let destination = Destination::Directory(self.scratch.path().to_path_buf());
        let total = Groups {
            large: sample::Group { files: snapshot.files, bytes: snapshot.bytes },
            ..Groups::default()
        };
        let together = self.together(total);
        let (seconds, _) = self.restored(&roots, &destination, &together)?;
        let (mut files, mut bytes) = (0, 0u64);
        self.checking(&destination).compare(|sender| {
            for root in &roots {
                history::walk(self.store, root, &mut |path, entry| {
                    if cancel.is_cancelled() {
                        return Err(EngineError::Cancelled);
                    }
                    if entry.kind() == skellin_store::Kind::File {
                        files += 1;
                        bytes = bytes.saturating_add(entry.size());
                        // Nobody takes any more only if a comparison failed, which is told.
                        let _ = sender.send((path.to_vec(), entry.clone()));
                    }
                    Ok(())
                })?;
            }
            Ok(())
        })?;
        let report = DrillReport {
            is_whole: true,
            of: (files, bytes),
            seconds,
            whole_seconds: Some(seconds),
            ..DrillReport::default()
        };
        Ok(self.finish(report))
    }

    /// Restores a sample.
    fn some(self, files: usize) -> Result<DrillReport> {
        let request = self.request;
        let begun = Instant::now();
        let choice = Choice {
            snapshot: request.snapshot,
            files,
            before: request.before,
            is_tried: request.is_tried,
            seed: request.seed,
            cancel: request.cancel,
        };
        let chosen = choice.sample(self.store)?;
        let walked = begun.elapsed().as_secs_f64();
        for (path, error) in &chosen.lost {
            self.found.note(request.events, path, Cause::store(error));
        }
        let mut total = Groups::default();
        for file in &chosen.files {
            total.of(file.entry.size()).add(file.entry.size());
        }
        self.need_room(total.bytes())?;
        let destination = Destination::Directory(self.scratch.path().to_path_buf());
        let together = self.together(total);
        let (small, large): (Vec<Located>, Vec<Located>) =
            chosen.files.iter().cloned().partition(|file| file.entry.size() <= sample::SMALL);
        // The first ones pay for what is done once: threads, buffers, the index.
        let (first, small) = small.split_at(if small.len() < WARM { 0 } else { small.len() / 4 });
        let (mut seconds, mut synced) = ([0.0; 3], [0.0; 3]);
        for (number, part) in [first, small, &large[..]].into_iter().enumerate() {
            if part.is_empty() {
                continue;
            }
            let (spent, report) = self.restored(part, &destination, &together)?;
            synced[number] = report.synced.as_secs_f64();
            seconds[number] = (spent - synced[number]).max(0.0);
            together.done.fetch_add(report.restored, Ordering::Relaxed);
            together.done_bytes.fetch_add(report.bytes, Ordering::Relaxed);
        }
        let sizes: Vec<u64> = small.iter().map(|file| file.entry.size()).collect();
        let sample: Vec<(Vec<u8>, Entry)> =
            chosen.files.into_iter().map(|file| (file.path, file.entry)).collect();
        self.checking(&destination).compare(|sender| {
            for file in &sample {
                let _ = sender.send(file.clone());
            }
            Ok(())
        })?;
        let taken =
            |group, part: usize| Taken { group, seconds: seconds[part], synced: synced[part] };
        let mut of_small = sample::Group::default();
        sizes.iter().for_each(|size| of_small.add(*size));
        let (small, large) = (taken(of_small, 1), taken(total.large, 2));
        let report = DrillReport {
            of: (chosen.totals.files(), chosen.totals.bytes()),
            too_large: chosen.too_large,
            seconds: seconds.iter().chain(&synced).sum(),
            whole_seconds: estimate::whole(chosen.totals, small, large, walked),
            sample,
            ..DrillReport::default()
        };
        Ok(self.finish(report))
    }

    fn together(&self, total: Groups) -> Together<'_> {
        let (done, done_bytes) = (AtomicU64::new(0), AtomicU64::new(0));
        Together { events: self.request.events, total, done, done_bytes }
    }

    /// Adds what was found. Nothing that was wanted is passed over in silence.
    fn finish(self, report: DrillReport) -> DrillReport {
        let Found { compared, bytes, live, missing, told, wrong_count, wrong } = self.found;
        let (files, mut wrong_count) = (compared.into_inner(), wrong_count.into_inner());
        let mut wrong = wrong.into_inner().unwrap_or_else(PoisonError::into_inner);
        let missing = missing.into_inner().saturating_sub(told.into_inner());
        if missing > 0 {
            wrong_count += missing;
            let words = format!("{missing} files were not restored, and nothing says why");
            let path = self.request.snapshot.plan.as_bytes().to_vec();
            wrong.push(Exception { path, cause: Cause::new(CauseKind::Missing, words) });
        }
        wrong.sort_by(|a, b| a.path.cmp(&b.path));
        let snapshot = self.request.snapshot;
        DrillReport {
            snapshot: Some((snapshot.run, snapshot.started)),
            files,
            bytes: bytes.into_inner(),
            live: live.into_inner(),
            wrong_count,
            wrong,
            ..report
        }
    }
}
