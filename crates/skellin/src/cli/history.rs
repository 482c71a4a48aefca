//! `history`, `tree`, `versions`, `print`: looking back.

use std::os::unix::ffi::OsStrExt;
use std::{
    collections::BTreeMap,
    ffi::OsString,
    io::{self, IsTerminal as _},
    path::PathBuf,
    sync::Arc,
};

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{
    EngineError, Refusal,
    history::{self as past, Located},
    is_ahead,
};
use skellin_store::{Body, Entry, Kind, Moment, Snapshot, Store};

use super::{
    WhichStore,
    context::Context,
    error::CliError,
    output::{self, json_path},
    pins::{self, Kept},
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin history\n  skellin history readings --json\n  skellin history --pin 3f9c01ab"
)]
pub(super) struct HistoryArgs {
    /// Only this plan
    plan: Option<String>,
    /// Never let the snapshot of this id expire
    #[arg(long, value_name = "ID", conflicts_with = "unpin")]
    pin: Option<String>,
    /// Let the snapshot of this id expire as `retain` says
    #[arg(long, value_name = "ID")]
    unpin: Option<String>,
    #[command(flatten)]
    which: WhichStore,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin tree readings@newest\n  skellin tree readings@2026-11-10 /srv/readings/ridge\n  skellin tree 3f9c01ab readings/ridge"
)]
pub(super) struct TreeArgs {
    /// PLAN@WHEN, or the beginning of an id
    snapshot: String,
    /// Only this path and below
    path: Option<OsString>,
    #[command(flatten)]
    which: WhichStore,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin versions ringing /srv/ringing/register.ods\n  skellin versions ringing register.ods\n\nThe path may be relative to the current directory or to a source, or a name alone."
)]
pub(super) struct VersionsArgs {
    /// The plan
    plan: String,
    /// The path
    path: OsString,
    #[command(flatten)]
    which: WhichStore,
}

#[derive(Args)]
#[command(after_help = "Example: skellin print readings@'3 days ago' /srv/readings/notes.md")]
pub(super) struct PrintArgs {
    /// PLAN@WHEN, or the beginning of an id
    snapshot: String,
    /// The file
    path: OsString,
    #[command(flatten)]
    which: WhichStore,
}

/// A moment of a file for programs, to the nanosecond.
pub(super) fn file_time(moment: Moment) -> Value {
    match jiff::Timestamp::new(moment.seconds, moment.nanos.cast_signed()) {
        Ok(timestamp) => {
            let zoned = timestamp.to_zoned(jiff::tz::TimeZone::system());
            json!(zoned.strftime("%Y-%m-%dT%H:%M:%S%.f%:z").to_string())
        }
        Err(_) => Value::Null,
    }
}

