//! `steward`: what is due is started by a process of our own, made for service managers.

use std::{
    collections::BTreeMap,
    path::PathBuf,
    process::{Command, ExitStatus, Stdio},
    sync::Arc,
    thread,
    time::{Duration, Instant},
};

use clap::Args;
use crossbeam_channel::{RecvTimeoutError, Sender, unbounded};
use rustix::process::{Pid, Signal, kill_process};
use sd_notify::NotifyState;
use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
};
use skellin_engine::{
    Configuration, Hands, Job, Journal, Look, Post, Steward, StewardLock, Watch, booted,
};

use super::{context::Context, error::CliError};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin steward\n\nIt stays in the foreground, notifies the service manager (sd_notify), reloads its files when they change\nor on SIGHUP, and stops its work and exits on SIGTERM.\nskellin timers install --steward makes it a service."
)]
pub(super) struct StewardArgs {}

/// It looks at least this often: the clock may have been set, the machine may have slept.
const AT_LEAST: Duration = Duration::from_secs(30);
/// Files are looked at this often for changes where the kernel tells of none.
const SETTLED: Duration = Duration::from_millis(300);

/// What the steward hears of.
enum Heard {
    /// A job has ended, and how.
    Ended(Job, std::io::Result<ExitStatus>),
    /// The configuration or a wish has changed.
    Changed,
    /// A signal.
    Signal(i32),
    /// Messages were carried.
    Carried(Vec<(String, String)>),
}

/// Jobs as processes of this program.
struct Processes {
    program: PathBuf,
    config: PathBuf,
    going: BTreeMap<Job, Pid>,
    ended: Vec<Job>,
    heard: Sender<Heard>,
}

impl Hands for Processes {
    fn start(&mut self, job: &Job) -> std::io::Result<()> {
        let (work, name) = match job {
            Job::Run(plan) => (&["run", "--gentle"][..], plan),
            Job::Verify(store) => (&["verify"][..], store),
            Job::Reclaim(store) => (&["reclaim"][..], store),
            Job::Drill(plan) => (&["drill"][..], plan),
        };
        // Started by the thread that lives as long as the steward: the child ends with it.
        let mut child = Command::new(&self.program)
            .args(work)
            .arg(format!("--steward={}", std::process::id()))
            .arg("--quiet")
            .arg("--config")
            .arg(&self.config)
            .arg("--")
            .arg(name)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .spawn()?;
        self.going.insert(job.clone(), Pid::from_child(&child));
        let (heard, job) = (self.heard.clone(), job.clone());
        thread::spawn(move || {
            let status = child.wait();
            let _ = heard.send(Heard::Ended(job, status));
        });
        Ok(())
    }

    fn ended(&mut self) -> Vec<Job> {
        std::mem::take(&mut self.ended)
    }
}

fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// A line for whoever reads the service's log.
#[expect(clippy::print_stderr, reason = "a service speaks on stderr")]
fn say(quiet: bool, line: &str) {
    if !quiet {
        eprintln!("skellin steward: {}", words::harmless(line));
    }
}

