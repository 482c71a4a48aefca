//! `timers`: having systemd or cron start what is due.

use std::{
    io::Write,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use clap::{Args, Subcommand, ValueEnum};
use serde_json::{Value, json};
use skellin_engine::{
    Configuration, Journal, JournalEntry, Outcome, Work,
    timers::{self, Setting, Unit, UnitState},
    unwish, wish,
};

use super::{context::Context, error::CliError, output, output::table};
use crate::{exit::Exit, words};

#[derive(Subcommand)]
pub(super) enum TimersCommand {
    /// Write units of systemd, or a line of cron; shown first
    Install(InstallArgs),
    /// What is installed, and whether it still fits the plans
    Show(WhereArgs),
    /// Have a plan started by what is installed, within a minute or so, and say how it went
    Try(TryArgs),
    /// Take out what was installed, and nothing else
    Remove(InstallArgs),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Manager {
    /// Timers and services
    Systemd,
    /// A line that looks every minute
    Cron,
}

#[derive(Args)]
pub(super) struct WhereArgs {
    /// Who starts what is due; else whichever is here
    #[arg(long, value_enum)]
    with: Option<Manager>,
    /// Where units lie, if not where systemd looks
    #[arg(long, value_name = "DIR")]
    unit_dir: Option<PathBuf>,
    /// A file in place of this account's crontab
    #[arg(long, value_name = "FILE", conflicts_with = "unit_dir")]
    crontab: Option<PathBuf>,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin timers install\n  skellin timers install --with cron\n  skellin timers install --steward --yes\n\nEach plan that a calendar can hold gets a timer of its own; another looks every five minutes for\nwhat was missed, is tried again, or is late. What is not ours is never touched."
)]
pub(super) struct InstallArgs {
    #[command(flatten)]
    place: WhereArgs,
    /// One service that starts everything, in place of timers
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
    #[command(flatten)]
    place: WhereArgs,
}

/// So long somebody may take to start a plan that is asked for: a minute, and a bit.
const PATIENCE: Duration = Duration::from_secs(75);
/// How often the journal is looked at.
const TICK: Duration = Duration::from_millis(250);

pub(super) fn timers(context: &Context, command: &TimersCommand) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let program = std::env::current_exe().map_err(|error| {
        CliError::failed(format!("this program does not find itself: {error}"), None)
    })?;
    let variables = ["SKELLIN_STATE", "SKELLIN_CACHE", "SKELLIN_DRIVES"];
    let variables = variables.iter().filter_map(|name| {
        let value = std::env::var(name).ok().filter(|value| !value.is_empty())?;
        Some(((*name).to_owned(), value))
    });
    let setting = Setting {
        configuration: &configuration,
        program,
        is_root: rustix::process::geteuid().is_root(),
        variables: variables.collect(),
    };
    match command {
        TimersCommand::Install(args) => install(context, &setting, args),
        TimersCommand::Show(args) => show(context, &setting, args),
        TimersCommand::Try(args) => try_plan(context, &setting, args),
        TimersCommand::Remove(args) => remove(context, &setting, args),
    }
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
                Err(nobody("there is no crontab here", "--with systemd"))
            }
            (None, false, false) => Err(nobody("neither systemd nor cron is here", "the steward")),
        }
    }
}

fn nobody(what: &str, other: &str) -> CliError {
    let hint = format!(
        "use {other}; or keep `skellin steward` running, by whatever starts things on this machine"
    );
    CliError::failed(what, Some(hint))
}

fn is_installed(program: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&path).any(|folder| folder.join(program).is_file())
}

fn account() -> String {
    match rustix::process::geteuid() {
        user if user.is_root() => "root".to_owned(),
        user => format!("the user {}", user.as_raw()),
    }
}

