//! `restore`: bringing files back.

mod plans;
mod report;

use std::{
    ffi::OsString,
    io::IsTerminal as _,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use clap::Args;
use skellin_engine::{
    Destination, EngineError, Existing, Extra, LinkAbove, RestoreReport, RestoreRequest,
    history::{self, Located},
};
use skellin_plan::{FarSource, StoreConfig};
use skellin_store::{Snapshot, Store};

use super::{WhichStore, context::Context, error::CliError, history::standing, output, signals};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin restore ringing@newest /srv/ringing/register.ods --in-place\n  skellin restore readings@2026-11-10 --to /tmp/look --dry-run\n  skellin restore ringing@newest --to sftp://pier/srv/restored\n  skellin restore ringing@monday /srv/ringing/register.ods --beside\n  skellin restore system@newest --in-place --extra remove --dry-run\n  skellin restore --place /mnt/oak readings@newest --to /srv/back\n\nBelow --to each source appears under its base name.\n\nA lost machine: skellin restore --place /mnt/oak --plans writes its plans and the descriptions of its stores."
)]
pub(super) struct RestoreArgs {
    /// PLAN@WHEN, or the beginning of an id
    #[arg(required_unless_present = "plans")]
    snapshot: Option<String>,
    /// What to restore; default: everything
    paths: Vec<OsString>,
    /// Restore below this directory, or sftp://HOST/DIR of another host
    #[arg(long, value_name = "DIR", group = "where")]
    to: Option<PathBuf>,
    /// Restore to the original location
    #[arg(long, group = "where")]
    in_place: bool,
    /// Restore to the original location, with the snapshot's time in the name of each path
    #[arg(long, group = "where")]
    beside: bool,
    /// Write the plans and store descriptions kept in the store; existing files are kept
    #[arg(long, conflicts_with_all = ["snapshot", "where", "extra", "existing"])]
    plans: bool,
    /// What to do with existing files: leave, or with --extra remove replace
    #[arg(long, value_enum)]
    existing: Option<ExistingArg>,
    /// What to do with files that are not in the snapshot
    #[arg(long, value_enum, default_value_t = ExtraArg::Leave, conflicts_with = "beside")]
    extra: ExtraArg,
    /// Show what would happen, write nothing
    #[arg(long)]
    dry_run: bool,
    /// Request retrieval from cold storage without asking
    #[arg(long)]
    thaw: bool,
    /// Follow this link above the destination, if it points to this target
    #[arg(long, value_name = "LINK=TARGET", value_parser = link_above, requires = "in_place")]
    through: Vec<LinkAbove>,
    /// Do not ask: restore another machine's snapshot in place, remove extra files
    #[arg(long)]
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

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum ExtraArg {
    /// Keep them
    Leave,
    /// Remove them: each restored directory becomes what it was
    Remove,
}

pub(super) fn restore(context: &Context, args: &RestoreArgs) -> Result<Exit, CliError> {
    let Some(named) = &args.snapshot else { return plans::restore(context, args) };
    if args.to.is_none() && !args.in_place && !args.beside {
        return Err(CliError::usage(
            "nothing says where to restore to",
            "add --to DIR, --in-place or --beside",
        ));
    }
    let (name, store, snapshot) = context.snapshot(named, &args.which)?;
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
    if args.to.is_none() && snapshot.machine != own && !args.agree {
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
    let address = args.to.as_deref().filter(|to| FarSource::is_address(to.as_os_str().as_bytes()));
    let destination = match &args.to {
        Some(to) if address.is_some() => Destination::Directory(to.clone()),
        Some(to) => Destination::Directory(
            std::path::absolute(to).map_err(|error| CliError::failed(error.to_string(), None))?,
        ),
        None => Destination::InPlace,
    };
    let existing = match (args.existing, args.extra) {
        (None, ExtraArg::Leave) | (Some(ExistingArg::Leave), _) => Existing::Leave,
        (None, ExtraArg::Remove) | (Some(ExistingArg::Replace), _) => Existing::Replace,
        (Some(ExistingArg::Rename), _) => Existing::Rename,
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
    let by = match (args.extra, args.to.is_none()) {
        (ExtraArg::Remove, true) => Some(skellin_engine::plan_of(snapshot)?),
        _ => None,
    };
    let keep = configuration.own_directories();
    if address.is_some() && args.extra == ExtraArg::Remove {
        return Err(CliError::usage(
            "--extra remove works on this machine only",
            "restore without it, and remove there what is too much",
        ));
    }
    let host = address.map(|to| configuration.source_hosts.target(to)).transpose()?;
    let extra = match args.extra {
        ExtraArg::Leave => Extra::Leave,
        ExtraArg::Remove => Extra::Remove { by: by.as_ref() },
    };
    let orchestrator = context.orchestrator(&configuration, journal.as_ref(), &machine);
    let attempt = |through: &[LinkAbove], dry_run: bool| {
        let request = RestoreRequest {
            through,
            keep_set_id: args.set_id,
            snapshot,
            paths: &paths,
            destination: &destination,
            existing,
            extra,
            dated: args.beside,
            keep: &keep,
            host: host.as_deref(),
            dry_run,
            stamp: &stamp,
            cancel: &context.cancel,
            events: &context.progress,
        };
        orchestrator.restore(name, store, &request)
    };
    let mut restored = |dry_run: bool| loop {
        match attempt(&through, dry_run) {
            Err(EngineError::LinkAbove { link, target }) if is_agreed(context, &link, &target)? => {
                through.push(LinkAbove { link, target });
            }
            other => break Ok::<_, CliError>(other?),
        }
    };
    if args.extra == ExtraArg::Remove && !args.dry_run && !args.agree {
        let foretold = restored(true)?;
        if !foretold.interrupted && foretold.removed > 0 {
            agree_to_remove(context, &foretold)?;
        }
    }
    let report = restored(args.dry_run)?;
    let verbose = context.global.verbose;
    context.print(|| report::json(&report), || report::text(&report, args.dry_run, verbose));
    Ok(match (report.interrupted, report.damaged, report.exception_count) {
        (true, ..) => Exit::Signal(signals::caught().unwrap_or(2)),
        (false, 0, 0) => Exit::Done,
        (false, 0, _) => Exit::Exceptions,
        (false, ..) => Exit::Damage,
    })
}

/// Nothing is removed that nobody has seen in a list.
fn agree_to_remove(context: &Context, foretold: &RestoreReport) -> Result<(), CliError> {
    let what = format!(
        "this would remove {} that the snapshot does not have",
        words::counted(foretold.removed, "path", "paths")
    );
    if !std::io::stdin().is_terminal() || context.global.json {
        let hint = "look at them with --dry-run -v, then add --agree";
        return Err(CliError::guarded(what, hint));
    }
    let list = report::extras(foretold, context.global.verbose);
    let agreed = output::agreed(&format!("{what}:\n{list}Remove them? [y/N] "))
        .map_err(|error| CliError::failed(format!("cannot read the answer: {error}"), None))?;
    match agreed {
        true => Ok(()),
        false => Err(CliError::guarded(
            "nothing was restored or removed".to_owned(),
            "restore without --extra remove",
        )),
    }
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
