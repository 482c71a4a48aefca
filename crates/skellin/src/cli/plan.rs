//! `plan`: the plans, and what is wrong with them.

use clap::Subcommand;
use serde_json::{Value, json};
use skellin_engine::{Configuration, Journal, PlanFile};
use skellin_plan::{Action, Problem};

use super::{context::Context, error::CliError, output};
use crate::{exit::Exit, words};

/// So many of the next moments of a schedule are told.
const MOMENTS: usize = 5;

#[derive(Subcommand)]
pub(super) enum PlanCommand {
    /// List all plans
    #[command(visible_alias = "ls")]
    List,
    /// Show a plan as it is understood
    #[command(after_help = "Example: skellin plan show readings")]
    Show {
        /// The plan
        plan: String,
    },
    /// List every mistake in plans and stores, with line and correction
    #[command(after_help = "Examples:\n  skellin plan check\n  skellin plan check readings --json")]
    Check {
        /// Only these plans
        plans: Vec<String>,
    },
    /// Rename a plan; its history stays with it
    #[command(
        after_help = "Example: skellin plan rename readings gauges\n\nIts snapshots stay in the store under the old name, which the plan keeps as series = \"readings\"."
    )]
    Rename {
        /// The plan
        plan: String,
        /// Its new name
        name: String,
    },
    /// Draft a plan, review it, and save it
    New(super::plan_new::NewArgs),
}

pub(super) fn plan(context: &Context, command: PlanCommand) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    match command {
        PlanCommand::List => Ok(list(context, &configuration)),
        PlanCommand::Show { plan } => show(context, &configuration, &plan),
        PlanCommand::Check { plans } => check(context, &configuration, &plans),
        PlanCommand::Rename { plan, name } => rename(context, &configuration, &plan, &name),
        PlanCommand::New(args) => super::plan_new::new(context, &configuration, &args),
    }
}

fn rename(
    context: &Context,
    configuration: &Configuration,
    from: &str,
    to: &str,
) -> Result<Exit, CliError> {
    let journal = context.journal();
    let file = skellin_engine::rename_plan(configuration, journal.as_ref(), from, to)?;
    // What starts it was made for the old name.
    let renamed = context.configuration()?;
    let is_installed =
        crate::machine::timer_setting(&renamed).is_ok_and(|setting| !setting.findings().is_empty());
    context.print(
        || json!({"plan": to, "file": file.display().to_string(), "timers-differ": is_installed}),
        || {
            let next = match is_installed {
                true => "  → skellin timers install updates the timers\n",
                false => "",
            };
            format!("Renamed to {to}: {}\n{next}", file.display())
        },
    );
    Ok(Exit::Done)
}

fn list(context: &Context, configuration: &Configuration) -> Exit {
    let value = |file: &PlanFile| {
        let plan = file.plan.as_ref();
        json!({"name": file.name, "file": file.path.display().to_string(), "mistakes": file.problems.len(),
            "about": plan.and_then(|plan| plan.about.clone()), "store": plan.map(|plan| plan.store.clone())})
    };
    context.print(
        || json!({"plans": configuration.plans.iter().map(value).collect::<Vec<_>>()}),
        || {
            if configuration.plans.is_empty() {
                let folder = configuration.folders.config.join("plans");
                return format!(
                    "There are no plans yet. skellin plan new drafts one; or write {}/NAME.toml (docs/PLANS.md).\n",
                    folder.display()
                );
            }
            let rows: Vec<_> = configuration
                .plans
                .iter()
                .map(|file| match &file.plan {
                    Some(plan) => {
                        let sources: Vec<_> = plan
                            .sources
                            .iter()
                            .map(|source| source.display().to_string())
                            .collect();
                        vec![
                            file.name.clone(),
                            plan.store.clone(),
                            sources.join(" "),
                            plan.about.clone().unwrap_or_default(),
                        ]
                    }
                    None => vec![
                        file.name.clone(),
                        "–".to_owned(),
                        words::counted(file.problems.len() as u64, "mistake", "mistakes"),
                        "see skellin plan check".to_owned(),
                    ],
                })
                .collect();
            let total = words::counted(rows.len() as u64, "plan", "plans");
            format!(
                "{}{total}\n",
                output::table(&["plan", "store", "sources", "about"], &[], &rows)
            )
        },
    );
    Exit::Done
}

