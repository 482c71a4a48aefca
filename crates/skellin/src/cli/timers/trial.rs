//! `timers try`: whether what is installed starts a plan.

use std::time::{Duration, Instant};

use serde_json::json;
use skellin_engine::{
    Journal, JournalEntry, Outcome, StewardLock,
    timers::{self, Setting, UnitState},
    unwish, wish,
};

use super::{
    Target, TryArgs,
    managers::{read_crontab, systemctl},
};
use crate::{
    cli::{context::Context, error::CliError},
    exit::Exit,
};

/// So long somebody may take to start a plan that is asked for: a minute, and a bit.
const PATIENCE: Duration = Duration::from_secs(75);
/// How often the journal is looked at.
const TICK: Duration = Duration::from_millis(250);

/// Has a plan started by what is installed, and says how it went.
pub(super) fn try_plan(
    context: &Context,
    setting: &Setting<'_>,
    args: &TryArgs,
) -> Result<Exit, CliError> {
    let plan = context.plan(setting.configuration, &args.plan)?;
    // Whether it runs is seen there.
    let journal = context.open_journal()?;
    let state = &context.folders.state;
    let target = args.place.target(setting);
    if !args.wait && !StewardLock::is_taken(state) && !has_starter(target.as_ref().ok())? {
        return Err(CliError::failed(
            format!("nothing is installed to start {}", plan.name),
            Some(
                "skellin timers install; if something of your own calls skellin due --run: --wait"
                    .to_owned(),
            ),
        ));
    }
    context.catch_signals();
    let asked = jiff::Timestamp::now().as_millisecond();
    wish(state, &plan.name)?;
    if let Ok(Target::Units { is_live: true, .. }) = target {
        // Whichever of the two is installed.
        let _ = systemctl(setting, &["start", "--no-block", "skellin-look.service"]);
    }
    context.progress.say(&format!("{}: requested, should start within a minute", plan.name));
    let (begun, mut started) = (Instant::now(), None::<JournalEntry>);
    loop {
        let newest = newest_run(&journal, &plan.name, asked)?;
        match (&newest, started.is_some()) {
            (Some(entry), _) if entry.outcome != Outcome::Running => {
                return Ok(report(context, &plan.name, entry));
            }
            (Some(entry), false) => {
                context.progress.say(&format!("{}: running", plan.name));
                started = Some(entry.clone());
            }
            (None, _) if begun.elapsed() > PATIENCE => {
                unwish(state, &plan.name);
                return Err(CliError::failed(
                    format!("nothing started {} within {} s", plan.name, PATIENCE.as_secs()),
                    Some(
                        "skellin timers show lists what is installed and whether it runs"
                            .to_owned(),
                    ),
                ));
            }
            _ => {}
        }
        if context.cancel.is_cancelled() {
            unwish(state, &plan.name);
            return Ok(Exit::Signal(crate::cli::signals::caught().unwrap_or(2)));
        }
        std::thread::park_timeout(TICK);
    }
}

/// Whether anything of ours is installed there, or a line of the user's own that looks.
fn has_starter(target: Option<&Target>) -> Result<bool, CliError> {
    match target {
        None => Ok(false),
        Some(Target::Units { folder, .. }) => {
            let states = timers::compare(&[], folder)?;
            Ok(states.values().any(|state| *state != UnitState::Missing))
        }
        Some(Target::Crontab(file)) => Ok(timers::looks_for_due(&read_crontab(file.as_deref())?)),
    }
}

/// The newest run of a plan that began after it was asked for.
fn newest_run(journal: &Journal, plan: &str, asked: i64) -> Result<Option<JournalEntry>, CliError> {
    let newest = journal.runs(plan, 1)?.pop();
    Ok(newest.filter(|entry| entry.started >= asked))
}

fn report(context: &Context, plan: &str, entry: &JournalEntry) -> Exit {
    context.print(
        || json!({"plan": plan, "run": entry.id, "status": entry.outcome.word(), "message": entry.words}),
        || {
            let said = entry.words.as_ref().map_or(String::new(), |words| format!(": {words}"));
            format!(
                "{plan}: {}{said}\nskellin journal --run {} lists its steps\n",
                entry.outcome.word(),
                entry.id
            )
        },
    );
    match entry.outcome {
        Outcome::Done => Exit::Done,
        Outcome::Exceptions => Exit::Exceptions,
        Outcome::Guarded => Exit::Guarded,
        _ => Exit::Failed,
    }
}
