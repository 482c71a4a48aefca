//! The station's six weeks: every snapshot has its reasons, what expires comes back as space however
//! often a reclaim is killed, all that stays restores byte for byte, and its history bears out what is
//! foretold of its future.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    os::unix::process::ExitStatusExt as _,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::Duration,
};

use serde_json::Value;
use skellin_engine::{Journal, Work};
use skellin_plan::{FillChange, Growth, filled};

use crate::common::{PASSPHRASE, create_store, listing, scratch, write};

const DAY: i64 = 86_400_000;

/// The station, and two stores beside those it has.
struct Station {
    folder: tempfile::TempDir,
}

impl Station {
    fn new() -> Self {
        let station = Self { folder: scratch() };
        let mut build = station.command(&["demo", "--build-only", "--quiet", "--dir"]);
        assert!(build.arg(station.folder.path()).status().unwrap().success());
        write(&station.path("key"), PASSPHRASE);
        crate::world::private(&station.path("key"));
        let mut stores = fs::read_to_string(station.path("config/stores.toml")).unwrap();
        for name in ["before", "fresh"] {
            let place = station.path(name);
            let prepared =
                skellin_place::DirectoryPlace::prepare(place.clone(), skellin_store::FOLDERS);
            create_store(&prepared.unwrap());
            stores.push_str(&format!(
                "\n[{name}]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
                place.display(),
                station.path("key").display()
            ));
        }
        write(&station.path("config/stores.toml"), stores);
        station
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_skellin"));
        command.args(arguments).stdin(Stdio::null());
        for (name, below) in [
            ("SKELLIN_CONFIG", "config"),
            ("SKELLIN_STATE", "state"),
            ("SKELLIN_CACHE", "cache"),
            ("SKELLIN_DRIVES", "drives"),
            ("HOME", ""),
        ] {
            command.env(name, self.path(below));
        }
        command
    }

    fn done(&self, arguments: &[&str]) -> String {
        let output = self.command(arguments).output().unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(0), "{arguments:?}: {said}");
        String::from_utf8(output.stdout).unwrap()
    }

    fn json(&self, arguments: &[&str]) -> Value {
        serde_json::from_str(&self.done(&[arguments, &["--json"]].concat())).unwrap()
    }

    /// Ids of the snapshots of a plan in a store, oldest first, and when they were made.
    fn dated(&self, plan: &str, store: &str) -> Vec<(String, String)> {
        let told = self.json(&["history", plan, "--store", store]);
        let text = |one: &Value, key: &str| one[key].as_str().unwrap().to_owned();
        let all = told["snapshots"].as_array().unwrap().iter();
        all.map(|one| (text(one, "id"), text(one, "time"))).collect()
    }

    fn snapshots(&self, plan: &str, store: &str) -> Vec<String> {
        self.dated(plan, store).into_iter().map(|(id, _)| id).collect()
    }
}

/// Bytes of all files below a directory.
fn size(root: &Path) -> u64 {
    let entries = fs::read_dir(root).unwrap().map(Result::unwrap);
    let one = |entry: fs::DirEntry| match entry.metadata().unwrap() {
        it if it.is_dir() => size(&entry.path()),
        it => it.len(),
    };
    entries.map(one).sum()
}

const PLANS: [&str; 3] = ["gateway", "readings", "ringing"];

