//! `doctor`: the problems of the whole set-up.

use std::path::PathBuf;

use clap::Args;
use serde_json::json;
use skellin_engine::{Configuration, Examination, Finding, Weight, timers::Setting};

use super::{context::Context, error::CliError};
use crate::{
    exit::Exit,
    machine::{starter, timer_setting},
    words,
};

/// So many paths are looked at in search of what no plan takes.
const MOST_PATHS: u64 = 5_000_000;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin doctor\n  skellin doctor --look-in /srv --look-in /home/keeper\n\nExit status: 0 no problems, 4 problems, 2 mistakes in the configuration."
)]
pub(super) struct DoctorArgs {
    /// Look here for directories in no plan, instead of the usual places
    #[arg(long, value_name = "DIR")]
    look_in: Vec<PathBuf>,
}

pub(super) fn doctor(context: &Context, args: &DoctorArgs) -> Result<Exit, CliError> {
    let mut folders = context.folders.clone();
    if !args.look_in.is_empty() {
        folders.look_in.clone_from(&args.look_in);
    }
    let configuration = Configuration::load(folders)?;
    context.catch_signals();
    let journal = context.journal();
    let setting = timer_setting(&configuration).ok();
    let starter = setting.as_ref().map(|setting| starter(setting, journal.as_ref()));
    let examination = Examination {
        configuration: &configuration,
        journal: journal.as_ref(),
        now: jiff::Timestamp::now().as_millisecond(),
        most: MOST_PATHS,
        starter: starter.as_ref(),
        cancel: &context.cancel,
    };
    let mut found = examination.findings()?;
    found.extend(setting.iter().flat_map(Setting::findings));
    context.print(
        || {
            let value = |finding: &Finding| {
                json!({"weight": weight(finding.weight), "subject": finding.subject,
                "what": finding.what, "hint": finding.hint})
            };
            json!({"findings": found.iter().map(value).collect::<Vec<_>>()})
        },
        || as_text(&configuration, &found),
    );
    let mistaken = configuration.plans.iter().any(|file| !file.problems.is_empty())
        || !configuration.stores.problems.is_empty()
        || !configuration.host_problems.is_empty()
        || !configuration.channels.problems.is_empty();
    Ok(match found.is_empty() {
        _ if mistaken => Exit::Usage,
        true => Exit::Done,
        false => Exit::Exceptions,
    })
}

fn weight(weight: Weight) -> &'static str {
    match weight {
        Weight::Wrong => "wrong",
        Weight::Doubtful => "doubtful",
    }
}

fn as_text(configuration: &Configuration, found: &[Finding]) -> String {
    let mut out = String::new();
    for finding in found {
        let mark = match finding.weight {
            Weight::Wrong => "✕",
            Weight::Doubtful => "▲",
        };
        out.push_str(&format!("{mark} {}: {}\n", finding.subject, finding.what));
        out.push_str(&format!("  → {}\n", finding.hint));
    }
    let plans = words::counted(configuration.plans.len() as u64, "plan", "plans");
    let stores = words::counted(configuration.stores.names.len() as u64, "store", "stores");
    out.push_str(&match found.len() {
        0 => format!("✓ {plans} and {stores}: no problems\n"),
        many => format!(
            "{plans} and {stores}: {}\n",
            words::counted(many as u64, "problem", "problems")
        ),
    });
    out
}
