//! `restore`: bringing files back.

use std::{
    ffi::OsString,
    io::IsTerminal as _,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{
    Destination, EngineError, Existing, LinkAbove, RestoreReport, RestoreRequest,
    history::{self, Located},
};
use skellin_plan::StoreConfig;
use skellin_store::{Snapshot, Store};

use super::{
    WhichStore,
    context::Context,
    error::CliError,
    history::standing,
    output::{self, exception_json},
    run::exceptions_text,
    signals,
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin restore ringing@newest /srv/ringing/register.ods --in-place\n  skellin restore readings@2026-11-10 --to /tmp/look --dry-run\n  skellin restore --place /mnt/oak readings@newest --to /srv/back\n\nBelow --to each source appears under its base name."
)]
pub(super) struct RestoreArgs {
    /// PLAN@WHEN, or the beginning of an id
    snapshot: String,
    /// What to restore; default: everything
    paths: Vec<OsString>,
    /// Restore below this directory
    #[arg(
        long,
        value_name = "DIR",
        required_unless_present = "in_place",
        conflicts_with = "in_place"
    )]
    to: Option<PathBuf>,
    /// Restore to the original location
    #[arg(long)]
    in_place: bool,
    /// What to do with existing files
    #[arg(long, value_enum, default_value_t = ExistingArg::Leave)]
    existing: ExistingArg,
    /// Show what would happen, write nothing
    #[arg(long)]
    dry_run: bool,
    /// Request retrieval from cold storage without asking
    #[arg(long)]
    thaw: bool,
    /// Follow this link above the destination, if it points to this target
    #[arg(long, value_name = "LINK=TARGET", value_parser = link_above, requires = "in_place")]
    through: Vec<LinkAbove>,
    /// Restore a snapshot of another machine in place
    #[arg(long, requires = "in_place")]
    agree: bool,
    /// Keep set-user-id and set-group-id bits of files from other hosts
    #[arg(long)]
    set_id: bool,
    #[command(flatten)]
    which: WhichStore,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum ExistingArg {
    /// Keep them
    Leave,
    /// Replace them
    Replace,
    /// Keep them as NAME.kept-TIME
    Rename,
}

pub(super) fn restore(context: &Context, args: &RestoreArgs) -> Result<Exit, CliError> {
    let (name, store, snapshot) = context.snapshot(&args.snapshot, &args.which)?;
    let restored = restore_from(context, args, (&name, &store, &snapshot));
    if restored.is_err() && !args.dry_run {
        // What stopped it may be damage, which the next run has to know of.
        skellin_engine::record_damage(&store, &crate::machine::machine_name(), &context.progress);
    }
    restored
}

fn restore_from(
    context: &Context,
    args: &RestoreArgs,
    (name, store, snapshot): (&str, &Arc<Store>, &Snapshot),
) -> Result<Exit, CliError> {
    let own = context.own_name(Some(&snapshot.plan));
    if args.in_place && snapshot.machine != own && !args.agree {
        let theirs = words::path(snapshot.machine.as_bytes());
        let what = format!("this is a snapshot of {theirs}, and this machine is {own}");
        let asks = std::io::stdin().is_terminal() && !context.global.json;
        let agreed = asks
            && output::agreed(&format!("{what}.\nRestore it in place here? [y/N] ")).map_err(
                |error| CliError::failed(format!("cannot read the answer: {error}"), None),
            )?;
        if !agreed {
            return Err(CliError::guarded(
                what,
                "restore it elsewhere with --to DIR; or, if it belongs here, add --agree",
            ));
        }
    }
    let mut paths = Vec::new();
    for path in &args.paths {
        paths.push(history::named_in(store, snapshot, path.as_bytes(), &standing())?);
    }
    if args.paths.is_empty() {
        paths = history::roots(store, snapshot)?;
    }
    let destination = match &args.to {
        Some(to) => Destination::Directory(
            std::path::absolute(to).map_err(|error| CliError::failed(error.to_string(), None))?,
        ),
        None => Destination::InPlace,
    };
    let existing = match args.existing {
        ExistingArg::Leave => Existing::Leave,
        ExistingArg::Replace => Existing::Replace,
        ExistingArg::Rename => Existing::Rename,
    };
    context.catch_signals();
    if let Ok(config) = context.lenient_configuration().store(name) {
        thawed(context, store, config, &paths, args)?;
    }
    let stamp = jiff::Zoned::now().strftime("%Y%m%d-%H%M%S").to_string();
    let configuration = context.lenient_configuration();
    let journal = if args.dry_run { None } else { context.journal() };
    let machine = crate::machine::machine_name();
    let mut through = args.through.clone();
    let orchestrator = context.orchestrator(&configuration, journal.as_ref(), &machine);
    let attempt = |through: &[LinkAbove]| {
        let request = RestoreRequest {
            through,
            keep_set_id: args.set_id,
            snapshot,
            paths: &paths,
            destination: &destination,
            existing,
            dry_run: args.dry_run,
            stamp: &stamp,
            cancel: &context.cancel,
            events: &context.progress,
        };
        orchestrator.restore(name, store, &request)
    };
    let report = loop {
        match attempt(&through) {
            Err(EngineError::LinkAbove { link, target }) if is_agreed(context, &link, &target)? => {
                through.push(LinkAbove { link, target });
            }
            other => break other?,
        }
    };
    context.print(|| as_json(&report), || as_text(&report, args.dry_run, context.global.verbose));
    Ok(match (report.interrupted, report.damaged, report.exception_count) {
        (true, ..) => Exit::Signal(signals::caught().unwrap_or(2)),
        (false, 0, 0) => Exit::Done,
        (false, 0, _) => Exit::Exceptions,
        (false, ..) => Exit::Damage,
    })
}