/// What will be written, and what whoever runs it cannot read.
fn preview(setting: &Setting<'_>, parts: &[(String, String)]) -> String {
    let mut out = String::new();
    for (name, text) in parts {
        out.push_str(&format!("── {name}\n{text}\n"));
    }
    out.push_str(&format!("It runs as {}.\n", account()));
    for (plan, source, why) in setting.unreadable() {
        out.push_str(&format!("▲ {plan}: {} cannot be read: {why}\n", source.display()));
    }
    for file in setting.configuration.plans.iter().filter(|file| file.plan.is_none()) {
        out.push_str(&format!(
            "▲ {} has mistakes and is left out: skellin plan check\n",
            file.name
        ));
    }
    for plan in asks_for_passphrase(setting.configuration) {
        out.push_str(&format!(
            "▲ {plan}: nobody is there to type its store's passphrase: name one in stores.toml\n"
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
            let hint = "start `skellin steward` at boot by a line @reboot of your own";
            return Err(CliError::usage("cron keeps no process running", hint));
        }
        (Target::Crontab(file), false) => {
            vec![(crontab_name(file.as_deref()), timers::crontab_line(setting))]
        }
    };
    if !context.global.quiet && !context.global.json {
        output::text(&preview(setting, &parts));
    }
    if !args.yes && !output::agreed("Write this? [y/N] ").unwrap_or(false) {
        return Err(CliError::guarded("nothing was written", "agree, or give --yes"));
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
            format!("Installed; skellin timers try {plan} shows whether it works.\n")
        },
    );
    Ok(Exit::Done)
}

fn wanted(setting: &Setting<'_>, steward: bool) -> Vec<Unit> {
    if steward { setting.steward_units() } else { setting.units() }
}

fn systemctl(setting: &Setting<'_>, words: &[&str]) -> Result<(), CliError> {
    let mut command = Command::new("systemctl");
    if !setting.is_root {
        command.arg("--user");
    }
    let output = command.args(words).stdin(Stdio::null()).output();
    let output = output.map_err(|error| {
        CliError::failed(format!("systemctl could not be started: {error}"), None)
    })?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(CliError::failed(
        format!("systemctl {}: {said}", words.join(" ")),
        Some("try it by hand; the units are written".to_owned()),
    ))
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

fn crontab_name(file: Option<&Path>) -> String {
    file.map_or(format!("the crontab of {}", account()), |file| file.display().to_string())
}

fn read_crontab(file: Option<&Path>) -> Result<String, CliError> {
    let failed = |why: String| {
        CliError::failed(format!("{} cannot be read: {why}", crontab_name(file)), None)
    };
    match file {
        Some(file) => match std::fs::read_to_string(file) {
            Ok(text) => Ok(text),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
            Err(error) => Err(failed(error.to_string())),
        },
        None => {
            let output = Command::new("crontab").arg("-l").stdin(Stdio::null()).output();
            let output = output.map_err(|error| failed(error.to_string()))?;
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            match output.status.success() {
                true => Ok(String::from_utf8_lossy(&output.stdout).into_owned()),
                false if said.contains("no crontab") => Ok(String::new()),
                false => Err(failed(said.trim().to_owned())),
            }
        }
    }
}

fn write_crontab(file: Option<&Path>, text: &str) -> Result<(), CliError> {
    let failed = |why: String| {
        CliError::failed(format!("{} cannot be written: {why}", crontab_name(file)), None)
    };
    match file {
        Some(file) if text.is_empty() => match std::fs::remove_file(file) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(failed(error.to_string()))
            }
            _ => Ok(()),
        },
        Some(file) => std::fs::write(file, text).map_err(|error| failed(error.to_string())),
        None => {
            let mut child = Command::new("crontab")
                .arg("-")
                .stdin(Stdio::piped())
                .stderr(Stdio::piped())
                .spawn()
                .map_err(|error| failed(error.to_string()))?;
            if let Some(mut input) = child.stdin.take() {
                input.write_all(text.as_bytes()).map_err(|error| failed(error.to_string()))?;
            }
            let output = child.wait_with_output().map_err(|error| failed(error.to_string()))?;
            match output.status.success() {
                true => Ok(()),
                false => Err(failed(String::from_utf8_lossy(&output.stderr).trim().to_owned())),
            }
        }
    }
}

