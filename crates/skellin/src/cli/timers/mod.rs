//! `timers`: having systemd or cron start what is due.

mod managers;
mod trial;

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand, ValueEnum};
use serde_json::{Value, json};
use skellin_engine::{
    Configuration,
    timers::{self, CRON_HINT, Setting, Unit, UnitState, cron_runs},
};

use managers::{crontab_name, read_crontab, systemctl, write_crontab};

use super::{context::Context, error::CliError, output, output::table};
use crate::{
    exit::Exit,
    machine::{PROC, timer_setting},
    words,
};

#[derive(Subcommand)]
pub(super) enum TimersCommand {
    /// Install systemd units or a cron entry, after review
    Install(InstallArgs),
    /// Show what is installed, whether it runs, and whether it fits the plans
    Show(WhereArgs),
    /// Let the installed timers start a plan now, and show the result
    Try(TryArgs),
    /// Remove what was installed
    Remove(InstallArgs),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Manager {
    /// Timers and services
    Systemd,
    /// A cron entry that runs every minute
    Cron,
}

#[derive(Args)]
pub(super) struct WhereArgs {
    /// What starts due runs; default: whichever is available
    #[arg(long, value_enum)]
    with: Option<Manager>,
    /// Directory for the units, if not the default
    #[arg(long, value_name = "DIR")]
    unit_dir: Option<PathBuf>,
    /// File to use instead of the crontab of this account
    #[arg(long, value_name = "FILE", conflicts_with = "unit_dir")]
    crontab: Option<PathBuf>,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin timers install\n  skellin timers install --with cron\n  skellin timers install --steward --yes\n\nEach plan with a calendar schedule gets its own timer; another one looks every five minutes for missed,\nretried and late runs. Other units and cron entries are not touched."
)]
pub(super) struct InstallArgs {
    #[command(flatten)]
    place: WhereArgs,
    /// One service that starts everything, instead of timers
    #[arg(long)]
    steward: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

#[derive(Args)]
pub(super) struct TryArgs {
    /// The plan
    plan: String,
    /// Try even if nothing is installed: something of your own calls due --run
    #[arg(long)]
    wait: bool,
    #[command(flatten)]
    place: WhereArgs,
}

pub(super) fn timers(context: &Context, command: &TimersCommand) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let setting = setting(&configuration)?;
    match command {
        TimersCommand::Install(args) => install(context, &setting, args),
        TimersCommand::Show(args) => show(context, &setting, args),
        TimersCommand::Try(args) => trial::try_plan(context, &setting, args),
        TimersCommand::Remove(args) => remove(context, &setting, args),
    }
}

fn setting(configuration: &Configuration) -> Result<Setting<'_>, CliError> {
    timer_setting(configuration).map_err(|error| {
        CliError::failed(format!("cannot find the path of this program: {error}"), None)
    })
}

/// Where things are installed.
enum Target {
    Units { folder: PathBuf, is_live: bool },
    Crontab(Option<PathBuf>),
}

impl WhereArgs {
    fn target(&self, setting: &Setting<'_>) -> Result<Target, CliError> {
        if let Some(folder) = &self.unit_dir {
            return Ok(Target::Units { folder: folder.clone(), is_live: false });
        }
        if let Some(file) = &self.crontab {
            return Ok(Target::Crontab(Some(file.clone())));
        }
        let has_systemd = Path::new("/run/systemd/system").is_dir();
        match (self.with, has_systemd, is_installed("crontab")) {
            (Some(Manager::Systemd), true, _) | (None, true, _) => {
                Ok(Target::Units { folder: setting.unit_directory()?, is_live: true })
            }
            (Some(Manager::Systemd), false, _) => {
                Err(nobody("systemd does not run this machine", "--with cron"))
            }
            (Some(Manager::Cron) | None, _, true) => Ok(Target::Crontab(None)),
            (Some(Manager::Cron), _, false) => {
                Err(nobody("crontab is not installed", "--with systemd"))
            }
            (None, false, false) => Err(nobody("neither systemd nor cron is available", "")),
        }
    }
}

fn nobody(what: &str, other: &str) -> CliError {
    let steward = "keep skellin steward running as a service";
    let hint = match other {
        "" => steward.to_owned(),
        other => format!("use {other}; or {steward}"),
    };
    CliError::failed(what, Some(hint))
}

fn is_installed(program: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&path).any(|folder| folder.join(program).is_file())
}

fn account() -> String {
    match rustix::process::geteuid() {
        user if user.is_root() => "root".to_owned(),
        user => format!("user {}", user.as_raw()),
    }
}

