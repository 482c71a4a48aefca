//! `expire`: the snapshots of a plan that nothing retains.

use std::{io::IsTerminal as _, sync::Arc};

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{
    ExpireReport, Held, Orchestrator,
    expire::{Appraisal, Fate},
};
use skellin_plan::Plan;
use skellin_store::Store;

use super::{context::Context, error::CliError, output};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin expire readings --dry-run\n  skellin expire readings\n  skellin expire readings --store offshore\n\nWhat stays is said by `retain` in the plan; the newest snapshot always stays. Pin others with\nskellin history --pin ID. The room comes back with skellin reclaim STORE."
)]
pub(super) struct ExpireArgs {
    /// The plan
    plan: String,
    /// Say what would expire, and why; change nothing
    #[arg(long)]
    dry_run: bool,
    /// Accept that many snapshots go at once
    #[arg(long)]
    agree: bool,
    /// Only in this store; otherwise in the plan's store and in those it is copied to
    #[arg(long, value_name = "NAME")]
    store: Option<String>,
}

/// What came of it in one store.
type InStore = (String, Result<ExpireReport, CliError>);

pub(super) fn expire(context: &Context, args: &ExpireArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let plan = context.plan(&configuration, &args.plan)?;
    let stores: Vec<String> = match &args.store {
        Some(store) => {
            configuration.store(store)?;
            vec![store.clone()]
        }
        None => {
            std::iter::once(plan.store.as_str()).chain(plan.replicas()).map(str::to_owned).collect()
        }
    };
    context.catch_signals();
    let journal = context.journal();
    let machine = crate::machine::machine_name();
    let orchestrator = context.orchestrator(&configuration, journal.as_ref(), &machine);
    let mut done: Vec<InStore> = Vec::new();
    for name in stores {
        let open = || context.open_store(&configuration, &name, !args.dry_run);
        let report = in_store(context, &orchestrator, (&plan, &name), args, open);
        if !context.global.json && !context.global.quiet {
            match &report {
                Ok(report) => output::text(&as_text(&plan, &name, report, args.dry_run)),
                Err(error) => error.report(),
            }
        }
        done.push((name, report));
        if context.cancel.is_cancelled() {
            break;
        }
    }
    finish(context, &plan, args, done)
}

fn in_store(
    context: &Context,
    orchestrator: &Orchestrator<'_>,
    (plan, name): (&Plan, &str),
    args: &ExpireArgs,
    open: impl FnOnce() -> Result<Arc<Store>, CliError>,
) -> Result<ExpireReport, CliError> {
    if args.dry_run {
        let opened = [(name.to_owned(), open()?)];
        return context.attending(&opened, || {
            Ok(orchestrator.dry_run_expiry(plan, (name, &opened[0].1), false)?)
        });
    }
    let agree = |appraisal: &Appraisal, held: Option<Held>| {
        args.agree || ask(context, (plan, name), appraisal, held)
    };
    orchestrator.expire(plan, name, false, &agree, open)
}

/// Asks on the terminal, if there is one; whoever calls it from a script has been asked by what they
/// wrote, but for what they can hardly have meant.
fn ask(
    context: &Context,
    (plan, store): (&Plan, &str),
    appraisal: &Appraisal,
    held: Option<Held>,
) -> bool {
    if context.global.json || context.global.quiet || !std::io::stdin().is_terminal() {
        return held.is_none();
    }
    let going: Vec<&Fate> = appraisal.going().collect();
    for fate in &going {
        output::line(line(appraisal, fate));
    }
    let count = words::counted(going.len() as u64, "snapshot", "snapshots");
    let asked =
        output::agreed(&format!("Expire these {count} of {} in {store}? [y/N] ", plan.name));
    if !asked.unwrap_or(false) {
        return false;
    }
    let Some(held) = held else { return true };
    let named = match held {
        Held::Changed => appraisal.changed(),
        Held::Shrunk | Held::MostAtOnce => going,
    };
    output::line(format!("▲ {}:", held.words()));
    for fate in named {
        output::line(format!("  {}", words::moment(fate.snapshot.started)));
    }
    output::agreed("They cannot be brought back. Expire them? [y/N] ").unwrap_or(false)
}

