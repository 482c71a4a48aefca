//! What outages and signals do to runs, verifications and restores, over a line of ours to servers that
//! others have written. `cargo xtask faults` runs it and prints its table: it takes minutes.

use crate::{distant, world};

use std::{
    collections::{BTreeMap, VecDeque},
    fs,
    sync::Mutex,
    thread,
    time::{Duration, Instant},
};

use distant::{Distant, KINDS, Kind, ask_to_end};
use rustix::process::Signal;
use skellin_standins::Pace;
use world::common::{assert_same, content, write};

/// Scenarios at a time: most of them wait.
const AT_ONCE: usize = 8;
/// How fast the line is.
const PACE: Pace = Pace { delay: Duration::ZERO, rate: Some(2 << 20) };

/// What happens.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Fault {
    /// Connections break, and new ones are not taken, for so many seconds.
    Dead(u64),
    /// Nothing comes through, and nothing says so, for so many seconds.
    Frozen(u64),
    /// The server is killed and started again.
    Restart,
    /// Each connection breaks after 3 MB.
    Breaks,
    /// The command is asked to end at a phase, with the line flowing or frozen.
    Signal { command: &'static str, at: u64, signal: i32, frozen: bool },
}

impl Fault {
    fn words(self) -> String {
        match self {
            Self::Dead(seconds) => format!("run, line dead for {seconds} s"),
            Self::Frozen(seconds) => format!("run, line frozen for {seconds} s"),
            Self::Restart => "run, server restarted".to_owned(),
            Self::Breaks => "run and restore, line breaks every 3 MB".to_owned(),
            Self::Signal { command, at, signal, frozen } => {
                let name = if signal == 15 { "TERM" } else { "INT" };
                let how = if frozen { "frozen" } else { "flowing" };
                format!("{command}, {name} after {} MiB, line {how}", at >> 20)
            }
        }
    }
}

fn all() -> Vec<Fault> {
    let mut faults = Vec::new();
    for seconds in [300, 28, 15, 2] {
        faults.extend([Fault::Dead(seconds), Fault::Frozen(seconds)]);
    }
    faults.extend([Fault::Restart, Fault::Breaks]);
    for command in ["run", "verify", "restore"] {
        for (at, signal) in [(0, 15), (1 << 20, 2), (3 << 20, 15), (5 << 20, 2)] {
            for frozen in [false, true] {
                faults.push(Fault::Signal { command, at, signal, frozen });
            }
        }
    }
    faults
}

/// A run that an outage falls into ends well; how long after the outage.
fn outlive(distant: &mut Distant, outage: impl FnOnce(&mut Distant)) -> String {
    let child = distant.start_until(&["run", "readings", "--json"], 2 << 20);
    outage(distant);
    let over = Instant::now();
    let output = child.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(0), "{text}");
    format!("done, {:.0} s after it", over.elapsed().as_secs_f64())
}

/// A command that is asked to end does so in time, with the signal's status.
fn end(distant: &Distant, command: &str, at: u64, signal: Signal, frozen: bool) -> String {
    let back = distant.world.path("away").display().to_string();
    let arguments: &[&str] = match command {
        "run" => &["run", "readings"],
        "verify" => {
            distant.world.done(&["run", "readings"]);
            &["verify", "pier"]
        }
        _ => {
            distant.world.done(&["run", "readings"]);
            &["restore", "readings@newest", "--to", &back]
        }
    };
    let mut child = distant.start_until(arguments, at);
    if frozen {
        distant.wire.freeze();
    }
    let (code, took) = ask_to_end(&mut child, signal);
    distant.wire.cut();
    distant.wire.thaw();
    let expected = 128 + signal.as_raw();
    assert!(took < Duration::from_secs(6), "{command}: {took:?}");
    if code == Some(0) && command == "run" {
        // All was read already, and the rest was put away in the time there is: that is a success, if
        // the snapshot is there.
        let (_, history) = distant.world.json(&["history", "readings"]);
        assert_eq!(history["snapshots"].as_array().map(Vec::len), Some(1), "{history}");
        return format!("0, done in {:.1} s", took.as_secs_f64());
    }
    assert_eq!(code, Some(expected), "{command}");
    format!("{expected} in {:.1} s", took.as_secs_f64())
}

