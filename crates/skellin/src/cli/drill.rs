//! `drill`: a restore into scratch, compared with what was backed up.

use std::{path::PathBuf, sync::Arc, time::Instant};

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{
    Configuration, DrillOptions, EngineError,
    drill::{DrillReport, SAMPLE, Share, newest},
    open_place, read_secret, remedy,
};
use skellin_plan::SecretSource;
use skellin_store::{Cache, Store};

use super::{
    context::Context,
    error::CliError,
    output::{exception_json, json_path},
    post,
    run::exceptions_text,
    signals,
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin drill readings\n  skellin drill readings --sample all --scratch /mnt/spare\n  skellin drill readings --lost-machine\n\nIt restores files of the newest snapshot into a directory of its own, compares them with what was backed\nup and, where they did not change since, with the live files, measures, and removes them again. A sample\nprefers what changed lately and what no drill has restored yet. Exit status 3: something did not match."
)]
pub(super) struct DrillArgs {
    /// The plan
    plan: String,
    /// How many files, or all
    #[arg(long, default_value_t = Sample(Share::Files(SAMPLE)), value_parser = sample, value_name = "N|all")]
    sample: Sample,
    /// Restore below this directory instead of the cache
    #[arg(long, value_name = "DIR")]
    scratch: Option<PathBuf>,
    /// Drill the copy in this store
    #[arg(long, value_name = "STORE")]
    store: Option<String>,
    /// Open the store as on a new machine: ask for the passphrase, use no cache
    #[arg(long)]
    lost_machine: bool,
    /// Read the passphrase for --lost-machine from this file
    #[arg(long, value_name = "FILE", requires = "lost_machine")]
    passphrase_file: Option<PathBuf>,
    /// Started by the steward, which has this number of a process
    #[arg(long, value_name = "PROCESS", hide = true)]
    steward: Option<u32>,
}

impl DrillArgs {
    /// A sample of a plan, as its schedule wants it.
    pub fn of(plan: String) -> Self {
        Self {
            plan,
            sample: Sample(Share::Files(SAMPLE)),
            scratch: None,
            store: None,
            lost_machine: false,
            passphrase_file: None,
            steward: None,
        }
    }
}

/// How much is restored, as it is written.
#[derive(Clone, Copy)]
struct Sample(Share);

impl std::fmt::Display for Sample {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.0 {
            Share::All => f.write_str("all"),
            Share::Files(files) => write!(f, "{files}"),
        }
    }
}

fn sample(text: &str) -> Result<Sample, String> {
    match (text, text.parse()) {
        ("all", _) => Ok(Sample(Share::All)),
        (_, Ok(files @ 1..=1_000_000)) => Ok(Sample(Share::Files(files))),
        _ => Err("use a number of files from 1 to 1000000, or all".to_owned()),
    }
}

pub(super) fn drill(context: &Context, args: &DrillArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let plan = context.plan(&configuration, &args.plan)?;
    let name = args.store.as_deref().unwrap_or(&plan.store);
    if name != plan.store && !plan.replicas().any(|store| store == name) {
        let what = format!("plan {} keeps no snapshots in store {name}", plan.name);
        return Err(CliError::usage(what, "name its store, or one of its copies"));
    }
    let unattended = args.steward.is_some();
    let begun = Instant::now();
    let store = match args.lost_machine {
        true => as_lost(context, &configuration, name, args)?,
        false => context.open_store(&configuration, name, true)?,
    };
    let opened = begun.elapsed().as_secs_f64();
    context.catch_signals();
    if let Some(steward) = args.steward {
        signals::end_with(steward);
        skellin_engine::step_back();
    }
    let (own, now) = (context.own_name(Some(&plan.name)), jiff::Timestamp::now().as_millisecond());
    let (snapshot, before) = newest(&store, (plan.series(), &own), now)?;
    let journal = context.journal();
    let machine = crate::machine::machine_name();
    let orchestrator = context.orchestrator(&configuration, journal.as_ref(), &machine);
    let scratch = args.scratch.as_deref().map(std::path::absolute).transpose();
    let scratch = scratch.map_err(|error| CliError::failed(error.to_string(), None))?;
    let options = DrillOptions {
        share: args.sample.0,
        scratch: scratch.as_deref(),
        before,
        as_lost: args.lost_machine,
        unattended,
    };
    let report = orchestrator.drill(&plan.name, (name, &*store), &snapshot, options)?;
    post::carry(context, &configuration, journal.as_ref());
    let opened = args.lost_machine.then_some(opened);
    context.print(
        || as_json(&plan.name, name, &report, opened),
        || as_text(context, &plan.name, name, &report, opened),
    );
    Ok(match (report.interrupted, report.wrong_count) {
        (true, _) => signals::caught().map_or(Exit::Failed, Exit::Signal),
        (false, 0) => Exit::Done,
        (false, _) => Exit::Damage,
    })
}