pub(super) fn history(context: &Context, args: &HistoryArgs) -> Result<Exit, CliError> {
    if let Some(id) = args.pin.as_ref().or(args.unpin.as_ref()) {
        let stores = context.stores(&args.which, args.plan.as_deref())?;
        return pins::pin(context, &stores, id, args.pin.is_some());
    }
    let (mut rows, mut found, mut damaged) = (Vec::new(), Vec::new(), 0u64);
    let plan = args.plan.as_deref();
    let mut kept = Kept::of(context, &args.which);
    let stores = context.stores(&args.which, plan)?;
    let series = plan.map(|plan| context.series(plan));
    let renamed = match args.which.place {
        Some(_) => BTreeMap::new(),
        None => context.renamed(),
    };
    context.attending(&stores, || {
        for (name, store) in &stores {
            let snapshots = past::snapshots(store, series.as_deref(), |listed, error| {
                damaged += 1;
                context.progress.say(&format!(
                    "damaged: snapshot of {}: {error}",
                    words::moment(listed.started)
                ));
            })?;
            kept.learn(name, &snapshots, store.pins()?);
            found.extend(snapshots.into_iter().map(|mut snapshot| {
                if let Some(name) = renamed.get(&snapshot.plan) {
                    snapshot.plan.clone_from(name);
                }
                (name.clone(), snapshot)
            }));
        }
        Ok(())
    })?;
    if let (Some(plan), true) = (plan, found.is_empty() && damaged == 0)
        && args.which.place.is_none()
    {
        context.configuration()?.plan_file(plan)?;
    }
    found.sort_by_key(|(_, snapshot)| snapshot.started);
    let now = jiff::Timestamp::now().as_millisecond();
    let value = |snapshot: &Snapshot| {
        let sources: Vec<Value> =
            snapshot.sources.iter().map(|source| json_path(&source.path)).collect();
        json!({"id": snapshot.run.to_string(), "plan": snapshot.plan, "machine": snapshot.machine,
            "time": words::rfc3339(snapshot.started), "files": snapshot.files, "bytes": snapshot.bytes,
            "new-bytes": snapshot.new_bytes, "labels": snapshot.labels, "sources": sources,
            "ahead": is_ahead(snapshot.started, now), "pinned": kept.pinned.contains(&snapshot.run),
            "retained-by": kept.by.get(&snapshot.run).cloned().unwrap_or_default()})
    };
    context.print(
        || json!({"snapshots": found.iter().map(|(_, snapshot)| value(snapshot)).collect::<Vec<_>>()}),
        || {
            for (store, snapshot) in &found {
                let mut remarks = snapshot.labels.clone();
                if kept.pinned.contains(&snapshot.run) {
                    remarks.push("pinned".to_owned());
                }
                if is_ahead(snapshot.started, now) {
                    remarks.push("dated later than now".to_owned());
                }
                if snapshot.exceptions > 0 {
                    remarks.push(words::counted(snapshot.exceptions, "exception", "exceptions"));
                }
                rows.push(vec![
                    words::moment(snapshot.started), snapshot.plan.clone(), snapshot.machine.clone(), store.clone(),
                    words::count(snapshot.files), words::bytes(snapshot.bytes), words::bytes(snapshot.new_bytes),
                    snapshot.run.short(), remarks.join(", "),
                ]);
            }
            let head = ["time", "plan", "machine", "store", "files", "size", "new", "id", "remarks"];
            let total = words::counted(rows.len() as u64, "snapshot", "snapshots");
            match rows.is_empty() {
                true => "There are no snapshots yet. skellin run PLAN makes one.\n".to_owned(),
                false => format!("{}{total}\n", output::table(&head, &[4, 5, 6], &rows)),
            }
        },
    );
    Ok(if damaged > 0 { Exit::Damage } else { Exit::Done })
}

pub(super) fn kind(kind: Kind) -> &'static str {
    match kind {
        Kind::File => "file",
        Kind::Directory => "dir",
        Kind::Link => "link",
        Kind::Pipe => "pipe",
        Kind::Device => "device",
    }
}

fn name_or_number(name: Option<&str>, number: u32) -> String {
    name.map_or_else(|| number.to_string(), str::to_owned)
}

pub(super) fn tree(context: &Context, args: &TreeArgs) -> Result<Exit, CliError> {
    let (name, store, snapshot) = context.snapshot(&args.snapshot, &args.which)?;
    let opened = [(name, Arc::clone(&store))];
    context.attending(&opened, || tree_of(context, &store, &snapshot, args))
}

fn tree_of(
    context: &Context,
    store: &Store,
    snapshot: &Snapshot,
    args: &TreeArgs,
) -> Result<Exit, CliError> {
    let from: Vec<Located> = match &args.path {
        Some(path) => vec![past::named_in(store, snapshot, path.as_bytes(), &standing())?],
        None => past::roots(store, snapshot)?,
    };
    let (mut files, mut bytes) = (0u64, 0u64);
    let json = context.global.json;
    if json {
        output::json_list(&json!({"snapshot": snapshot.run.to_string()}), "entries");
    }
    for located in &from {
        past::walk(store, located, &mut |path, entry| {
            let owner = &entry.owner;
            let (user, group) = (
                name_or_number(owner.user.as_deref(), owner.uid),
                name_or_number(owner.group.as_deref(), owner.gid),
            );
            let target = match &entry.body {
                Body::Link(target) => Some(target),
                _ => None,
            };
            if entry.kind() != Kind::Directory {
                files += 1;
                bytes += entry.size();
            }
            if json {
                output::json_item(
                    &json!({"path": json_path(path), "kind": kind(entry.kind()), "size": entry.size(),
                    "mode": format!("{:04o}", entry.mode), "user": user, "group": group,
                    "modified": file_time(entry.modified), "target": target.map(|target| json_path(target))}),
                );
            } else if !context.global.quiet {
                output::line(tree_line(path, entry, &user, &group, target));
            }
            Ok(())
        })?;
    }
    if json {
        context.json(json!({}));
    } else if !context.global.quiet {
        output::line(format!(
            "{}, {}",
            words::counted(files, "file", "files"),
            words::bytes(bytes)
        ));
    }
    Ok(Exit::Done)
}

