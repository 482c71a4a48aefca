//! `run`: plans carried out, or dry runs of them.

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{
    Change, Configuration, ExpireReport, Journal, PathChange, RunOptions, RunReport, RunStatus,
    Shrinkage, Stage,
};
use skellin_plan::Plan;

use super::{
    context::Context,
    error::CliError,
    expire,
    listing::PathListing,
    output::{self, exception_json, json_path},
    post, replicate, signals,
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin run readings\n  skellin run readings --dry-run -v\n  skellin run readings ringing --label before-upgrade"
)]
pub(super) struct RunArgs {
    /// The plans, one after the other
    #[arg(required = true)]
    plans: Vec<String>,
    /// Dry run: decide everything, write nothing
    #[arg(long)]
    dry_run: bool,
    /// Accept that much is suddenly gone or changed
    #[arg(long)]
    agree: bool,
    /// An additional label for the snapshot
    #[arg(long = "label", value_name = "LABEL")]
    labels: Vec<String>,
    /// Let everything else on the machine go first
    #[arg(long)]
    gentle: bool,
    /// Started by the steward, which has this number of a process and carries the messages
    #[arg(long, value_name = "PROCESS", hide = true)]
    steward: Option<u32>,
    /// Whether nobody is there
    #[arg(skip)]
    unattended: bool,
}

impl RunArgs {
    /// Gentle runs of these plans, with nobody to agree to anything.
    pub fn gentle(plans: Vec<String>) -> Self {
        let (dry_run, agree, labels) = (false, false, Vec::new());
        Self { plans, dry_run, agree, labels, gentle: true, steward: None, unattended: true }
    }
}

pub(super) fn run(context: &Context, args: &RunArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    if let Some(bad) = args.labels.iter().find(|label| !skellin_plan::is_plan_name(label)) {
        return Err(CliError::usage(
            format!("`{bad}` is not a valid label"),
            "use a-z, 0-9, - and _",
        ));
    }
    // All plans are looked at before the first is run.
    let plans = args
        .plans
        .iter()
        .map(|name| context.plan(&configuration, name))
        .collect::<Result<Vec<_>, _>>()?;
    context.catch_signals();
    if let Some(steward) = args.steward {
        signals::end_with(steward);
    }
    let journal = if args.dry_run { None } else { context.journal() };
    let (mut reports, mut exit) = (Vec::new(), Exit::Done);
    let lists = args.dry_run && context.global.verbose;
    if lists && context.global.json {
        output::json_list(&json!({}), "runs");
    }
    for plan in &plans {
        let listing = lists.then(PathListing::default);
        let (report, ended) =
            one(context, &configuration, journal.as_ref(), (plan, listing.as_ref()), args)?;
        let said = as_json(plan, &report);
        match listing {
            Some(listing) if context.global.json => tell_paths(plan, &said, listing)?,
            Some(listing) if !context.global.quiet => {
                let told = listing.each(&mut |path| {
                    if path.change != Change::Same {
                        output::line(path_line(plan, &path));
                    }
                });
                output::text(&as_text(plan, &report, true));
                told.map_err(|error| unlisted(&error))?;
            }
            _ => reports.push(said),
        }
        if matches!(ended, Exit::Signal(_)) {
            exit = ended;
            break;
        }
        if exit == Exit::Done {
            exit = ended;
        }
    }
    if context.global.json {
        context.json(if lists { json!({}) } else { json!({"runs": reports}) });
    }
    if args.steward.is_none() {
        post::carry(context, &configuration, journal.as_ref());
    }
    Ok(exit)
}