/// What will be written, and what whoever runs it cannot read.
fn preview(setting: &Setting<'_>, parts: &[(String, String)]) -> String {
    let mut out = String::new();
    for (name, text) in parts {
        out.push_str(&format!("── {name}\n{text}\n"));
    }
    out.push_str(&format!("Runs as {}.\n", account()));
    for (plan, source, why) in setting.unreadable() {
        out.push_str(&format!("▲ {plan}: {} cannot be read: {why}\n", source.display()));
    }
    for file in setting.configuration.plans.iter().filter(|file| file.plan.is_none()) {
        out.push_str(&format!("▲ {} has mistakes and is skipped: skellin plan check\n", file.name));
    }
    for plan in asks_for_passphrase(setting.configuration) {
        out.push_str(&format!(
            "▲ {plan}: the passphrase of its store is not configured, so it cannot run unattended (passphrase = … in stores.toml)\n"
        ));
    }
    out
}

fn asks_for_passphrase(configuration: &Configuration) -> Vec<String> {
    let plans = configuration.plans.iter().filter_map(|file| file.plan.as_ref());
    let asks = |plan: &&skellin_plan::Plan| {
        let store = configuration.stores.fine.get(&plan.store);
        store.is_some_and(|store| store.passphrase.is_none())
    };
    plans.filter(asks).map(|plan| plan.name.clone()).collect()
}

fn install(context: &Context, setting: &Setting<'_>, args: &InstallArgs) -> Result<Exit, CliError> {
    let target = args.place.target(setting)?;
    let parts = match (&target, args.steward) {
        (Target::Units { folder, .. }, steward) => wanted(setting, steward)
            .into_iter()
            .map(|unit| (folder.join(unit.name).display().to_string(), unit.text))
            .collect(),
        (Target::Crontab(_), true) => {
            let hint = "start skellin steward with an @reboot entry";
            return Err(CliError::usage("cron does not keep a process running", hint));
        }
        (Target::Crontab(file), false) => {
            vec![(crontab_name(file.as_deref()), timers::crontab_line(setting))]
        }
    };
    if !context.global.quiet && !context.global.json {
        output::text(&preview(setting, &parts));
    }
    if !args.yes && !output::agreed("Install this? [y/N] ").unwrap_or(false) {
        return Err(CliError::guarded("nothing was written", "confirm, or add --yes"));
    }
    let gone = match &target {
        Target::Units { folder, is_live } => {
            let units = wanted(setting, args.steward);
            let gone = timers::install(&units, folder)?;
            if *is_live {
                enable(setting, &units, &gone)?;
            }
            gone
        }
        Target::Crontab(file) => {
            let before = read_crontab(file.as_deref())?;
            let line = timers::crontab_line(setting);
            write_crontab(file.as_deref(), &timers::with_line(&before, &line))?;
            Vec::new()
        }
    };
    context.print(
        || json!({"written": parts.iter().map(|(name, _)| name).collect::<Vec<_>>(), "removed": gone}),
        || {
            let plan = setting.configuration.plans.first().map_or("PLAN", |plan| &plan.name);
            format!("Installed. skellin timers try {plan} tests it.\n")
        },
    );
    Ok(Exit::Done)
}

fn wanted(setting: &Setting<'_>, steward: bool) -> Vec<Unit> {
    if steward { setting.steward_units() } else { setting.units() }
}

fn enable(setting: &Setting<'_>, units: &[Unit], gone: &[String]) -> Result<(), CliError> {
    for name in gone.iter().filter(|name| name.ends_with(".timer")) {
        // Its file is gone already; what is left is a timer that would fire once more.
        let _ = systemctl(setting, &["stop", name]);
    }
    systemctl(setting, &["daemon-reload"])?;
    let starts = |unit: &&Unit| unit.text.contains("[Install]");
    let names: Vec<&str> = units.iter().filter(starts).map(|unit| unit.name.as_str()).collect();
    systemctl(setting, &[&["enable", "--now"], &names[..]].concat())
}

fn show(context: &Context, setting: &Setting<'_>, args: &WhereArgs) -> Result<Exit, CliError> {
    let target = args.target(setting)?;
    let service = service(setting, &target);
    let states: Vec<(String, UnitState)> = match target {
        Target::Units { folder, .. } => {
            let steward = setting.steward_units();
            let is_steward = folder.join(&steward[0].name).exists();
            let wanted = if is_steward { steward } else { setting.units() };
            timers::compare(&wanted, &folder)?.into_iter().collect()
        }
        Target::Crontab(file) => {
            let (there, line) = (
                timers::written_line(&read_crontab(file.as_deref())?),
                timers::crontab_line(setting),
            );
            let state = match there {
                Some(there) if there == line => UnitState::Fine,
                Some(_) => UnitState::Differs,
                None => UnitState::Missing,
            };
            vec![(crontab_name(file.as_deref()), state)]
        }
    };
    let is_fine = states.iter().all(|(_, state)| *state == UnitState::Fine)
        && service.as_ref().is_none_or(|service| service.runs != Some(false));
    context.print(|| as_json(&states, service.as_ref()), || as_text(&states, service.as_ref()));
    Ok(if is_fine { Exit::Done } else { Exit::Failed })
}

