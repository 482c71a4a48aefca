//! `due`: what is due or was missed, and running it.

use std::{collections::BTreeSet, io::IsTerminal};

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{
    Configuration, DuePlan, DueStore, EngineError, Journal, Post, Watch, Work, booted, unwish,
};
use skellin_plan::Why;

use super::{
    context::Context,
    drill::{self, DrillArgs},
    error::CliError,
    output,
    reclaim::{self, ReclaimArgs},
    run::{self, RunArgs},
    signals,
    verify::{self, VerifyArgs},
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin due\n  skellin due --run --quiet      # as a cron entry: * * * * *\n\nA plan is due when its time has come and no run has started since; runs missed while the machine\nwas off are made up. Runs by hand count."
)]
pub(super) struct DueArgs {
    /// Only these plans, no stores
    plans: Vec<String>,
    /// Run what is due, one after the other, and notify of late plans
    #[arg(long)]
    run: bool,
}

fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

pub(super) fn due(context: &Context, args: &DueArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    for name in &args.plans {
        configuration.plan_file(name)?;
    }
    let journal = context.journal();
    let machine = crate::machine::machine_name();
    let watch = Watch {
        configuration: &configuration,
        journal: journal.as_ref(),
        machine: &machine,
        booted: booted(),
    };
    let wanted = |plan: &DuePlan| args.plans.is_empty() || args.plans.contains(&plan.plan);
    if args.run {
        return run_due(context, &watch, &wanted, args.plans.is_empty());
    }
    let now = now();
    let mut plans = looked(context, &watch, |watch| watch.plans(now))?;
    plans.retain(wanted);
    let stores = match args.plans.is_empty() {
        true => looked(context, &watch, |watch| watch.stores(now))?,
        false => Vec::new(),
    };
    context.print(|| as_json(&plans, &stores), || as_text(&plans, &stores, now));
    Ok(Exit::Done)
}

/// Looks at what is due; where the journal cannot be used, without it: nothing that is only a record
/// keeps a run from starting.
fn looked<T>(
    context: &Context,
    watch: &Watch<'_>,
    look: impl Fn(&Watch<'_>) -> Result<T, EngineError>,
) -> Result<T, EngineError> {
    let looked = look(watch);
    if let Some(journal) = watch.journal {
        context.say_mended(journal);
    }
    match looked {
        Err(error @ EngineError::Journal { .. }) => {
            let how = "what is due is decided by the times of the lock files";
            context.progress.say(&format!("note: {error}; {how}"));
            look(&Watch { journal: None, ..*watch })
        }
        looked => looked,
    }
}

/// Runs what is due, one after the other; one that fails keeps no other from being run. The status
/// is that of the first that was not as it should be.
fn run_due(
    context: &Context,
    watch: &Watch<'_>,
    wanted: &dyn Fn(&DuePlan) -> bool,
    all: bool,
) -> Result<Exit, CliError> {
    let (configuration, journal) = (watch.configuration, watch.journal);
    context.catch_signals();
    context.orchestrator(configuration, journal, watch.machine).make_up_for_leaves();
    looked(context, watch, |watch| watch.note_drives(now()))?;
    // By hand it says nothing of what starts the runs when nobody is there.
    if let Some(journal) = journal.filter(|_| !std::io::stdin().is_terminal()) {
        let _ = journal.note_look(now());
    }
    // Messages go out beside the work, so that none waits for the other.
    std::thread::scope(|scope| {
        let carry = || scope.spawn(|| carry(configuration, journal, watch.machine));
        let mut carrying = vec![carry()];
        let mut runs = Runs { context, reports: Vec::new(), exit: Exit::Done };
        let mut done = BTreeSet::new();
        // Each time anew: what was due a moment ago may have been run by somebody else meanwhile.
        while let Some(due) = looked(context, watch, |watch| watch.plans(now()))?
            .into_iter()
            .find(|plan| plan.is_due && wanted(plan) && !done.contains(&plan.plan))
        {
            runs.plan(configuration, journal, &due.plan);
            done.insert(due.plan);
            carrying.push(carry());
            if context.cancel.is_cancelled() {
                break;
            }
        }
        let stores = match all {
            true => looked(context, watch, |watch| watch.stores(now()))?,
            false => Vec::new(),
        };
        for store in stores.into_iter().filter(|store| store.is_due) {
            if !context.cancel.is_cancelled() {
                runs.store(store);
            }
        }
        looked(context, watch, |watch| watch.tell_late(&watch.plans(now())?, now()))?;
        carrying.push(carry());
        for post in carrying {
            for (channel, why) in post.join().unwrap_or_default() {
                context.progress.say(&format!("note: {channel} not notified yet: {why}"));
            }
        }
        for file in configuration.plans.iter().filter(|file| all && file.plan.is_none()) {
            let message = format!("plan `{}` has mistakes and does not run", file.name);
            // Whoever should know is told once a day; a line of cron would say it every minute.
            match context.global.quiet {
                true => runs.note(Ok(Exit::Usage)),
                false => {
                    let hint = "skellin plan check lists each with its line";
                    runs.note(Err(CliError::usage(message, hint)));
                }
            }
        }
        if context.global.json {
            context.json(json!({"runs": runs.reports}));
        }
        Ok(runs.exit)
    })
}

/// Sends what waits; what did not go out, and why.
fn carry(
    configuration: &Configuration,
    journal: Option<&Journal>,
    machine: &str,
) -> Vec<(String, String)> {
    let Some(journal) = journal else { return Vec::new() };
    match Post::carry(configuration, journal, machine, &now) {
        Ok(post) => post.failed,
        Err(error) => vec![("the journal".to_owned(), error.to_string())],
    }
}

/// What has been run so far.
struct Runs<'a> {
    context: &'a Context,
    reports: Vec<Value>,
    exit: Exit,
}