/// Runs one plan, with the copies it names; what came of it, and the status that follows.
pub(super) fn one(
    context: &Context,
    configuration: &Configuration,
    journal: Option<&Journal>,
    (plan, listing): (&Plan, Option<&PathListing>),
    args: &RunArgs,
) -> Result<(RunReport, Exit), CliError> {
    let machine = crate::machine::machine_name();
    let orchestrator = context.orchestrator(configuration, journal, &machine);
    let agree = |noticed: &Shrinkage| args.agree || ask(context, plan, noticed);
    let tell_path = |path: PathChange| {
        if let Some(listing) = listing {
            listing.push(path);
        }
    };
    let options = RunOptions {
        agree: Some(&agree),
        labels: &args.labels,
        dry_run: args.dry_run,
        paths: listing.map(|_| &tell_path as _),
        gentle: args.gentle,
        unattended: args.unattended || args.steward.is_some(),
    };
    let says = !context.global.json && !context.global.quiet;
    let open = |store: &str| context.open_store(configuration, store, !args.dry_run);
    let told = |stage: Stage<'_, CliError>| match stage {
        Stage::Ran(report) if says && listing.is_none() => {
            output::text(&as_text(plan, report, context.global.verbose));
        }
        Stage::Copied(to, Ok(report)) if says => {
            output::text(&replicate::as_text(&plan.store, to, report));
        }
        Stage::Expired(store, Ok(report)) if says => {
            if let Some(text) = expire::after_run(plan, store, report) {
                output::text(&text);
            }
        }
        // The snapshot is made: what failed is what follows, which the next run makes up for.
        Stage::Copied(_, Err(error)) | Stage::Expired(_, Err(error)) => error.report(),
        Stage::Ran(_) | Stage::Copied(_, Ok(_)) | Stage::Expired(_, Ok(_)) => {}
    };
    let conducted = orchestrator.run_whole(plan, options, &open, &told);
    let report = match conducted.run {
        Ok(report) => report,
        Err(error) => {
            // What failed is told also if the next line ends the command.
            if args.steward.is_none() {
                post::carry(context, configuration, journal);
            }
            return Err(error);
        }
    };
    let interrupted = || Exit::Signal(signals::caught().unwrap_or(2));
    let copied = conducted.copies.iter().map(|(_, copy)| match copy {
        Ok(report) => replicate::exit(report),
        Err(error) => error.exit,
    });
    let expired = conducted.expired.iter().map(|(_, expired)| match expired {
        Ok(ExpireReport { held: Some(_), .. }) => Exit::Exceptions,
        Ok(_) => Exit::Done,
        Err(error) => error.exit,
    });
    let exit = match report.status {
        RunStatus::Interrupted => interrupted(),
        RunStatus::Guarded => Exit::Guarded,
        RunStatus::Exceptions => Exit::Exceptions,
        RunStatus::Done => Exit::Done,
    };
    let copied = copied
        .chain(expired)
        .fold(Exit::Done, |worst, exit| if worst == Exit::Done { exit } else { worst });
    Ok((report, if copied == Exit::Done { exit } else { copied }))
}

/// Asks on the terminal, if there is one, whether to go on.
fn ask(context: &Context, plan: &Plan, noticed: &Shrinkage) -> bool {
    use std::io::IsTerminal;
    if context.global.json || context.global.quiet || !std::io::stdin().is_terminal() {
        return false;
    }
    context.progress.say(&format!("{}: {}", plan.name, noticed.words()));
    output::agreed("Make the snapshot anyway? [y/N] ").unwrap_or(false)
}

fn status(status: RunStatus) -> &'static str {
    match status {
        RunStatus::Done => "done",
        RunStatus::Exceptions => "exceptions",
        RunStatus::Interrupted => "interrupted",
        RunStatus::Guarded => "guarded",
    }
}

fn change(change: Change) -> &'static str {
    match change {
        Change::New => "new",
        Change::Changed => "changed",
        Change::Gone => "gone",
        Change::Same => "same",
        Change::Skipped => "skipped",
    }
}

/// Prints a run as JSON, with its paths one after the other.
fn tell_paths(plan: &Plan, said: &Value, listing: PathListing) -> Result<(), CliError> {
    output::json_item_with_list(said, "paths");
    let told = listing.each(&mut |path| {
        output::json_item(
            &json!({"path": json_path(&path.path), "change": change(path.change), "size": path.size,
                "rule": path.rule.map(|rule| plan.rules.rules()[rule].text.clone())}),
        );
    });
    output::json_item_ends();
    told.map_err(|error| unlisted(&error))
}

/// Paths that were put into a file and cannot be read back.
fn unlisted(error: &std::io::Error) -> CliError {
    let hint = "check the disk of the temporary directory (TMPDIR), then try again";
    CliError::failed(format!("the paths cannot be listed: {error}"), Some(hint.to_owned()))
}

/// A path of a dry run as a line.
fn path_line(plan: &Plan, path: &PathChange) -> String {
    let rule = path.rule.map(|rule| &plan.rules.rules()[rule]);
    let reason =
        rule.map_or(String::new(), |rule| format!("   by line {}: {}", rule.line, rule.text));
    format!(
        "{:<8}{:>10}  {}{reason}",
        change(path.change),
        words::bytes(path.size),
        words::path(&path.path)
    )
}

pub(super) fn as_json(plan: &Plan, report: &RunReport) -> Value {
    let exceptions = report.exceptions.iter().map(exception_json);
    let mut value = json!({
        "run": report.run.map(|run| run.to_string()), "plan": plan.name, "store": plan.store,
        "snapshot": report.snapshot.map(|id| id.to_string()), "dry-run": report.dry_run,
        "status": status(report.status), "started": words::rfc3339(report.started), "ended": words::rfc3339(report.ended),
        "files": {"new": report.files.new, "changed": report.files.changed, "gone": report.files.gone,
            "same": report.files.same, "skipped": report.files.skipped},
        "bytes": {"read": report.bytes.read, "new": report.bytes.new, "stored": report.bytes.stored},
        "exceptions": exceptions.collect::<Vec<_>>(),
    });
    if !report.damage.is_empty() {
        let damage = report.damage.iter();
        value["damage"] = damage
            .map(|damage| json!({"container": damage.object, "reason": damage.why}))
            .collect();
    }
    for (key, failed) in [("not-entered", &report.not_entered), ("not-left", &report.not_left)] {
        if !failed.is_empty() {
            value[key] = json!(failed);
        }
    }
    if let Some(noticed) = &report.shrinkage {
        value["guard"] = json!({"gone": noticed.gone, "changed": noticed.changed, "before": noticed.before,
            "empty": noticed.empty.iter().map(|path| path.display().to_string()).collect::<Vec<_>>(), "message": noticed.words()});
    }
    if let Some(outlook) = &report.outlook {
        let stored = &outlook.stored;
        value["outlook"] = json!({
            "stored": stored.stored, "stored-range": [stored.low, stored.high],
            "seconds": outlook.time.seconds, "seconds-range": outlook.time.range, "runs": outlook.runs,
            "free": outlook.free, "fits": outlook.fits(),
            "cost-month": outlook.cost.as_ref().map(|cost| json!({"currency": cost.currency, "now": cost.now, "after": cost.after})),
        });
    }
    value
}

