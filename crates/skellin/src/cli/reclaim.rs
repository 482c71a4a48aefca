//! `reclaim`: the room of what no snapshot needs.

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{Event, EventSink as _, Progress, ReclaimLimits};
use skellin_plan::parse_size;
use skellin_store::{ReclaimProgress, ReclaimReport, ReclaimWatch};

use super::{context::Context, error::CliError, signals};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin reclaim oak --dry-run\n  skellin reclaim oak\n  skellin reclaim offshore --most '2 GiB'\n\nRuns, restores and verifications may go on meanwhile, on other machines too. It may be stopped at\nany moment; the next one goes on from there."
)]
pub(super) struct ReclaimArgs {
    /// The store
    store: String,
    /// Say what would come back; change nothing
    #[arg(long)]
    dry_run: bool,
    /// How much of the store may stay waste
    #[arg(long, default_value = "10%", value_parser = percent, value_name = "PERCENT")]
    waste: u8,
    /// Store at most so much anew this time
    #[arg(long, value_parser = parse_size, value_name = "SIZE")]
    most: Option<u64>,
    /// Started by the steward, which has this number of a process
    #[arg(long, value_name = "PROCESS", hide = true)]
    steward: Option<u32>,
}

impl ReclaimArgs {
    /// As a store's own clock wants it.
    pub fn of(store: String) -> Self {
        Self { store, dry_run: false, waste: 10, most: None, steward: None }
    }
}

fn percent(text: &str) -> Result<u8, String> {
    let number = text.trim().trim_end_matches('%').trim().parse::<u8>().ok();
    let number = number.filter(|percent| *percent < 100);
    number.ok_or_else(|| "use a percentage from 0% to 99%".to_owned())
}

pub(super) struct Watch<'a>(pub &'a Context);

impl ReclaimWatch for Watch<'_> {
    fn is_cancelled(&self) -> bool {
        self.0.cancel.is_cancelled()
    }

    fn progress(&self, progress: ReclaimProgress) {
        let ReclaimProgress { stage, done, all } = progress;
        let path = match stage {
            "look" => "what snapshots need",
            "store" => "storing anew what is needed",
            "wait" => "waiting for open runs to answer",
            _ => "deleting",
        };
        let (is_bytes, path) = (stage == "store", path.as_bytes().to_vec());
        self.0.progress.event(Event::Progress(match is_bytes {
            true => Progress {
                bytes: done,
                read: done,
                total_bytes: Some(all),
                path,
                ..Progress::default()
            },
            false => Progress { files: done, total_files: Some(all), path, ..Progress::default() },
        }));
    }
}

pub(super) fn reclaim(context: &Context, args: &ReclaimArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let lock = configuration.store(&args.store)?.access.objects.lock;
    context.catch_signals();
    if let Some(steward) = args.steward {
        signals::end_with(steward);
        skellin_engine::step_back();
    }
    let journal = if args.dry_run { None } else { context.journal() };
    let machine = crate::machine::machine_name();
    let orchestrator = context.orchestrator(&configuration, journal.as_ref(), &machine);
    let limits = ReclaimLimits { waste: args.waste, most: args.most.unwrap_or(u64::MAX) };
    let open = || context.open_store(&configuration, &args.store, !args.dry_run);
    let report = match args.dry_run {
        true => orchestrator.dry_run_reclaim(&*open()?, limits, &Watch(context))?,
        false => orchestrator.reclaim(
            &args.store,
            (limits, args.steward.is_some()),
            &Watch(context),
            open,
        )?,
    };
    context.progress.event(Event::Ended);
    context.print(|| as_json(args, &report), || as_text(args, &report, lock));
    Ok(if report.unreadable.is_empty() { Exit::Done } else { Exit::Damage })
}

fn as_json(args: &ReclaimArgs, report: &ReclaimReport) -> Value {
    let damage = report.unreadable.iter();
    let damage = damage.map(|(object, why)| json!({"container": object, "reason": why}));
    json!({"store": args.store, "status": "done", "dry-run": args.dry_run, "snapshots": report.snapshots,
        "containers": {"before": report.containers, "deleted": report.deleted, "moved": report.moved, "spared": report.spared},
        "bytes": {"before": report.bytes, "waste": report.waste, "freed": report.freed, "needed": report.needed, "read": report.read, "stored": report.stored},
        "revoked-runs": report.revoked, "limited": report.is_limited, "damage": damage.collect::<Vec<_>>()})
}

/// `lock`: for so many seconds the place lets nobody do away with an object.
fn as_text(args: &ReclaimArgs, report: &ReclaimReport, lock: Option<u64>) -> String {
    let percent = report.waste * 100 / report.bytes.max(1);
    let mut out = format!(
        "{}: {} in {}, {} of them ({percent}%) needed by no snapshot\n",
        args.store,
        words::bytes(report.bytes),
        words::counted(report.containers, "container", "containers"),
        words::bytes(report.waste)
    );
    let back = words::bytes(report.freed.saturating_sub(report.stored));
    let verb = if args.dry_run { "would come back" } else { "came back" };
    out.push_str(&match report.deleted {
        0 => "  nothing to reclaim\n".to_owned(),
        deleted => {
            let deleted = words::counted(deleted, "container", "containers");
            let moved = match report.moved {
                0 => String::new(),
                _ => format!(
                    ", of which {} were still needed ({} read, {} stored anew)",
                    words::bytes(report.needed),
                    words::bytes(report.read),
                    words::bytes(report.stored)
                ),
            };
            format!("  {back} {verb}: {deleted} deleted{moved}\n")
        }
    });
    if let Some(lock) = lock.filter(|_| report.deleted > 0) {
        let locked = words::span(i64::try_from(lock.saturating_mul(1000)).unwrap_or(i64::MAX));
        out.push_str(&format!(
            "  the place keeps each object locked for {locked}: deleted ones cost until then\n"
        ));
    }
    if report.spared > 0 {
        let spared = words::counted(report.spared, "container stays", "containers stay");
        out.push_str(&format!("  {spared} for now: open runs still use them\n"));
    }
    if report.revoked > 0 {
        let runs = words::counted(report.revoked, "open run", "open runs");
        out.push_str(&format!("  {runs} did not answer, and will check again before finishing\n"));
    }
    if report.is_limited {
        out.push_str("  more can come back: run it again, or raise --most\n");
    }
    for (object, why) in &report.unreadable {
        out.push_str(&format!("  ▲ {object} stays: {why}\n"));
    }
    if !report.unreadable.is_empty() {
        out.push_str(&format!("    → skellin verify {} lists the files\n", args.store));
    }
    out
}
