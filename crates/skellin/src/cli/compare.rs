//! `compare`: two snapshots, or one with files as they are now.

use std::{
    ffi::OsString,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{
    Cause, Comparing, Difference, Differing, Exception, Hears, Live, Looking, Sight,
    history::{self, Located},
};
use skellin_plan::FarSource;
use skellin_store::{Kind, Snapshot, Store};

use super::{
    WhichStore,
    context::Context,
    contrast,
    error::CliError,
    history::{file_time, kind, standing},
    output::{self, exception_json, json_path},
    run::exceptions_text,
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin compare readings@yesterday readings@newest\n  skellin compare readings@newest\n  skellin compare readings@newest --with /tmp/back --read\n  skellin compare ringing@yesterday --path 2026/register.csv --content\n\nWith one snapshot alone it is compared with its sources as they are now, by the rules of its plan.\nA file of the same size and time is taken for the same unless --read is given."
)]
pub(super) struct CompareArgs {
    /// PLAN@WHEN, or the beginning of an id
    snapshot: String,
    /// The snapshot to compare it with
    #[arg(conflicts_with = "with")]
    other: Option<String>,
    /// Compare with this directory: a source, or what `restore --to` has filled
    #[arg(long, value_name = "DIR")]
    with: Option<PathBuf>,
    /// Only this path and below
    #[arg(long, value_name = "PATH")]
    path: Option<OsString>,
    /// Show in what the content of the file differs
    #[arg(long, requires = "path")]
    content: bool,
    /// Read files of the same size and time as well
    #[arg(long, conflicts_with = "other")]
    read: bool,
    #[command(flatten)]
    which: WhichStore,
}

pub(super) fn compare(context: &Context, args: &CompareArgs) -> Result<Exit, CliError> {
    let (name, store, snapshot) = context.snapshot(&args.snapshot, &args.which)?;
    let opened = [(name, Arc::clone(&store))];
    context.catch_signals();
    let mut told = Told::new(context);
    if context.global.json {
        output::json_list(&json!({"snapshot": snapshot.run.to_string()}), "paths");
    }
    context.attending(&opened, || {
        let comparing = Comparing {
            store: &store,
            whole: context.global.verbose,
            read_all: args.read,
            cancel: &context.cancel,
        };
        match &args.other {
            Some(other) => {
                let other = context.snapshot_within(&store, other, &args.which)?;
                told.head(&format!("{} → {}", named(&snapshot), named(&other)));
                let path = args.path.as_deref();
                between(&comparing, path, (&store, &snapshot, &other), args.content, &mut told)
            }
            None => {
                told.head(&format!("{} → now", named(&snapshot)));
                live(context, &comparing, (&store, &snapshot), args, &mut told)
            }
        }
    })?;
    told.end();
    Ok(if told.exception_count == 0 { Exit::Done } else { Exit::Exceptions })
}

fn named(snapshot: &Snapshot) -> String {
    let plan = words::harmless(&snapshot.plan).into_owned();
    format!("{plan} of {} ({})", words::moment(snapshot.started), snapshot.run.short())
}

fn between(
    comparing: &Comparing<'_>,
    path: Option<&std::ffi::OsStr>,
    (store, before, now): (&Store, &Snapshot, &Snapshot),
    content: bool,
    told: &mut Told<'_>,
) -> Result<(), CliError> {
    let Some(path) = path else { return Ok(comparing.snapshots(before, now, told)?) };
    let one = |snapshot| history::named_in(store, snapshot, path.as_bytes(), &standing());
    let (old, new) = match (one(before), one(now)) {
        (Err(error), Err(_)) => return Err(error.into()),
        (old, new) => (old.ok(), new.ok()),
    };
    let full = old.as_ref().or(new.as_ref()).map(|located| located.path.clone());
    let entry = |located: &Option<Located>| located.as_ref().map(|located| located.entry.clone());
    let (before, now) = (entry(&old), entry(&new));
    comparing.entries(&full.unwrap_or_default(), before.as_ref(), now.as_ref(), told)?;
    if content {
        told.contents(&contrast::kept(store, old.as_ref())?, &contrast::kept(store, new.as_ref())?);
    }
    Ok(())
}

