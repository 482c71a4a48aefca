//! Restoring paths that were gathered, from any snapshots, one snapshot after the other.

use std::{
    ffi::OsStr,
    os::unix::{ffi::OsStrExt, fs::MetadataExt},
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_engine::{
    Cause, Destination, EngineError, Event, Exception, Existing, Extra, Orchestrator, Progress,
    RestoreReport, RestoreRequest, dated_name,
    history::{self, Located},
    plan_of,
};
use skellin_plan::FarSource;
use skellin_store::{RunId, Snapshot};

use super::{JobEnd, Report, Shared, catalogue::Open, jobs::Job};
use skellin_engine::Cancel;

/// So many paths in the way, and so many exceptions, are told.
const MOST: usize = 1000;

/// A path of a snapshot that is to be restored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct OrderItem {
    pub store: String,
    pub snapshot: RunId,
    pub path: Vec<u8>,
}

/// What to restore, and where.
#[derive(Clone, Debug)]
pub(crate) struct RestoreOrder {
    pub job: u64,
    pub items: Vec<OrderItem>,
    pub destination: Destination,
    /// Whether each gets its snapshot's time in its name; paths of which there are several do in any case.
    pub dated: bool,
    pub existing: Existing,
    /// Whether what the snapshot does not have is removed from directories.
    pub removes_extra: bool,
    pub dry_run: bool,
    pub cancel: Cancel,
}

/// What one path that was asked for is, and what lies where it goes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct ItemEnd {
    /// Where it goes.
    pub target: PathBuf,
    /// When it was modified, as the snapshot has it; in seconds since 1970.
    pub modified: i64,
    /// Whether it is a directory.
    pub is_directory: bool,
    /// When what lay there before was modified, if something did.
    pub there: Option<i64>,
}

/// What a restore has done, or would do.
#[derive(Clone, Debug, Default)]
pub(crate) struct Restored {
    pub report: RestoreReport,
    /// For each path that was asked for.
    pub items: Vec<ItemEnd>,
    /// Where something is in the way: the first of them.
    pub in_the_way: Vec<PathBuf>,
}

/// Restores, or makes a dry run of it.
pub(super) fn restore(shared: &Shared, order: &RestoreOrder) {
    let job = Job::new(shared, order.job, &order.cancel);
    let end = all(&job, order).map(Box::new).map_err(Into::into);
    shared.tell(Report::Ended { job: order.job, end: JobEnd::Restore(end) });
}

/// Paths of one snapshot.
struct Group {
    store: String,
    open: Arc<Open>,
    snapshot: Arc<Snapshot>,
    id: RunId,
    located: Vec<Located>,
    dated: bool,
}

fn all(job: &Job<'_>, order: &RestoreOrder) -> Result<Restored, EngineError> {
    let mut restored = Restored::default();
    let groups = grouped(job, order, &mut restored)?;
    let count = |group: &Group| {
        let counted = group.located.iter().map(|located| located.entry.counted());
        counted.fold((0, 0), |sum, below| added(sum, (below.files, below.bytes)))
    };
    let total = groups.iter().map(count).fold((0, 0), added);
    let stamp = jiff::Zoned::now().strftime("%Y%m%d-%H%M%S").to_string();
    let mut done = (0, 0);
    for group in &groups {
        let base = done;
        let whole = move |event| match event {
            Event::Progress(progress) => Event::Progress(of_all(progress, base, total)),
            other => other,
        };
        let ended = job.conduct_as(&whole, |orchestrator| one(orchestrator, order, group, &stamp));
        match ended {
            Ok(report) => merge(&mut restored, report, group, order),
            // One store that is away must not keep the others from being restored from.
            Err(error) if groups.len() > 1 && !error.is_cancelled() => {
                let words = error.to_string();
                for located in &group.located {
                    let cause = Cause::other(words.clone());
                    let exception = Exception { path: located.path.clone(), cause };
                    restored.report.exceptions.push(exception);
                    restored.report.exception_count += 1;
                }
            }
            Err(error) => return Err(error),
        }
        done = added(done, count(group));
        if restored.report.interrupted {
            break;
        }
    }
    restored.report.exceptions.truncate(MOST);
    Ok(restored)
}

/// Files and bytes together; what a snapshot claims may be anything.
fn added(a: (u64, u64), b: (u64, u64)) -> (u64, u64) {
    (a.0.saturating_add(b.0), a.1.saturating_add(b.1))
}