pub(super) fn as_text(plan: &Plan, report: &RunReport, verbose: bool) -> String {
    let mut out = String::new();
    let took =
        std::time::Duration::from_millis(u64::try_from(report.ended - report.started).unwrap_or(0));
    let ended = match (report.status, report.dry_run) {
        (RunStatus::Interrupted, _) => {
            "interrupted, no snapshot; the next run uses what was stored".to_owned()
        }
        (RunStatus::Guarded, _) => {
            "stopped, no snapshot; check whether this is right, then run with --agree".to_owned()
        }
        (_, true) => format!("dry run in {}, nothing was written", words::duration(took)),
        (RunStatus::Done, false) => format!("done in {}", words::duration(took)),
        (RunStatus::Exceptions, false) => {
            format!("done in {}, with exceptions", words::duration(took))
        }
    };
    let files = &report.files;
    out.push_str(&format!("{} → {}: {ended}\n", plan.name, plan.store));
    out.push_str(&format!(
        "  files      {} new · {} changed · {} gone · {} same · {} skipped\n",
        words::count(files.new),
        words::count(files.changed),
        words::count(files.gone),
        words::count(files.same),
        words::count(files.skipped)
    ));
    let all = words::bytes(report.total_bytes);
    out.push_str(&match report.dry_run {
        true => {
            format!("  bytes      {all} in all · {} to read\n", words::bytes(report.bytes.read))
        }
        false => format!(
            "  bytes      {all} in all · {} read · {} new · {} stored\n",
            words::bytes(report.bytes.read),
            words::bytes(report.bytes.new),
            words::bytes(report.bytes.stored)
        ),
    });
    if let Some(outlook) = &report.outlook {
        let labels = std::iter::once("outlook").chain(std::iter::repeat(""));
        for (label, line) in labels.zip(words::outlook(outlook)) {
            out.push_str(&format!("  {label:<11}{line}\n"));
        }
    }
    if let Some(noticed) = &report.shrinkage {
        out.push_str(&format!("  ▲ {}\n", noticed.words()));
    }
    if !report.damage.is_empty() {
        out.push_str(&format!(
            "  ▲ {}\n    → files that still exist were stored again; skellin verify {} lists what older snapshots lost\n",
            skellin_engine::damage_words(&report.damage),
            plan.store
        ));
    }
    for what in &report.not_entered {
        out.push_str(&format!("  ▲ `enter` failed, continued without: {what}\n"));
    }
    for what in &report.not_left {
        out.push_str(&format!("  ▲ `leave` failed: {what}\n"));
    }
    if report.sockets > 0 && verbose {
        out.push_str(&format!("  sockets    {}, not stored\n", words::count(report.sockets)));
    }
    if let Some(id) = report.snapshot {
        out.push_str(&format!(
            "  snapshot   {} of {}\n",
            id.short(),
            words::moment(report.started)
        ));
    }
    let remedy = skellin_engine::remedy;
    out.push_str(&exceptions_text(report.exception_count, &report.exceptions, verbose, remedy));
    out
}

/// The exceptions as a list with its total; the first few unless all are wanted.
pub(super) fn exceptions_text(
    count: u64,
    exceptions: &[skellin_engine::Exception],
    all: bool,
    remedy: fn(skellin_engine::CauseKind) -> &'static str,
) -> String {
    if count == 0 {
        return String::new();
    }
    let shown = if all { exceptions.len() } else { exceptions.len().min(10) };
    let mut out = format!("  {}:\n", words::counted(count, "exception", "exceptions"));
    for exception in &exceptions[..shown] {
        out.push_str(&format!("    {}: {}\n", words::path(&exception.path), exception.cause.words));
    }
    let mut remedies: Vec<&str> =
        exceptions[..shown].iter().map(|exception| remedy(exception.cause.kind)).collect();
    remedies.sort_unstable();
    remedies.dedup();
    remedies.iter().for_each(|remedy| out.push_str(&format!("    → {remedy}\n")));
    if count > shown as u64 {
        out.push_str(&format!(
            "    and {} more; -v or --json lists up to 1000\n",
            words::count(count - shown as u64)
        ));
    }
    out
}