fn finish(
    context: &Context,
    plan: &Plan,
    args: &ExpireArgs,
    done: Vec<InStore>,
) -> Result<Exit, CliError> {
    let mut exit = Exit::Done;
    if context.global.json {
        context.json(as_json(plan, args, &done));
    }
    for (name, report) in done {
        match report {
            Ok(ExpireReport { is_done: false, held, .. }) if !args.dry_run => {
                if exit == Exit::Done {
                    exit = Exit::Guarded;
                }
                if let (Some(held), false) = (held, context.global.json) {
                    let what = format!("nothing expired in {name}: {}", held.words());
                    CliError::guarded(what, "look at --dry-run, then add --agree").report();
                }
            }
            Ok(_) => {}
            Err(error) => exit = error.exit,
        }
    }
    Ok(exit)
}

fn as_json(plan: &Plan, args: &ExpireArgs, done: &[InStore]) -> Value {
    let (mut retained, mut expired, mut errors) = (Vec::new(), Vec::new(), Vec::new());
    let (mut not_met, mut held) = (Vec::new(), Vec::new());
    for (store, report) in done {
        match report {
            Ok(report) => {
                let appraisal = &report.appraisal;
                for fate in &appraisal.fates {
                    let because = appraisal.because(fate);
                    let id = fate.snapshot.run.to_string();
                    let time = words::rfc3339(fate.snapshot.started);
                    match fate.decision.stays() {
                        true => retained.push(json!({"snapshot": id, "store": store, "time": time, "because": because})),
                        false => expired.push(json!({"snapshot": id, "store": store, "time": time, "because": because.join("; ")})),
                    }
                }
                not_met.extend(
                    appraisal
                        .unmet_goals()
                        .into_iter()
                        .map(|goal| json!({"store": store, "goal": goal})),
                );
                held.extend(
                    report.held.map(|held| json!({"store": store, "because": held.words()})),
                );
            }
            Err(error) => errors.push(json!({"store": store, "error": error.as_json()["error"]})),
        }
    }
    let is_done = done.iter().all(|(_, report)| report.as_ref().is_ok_and(|report| report.is_done));
    let status = match (errors.is_empty(), is_done || args.dry_run) {
        (false, _) => "failed",
        (true, true) => "done",
        (true, false) => "guarded",
    };
    json!({"plan": plan.name, "status": status, "dry-run": args.dry_run, "retained": retained, "expired": expired,
        "unmet-goals": not_met, "guard": held, "errors": errors})
}

fn line(appraisal: &Appraisal, fate: &Fate) -> String {
    let sign = if fate.decision.stays() { "stays" } else { "goes " };
    format!(
        "  {sign}  {}  {}  {}",
        words::moment(fate.snapshot.started),
        fate.snapshot.run.short(),
        appraisal.because(fate).join("; ")
    )
}

fn as_text(plan: &Plan, store: &str, report: &ExpireReport, dry_run: bool) -> String {
    let appraisal = &report.appraisal;
    let going = appraisal.going().count();
    let all = appraisal.fates.len();
    let mut out = String::new();
    if dry_run {
        for fate in &appraisal.fates {
            out.push_str(&format!("{}\n", line(appraisal, fate)));
        }
    }
    let stay = words::counted((all - going) as u64, "snapshot stays", "snapshots stay");
    let go = words::count(going as u64);
    out.push_str(&match (going, dry_run, report.is_done) {
        (0, ..) => format!("{} in {store}: {stay}, none expires\n", plan.name),
        (_, true, _) => {
            format!("{} in {store}: {stay}, {go} would expire; nothing was changed\n", plan.name)
        }
        (_, false, true) => format!(
            "{} in {store}: {stay}, {go} expired\n  → skellin reclaim {store} frees the room\n",
            plan.name
        ),
        (_, false, false) => format!("{} in {store}: nothing expired\n", plan.name),
    });
    for goal in appraisal.unmet_goals() {
        out.push_str(&format!("  ▲ `{goal}` cannot be met: other sentences retain what is left\n"));
    }
    if let (Some(held), true) = (report.held, dry_run) {
        out.push_str(&format!("  ▲ {}: it will be asked for once more\n", held.words()));
    }
    out
}

/// What came of expiring after a run, in words.
pub(super) fn after_run(plan: &Plan, store: &str, report: &ExpireReport) -> Option<String> {
    let gone = report.appraisal.going().count();
    match (report.held, gone) {
        (Some(held), _) => Some(format!(
            "  ▲ nothing expired in {store}: {}\n    → skellin expire {} shows them, and asks\n",
            held.words(),
            plan.name
        )),
        (None, 0) => None,
        (None, gone) => {
            let gone = words::counted(gone as u64, "snapshot", "snapshots");
            Some(format!("  expired    {gone} in {store}\n"))
        }
    }
}