/// The paths by snapshot, and what lies where each of them goes.
fn grouped(
    job: &Job<'_>,
    order: &RestoreOrder,
    restored: &mut Restored,
) -> Result<Vec<Group>, EngineError> {
    let mut groups: Vec<Group> = Vec::new();
    for item in &order.items {
        let open = job.shared.open_store(&item.store)?;
        let snapshot = open.snapshot(item.snapshot)?;
        let located = history::must_locate(&open.store, &snapshot, &item.path)?;
        let same = order.items.iter().filter(|other| other.path == item.path).count();
        let dated = order.dated || same > 1;
        let target = target(order, &snapshot, &item.path, dated);
        let there = target.symlink_metadata().ok();
        restored.items.push(ItemEnd {
            modified: located.entry.modified.seconds,
            is_directory: located.entry.kind() == skellin_store::Kind::Directory,
            there: there.map(|facts| facts.mtime()),
            target,
        });
        let known = groups.iter_mut().find(|group| {
            (&group.store, group.id, group.dated) == (&item.store, item.snapshot, dated)
        });
        match known {
            Some(group) => group.located.push(located),
            None => {
                let (store, id, located) = (item.store.clone(), item.snapshot, vec![located]);
                groups.push(Group { store, open, snapshot, id, located, dated });
            }
        }
    }
    Ok(groups)
}

fn target(order: &RestoreOrder, snapshot: &Snapshot, path: &[u8], dated: bool) -> PathBuf {
    let target = order.destination.target(snapshot, path).unwrap_or_default();
    match (dated, target.file_name()) {
        (true, Some(name)) => {
            let name = dated_name(name.as_bytes(), snapshot.started);
            target.with_file_name(OsStr::from_bytes(&name))
        }
        _ => target,
    }
}

fn one(
    orchestrator: &Orchestrator<'_>,
    order: &RestoreOrder,
    group: &Group,
    stamp: &str,
) -> Result<RestoreReport, EngineError> {
    let keep = orchestrator.configuration.own_directories();
    let by = match order.removes_extra && order.destination == Destination::InPlace {
        true => Some(plan_of(&group.open.whole_snapshot(group.id)?)?),
        false => None,
    };
    let host = match &order.destination {
        Destination::Directory(path) if FarSource::is_address(path.as_os_str().as_bytes()) => {
            Some(orchestrator.configuration.source_hosts.target(path)?)
        }
        _ => None,
    };
    let extra = match order.removes_extra {
        true => Extra::Remove { by: by.as_ref() },
        false => Extra::Leave,
    };
    let request = RestoreRequest {
        through: &[],
        keep_set_id: false,
        snapshot: &group.snapshot,
        paths: &group.located,
        destination: &order.destination,
        existing: order.existing,
        extra,
        dated: group.dated,
        keep: &keep,
        host: host.as_deref(),
        dry_run: order.dry_run,
        stamp,
        cancel: &order.cancel,
        events: orchestrator.events,
    };
    orchestrator.restore(&group.store, &group.open.store, &request)
}

/// How far one snapshot's paths are, as part of all.
fn of_all(progress: Progress, base: (u64, u64), total: (u64, u64)) -> Progress {
    let bytes = base.1.saturating_add(progress.bytes);
    let left = total.1.saturating_sub(bytes) as f64;
    let left = (progress.rate > 0.0)
        .then(|| std::time::Duration::from_secs_f64((left / progress.rate).min(1e9)));
    Progress {
        files: base.0.saturating_add(progress.files),
        total_files: Some(total.0),
        bytes,
        total_bytes: Some(total.1),
        left: left.or(progress.left),
        ..progress
    }
}

fn merge(restored: &mut Restored, report: RestoreReport, group: &Group, order: &RestoreOrder) {
    let within = |path: &[u8]| -> Option<PathBuf> {
        let located = group.located.iter().filter(|one| path.starts_with(&one.path));
        let located = located.max_by_key(|one| one.path.len())?;
        let rest = path[located.path.len()..].strip_prefix(b"/").unwrap_or_default();
        let target = target(order, &group.snapshot, &located.path, group.dated);
        Some(if rest.is_empty() { target } else { target.join(Path::new(OsStr::from_bytes(rest))) })
    };
    let room = MOST.saturating_sub(restored.in_the_way.len());
    restored.in_the_way.extend(report.in_the_way.iter().filter_map(|path| within(path)).take(room));
    let sum = &mut restored.report;
    sum.restored += report.restored;
    sum.bytes += report.bytes;
    sum.left += report.left;
    sum.same += report.same;
    sum.removed += report.removed;
    sum.extras.extend(report.extras);
    sum.replaced += report.replaced;
    sum.renamed += report.renamed;
    sum.short = sum.short.or(report.short);
    sum.exception_count += report.exception_count;
    sum.exceptions.extend(report.exceptions);
    sum.damaged += report.damaged;
    sum.interrupted |= report.interrupted;
}
