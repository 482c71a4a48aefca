//! The commands: parse, call one function of the engine, print.

mod compare;
mod context;
mod contrast;
#[cfg(feature = "demo")]
mod demo;
mod doctor;
mod drill;
mod due;
mod error;
mod expire;
mod explain;
mod export;
mod history;
mod journal;
mod lend;
mod listing;
mod output;
mod passphrase;
mod pins;
mod plan;
mod plan_new;
mod post;
mod prepare;
mod progress;
mod reclaim;
mod replicate;
mod restore;
mod run;
mod search;
mod sheet;
mod signals;
mod steward;
mod store;
mod tell;
mod timers;
mod verify;

use std::{path::PathBuf, process::ExitCode};

use clap::{Args, Parser, Subcommand};

use crate::{exit::Exit, words};
use context::Context;
use error::CliError;

/// Scripted file backups with dry runs, schedules and fast restores.
#[derive(Parser)]
#[command(
    name = "skellin",
    version,
    about,
    max_term_width = 100,
    after_help = "Without a command the full-screen application opens."
)]
struct Cli {
    #[command(flatten)]
    global: Global,
    #[command(subcommand)]
    command: Option<Command>,
}

/// Options every command takes.
#[derive(Args, Clone, Debug)]
struct Global {
    /// Directory with plans/ and stores.toml
    #[arg(long, global = true, value_name = "DIR")]
    config: Option<PathBuf>,
    /// One JSON document on stdout instead of text
    #[arg(long, global = true)]
    json: bool,
    /// Print errors only
    #[arg(long, short, global = true)]
    quiet: bool,
    /// Print more
    #[arg(short, global = true)]
    verbose: bool,
    /// Progress format
    #[arg(long, global = true, value_name = "FORM", value_enum)]
    progress: Option<ProgressForm>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
enum ProgressForm {
    /// JSON lines on stderr
    Json,
    /// No progress
    None,
}

/// Where a store is, apart from what the plan says.
#[derive(Args, Clone, Debug, Default)]
struct WhichStore {
    /// Use this store of stores.toml
    #[arg(long, value_name = "NAME", conflicts_with = "place")]
    store: Option<String>,
    /// Use the store at this place; needs no configuration
    #[arg(long, value_name = "PLACE")]
    place: Option<String>,
    /// Read the passphrase for --place from this file
    #[arg(long, value_name = "FILE", requires = "place")]
    passphrase_file: Option<PathBuf>,
    /// File with the access keys of --place (endpoint, credentials, identity, password …), as in stores.toml
    #[arg(long, value_name = "FILE", requires = "place")]
    access: Option<PathBuf>,
    /// Use the snapshots of this machine instead of our own
    #[arg(long, value_name = "NAME")]
    machine: Option<String>,
}

#[derive(Subcommand)]
enum Command {
    /// The plans: list, show, check, new, rename
    #[command(subcommand)]
    Plan(plan::PlanCommand),
    /// Why a path is included or excluded
    Explain(explain::ExplainArgs),
    /// The stores: list, create, move, reach, show
    #[command(subcommand)]
    Store(store::StoreCommand),
    /// The passphrases of a store: list, add, change, revoke
    #[command(subcommand)]
    Passphrase(passphrase::PassphraseCommand),
    /// Run plans, or dry-run them
    Run(run::RunArgs),
    /// What is due or was missed; --run runs it
    Due(due::DueArgs),
    /// Start what is due, as a service process
    Steward(steward::StewardArgs),
    /// Let systemd or cron start what is due: install, show, try, remove
    #[command(subcommand)]
    Timers(timers::TimersCommand),
    /// List or test notification channels
    Tell(tell::TellArgs),
    /// List snapshots
    History(history::HistoryArgs),
    /// List the content of a snapshot
    Tree(history::TreeArgs),
    /// List the versions of a path
    Versions(history::VersionsArgs),
    /// Find paths in any snapshot
    Search(search::SearchArgs),
    /// Write a file of a snapshot to stdout
    Print(history::PrintArgs),
    /// Compare two snapshots, or one with files as they are now
    Compare(compare::CompareArgs),
    /// Restore files
    Restore(restore::RestoreArgs),
    /// Write a snapshot, or part of it, as a tar archive
    Export(export::ExportArgs),
    /// Lend a snapshot, read-only, over SFTP and WebDAV
    Lend(lend::LendArgs),
    /// Let go of the snapshots that a plan's `retain` does not keep
    Expire(expire::ExpireArgs),
    /// Free the space of what no snapshot needs any more
    Reclaim(reclaim::ReclaimArgs),
    /// Restore a sample into scratch and compare it
    Drill(drill::DrillArgs),
    /// Verify the structure and the data of a store
    Verify(verify::VerifyArgs),
    /// Copy snapshots to another store
    Replicate(replicate::ReplicateArgs),
    /// Runs, restores and verifications on this machine
    Journal(journal::JournalArgs),
    /// Check the whole set-up and list problems
    Doctor(doctor::DoctorArgs),
    /// Build a demo station with six weeks of runs, and open it
    #[cfg(feature = "demo")]
    Demo(demo::DemoArgs),
}

/// Runs the program; never panics on its own account.
pub(crate) fn main() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            if let Some(unknown) = unknown_command(&error) {
                unknown.report();
                return unknown.exit.into();
            }
            // Help and version are no errors and go to stdout.
            let code = if error.use_stderr() { Exit::Usage } else { Exit::Done };
            let _ = error.print();
            return code.into();
        }
    };
    let json = cli.global.json;
    let context = match Context::new(cli.global) {
        Ok(context) => context,
        Err(error) => {
            match json {
                true => output::json(&error.as_json()),
                false => error.report(),
            }
            return error.exit.into();
        }
    };
    let result = match cli.command {
        None => context.configuration().and_then(|configuration| {
            let machine = crate::machine::machine_name();
            crate::tui::open(&configuration, machine).map_err(CliError::from)
        }),
        Some(command) => dispatch(&context, command),
    };
    match result {
        Ok(exit) => exit.into(),
        Err(error) => {
            context.report(&error);
            error.exit.into()
        }
    }
}

