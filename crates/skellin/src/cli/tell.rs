//! `tell`: trying a channel.

use clap::Args;
use serde_json::json;
use skellin_engine::send;

use super::{context::Context, error::CliError};
use crate::{exit::Exit, trial};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin tell duty-mail --test\n  skellin tell            the channels there are"
)]
pub(super) struct TellArgs {
    /// The channel, as channels.toml names it
    #[arg(requires = "test")]
    channel: Option<String>,
    /// Send a test message
    #[arg(long, requires = "channel")]
    test: bool,
}

pub(super) fn tell(context: &Context, args: &TellArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let Some(name) = &args.channel else {
        return Ok(list(context, &configuration));
    };
    let channel = configuration.channel(name)?;
    let machine = crate::machine::machine_name();
    send(channel, &trial::message(name, &machine), &machine).map_err(|why| {
        CliError::failed(
            format!("{name} not notified: {why}"),
            Some("correct channels.toml, then try again".to_owned()),
        )
    })?;
    context.print(
        || json!({"channel": name, "kind": channel.kind(), "status": "done"}),
        || format!("{name} notified: {}\n", channel.target()),
    );
    Ok(Exit::Done)
}

fn list(context: &Context, configuration: &skellin_engine::Configuration) -> Exit {
    let told_of = |name: &str| {
        let plans = configuration.plans.iter().filter_map(|file| file.plan.as_ref());
        let is_told = |plan: &&skellin_plan::Plan| {
            let tell = &plan.tell;
            let all = [&tell.failure, &tell.exceptions, &tell.success, &tell.late];
            all.iter().any(|list| list.iter().any(|told| told == name))
        };
        plans.filter(is_told).map(|plan| plan.name.clone()).collect::<Vec<_>>()
    };
    let channels = &configuration.channels;
    context.print(
        || {
            let all = channels.fine.values().map(|channel| {
                json!({"name": channel.name, "kind": channel.kind(), "target": channel.target(), "plans": told_of(&channel.name)})
            });
            json!({"channels": all.collect::<Vec<_>>()})
        },
        || {
            if channels.fine.is_empty() {
                return format!(
                    "No channels yet: describe one in {}/channels.toml\n",
                    configuration.folders.config.display()
                );
            }
            let rows: Vec<Vec<String>> = channels
                .fine
                .values()
                .map(|channel| {
                    let plans = told_of(&channel.name);
                    let plans =
                        if plans.is_empty() { "no plan yet".to_owned() } else { plans.join(", ") };
                    vec![channel.name.clone(), channel.kind().to_owned(), channel.target(), plans]
                })
                .collect();
            let total = crate::words::counted(rows.len() as u64, "channel", "channels");
            let head = ["name", "kind", "reaches", "used by"];
            format!("{}{total}; skellin tell NAME --test sends a test message\n", super::output::table(&head, &[], &rows))
        },
    );
    Exit::Done
}