/// Whatever happened, the next run is whole, the store is sound, and all comes back.
fn is_whole(distant: &Distant) {
    let world = &distant.world;
    write(&world.path("ridge/after"), content(4711, 300_000));
    world.done(&["run", "readings"]);
    world.done(&["verify", "pier"]);
    let back = world.path("back").display().to_string();
    world.done(&["restore", "readings@newest", "--to", &back]);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
    fs::remove_dir_all(back).unwrap();
}

fn go(kind: Kind, fault: Fault) -> String {
    let mut distant = Distant::new(kind, 6, PACE);
    let told = match fault {
        Fault::Dead(seconds) => outlive(&mut distant, |distant| {
            distant.wire.close();
            thread::sleep(Duration::from_secs(seconds));
            distant.wire.open();
        }),
        Fault::Frozen(seconds) => outlive(&mut distant, |distant| {
            distant.wire.freeze();
            thread::sleep(Duration::from_secs(seconds));
            distant.wire.thaw();
        }),
        // This one keeps its objects in memory.
        Fault::Restart if kind == Kind::S3 => return "not tried".to_owned(),
        Fault::Restart => outlive(&mut distant, Distant::restart),
        Fault::Breaks => {
            distant.wire.break_after(Some(3_000_000));
            distant.world.done(&["run", "readings"]);
            is_whole(&distant);
            distant.wire.break_after(None);
            "done".to_owned()
        }
        Fault::Signal { command, at, signal, frozen } => {
            let signal = if signal == 15 { Signal::TERM } else { Signal::INT };
            end(&distant, command, at, signal, frozen)
        }
    };
    is_whole(&distant);
    told
}

#[test]
#[ignore = "takes minutes: cargo xtask faults"]
fn outages_and_signals_cost_no_snapshot() {
    let jobs: VecDeque<(Kind, Fault)> =
        all().into_iter().flat_map(|fault| KINDS.map(|kind| (kind, fault))).collect();
    let (count, jobs) = (jobs.len(), Mutex::new(jobs));
    let told = Mutex::new(BTreeMap::<Fault, [String; 3]>::new());
    let failed = Mutex::new(Vec::new());
    let begun = Instant::now();
    thread::scope(|scope| {
        for _ in 0..AT_ONCE {
            scope.spawn(|| {
                loop {
                    let Some((kind, fault)) = jobs.lock().unwrap().pop_front() else { return };
                    let went = std::panic::catch_unwind(|| go(kind, fault));
                    let words = went.unwrap_or_else(|why| {
                        let why = why.downcast_ref::<String>().cloned().unwrap_or_default();
                        failed.lock().unwrap().push(format!("{kind:?}, {}: {why}", fault.words()));
                        "FAILED".to_owned()
                    });
                    println!("{kind:?}, {}: {words}", fault.words());
                    let number = KINDS.iter().position(|one| *one == kind).unwrap();
                    told.lock().unwrap().entry(fault).or_default()[number] = words;
                }
            });
        }
    });
    println!("\n| fault | SFTP | S3 | WebDAV |\n| --- | --- | --- | --- |");
    for (fault, cells) in told.into_inner().unwrap() {
        println!("| {} | {} |", fault.words(), cells.join(" | "));
    }
    println!("\n{count} scenarios in {} s", begun.elapsed().as_secs());
    let failed = failed.into_inner().unwrap();
    assert!(failed.is_empty(), "{}", failed.join("\n"));
}

/// One of each sort, with what the suite has time for.
#[test]
fn a_short_outage_and_a_restart_cost_no_run() {
    thread::scope(|scope| {
        for (kind, fault) in [
            (Kind::WebDav, Fault::Restart),
            (Kind::Sftp, Fault::Restart),
            (Kind::S3, Fault::Dead(3)),
        ] {
            scope.spawn(move || go(kind, fault));
        }
    });
}