fn show(context: &Context, configuration: &Configuration, name: &str) -> Result<Exit, CliError> {
    let plan = context.plan(configuration, name)?;
    let machine = plan.machine.clone().unwrap_or_else(crate::machine::machine_name);
    let sources: Vec<String> =
        plan.sources.iter().map(|source| source.display().to_string()).collect();
    let schedule = plan.schedule.as_ref();
    let moments = next_moments(context, &plan);
    context.print(
        || {
            let rules: Vec<Value> = plan.rules.rules().iter().map(|rule| {
                let action = if rule.action == Action::Take { "take" } else { "skip" };
                json!({"action": action, "text": rule.text, "file": rule.file, "line": rule.line})
            }).collect();
            let moments: Vec<String> =
                moments.iter().map(|moment| words::rfc3339(*moment)).collect();
            json!({"name": plan.name, "about": plan.about, "machine": machine, "sources": sources,
                "store": plan.store, "labels": plan.labels, "rules": rules,
                "schedule": schedule.map(skellin_plan::Schedule::words), "next": moments})
        },
        || {
            let mut out = format!("plan      {}\n", plan.name);
            if let Some(about) = &plan.about {
                out.push_str(&format!("about     {about}\n"));
            }
            out.push_str(&format!(
                "machine   {machine}\nsources   {}\nstore     {}\n",
                sources.join("\n          "),
                plan.store
            ));
            if !plan.labels.is_empty() {
                out.push_str(&format!("labels    {}\n", plan.labels.join(", ")));
            }
            for pair in &plan.around {
                let on = pair.on.as_ref().map_or(String::new(), |host| format!(" on {host}"));
                for (label, words) in [("enter", &pair.enter), ("leave", &pair.leave)] {
                    if !words.is_empty() {
                        out.push_str(&format!("{label:<10}{}{on}\n", words.join(" ")));
                    }
                }
            }
            match schedule {
                None => out.push_str("runs      by hand only (no schedule)\n"),
                Some(schedule) => {
                    let zone = plan.zone.as_ref().and_then(|zone| zone.iana_name());
                    let zone = zone.map_or(String::new(), |zone| format!(", in {zone}"));
                    out.push_str(&format!("runs      {}{zone}\n", schedule.words()));
                    for moment in &moments {
                        out.push_str(&format!("          {}\n", words::moment(*moment)));
                    }
                }
            }
            out.push_str(
                "rules     the last matching rule decides; without one a path is included\n",
            );
            let mut file = "";
            for rule in plan.rules.rules() {
                if rule.file != file {
                    file = &rule.file;
                    out.push_str(&format!("  {file}\n"));
                }
                out.push_str(&format!("  {:>4}    {}\n", rule.line, rule.text));
            }
            out
        },
    );
    Ok(Exit::Done)
}

/// The next moments of a plan's schedule, in milliseconds since 1970.
fn next_moments(context: &Context, plan: &skellin_plan::Plan) -> Vec<i64> {
    let Some(schedule) = &plan.schedule else { return Vec::new() };
    let runs = Journal::open(&context.folders.state)
        .ok()
        .and_then(|journal| journal.runs(&plan.name, 50).ok());
    let good = runs.and_then(|runs| runs.into_iter().find(|run| run.snapshot.is_some()));
    let moment = |time: i64| jiff::Timestamp::from_millisecond(time).ok();
    let mut last = good.and_then(|good| moment(good.started));
    let zone = plan.zone.clone().unwrap_or_else(words::zone);
    let mut from = jiff::Timestamp::now();
    let mut found = Vec::new();
    for _ in 0..MOMENTS {
        from = schedule.next(from, last, &zone);
        // An interval counts from the run before, which is the one just found.
        last = Some(from);
        found.push(from.as_millisecond());
    }
    found
}