fn live(
    context: &Context,
    comparing: &Comparing<'_>,
    (store, snapshot): (&Store, &Snapshot),
    args: &CompareArgs,
    told: &mut Told<'_>,
) -> Result<(), CliError> {
    let located = match &args.path {
        Some(path) => vec![history::named_in(store, snapshot, path.as_bytes(), &standing())?],
        None => history::roots(store, snapshot)?,
    };
    if let Some(with) = &args.with {
        let with =
            std::path::absolute(with).map_err(|error| CliError::failed(error.to_string(), None))?;
        let places = beside(snapshot, &located, &with, args.path.is_some())?;
        for (located, place) in located.iter().zip(places) {
            let live = Live { path: &place, by: None };
            comparing.live(&located.path, &located.entry, live, told)?;
            if args.content {
                told.contents(&contrast::kept(store, Some(located))?, &contrast::live(&place)?);
            }
        }
        return Ok(());
    }
    let own = context.own_name(Some(&snapshot.plan));
    if snapshot.machine != own {
        let theirs = words::path(snapshot.machine.as_bytes());
        let what = format!("this is a snapshot of {theirs}, and this machine is {own}");
        return Err(CliError::usage(what, "compare it with a directory: --with DIR"));
    }
    let configuration = context.lenient_configuration();
    let plans = configuration.plans.iter().filter_map(|file| file.plan.as_ref());
    let plan = plans
        .into_iter()
        .find(|plan| plan.series.as_deref().unwrap_or(&plan.name) == snapshot.plan);
    let keep_out = configuration.keep_out();
    let now = jiff::Timestamp::now().as_millisecond();
    let source_hosts = &configuration.source_hosts;
    let looking =
        plan.map(|plan| Looking { plan, source_hosts, before: None, keep_out: &keep_out, now });
    for located in &located {
        let path = PathBuf::from(std::ffi::OsStr::from_bytes(&located.path));
        let by = looking.as_ref();
        if by.is_none() && FarSource::is_address(&located.path) {
            let what = format!("{} lies on another host", words::path(&located.path));
            return Err(CliError::usage(what, "compare it with a directory: --with DIR"));
        }
        comparing.live(&located.path, &located.entry, Live { path: &path, by }, told)?;
        if args.content {
            told.contents(&contrast::kept(store, Some(located))?, &contrast::live(&path)?);
        }
    }
    Ok(())
}

/// Where below a directory what was located lies: under the base name of each source, as a restore lays it
/// down; or the directory stands for the one source, or for the path that was named.
fn beside(
    snapshot: &Snapshot,
    located: &[Located],
    with: &Path,
    is_named: bool,
) -> Result<Vec<PathBuf>, CliError> {
    let below = |located: &Located| {
        let mut path =
            with.join(std::ffi::OsStr::from_bytes(&snapshot.sources[located.source].name));
        path.extend(located.parts.iter().map(|part| std::ffi::OsStr::from_bytes(part)));
        path
    };
    let laid_down: Vec<PathBuf> = located.iter().map(below).collect();
    if laid_down.iter().all(|path| path.symlink_metadata().is_ok()) {
        return Ok(laid_down);
    }
    if is_named || located.len() == 1 {
        return Ok(vec![with.to_path_buf()]);
    }
    let sources: Vec<String> =
        snapshot.sources.iter().map(|source| words::path(&source.name)).collect();
    let what = format!(
        "{} does not have {}",
        words::path(with.as_os_str().as_bytes()),
        sources.join(", ")
    );
    Err(CliError::usage(what, "name a directory that has all sources, or one of them with --path"))
}

/// So many exceptions are kept with path and reason; all are counted.
const MOST_EXCEPTIONS: usize = 1000;

/// Prints what differs as it comes.
struct Told<'a> {
    context: &'a Context,
    counts: [u64; 4],
    /// Bytes of files that are new, gone, or changed.
    bytes: [u64; 3],
    exception_count: u64,
    /// The first of them.
    exceptions: Vec<Exception>,
    /// In what the content of the file differs.
    content: Option<Value>,
}

impl<'a> Told<'a> {
    fn new(context: &'a Context) -> Self {
        let (counts, bytes, exceptions) = ([0; 4], [0; 3], Vec::new());
        Self { context, counts, bytes, exception_count: 0, exceptions, content: None }
    }

    fn contents(&mut self, before: &contrast::Bytes, now: &contrast::Bytes) {
        let (is_cut, told) = contrast::contrasted(before, now);
        if self.context.global.json {
            self.content = Some(contrast::value(is_cut, &told));
        } else if !self.context.global.quiet {
            contrast::print(is_cut, &told);
        }
    }

    fn head(&self, text: &str) {
        if !self.context.global.json && !self.context.global.quiet {
            output::line(text);
        }
    }