/// A command that is none, and is known by another name.
fn unknown_command(error: &clap::Error) -> Option<CliError> {
    use clap::error::{ContextKind, ContextValue, ErrorKind};
    if error.kind() != ErrorKind::InvalidSubcommand {
        return None;
    }
    match error.get(ContextKind::InvalidSubcommand) {
        Some(ContextValue::String(word)) => {
            let hint = crate::meanings::of_command(word)?;
            Some(CliError::usage(format!("no command `{}`", words::harmless(word)), hint))
        }
        _ => None,
    }
}

fn dispatch(context: &Context, command: Command) -> Result<Exit, CliError> {
    match command {
        Command::Plan(command) => plan::plan(context, command),
        Command::Explain(args) => explain::explain(context, &args),
        Command::Store(command) => store::store(context, command),
        Command::Passphrase(command) => passphrase::passphrase(context, &command),
        Command::Run(args) => run::run(context, &args),
        Command::Due(args) => due::due(context, &args),
        Command::Steward(args) => steward::steward(context, &args),
        Command::Timers(command) => timers::timers(context, &command),
        Command::Tell(args) => tell::tell(context, &args),
        Command::History(args) => history::history(context, &args),
        Command::Tree(args) => history::tree(context, &args),
        Command::Versions(args) => history::versions(context, &args),
        Command::Search(args) => search::search(context, &args),
        Command::Print(args) => history::print(context, &args),
        Command::Compare(args) => compare::compare(context, &args),
        Command::Restore(args) => restore::restore(context, &args),
        Command::Export(args) => export::export(context, &args),
        Command::Lend(args) => lend::lend(context, &args),
        Command::Expire(args) => expire::expire(context, &args),
        Command::Reclaim(args) => reclaim::reclaim(context, &args),
        Command::Drill(args) => drill::drill(context, &args),
        Command::Verify(args) => verify::verify(context, &args),
        Command::Replicate(args) => replicate::replicate(context, &args),
        Command::Journal(args) => journal::journal(context, &args),
        Command::Doctor(args) => doctor::doctor(context, &args),
        #[cfg(feature = "demo")]
        Command::Demo(args) => demo::demo(context, &args),
    }
}