/// What has to run so that what is installed starts anything.
struct Service {
    name: &'static str,
    /// Whether it does, if that can be seen.
    runs: Option<bool>,
    hint: &'static str,
}

/// Units in a directory of their own are nobody's business yet.
fn service(setting: &Setting<'_>, target: &Target) -> Option<Service> {
    match target {
        Target::Crontab(_) => {
            let runs = cron_runs(Path::new(PROC));
            Some(Service { name: "cron daemon", runs, hint: CRON_HINT })
        }
        Target::Units { is_live: true, folder } => {
            let there = timers::compare(&[], folder).unwrap_or_default().into_keys();
            let starts = |name: &String| name.ends_with(".timer") || name.contains("steward");
            let runs = there
                .filter(starts)
                .all(|name| systemctl(setting, &["--quiet", "is-active", &name]).is_ok());
            let hint = "skellin timers install starts them again";
            Some(Service { name: "systemd timers", runs: Some(runs), hint })
        }
        Target::Units { is_live: false, .. } => None,
    }
}

fn as_json(states: &[(String, UnitState)], service: Option<&Service>) -> Value {
    let word = |state: &UnitState| match state {
        UnitState::Fine => "fine",
        UnitState::Missing => "missing",
        UnitState::Differs => "differs",
        UnitState::Stray => "stray",
    };
    let all = states.iter().map(|(name, state)| json!({"name": name, "state": word(state)}));
    let service = service.map(|service| json!({"name": service.name, "running": service.runs}));
    json!({"timers": all.collect::<Vec<_>>(), "service": service})
}

fn as_text(states: &[(String, UnitState)], service: Option<&Service>) -> String {
    let row = |(name, state): &(String, UnitState)| {
        let mark = if *state == UnitState::Fine { "✓" } else { "▲" };
        vec![format!("{mark} {name}"), state.words().to_owned()]
    };
    let mut rows: Vec<_> = states.iter().map(row).collect();
    rows.extend(service.map(|service| {
        let (mark, words) = match service.runs {
            Some(true) => ("✓", "running"),
            Some(false) => ("✕", "not running: nothing starts the runs"),
            None => ("▲", "this account cannot see whether it runs"),
        };
        vec![format!("{mark} {}", service.name), words.to_owned()]
    }));
    let off = states.iter().filter(|(_, state)| *state != UnitState::Fine).count();
    let total = match (off, service) {
        (0, Some(Service { runs: Some(false), hint, .. })) => format!("→ {hint}"),
        (0, _) => "all installed and up to date".to_owned(),
        (off, _) => format!(
            "→ {} to update: skellin timers install",
            words::counted(off as u64, "entry", "entries")
        ),
    };
    format!("{}{total}\n", table(&["installed", "state"], &[], &rows))
}

fn remove(context: &Context, setting: &Setting<'_>, args: &InstallArgs) -> Result<Exit, CliError> {
    let target = args.place.target(setting)?;
    let removed: Vec<String> = match &target {
        Target::Units { folder, is_live } => {
            if *is_live {
                let ours: Vec<String> = timers::compare(&[], folder)?.into_keys().collect();
                let starts = |name: &&String| name.ends_with(".timer") || name.contains("steward");
                for name in ours.iter().filter(starts) {
                    systemctl(setting, &["disable", "--now", name])?;
                }
            }
            let removed = timers::remove(folder)?;
            if *is_live && !removed.is_empty() {
                systemctl(setting, &["daemon-reload"])?;
            }
            removed
        }
        Target::Crontab(file) => {
            let before = read_crontab(file.as_deref())?;
            let after = timers::without_line(&before);
            if after == before {
                Vec::new()
            } else {
                write_crontab(file.as_deref(), &after)?;
                vec![crontab_name(file.as_deref())]
            }
        }
    };
    context.print(
        || json!({"removed": removed}),
        || match removed.len() {
            0 => "Nothing was installed there.\n".to_owned(),
            _ => format!("Removed: {}\n", removed.join(", ")),
        },
    );
    Ok(Exit::Done)
}