#[test]
fn what_expires_comes_back_as_space_and_all_that_stays_restores() {
    let station = Station::new();
    station.done(&["replicate", "oak", "before"]);
    let mut staying: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for plan in PLANS {
        // Every snapshot has its reasons, whichever way it goes.
        let told = station.json(&["expire", plan, "--store", "oak", "--dry-run"]);
        let ids = |key: &str| -> Vec<String> {
            let all = told[key].as_array().unwrap().iter();
            all.map(|one| {
                let because = one["because"].to_string();
                assert!(because.len() > 8, "{one}");
                one["snapshot"].as_str().unwrap().to_owned()
            })
            .collect()
        };
        let (stays, goes) = (ids("retained"), ids("expired"));
        let all: BTreeSet<&String> = stays.iter().chain(&goes).collect();
        let listed = station.snapshots(plan, "oak");
        assert_eq!(all, listed.iter().collect(), "{plan}");
        assert!(!goes.is_empty() && stays.len() > 5, "{plan}: {} stay", stays.len());
        station.done(&["expire", plan, "--store", "oak", "--agree"]);
        assert_eq!(station.snapshots(plan, "oak"), stays);
        staying.insert(plan, stays);
    }
    station.done(&["replicate", "oak", "fresh"]);
    let oak = station.path("drives/oak-east/skellin");
    let (full, mut killed) = (size(&oak), 0);
    // Killed wherever it is, later each time, until one comes to its end; runs go on in between.
    let mut waited = Duration::from_millis(15);
    for step in 0.. {
        let mut reclaim = station.command(&["reclaim", "oak", "--quiet"]);
        let mut reclaim = reclaim.stderr(Stdio::null()).spawn().unwrap();
        let begun = std::time::Instant::now();
        let status = loop {
            match reclaim.try_wait().unwrap() {
                Some(status) => break status,
                None if begun.elapsed() >= waited => {
                    reclaim.kill().unwrap();
                    break reclaim.wait().unwrap();
                }
                None => std::thread::sleep(Duration::from_millis(1)),
            }
        };
        if status.success() {
            break;
        }
        killed += 1;
        waited = waited.mul_f64(1.2);
        let is_killed = status.signal() == Some(9);
        assert!(is_killed && step < 60, "no reclaim comes to its end: {status}");
    }
    assert!(killed > 3, "killed {killed} times");
    station.done(&["reclaim", "oak"]);
    let (left, fresh) = (size(&oak), size(&station.path("fresh")));
    assert!(left < full, "{left} of {full}");
    assert!(left * 100 <= fresh * 115, "{left} bytes, a fresh store has {fresh}");
    station.done(&["verify", "oak"]);
    let begun = jiff::Timestamp::now().as_second();
    for (plan, stays) in &staying {
        assert_eq!(station.snapshots(plan, "oak"), *stays);
        let (here, before) = (station.dated(plan, "oak"), station.dated(plan, "before"));
        for (id, time) in [0, here.len() / 2, here.len() - 1].map(|at| &here[at]) {
            let restored = |store: &str, id: &str| {
                let to = station.path(&format!("back-{store}-{id}"));
                station.done(&["restore", id, "--store", store, "--to", to.to_str().unwrap()]);
                let mut found = listing(&to);
                // Directories above the sources are no part of the snapshot, and new.
                found.retain(|_, facts| facts.content != [0; 0] || facts.modified.0 < begun);
                assert!(found.len() > 10, "{store} {id}: {}", found.len());
                found
            };
            // A copy has an id of its own, and the time of what it is a copy of.
            let copy = before.iter().find(|(_, other)| other == time);
            let (copy, _) = copy.unwrap_or_else(|| panic!("{plan} of {time} was copied"));
            assert!(restored("oak", id) == restored("before", copy), "{plan} of {time} differs");
        }
    }
}

#[test]
fn the_stations_history_bears_out_what_is_foretold() {
    let station = Station::new();
    let journal = Journal::open(&station.path("state")).unwrap();
    let entries = journal.entries(None, 10_000).unwrap();
    let runs = entries.iter().rev().filter(|entry| entry.work == Work::Run && entry.store == "oak");
    let mut begun = BTreeSet::new();
    let changes: Vec<FillChange> = runs
        .map(|entry| FillChange {
            time: entry.started,
            bytes: entry.bytes.stored as i64,
            is_first: entry.bytes.stored > 0 && begun.insert(entry.plan.clone()),
        })
        .collect();
    let last = changes.iter().map(|change| change.time).max().unwrap();
    let (mut within, mut all) = (0, 0);
    // From each day of the last four weeks on, what the next days brought.
    for back in 3..=28i64 {
        let now = last - back * DAY + DAY / 8;
        let told = filled(&changes, u64::MAX >> 12, now, &jiff::tz::TimeZone::UTC);
        for ahead in [3, 7, 14].into_iter().filter(|ahead| *ahead <= back) {
            let spread = Growth::expect(&told.added, ahead as usize).unwrap().after(ahead as usize);
            let until = now + ahead * DAY;
            let came = changes.iter().filter(|one| one.time > now && one.time <= until);
            let sum = came.map(|one| one.bytes as f64).sum::<f64>();
            all += 1;
            within += usize::from(spread.low <= sum && sum <= spread.high);
        }
    }
    let share = within as f64 / all as f64;
    assert!(share >= 0.65, "{within} of {all} lie within: {share:.2}");
}