/// Opens a store as somebody would who has lost the machine: by its place and what is typed.
fn as_lost(
    context: &Context,
    configuration: &Configuration,
    name: &str,
    args: &DrillArgs,
) -> Result<Arc<Store>, CliError> {
    let place = open_place(configuration.store(name)?, &context.folders)?;
    Store::header_at(&*place)?;
    let passphrase = match &args.passphrase_file {
        Some(file) => read_secret(&SecretSource::File(file.clone()), name)?,
        None => context.ask_passphrase(&format!("Passphrase of store {name}, as you keep it"))?,
    };
    let opened = Store::open(place, &passphrase, Cache::None);
    Ok(opened.map(Arc::new).map_err(|error| EngineError::of_opening(error, name))?)
}

fn as_json(plan: &str, store: &str, report: &DrillReport, opened: Option<f64>) -> Value {
    let status = match (report.interrupted, report.wrong_count) {
        (true, _) => "interrupted",
        (false, 0) => "done",
        (false, _) => "failed",
    };
    let sample = report.sample.iter().map(|(path, _)| json_path(path));
    json!({"plan": plan, "store": store, "status": status,
        "snapshot": report.snapshot.map(|(run, _)| run.to_string()),
        "all": report.is_whole,
        "files": {"compared": report.files, "live": report.live, "all": report.of.0, "too-large": report.too_large},
        "bytes": {"compared": report.bytes, "all": report.of.1},
        "seconds": report.seconds, "full-restore-seconds": report.whole_seconds,
        "opened-as-lost-seconds": opened,
        "mismatches": report.wrong.iter().map(exception_json).collect::<Vec<_>>(),
        "mismatch-count": report.wrong_count,
        "sample": sample.collect::<Vec<_>>()})
}

fn as_text(
    context: &Context,
    plan: &str,
    store: &str,
    report: &DrillReport,
    opened: Option<f64>,
) -> String {
    let Some((run, made)) = report.snapshot.filter(|_| !report.interrupted) else {
        return format!("{plan}: interrupted; nothing was recorded as proven\n");
    };
    let mut out = format!(
        "{plan} of {} in store {store} ({}): {} of {} restored and compared, {}\n",
        words::moment(made),
        run.short(),
        words::count(report.files),
        words::counted(report.of.0, "file", "files"),
        words::bytes(report.bytes),
    );
    if let Some(opened) = opened {
        let took = words::seconds(opened);
        out.push_str(&format!(
            "the store was opened in {took} with its place and the passphrase alone, without cache\n"
        ));
    }
    if report.live > 0 {
        let live = words::counted(report.live, "file is", "files are");
        out.push_str(&format!("{live} unchanged since, and the same in the source\n"));
    }
    if report.too_large > 0 {
        let large = words::counted(report.too_large, "file is", "files are");
        out.push_str(&format!("{large} larger than 1 GiB and only drilled by --sample all\n"));
    }
    if let Some(seconds) = report.whole_seconds {
        out.push_str(&match report.is_whole {
            true => format!("the restore took {}\n", words::seconds(seconds)),
            false => format!("a full restore takes about {}\n", words::seconds(seconds)),
        });
    }
    match report.wrong_count {
        0 => out.push_str("✓ everything matched\n"),
        many => {
            let verbose = context.global.verbose;
            out.push_str(&exceptions_text(many, &report.wrong, verbose, remedy));
            let many = words::counted(many, "file does", "files do");
            out.push_str(&format!(
                "✕ {many} not match\n  → skellin verify {store} shows what is damaged\n"
            ));
        }
    }
    out
}