    fn end(&self) {
        let [new, gone, changed, metadata] = self.counts;
        if self.context.global.json {
            let exceptions: Vec<Value> = self.exceptions.iter().map(exception_json).collect();
            self.context
                .json(json!({"new": new, "gone": gone, "changed": changed, "metadata": metadata,
                "content": self.content, "exceptions": exceptions}));
            return;
        }
        if self.context.global.quiet {
            return;
        }
        let mut parts = Vec::new();
        for (count, bytes, word) in [
            (new, Some(self.bytes[0]), "new"),
            (changed, Some(self.bytes[1]), "changed"),
            (gone, Some(self.bytes[2]), "gone"),
            (metadata, None, "only in metadata"),
        ] {
            if count > 0 {
                let bytes =
                    bytes.map_or(String::new(), |bytes| format!(" ({})", words::bytes(bytes)));
                parts.push(format!("{} {word}{bytes}", words::count(count)));
            }
        }
        output::line(match parts.is_empty() {
            true => "no differences".to_owned(),
            false => parts.join(" · "),
        });
        let remedy = skellin_engine::remedy;
        let verbose = self.context.global.verbose;
        let text = exceptions_text(self.exception_count, &self.exceptions, verbose, remedy);
        output::text(&text);
    }

    fn line(differing: &Differing) -> String {
        let Differing { path, difference, before, now } = differing;
        let word = word(*difference);
        let sight = now.as_ref().or(before.as_ref());
        let slash = if sight.is_some_and(|one| one.kind == Kind::Directory) { "/" } else { "" };
        let amount = |sight: &Sight| match (&sight.below, sight.kind) {
            (Some(below), _) => {
                format!(
                    "{}, {}",
                    words::counted(below.files, "file", "files"),
                    words::bytes(below.bytes)
                )
            }
            (None, Kind::File) => words::bytes(sight.size),
            (None, _) => String::new(),
        };
        let what = match (difference, before, now) {
            (Difference::Metadata, Some(before), Some(now)) => metadata(before, now),
            (_, Some(before), Some(now)) if before.kind != now.kind => {
                format!("{} → {}", kind(before.kind), kind(now.kind))
            }
            (_, Some(before), Some(now)) => format!("{} → {}", amount(before), amount(now)),
            (_, one, other) => one.as_ref().or(other.as_ref()).map_or(String::new(), amount),
        };
        format!("  {word:<9} {}{slash}  {what}", words::path(path))
    }
}

fn word(difference: Difference) -> &'static str {
    match difference {
        Difference::New => "new",
        Difference::Gone => "gone",
        Difference::Changed => "changed",
        Difference::Metadata => "metadata",
    }
}

/// In what two sights of the same content differ.
fn metadata(before: &Sight, now: &Sight) -> String {
    let mut parts = Vec::new();
    if before.mode != now.mode {
        parts.push(format!("mode {:04o} → {:04o}", before.mode, now.mode));
    }
    let owner = |sight: &Sight| format!("{}:{}", sight.owner.uid, sight.owner.gid);
    if owner(before) != owner(now) {
        parts.push(format!("owner {} → {}", owner(before), owner(now)));
    }
    if before.modified != now.modified {
        let time = |sight: &Sight| words::second(sight.modified.seconds.saturating_mul(1000));
        parts.push(format!("modified {} → {}", time(before), time(now)));
    }
    if parts.is_empty() {
        parts.push("extended attributes".to_owned());
    }
    parts.join(", ")
}

impl Hears for Told<'_> {
    fn differs(&mut self, differing: Differing) {
        let bytes = |sight: &Option<Sight>| sight.as_ref().map_or(0, |sight| sight.size);
        let number = match differing.difference {
            Difference::New => 0,
            Difference::Gone => 1,
            Difference::Changed => 2,
            Difference::Metadata => 3,
        };
        self.counts[number] += 1;
        let is_directory =
            |sight: &Option<Sight>| sight.as_ref().is_some_and(|one| one.kind == Kind::Directory);
        // What lies below is told by itself then.
        let counts_below = !self.context.global.verbose
            || !is_directory(&differing.before) && !is_directory(&differing.now);
        match differing.difference {
            Difference::New if counts_below => self.bytes[0] += bytes(&differing.now),
            Difference::Gone if counts_below => self.bytes[2] += bytes(&differing.before),
            Difference::Changed => self.bytes[1] += bytes(&differing.now),
            _ => {}
        }
        if self.context.global.json {
            output::json_item(&value(&differing));
        } else if !self.context.global.quiet {
            output::line(Self::line(&differing));
        }
    }

    fn lost(&mut self, path: &[u8], cause: Cause) {
        self.exception_count += 1;
        if self.exceptions.len() < MOST_EXCEPTIONS {
            self.exceptions.push(Exception { path: path.to_vec(), cause });
        }
    }
}

fn value(differing: &Differing) -> Value {
    let side = |sight: &Option<Sight>| {
        sight.as_ref().map(|sight| {
            json!({"kind": kind(sight.kind), "size": sight.size, "mode": format!("{:04o}", sight.mode),
                "uid": sight.owner.uid, "gid": sight.owner.gid, "modified": file_time(sight.modified)})
        })
    };
    json!({"path": json_path(&differing.path), "difference": word(differing.difference),
        "before": side(&differing.before), "now": side(&differing.now)})
}
