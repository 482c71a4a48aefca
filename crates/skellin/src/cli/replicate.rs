//! `replicate`: snapshots copied to another store.

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::ReplicateReport;

use super::{context::Context, error::CliError, signals};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin replicate oak offshore\n  skellin replicate oak offshore --plan readings\n\nOnly missing data is copied, and verified on the way. An interrupted copy continues where it was."
)]
pub(super) struct ReplicateArgs {
    /// The store to copy from
    from: String,
    /// The store to copy to
    to: String,
    /// Only snapshots of this plan
    #[arg(long, value_name = "PLAN")]
    plan: Option<String>,
}

pub(super) fn replicate(context: &Context, args: &ReplicateArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    // Both names are looked at before anybody types a passphrase.
    configuration.store(&args.from)?;
    configuration.store(&args.to)?;
    let from = context.open_store(&configuration, &args.from, true)?;
    context.catch_signals();
    let journal = context.journal();
    let machine = crate::machine::machine_name();
    let orchestrator = context.orchestrator(&configuration, journal.as_ref(), &machine);
    let open = || context.open_store(&configuration, &args.to, true);
    let report = orchestrator.replicate(
        &from,
        &args.to,
        args.plan.as_deref().map(|plan| context.series(plan)).as_deref(),
        open,
    )?;
    context.print(|| as_json(&args.to, &report), || as_text(&args.from, &args.to, &report));
    Ok(exit(&report))
}

pub(super) fn exit(report: &ReplicateReport) -> Exit {
    match (report.interrupted, report.damaged.is_empty()) {
        (true, _) => Exit::Signal(signals::caught().unwrap_or(2)),
        (false, false) => Exit::Damage,
        (false, true) => Exit::Done,
    }
}

fn as_json(to: &str, report: &ReplicateReport) -> Value {
    let damaged = report.damaged.iter().map(|damaged| {
        json!({"snapshot": damaged.id.to_string(), "time": words::rfc3339(damaged.started), "reason": damaged.reason})
    });
    let status = match (report.interrupted, report.damaged.is_empty()) {
        (true, _) => "interrupted",
        (false, true) => "done",
        (false, false) => "failed",
    };
    json!({"store": to, "status": status, "copied": report.copied, "present": report.present,
        "bytes": {"read": report.read, "new": report.new, "stored": report.stored},
        "damage": damaged.collect::<Vec<_>>()})
}

pub(super) fn as_text(from: &str, to: &str, report: &ReplicateReport) -> String {
    let copied = words::counted(report.copied, "snapshot", "snapshots");
    let ended = if report.interrupted { "interrupted, " } else { "" };
    let mut out = format!(
        "{from} → {to}: {ended}{copied} copied, {} already there\n  bytes      {} read · {} new · {} stored\n",
        words::count(report.present),
        words::bytes(report.read),
        words::bytes(report.new),
        words::bytes(report.stored)
    );
    for damaged in &report.damaged {
        out.push_str(&format!(
            "  ▲ not copied: snapshot {} of {}: {}\n",
            damaged.id.short(),
            words::moment(damaged.started),
            damaged.reason
        ));
    }
    if !report.damaged.is_empty() {
        out.push_str(&format!("    → skellin verify {from} lists the affected files\n"));
    }
    out
}
