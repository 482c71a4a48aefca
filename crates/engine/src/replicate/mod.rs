//! Copies of snapshots in another store, of another key and at another place.
//!
//! A copy is a run at the target: what it refers to is there before it is listed, and what the
//! target has already is not sent again. Content is proven by its fingerprint when it is read and
//! cut anew, since each store cuts by a table of its own.

mod copy;

use std::{collections::HashSet, sync::Arc};

use skellin_store::{
    Compression, ListedSnapshot, Order, RunId, Session, SessionStart, Snapshot, SnapshotDraft,
    Store,
};

use crate::{
    clock::{Cancel, Clock},
    error::{EngineError, Result},
    event::{Event, EventSink, Progress},
    refusal::Refusal,
    run::narrower,
};
use copy::{Copied, Copying};

/// What is to be copied.
pub struct ReplicateRequest<'a> {
    /// Only snapshots of this plan.
    pub plan: Option<&'a str>,
    /// Those that would expire there at once, and are not copied.
    pub unwanted: Option<&'a HashSet<RunId>>,
    /// Whose work in the target is done one after the other, as for a run.
    pub origin: Option<&'a str>,
    /// The time.
    pub clock: &'a dyn Clock,
    /// Raised to interrupt.
    pub cancel: &'a Cancel,
    /// Told what happens.
    pub events: &'a dyn EventSink,
}

/// A snapshot that could not be copied.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotCopied {
    /// Its id in the store it is in.
    pub id: RunId,
    /// When its run began, in milliseconds since 1970.
    pub started: i64,
    /// Why not.
    pub reason: String,
}

/// What was copied.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReplicateReport {
    /// Snapshots that were copied.
    pub copied: u64,
    /// Snapshots the target had already.
    pub present: u64,
    /// Snapshots that are damaged where they are.
    pub damaged: Vec<NotCopied>,
    /// Bytes read from the one store.
    pub read: u64,
    /// Bytes of chunks the other did not have.
    pub new: u64,
    /// Bytes written to the other.
    pub stored: u64,
    /// Whether it was interrupted; what was copied until then is whole.
    pub interrupted: bool,
}

/// Copies the snapshots that the other store has not, in the order of their runs.
///
/// # Errors
/// If a store or its place fails. Damage where a snapshot is read is told in the report.
pub fn replicate(
    from: &Arc<Store>,
    to: &Arc<Store>,
    request: &ReplicateRequest<'_>,
) -> Result<ReplicateReport> {
    if from.header().store == to.header().store {
        return Err(Refusal::SameStore.into());
    }
    request.events.event(Event::Begun { work: "replicate", name: to.place().describe() });
    let report = all(from, to, request);
    request.events.event(Event::Ended);
    report
}

fn all(
    from: &Arc<Store>,
    to: &Arc<Store>,
    request: &ReplicateRequest<'_>,
) -> Result<ReplicateReport> {
    let mut report = ReplicateReport::default();
    let there: HashSet<_> =
        to.snapshots()?.iter().map(|listed| (listed.lineage, listed.order)).collect();
    let mut copied = Copied::default();
    let originals = from.snapshots()?;
    let missing = originals.iter().filter(|one| !there.contains(&(one.lineage, one.order)));
    from.fetch_snapshots(&missing.cloned().collect::<Vec<_>>());
    for listed in originals {
        if request.cancel.is_cancelled() {
            report.interrupted = true;
            break;
        }
        let snapshot = match from.read_snapshot(&listed) {
            Ok(snapshot) => snapshot,
            Err(error) if error.is_damage() => {
                report.damaged.push(not_copied(&listed, error.to_string()));
                continue;
            }
            Err(error) => return Err(error.into()),
        };
        let is_unwanted = |unwanted: &HashSet<RunId>| unwanted.contains(&snapshot.run);
        if request.plan.is_some_and(|plan| plan != snapshot.plan) {
            continue;
        }
        if there.contains(&(to.lineage(&snapshot.plan, &snapshot.machine), listed.order)) {
            report.present += 1;
            continue;
        }
        if request.unwanted.is_some_and(is_unwanted) {
            continue;
        }
        let copy = loop {
            match one(from, to, (&snapshot, listed.order), request, &mut copied, &mut report) {
                Err(EngineError::Store(error)) if error.is_narrow() => {
                    let Some(note) = narrower(to, &error) else {
                        break Err(EngineError::Store(error));
                    };
                    request.events.event(Event::Note(note));
                }
                other => break other,
            }
        };
        match copy {
            Ok(()) => {}
            Err(EngineError::Store(error)) if error.is_damage() => {
                report.damaged.push(not_copied(&listed, error.to_string()));
            }
            Err(error) if error.is_cancelled() => {
                report.interrupted = true;
                break;
            }
            Err(error) => return Err(error),
        }
    }
    Ok(report)
}

fn not_copied(listed: &ListedSnapshot, reason: String) -> NotCopied {
    NotCopied { id: listed.run, started: listed.started, reason }
}

/// Copies one snapshot under a run of its own.
fn one(
    from: &Arc<Store>,
    to: &Arc<Store>,
    (snapshot, order): (&Snapshot, Order),
    request: &ReplicateRequest<'_>,
    copied: &mut Copied,
    report: &mut ReplicateReport,
) -> Result<()> {
    let start = SessionStart {
        plan: &snapshot.plan,
        machine: &snapshot.machine,
        started: snapshot.started,
        order: Some(order),
        origin: request.origin,
        compression: Compression::Default,
    };
    let session = Session::begin(to, &start)?;
    let (read, files) = (report.read, snapshot.files);
    let told = |done: u64, bytes: u64| {
        request.events.event(Event::Progress(Progress {
            files: done,
            total_files: Some(files),
            bytes,
            total_bytes: Some(snapshot.bytes),
            read: read + bytes,
            ..Progress::default()
        }));
    };
    let root = Copying::new(from, &session, request.cancel, copied, &told)
        .and_then(|copying| copying.go(snapshot.root_page(from)));
    let (root, bytes) = match root {
        Ok(done) => done,
        Err(error) => {
            session.abandon();
            return Err(error);
        }
    };
    let draft = SnapshotDraft {
        sources: snapshot.sources.clone(),
        root,
        labels: snapshot.labels.clone(),
        plan_text: snapshot.plan_text.clone(),
        configuration: snapshot.configuration.clone().unwrap_or_default(),
        files: snapshot.files,
        bytes: snapshot.bytes,
        ended: snapshot.ended,
        exceptions: snapshot.exceptions,
        exception_list: snapshot.exception_list.clone(),
        sockets: snapshot.sockets,
    };
    let finished = session.finish_unless(draft, &|| request.cancel.is_cancelled());
    let finished = match finished {
        Err(error) => {
            session.abandon();
            return Err(error.into());
        }
        Ok(finished) => finished,
    };
    report.read += bytes;
    report.new += finished.new_bytes;
    report.stored += finished.stored_bytes;
    if session.gives_way()? {
        report.present += 1;
        return Ok(());
    }
    copied.is_base(finished.run);
    report.copied += 1;
    Ok(())
}