fn check(
    context: &Context,
    configuration: &Configuration,
    only: &[String],
) -> Result<Exit, CliError> {
    let mut files = Vec::new();
    for name in only {
        files.push(configuration.plan_file(name)?);
    }
    if only.is_empty() {
        files.extend(&configuration.plans);
    }
    let plans = files.iter().flat_map(|file| &file.problems);
    let problems: Vec<&Problem> = configuration
        .stores
        .problems
        .iter()
        .chain(&configuration.host_problems)
        .chain(&configuration.channels.problems)
        .chain(plans)
        .collect();
    let notes: Vec<String> = files
        .iter()
        .filter_map(|file| file.plan.as_ref())
        .flat_map(|plan| {
            let idle = idle_rules(configuration, plan);
            let often = plan.schedule.as_ref().and_then(skellin_plan::Schedule::warning);
            let often = often.map(|words| format!("{}: {words}", plan.name));
            overlaps(configuration, plan)
                .into_iter()
                .chain(rule_notes(plan))
                .chain(idle)
                .chain(often)
        })
        .collect();
    context.print(
        || {
            let value = |problem: &&Problem| {
                json!({"file": problem.file, "line": problem.line, "column": problem.column,
                "message": problem.message, "hint": problem.hint})
            };
            json!({"problems": problems.iter().map(value).collect::<Vec<_>>(), "notes": notes})
        },
        || {
            let mut out: String = problems.iter().map(|problem| format!("{problem}\n")).collect();
            notes.iter().for_each(|note| out.push_str(&format!("note: {note}\n")));
            let plans = words::counted(files.len() as u64, "plan", "plans");
            let stores = words::counted(configuration.stores.names.len() as u64, "store", "stores");
            out.push_str(&match problems.len() {
                0 => format!("{plans} and {stores}: no mistakes\n"),
                many => format!(
                    "{plans} and {stores}: {}\n",
                    words::counted(many as u64, "mistake", "mistakes")
                ),
            });
            out
        },
    );
    Ok(if problems.is_empty() { Exit::Done } else { Exit::Usage })
}

/// A word about rules that can never decide, or fit nothing.
fn rule_notes(plan: &skellin_plan::Plan) -> Vec<String> {
    let notes = plan.rules.notes(&plan.rule_paths()).into_iter().filter_map(|note| {
        let rule = plan.rules.rules().get(note.rule)?;
        // Ready rules are for every machine; that one of them fits nothing here is no matter.
        let is_ready = rule.file.starts_with("builtin:");
        let text = format!("{}:{}: `{}`: {}", rule.file, rule.line, rule.text, note.message);
        (!is_ready).then_some(text)
    });
    notes.collect()
}

/// A word about rules that the last run had no use for. Those that are certain never to decide are
/// told of elsewhere.
fn idle_rules(configuration: &Configuration, plan: &skellin_plan::Plan) -> Vec<String> {
    let state = &configuration.folders.state;
    let Some((when, rules)) = skellin_engine::rules_of_last_run(state, &plan.name) else {
        return Vec::new();
    };
    let noted: Vec<usize> =
        plan.rules.notes(&plan.rule_paths()).into_iter().map(|note| note.rule).collect();
    let numbered = plan.rules.rules().iter().enumerate();
    let idle = numbered.filter(|(number, rule)| {
        !rule.file.starts_with("builtin:")
            && !noted.contains(number)
            && rules.iter().any(|(text, _)| *text == rule.text)
            && rules.iter().all(|(text, decided)| *text != rule.text || *decided == 0)
    });
    idle.map(|(_, rule)| {
        format!(
            "{}:{}: `{}`: it matched no path in the last run ({})",
            rule.file,
            rule.line,
            rule.text,
            words::moment(when)
        )
    })
    .collect()
}

/// A word about a store inside a source, or a source inside a store: both are kept out of runs.
fn overlaps(configuration: &Configuration, plan: &skellin_plan::Plan) -> Vec<String> {
    let mut notes = Vec::new();
    for store in configuration.stores.fine.values() {
        let Some(place) = skellin_engine::local_directory(store, &configuration.folders) else {
            continue;
        };
        for source in &plan.sources {
            let (inside, around) = (source.display(), place.display());
            if place.starts_with(source) && place != *source {
                notes.push(format!(
                    "{}: store {} is inside source {inside}; runs exclude it",
                    plan.name, store.name
                ));
            } else if source.starts_with(&place) {
                notes.push(format!(
                    "{}: source {inside} is inside the store at {around}; runs exclude it",
                    plan.name
                ));
            }
        }
    }
    notes
}