fn tree_line(
    path: &[u8],
    entry: &Entry,
    user: &str,
    group: &str,
    target: Option<&Vec<u8>>,
) -> String {
    let target = target.map_or(String::new(), |target| format!(" → {}", words::path(target)));
    let slash = if entry.kind() == Kind::Directory { "/" } else { "" };
    let modified = words::zoned(entry.modified.seconds.saturating_mul(1000))
        .strftime("%Y-%m-%d %H:%M")
        .to_string();
    let mode = words::mode(entry.kind(), entry.mode);
    format!(
        "{mode}  {user:<8} {group:<8} {:>9}  {modified}  {}{slash}{target}",
        words::bytes(entry.size()),
        words::path(path)
    )
}

pub(super) fn versions(context: &Context, args: &VersionsArgs) -> Result<Exit, CliError> {
    let stores = context.stores(&args.which, Some(&args.plan))?;
    let (series, stand) = (context.series(&args.plan), standing());
    let mut found: Option<past::Followed> = None;
    context.attending(&stores, || {
        for (_, store) in &stores {
            let text = args.path.as_bytes();
            let Some(here) = past::follow(store, &series, text, &stand)? else { continue };
            match &mut found {
                Some(found) => {
                    found.versions.extend(here.versions);
                    found.gone_since = found.gone_since.and(here.gone_since);
                }
                None => found = Some(here),
            }
        }
        Ok(())
    })?;
    let Some(past::Followed { path, mut versions, gone_since }) = found else {
        let (path, plan) = (words::path(args.path.as_bytes()), args.plan.clone());
        return Err(EngineError::from(Refusal::NotInAnySnapshot { path, plan }).into());
    };
    versions.sort_by_key(|version| version.time);
    // Two of one minute are told apart.
    let same_minute = |two: &[past::Version]| two[0].time / 60_000 == two[1].time / 60_000;
    let moment = match versions.windows(2).any(same_minute) {
        true => words::second,
        false => words::moment,
    };
    context.print(
        || {
            let value = |version: &past::Version| json!({"snapshot": version.snapshot.to_string(), "time": words::rfc3339(version.time),
                "size": version.size, "modified": file_time(version.modified), "last-seen": words::rfc3339(version.last_seen)});
            json!({"path": json_path(&path), "gone-since": gone_since.map(words::rfc3339),
                "versions": versions.iter().map(value).collect::<Vec<_>>()})
        },
        || {
            let rows: Vec<_> = versions.iter().map(|version| vec![
                moment(version.time), moment(version.last_seen), words::bytes(version.size),
                words::moment(version.modified.seconds.saturating_mul(1000)), version.snapshot.short(),
            ]).collect();
            let total = words::counted(rows.len() as u64, "version", "versions");
            let gone = gone_since.map_or(String::new(), |gone| format!("; gone since {}", moment(gone)));
            let table = output::table(&["from", "last seen", "size", "modified", "snapshot"], &[2], &rows);
            format!("{}\n{table}{total}{gone}\n", words::path(&path))
        },
    );
    Ok(Exit::Done)
}

/// The directory paths are relative to.
pub(super) fn standing() -> PathBuf {
    // Without one only full paths are found.
    std::env::current_dir().unwrap_or_default()
}

pub(super) fn print(context: &Context, args: &PrintArgs) -> Result<Exit, CliError> {
    let (_, store, snapshot) = context.snapshot(&args.snapshot, &args.which)?;
    let located = past::named_in(&store, &snapshot, args.path.as_bytes(), &standing())?;
    let mut out: Box<dyn io::Write> = match io::stdout().is_terminal() {
        true => Box::new(Harmless(io::stdout().lock())),
        false => Box::new(io::stdout().lock()),
    };
    match past::print(&store, &located, &mut out) {
        // The reader has seen enough.
        Err(EngineError::Local { source, .. }) if source.kind() == io::ErrorKind::BrokenPipe => {
            Ok(Exit::Done)
        }
        other => Ok(other.map(|()| Exit::Done)?),
    }
}

/// Content being sent to a terminal: what is no text is shown as such and does nothing.
struct Harmless<W>(W);

impl<W: io::Write> io::Write for Harmless<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let lines = bytes.split_inclusive(|byte| matches!(byte, b'\n' | b'\t'));
        for line in lines {
            let (text, end) = match line.split_last() {
                Some((end @ (b'\n' | b'\t'), text)) => (text, Some(*end)),
                _ => (line, None),
            };
            self.0.write_all(words::path(text).as_bytes())?;
            self.0.write_all(end.as_slice())?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}
