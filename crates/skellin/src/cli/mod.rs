//! The commands: parse, call one function of the engine, print.

mod context;
mod demo;
mod doctor;
mod due;
mod error;
mod explain;
mod history;
mod journal;
mod output;
mod plan;
mod plan_new;
mod post;
mod prepare;
mod progress;
mod replicate;
mod restore;
mod run;
mod signals;
mod steward;
mod store;
mod tell;
mod timers;
mod verify;

use std::{path::PathBuf, process::ExitCode};

use clap::{Args, Parser, Subcommand};

use crate::exit::Exit;
use context::Context;
use error::CliError;

/// Backups, scripted once, rehearsed, run by hand or by the clock, and restored in seconds.
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
    /// Say nothing but errors
    #[arg(long, short, global = true)]
    quiet: bool,
    /// Say more
    #[arg(short, global = true)]
    verbose: bool,
    /// How progress is told: on the terminal, or as JSON lines on stderr
    #[arg(long, global = true, value_name = "FORM", value_enum)]
    progress: Option<ProgressForm>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
enum ProgressForm {
    /// JSON lines on stderr
    Json,
    /// None at all
    None,
}

/// Where a store is, apart from what the plan says.
#[derive(Args, Clone, Debug, Default)]
struct WhichStore {
    /// Look in this store of stores.toml
    #[arg(long, value_name = "NAME", conflicts_with = "place")]
    store: Option<String>,
    /// Look at this place; no configuration is needed
    #[arg(long, value_name = "PLACE")]
    place: Option<String>,
    /// Read the passphrase for --place from this file instead of asking
    #[arg(long, value_name = "FILE", requires = "place")]
    passphrase_file: Option<PathBuf>,
    /// A file that says how to get to it: endpoint, credentials, identity, password … as in stores.toml
    #[arg(long, value_name = "FILE", requires = "place")]
    access: Option<PathBuf>,
    /// Take snapshots of this machine, not our own
    #[arg(long, value_name = "NAME")]
    machine: Option<String>,
}

#[derive(Subcommand)]
enum Command {
    /// The plans: list, show, check, new
    #[command(subcommand)]
    Plan(plan::PlanCommand),
    /// Why a path goes along, or does not
    Explain(explain::ExplainArgs),
    /// The stores: list, create, show
    #[command(subcommand)]
    Store(store::StoreCommand),
    /// Carry plans out, or rehearse them
    Run(run::RunArgs),
    /// What is due or was missed, and running it
    Due(due::DueArgs),
    /// Start what is due, as a process of its own
    Steward(steward::StewardArgs),
    /// Have systemd or cron start what is due: install, show, try, remove
    #[command(subcommand)]
    Timers(timers::TimersCommand),
    /// Try a channel by which somebody is told
    Tell(tell::TellArgs),
    /// The snapshots there are
    History(history::HistoryArgs),
    /// What is in a snapshot
    Tree(history::TreeArgs),
    /// The distinct versions of one path
    Versions(history::VersionsArgs),
    /// A file's content to stdout
    Print(history::PrintArgs),
    /// Bring files back
    Restore(restore::RestoreArgs),
    /// Prove a store: its structure and its bytes
    Verify(verify::VerifyArgs),
    /// Copy snapshots to another store
    Replicate(replicate::ReplicateArgs),
    /// What was run, restored and verified on this machine
    Journal(journal::JournalArgs),
    /// Look at the whole set-up, and say what to mend
    Doctor(doctor::DoctorArgs),
    /// Build a made-up station with some nights behind it, and open it
    Demo(demo::DemoArgs),
}

/// Runs the program; never panics on its own account.
pub(crate) fn main() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
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

fn dispatch(context: &Context, command: Command) -> Result<Exit, CliError> {
    match command {
        Command::Plan(command) => plan::plan(context, command),
        Command::Explain(args) => explain::explain(context, &args),
        Command::Store(command) => store::store(context, command),
        Command::Run(args) => run::run(context, &args),
        Command::Due(args) => due::due(context, &args),
        Command::Steward(args) => steward::steward(context, &args),
        Command::Timers(command) => timers::timers(context, &command),
        Command::Tell(args) => tell::tell(context, &args),
        Command::History(args) => history::history(context, &args),
        Command::Tree(args) => history::tree(context, &args),
        Command::Versions(args) => history::versions(context, &args),
        Command::Print(args) => history::print(context, &args),
        Command::Restore(args) => restore::restore(context, &args),
        Command::Verify(args) => verify::verify(context, &args),
        Command::Replicate(args) => replicate::replicate(context, &args),
        Command::Journal(args) => journal::journal(context, &args),
        Command::Doctor(args) => doctor::doctor(context, &args),
        Command::Demo(args) => demo::demo(context, &args),
    }
}