/// Whether somebody who is there agrees that what is restored goes through a link.
fn is_agreed(context: &Context, link: &Path, target: &Path) -> Result<bool, CliError> {
    if !std::io::stdin().is_terminal() || context.global.json {
        return Ok(false);
    }
    let question = format!(
        "{} is now a link to {}.\nRestore there? [y/N] ",
        words::path(link.as_os_str().as_bytes()),
        words::path(target.as_os_str().as_bytes())
    );
    output::agreed(&question)
        .map_err(|error| CliError::failed(format!("cannot read the answer: {error}"), None))
}

/// A link and its target, as `LINK=TARGET`.
fn link_above(text: &str) -> Result<LinkAbove, String> {
    match text.split_once('=') {
        Some((link, target)) if link.starts_with('/') && !target.is_empty() => {
            Ok(LinkAbove { link: link.into(), target: target.into() })
        }
        _ => Err("give LINK=TARGET: the full path of the link and its target".to_owned()),
    }
}

/// Makes sure that what is to be restored can be read; what is frozen is asked for, once somebody
/// has agreed to what that takes and costs.
fn thawed(
    context: &Context,
    store: &Store,
    config: &StoreConfig,
    paths: &[Located],
    args: &RestoreArgs,
) -> Result<(), CliError> {
    let Some(frozen) = skellin_engine::frozen(store, config, paths, &context.cancel)? else {
        return Ok(());
    };
    let words = frozen.words();
    if args.dry_run {
        context.progress.say(&words);
        return Ok(());
    }
    if frozen.objects.is_empty() {
        return Err(CliError::frozen(words, "run the same command again when they are available"));
    }
    let agreed = args.thaw
        || (std::io::stdin().is_terminal()
            && !context.global.json
            && output::agreed(&format!("{words}.\nRequest retrieval? [y/N] ")).map_err(
                |error| CliError::failed(format!("cannot read the answer: {error}"), None),
            )?);
    if !agreed {
        return Err(CliError::guarded(words, "to request retrieval, add --thaw"));
    }
    skellin_engine::ask_to_thaw(store, &frozen)?;
    let asked = format!("requested retrieval of {} objects; {words}", frozen.objects.len());
    Err(CliError::frozen(asked, "run the same command again after that time"))
}

fn as_json(report: &RestoreReport) -> Value {
    let exceptions = report.exceptions.iter().map(exception_json);
    json!({"restored": report.restored, "bytes": report.bytes, "left": report.left, "replaced": report.replaced,
        "renamed": report.renamed, "removed": 0, "exceptions": exceptions.collect::<Vec<_>>()})
}

fn as_text(report: &RestoreReport, dry_run: bool, verbose: bool) -> String {
    let verb = if dry_run { "would be restored; nothing was written" } else { "restored" };
    let mut out = match report.restored == 0 && report.left > 0 {
        true => format!(
            "nothing {}: all {} are already there and were kept\n",
            if dry_run { "would be restored" } else { "was restored" },
            words::counted(report.left, "path", "paths")
        ),
        false => format!(
            "{}, {} {verb}\n",
            words::counted(report.restored, "path", "paths"),
            words::bytes(report.bytes)
        ),
    };
    for (count, what) in [
        (report.left, "kept: a file of that name exists (--existing replace or rename)"),
        (report.replaced, "replaced"),
        (report.renamed, "renamed to NAME.kept-TIME"),
    ] {
        if count > 0 {
            out.push_str(&format!("  {} {what}\n", words::count(count)));
        }
    }
    if report.interrupted {
        out.push_str("  interrupted: the same command continues, existing files are kept\n");
    }
    let remedy = skellin_engine::restore_remedy;
    out.push_str(&exceptions_text(report.exception_count, &report.exceptions, verbose, remedy));
    out
}
