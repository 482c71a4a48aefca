//! `due`: what is due or was missed, and running it.

use clap::Args;
use serde_json::json;
use skellin_engine::DuePlan;
use skellin_plan::Why;

use super::{
    context::Context,
    error::CliError,
    output,
    run::{RunArgs, run_each},
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin due\n  skellin due --run --quiet      # as a line of cron: */10 * * * *\n\nA plan is due when its moment has come and no run has started since; what was missed while the\nmachine was off is made up. Runs by hand count. Status 0 if nothing is due."
)]
pub(super) struct DueArgs {
    /// Run what is due, one plan after the other
    #[arg(long)]
    run: bool,
}

pub(super) fn due(context: &Context, args: &DueArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let journal = context.journal();
    let machine = crate::machine::machine_name();
    let now = jiff::Timestamp::now().as_millisecond();
    let plans = skellin_engine::due(&configuration, journal.as_ref(), &machine, now)?;
    if !args.run {
        context.print(|| as_json(&plans), || as_text(&plans, now));
        return Ok(Exit::Done);
    }
    let names = plans.into_iter().filter(|plan| plan.is_due).map(|plan| plan.plan);
    run_each(context, &RunArgs::of(names.collect()))
}

fn why(why: Why) -> (&'static str, String) {
    match why {
        Why::Moment => ("moment", "by its schedule".to_owned()),
        Why::Missed => ("missed", "missed, and made up".to_owned()),
        Why::Again(number) => ("again", format!("after a run that came to nothing, try {number}")),
        Why::Boot => ("boot", "the machine has started".to_owned()),
        Why::Drive => ("drive", "a drive has appeared".to_owned()),
    }
}

fn as_json(plans: &[DuePlan]) -> serde_json::Value {
    let value = |plan: &DuePlan| {
        let next = plan.next;
        json!({"plan": plan.plan, "due": plan.is_due, "running": plan.is_running,
            "at": next.map(|next| words::rfc3339(next.at.as_millisecond())),
            "why": next.map(|next| why(next.why).0)})
    };
    json!({"plans": plans.iter().map(value).collect::<Vec<_>>()})
}

fn as_text(plans: &[DuePlan], now: i64) -> String {
    if plans.is_empty() {
        return "There are no plans yet, or all have mistakes: skellin plan check\n".to_owned();
    }
    let rows: Vec<Vec<String>> = plans
        .iter()
        .map(|plan| {
            let (when, why) = match plan.next {
                None => ("never".to_owned(), "nothing starts it: it has no schedule".to_owned()),
                Some(next) => {
                    let at = next.at.as_millisecond();
                    let when = match () {
                        () if plan.is_running => "running".to_owned(),
                        () if plan.is_due => "now".to_owned(),
                        () => format!("in {}", words::age(at - now)),
                    };
                    (when, format!("{} ({})", why(next.why).1, words::moment(at)))
                }
            };
            vec![plan.plan.clone(), when, why]
        })
        .collect();
    let due = plans.iter().filter(|plan| plan.is_due).count();
    let total = match due {
        0 => "nothing is due".to_owned(),
        due => {
            format!("{} due: skellin due --run", words::counted(due as u64, "plan is", "plans are"))
        }
    };
    format!("{}{total}\n", output::table(&["plan", "starts", "why"], &[], &rows))
}