fn show(context: &Context, setting: &Setting<'_>, args: &WhereArgs) -> Result<Exit, CliError> {
    let states: Vec<(String, UnitState)> = match args.target(setting)? {
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
    let off = states.iter().filter(|(_, state)| *state != UnitState::Fine).count();
    context.print(|| as_json(&states), || as_text(&states, off));
    Ok(if off == 0 { Exit::Done } else { Exit::Failed })
}

fn as_json(states: &[(String, UnitState)]) -> Value {
    let word = |state: &UnitState| match state {
        UnitState::Fine => "fine",
        UnitState::Missing => "missing",
        UnitState::Differs => "differs",
        UnitState::Stray => "stray",
    };
    let all = states.iter().map(|(name, state)| json!({"name": name, "state": word(state)}));
    json!({"timers": all.collect::<Vec<_>>()})
}

fn as_text(states: &[(String, UnitState)], off: usize) -> String {
    let row = |(name, state): &(String, UnitState)| {
        let mark = if *state == UnitState::Fine { "✓" } else { "▲" };
        vec![format!("{mark} {name}"), state.words().to_owned()]
    };
    let rows: Vec<_> = states.iter().map(row).collect();
    let total = match off {
        0 => "all as it should be".to_owned(),
        off => format!(
            "{} not as they should be: skellin timers install",
            words::counted(off as u64, "is", "are")
        ),
    };
    format!("{}{total}\n", table(&["what is installed", ""], &[], &rows))
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
            0 => "Nothing of ours was installed there.\n".to_owned(),
            _ => format!("Removed: {}\n", removed.join(", ")),
        },
    );
    Ok(Exit::Done)
}

fn try_plan(context: &Context, setting: &Setting<'_>, args: &TryArgs) -> Result<Exit, CliError> {
    let plan = context.plan(setting.configuration, &args.plan)?;
    let Some(journal) = context.journal() else {
        return Err(CliError::failed("without a journal nobody sees whether it runs", None));
    };
    context.catch_signals();
    let state = &context.folders.state;
    let asked = jiff::Timestamp::now().as_millisecond();
    wish(state, &plan.name)?;
    if let Ok(Target::Units { is_live: true, .. }) = args.place.target(setting) {
        // Whichever of the two is installed.
        let _ = systemctl(setting, &["start", "--no-block", "skellin-look.service"]);
    }
    context.progress.say(&format!("{}: asked for; it should start within a minute", plan.name));
    let (begun, mut started) = (Instant::now(), None::<JournalEntry>);
    loop {
        let newest = newest_run(&journal, &plan.name, asked)?;
        match (&newest, started.is_some()) {
            (Some(entry), _) if entry.outcome != Outcome::Running => {
                return Ok(report(context, &plan.name, entry));
            }
            (Some(entry), false) => {
                context.progress.say(&format!("{}: it runs", plan.name));
                started = Some(entry.clone());
            }
            (None, _) if begun.elapsed() > PATIENCE => {
                unwish(state, &plan.name);
                return Err(CliError::failed(
                    format!("nothing started {} within {} s", plan.name, PATIENCE.as_secs()),
                    Some("skellin timers show says what is installed; is cron or systemd running, or the steward?".to_owned()),
                ));
            }
            _ => {}
        }
        if context.cancel.is_cancelled() {
            unwish(state, &plan.name);
            return Ok(Exit::Signal(super::signals::caught().unwrap_or(2)));
        }
        std::thread::park_timeout(TICK);
    }
}

/// The newest run of a plan that began after it was asked for.
fn newest_run(journal: &Journal, plan: &str, asked: i64) -> Result<Option<JournalEntry>, CliError> {
    let entries = journal.entries(Some(plan), 20)?;
    Ok(entries.into_iter().find(|entry| entry.work == Work::Run && entry.started >= asked))
}

fn report(context: &Context, plan: &str, entry: &JournalEntry) -> Exit {
    context.print(
        || json!({"plan": plan, "run": entry.id, "status": entry.outcome.word(), "message": entry.words}),
        || {
            let said = entry.words.as_ref().map_or(String::new(), |words| format!(": {words}"));
            format!(
                "{plan}: {}{said}\nskellin journal --run {} shows its steps\n",
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