impl Runs<'_> {
    fn plan(&mut self, configuration: &Configuration, journal: Option<&Journal>, name: &str) {
        unwish(&self.context.folders.state, name);
        let args = RunArgs::gentle(vec![name.to_owned()]);
        let ended = self.context.plan(configuration, name).and_then(|plan| {
            let (report, exit) =
                run::one(self.context, configuration, journal, (&plan, None), &args)?;
            self.reports.push(run::as_json(&plan, &report));
            Ok(exit)
        });
        self.note(ended);
    }

    fn store(&mut self, due: DueStore) {
        let ended = match (due.work, due.plan) {
            (_, Some(plan)) => drill::drill(self.context, &DrillArgs::of(plan)),
            (Work::Reclaim, None) => reclaim::reclaim(self.context, &ReclaimArgs::of(due.store)),
            _ => verify::verify(self.context, &VerifyArgs::of(due.store)),
        };
        self.note(ended);
    }

    fn note(&mut self, ended: Result<Exit, CliError>) {
        let exit = ended.unwrap_or_else(|error| {
            error.report();
            error.exit
        });
        if self.exit == Exit::Done || matches!(exit, Exit::Signal(_)) {
            self.exit = exit;
        }
        if let Some(signal) = signals::caught() {
            self.exit = Exit::Signal(signal);
        }
    }
}

fn why(why: Why) -> (&'static str, String) {
    match why {
        Why::Moment => ("moment", "scheduled".to_owned()),
        Why::Missed => ("missed", "missed, made up now".to_owned()),
        Why::Again(number) => ("again", format!("retry {number} after a failed run")),
        Why::Boot => ("boot", "boot".to_owned()),
        Why::Drive => ("drive", "drive connected".to_owned()),
        Why::Asked => ("asked", "requested".to_owned()),
    }
}

fn as_json(plans: &[DuePlan], stores: &[DueStore]) -> Value {
    let value = |plan: &DuePlan| {
        let next = plan.next;
        json!({"plan": plan.plan, "due": plan.is_due, "running": plan.is_running,
            "at": next.map(|next| words::rfc3339(next.at.as_millisecond())),
            "why": next.map(|next| why(next.why).0),
            "late-since": plan.late.map(|late| words::rfc3339(late.as_millisecond())),
            "takes": plan.takes.as_ref().map(|takes| takes.seconds),
            "window-closes": plan.fit.map(|fit| words::rfc3339(fit.closes.as_millisecond())),
            "over": plan.fit.and_then(|fit| fit.over).map(|over| over.as_secs())})
    };
    let of_store = |store: &DueStore| {
        json!({"store": store.store, "plan": store.plan, "work": store.work.word(), "due": store.is_due,
            "at": words::rfc3339(store.next.at.as_millisecond()), "why": why(store.next.why).0})
    };
    json!({"plans": plans.iter().map(value).collect::<Vec<_>>(),
        "stores": stores.iter().map(of_store).collect::<Vec<_>>()})
}

fn when(at: i64, is_due: bool, is_running: bool, now: i64) -> String {
    match () {
        () if is_running => "running".to_owned(),
        () if is_due => "now".to_owned(),
        () => format!("in {}", words::age(at - now)),
    }
}

fn as_text(plans: &[DuePlan], stores: &[DueStore], now: i64) -> String {
    if plans.is_empty() {
        return "There are no plans yet, or all have mistakes: skellin plan check\n".to_owned();
    }
    let mut rows: Vec<Vec<String>> = plans
        .iter()
        .map(|plan| {
            let (when, reason) = match plan.next {
                None => ("never".to_owned(), "no schedule".to_owned()),
                Some(next) => {
                    let at = next.at.as_millisecond();
                    let reason = format!("{} ({})", why(next.why).1, words::moment(at));
                    (when(at, plan.is_due, plan.is_running, now), reason)
                }
            };
            vec![plan.plan.clone(), when, reason]
        })
        .collect();
    rows.extend(stores.iter().map(|store| {
        let at = store.next.at.as_millisecond();
        let what = match store.work {
            Work::Reclaim => "reclaim",
            Work::Drill => "drill",
            _ => "verification",
        };
        let reason = format!("{what}: {} ({})", why(store.next.why).1, words::moment(at));
        let of = store.plan.as_ref().unwrap_or(&store.store);
        vec![of.clone(), when(at, store.is_due, false, now), reason]
    }));
    let mut out = output::table(&["plan", "starts", "why"], &[], &rows);
    for plan in plans {
        if let Some(late) = plan.late {
            out.push_str(&format!(
                "▲ {} is late: a run was expected by {}\n",
                plan.plan,
                words::moment(late.as_millisecond())
            ));
        }
        if let Some(words) = words::no_fit(plan) {
            out.push_str(&format!("▲ {words}\n"));
        }
    }
    let due = plans.iter().filter(|plan| plan.is_due).count()
        + stores.iter().filter(|store| store.is_due).count();
    out.push_str(&match due {
        0 => "nothing is due\n".to_owned(),
        due => format!("{} due: skellin due --run\n", words::counted(due as u64, "is", "are")),
    });
    out
}