fn notify(state: &[NotifyState<'_>]) {
    // Without a service manager there is nobody to tell.
    let _ = sd_notify::notify(state);
}

fn name(job: &Job) -> String {
    match job {
        Job::Run(plan) => format!("run of {plan}"),
        Job::Verify(store) => format!("verification of {store}"),
        Job::Reclaim(store) => format!("reclaim of {store}"),
        Job::Drill(plan) => format!("drill of {plan}"),
    }
}

pub(super) fn steward(context: &Context, _: &StewardArgs) -> Result<Exit, CliError> {
    let _lock = StewardLock::take(&context.folders.state)?;
    let quiet = context.global.quiet;
    let (sender, heard) = unbounded();
    watch_signals(sender.clone());
    watch_files(context, sender.clone());
    let journal = context.journal().map(Arc::new);
    let mut configuration = Arc::new(context.configuration()?);
    say_state(quiet, &configuration);
    let program = std::env::current_exe().map_err(|error| {
        CliError::failed(format!("cannot find the path of this program: {error}"), None)
    })?;
    let mut processes = Processes {
        program,
        config: context.folders.config.clone(),
        going: BTreeMap::new(),
        ended: Vec::new(),
        heard: sender.clone(),
    };
    let machine = crate::machine::machine_name();
    let (mut steward, mut carrying) = (Steward::default(), false);
    context.orchestrator(&configuration, journal.as_deref(), &machine).make_up_for_leaves();
    notify(&[NotifyState::Ready]);
    let pulse = sd_notify::watchdog_enabled().map(|time| time / 2);
    let mut stopped: Option<u8> = None;
    loop {
        let watch = Watch {
            configuration: &configuration,
            journal: journal.as_deref(),
            machine: &machine,
            booted: booted(),
        };
        let mut next = None;
        if stopped.is_none() {
            match steward.look(&watch, &mut processes, now()) {
                Ok(look) => {
                    say_look(quiet, &look);
                    if let Some(mended) = journal.as_ref().and_then(|journal| journal.take_mended())
                    {
                        say(quiet, &mended.to_string());
                    }
                    next = look.next;
                }
                Err(error) => say(quiet, &format!("{error}; trying again soon")),
            }
            if let (false, Some(journal)) = (carrying, &journal)
                && journal.next_message().is_ok_and(|at| at.is_some_and(|at| at <= now()))
            {
                carrying = true;
                carry(&configuration, journal, &machine, sender.clone());
            }
        } else if processes.going.is_empty() {
            say(quiet, "ends");
            return Ok(Exit::Signal(stopped.unwrap_or(15)));
        }
        notify(&[NotifyState::Watchdog, NotifyState::Status(&status(&processes, next))]);
        let until = next.map_or(AT_LEAST, |next| {
            Duration::from_millis(u64::try_from(next - now()).unwrap_or(0))
        });
        let pause = until.min(AT_LEAST).min(pulse.unwrap_or(AT_LEAST));
        match heard.recv_timeout(pause) {
            Ok(Heard::Ended(job, status)) => {
                say(quiet, &format!("{} ended: {}", name(&job), ending(&status)));
                processes.going.remove(&job);
                processes.ended.push(job);
            }
            Ok(Heard::Carried(failed)) => {
                carrying = false;
                for (channel, why) in failed {
                    say(quiet, &format!("{channel} not notified yet: {why}"));
                }
            }
            Ok(Heard::Changed) => {
                // Editors change a file more than once; the last change counts.
                let since = Instant::now();
                let mut kept = Vec::new();
                while let Ok(more) = heard.recv_timeout(SETTLED.saturating_sub(since.elapsed())) {
                    if !matches!(more, Heard::Changed) {
                        kept.push(more);
                    }
                }
                kept.into_iter().for_each(|more| drop(sender.send(more)));
                reload(context, &mut configuration, quiet);
            }
            Ok(Heard::Signal(SIGHUP)) => reload(context, &mut configuration, quiet),
            Ok(Heard::Signal(signal)) => {
                stopped = Some(u8::try_from(signal).unwrap_or(15));
                notify(&[NotifyState::Stopping]);
                for (job, process) in &processes.going {
                    say(quiet, &format!("stopping {}", name(job)));
                    let _ = kill_process(*process, Signal::TERM);
                }
            }
            Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => {}
        }
    }
}

/// Reads the files anew; what cannot be read leaves things as they were.
fn reload(context: &Context, configuration: &mut Arc<Configuration>, quiet: bool) {
    if let Ok(reloading) = NotifyState::monotonic_usec_now() {
        notify(&[NotifyState::Reloading, reloading]);
    }
    match context.configuration() {
        Ok(read) => {
            *configuration = Arc::new(read);
            say_state(quiet, configuration);
        }
        Err(error) => {
            error.report();
            say(quiet, "keeping the configuration read before");
        }
    }
    notify(&[NotifyState::Ready]);
}

fn say_state(quiet: bool, configuration: &Configuration) {
    let plans = configuration.plans.iter().filter(|file| file.plan.is_some()).count() as u64;
    say(quiet, &format!("watching {}", words::counted(plans, "plan", "plans")));
    for file in configuration.plans.iter().filter(|file| file.plan.is_none()) {
        say(quiet, &format!("{} has mistakes and is skipped: skellin plan check", file.name));
    }
}

fn say_look(quiet: bool, look: &Look) {
    if let Some(why) = &look.unrecorded {
        say(quiet, &format!("{why}; what is due is decided by the times of the lock files"));
    }
    for job in &look.started {
        say(quiet, &format!("starting {}", name(job)));
    }
    for (job, why) in &look.failed {
        say(quiet, &format!("cannot start {}: {why}", name(job)));
    }
}

fn status(processes: &Processes, next: Option<i64>) -> String {
    let going: Vec<String> = processes.going.keys().map(name).collect();
    match (going.is_empty(), next) {
        (false, _) => format!("{} running", going.join(", ")),
        (true, Some(next)) => format!("next run {}", words::moment(next)),
        (true, None) => "nothing is due".to_owned(),
    }
}

fn ending(status: &std::io::Result<ExitStatus>) -> String {
    match status {
        Ok(status) => status.code().map_or("by a signal".to_owned(), |code| match code {
            0 => "done".to_owned(),
            code => format!("status {code}"),
        }),
        Err(error) => error.to_string(),
    }
}

/// Carries messages beside everything else.
fn carry(
    configuration: &Arc<Configuration>,
    journal: &Arc<Journal>,
    machine: &str,
    heard: Sender<Heard>,
) {
    let (configuration, journal) = (Arc::clone(configuration), Arc::clone(journal));
    let machine = machine.to_owned();
    thread::spawn(move || {
        let failed = match Post::carry(&configuration, &journal, &machine, &now) {
            Ok(post) => post.failed,
            Err(error) => vec![("the journal".to_owned(), error.to_string())],
        };
        let _ = heard.send(Heard::Carried(failed));
    });
}

fn watch_signals(heard: Sender<Heard>) {
    // Without handlers signals still end the process, only less gently.
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    thread::spawn(move || {
        let mut asked = false;
        for signal in &mut signals {
            if signal != SIGHUP && std::mem::replace(&mut asked, true) {
                std::process::exit(128 + signal);
            }
            if heard.send(Heard::Signal(signal)).is_err() {
                return;
            }
        }
    });
}

/// Tells of changes in the configuration and of wishes, as the kernel does (inotify(7)).
fn watch_files(context: &Context, heard: Sender<Heard>) {
    use rustix::fs::inotify::{self, CreateFlags, WatchFlags};
    let Ok(watcher) = inotify::init(CreateFlags::CLOEXEC) else { return };
    let changes = WatchFlags::CLOSE_WRITE
        | WatchFlags::MOVED_TO
        | WatchFlags::MOVED_FROM
        | WatchFlags::DELETE
        | WatchFlags::CREATE;
    let (config, state) = (&context.folders.config, &context.folders.state);
    let wishes = state.join("wishes");
    let _ = std::fs::create_dir_all(&wishes);
    let mut folders = vec![config.clone(), config.join("plans"), wishes];
    // Until the directory is there, whether it appears is seen in the one above.
    folders.extend(config.parent().map(std::path::Path::to_path_buf));
    let watch = move |watcher: &std::os::fd::OwnedFd| {
        for folder in &folders {
            // One that is watched already is watched once; one that is not there is tried again.
            let _ = inotify::add_watch(watcher, folder.as_path(), changes);
        }
    };
    watch(&watcher);
    thread::spawn(move || {
        let mut buffer = [std::mem::MaybeUninit::<u8>::uninit(); 4096];
        let mut reader = inotify::Reader::new(&watcher, &mut buffer);
        while reader.next().is_ok() {
            watch(&watcher);
            if heard.send(Heard::Changed).is_err() {
                return;
            }
        }
    });
}
