//! Commands around a run: in their order, undone whatever happens, made up for after a crash.

use crate::common;

use std::{
    fs,
    path::PathBuf,
    sync::{Arc, Mutex},
};

use common::{memory_store, open_store, scratch, write};
use skellin_engine::{
    Cancel, Configuration, EngineError, Event, Journal, MovedClock, Orchestrator, Outcome,
    RunOptions, RunReport, RunStatus, Work, owed_leaves,
};
use skellin_store::Store;

struct World {
    folder: tempfile::TempDir,
    configuration: Configuration,
    store: Arc<Store>,
    journal: Journal,
    notes: Mutex<Vec<String>>,
}

impl World {
    /// A plan with these pairs of commands; `DIR` in them is the world's directory.
    fn new(around: &str) -> Self {
        let folder = scratch();
        let path = |below: &str| folder.path().join(below);
        write(&path("config/stores.toml"), format!("[oak]\nplace = \"{}\"", path("oak").display()));
        write(&path("ridge/notes.md"), "two terns\n");
        let here = folder.path().display().to_string();
        let text = format!("sources = [\"{here}/ridge\"]\nstore = \"oak\"\n{around}");
        write(&path("config/plans/readings.toml"), text.replace("DIR", &here));
        let folders = common::folders_below(folder.path());
        let configuration = Configuration::load(folders).unwrap();
        let (_, place) = memory_store();
        let journal = Journal::open(&path("state")).unwrap();
        let store = open_store(&place);
        Self { folder, configuration, store, journal, notes: Mutex::default() }
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    fn conduct<T>(&self, cancel: &Cancel, work: impl FnOnce(&Orchestrator<'_>) -> T) -> T {
        let events = |event: Event| {
            if let Event::Note(note) = event {
                self.notes.lock().unwrap().push(note);
            }
        };
        work(&Orchestrator {
            configuration: &self.configuration,
            journal: Some(&self.journal),
            machine: "hut",
            clock: &MovedClock::at(1_790_000_000_000),
            cancel,
            events: &events,
        })
    }

    fn run(&self, cancel: &Cancel) -> Result<RunReport, EngineError> {
        let plan = self.configuration.plan_file("readings").unwrap().plan.as_ref().unwrap();
        self.conduct(cancel, |orchestrator| {
            orchestrator.run(plan, RunOptions::default(), || Ok(Arc::clone(&self.store)))
        })
    }

    /// What the commands wrote down, line by line.
    fn log(&self) -> Vec<String> {
        let text = fs::read_to_string(self.path("log")).unwrap_or_default();
        text.lines().map(str::to_owned).collect()
    }

    /// Kind and outcome of each step of the newest entry.
    fn steps(&self) -> Vec<(String, Outcome)> {
        let newest = self.journal.entries(None, 1).unwrap().remove(0);
        let steps = self.journal.steps(newest.id).unwrap();
        steps.into_iter().map(|step| (step.kind, step.outcome)).collect()
    }
}

fn pair(name: &str, enter: &str, leave: &str, more: &str) -> String {
    let say = |part: &str, then: &str| {
        let script = format!(
            "echo {part}-{name} $SKELLIN_PLAN $SKELLIN_STATUS >>DIR/log; test -e DIR/card || true; {then}"
        );
        format!("[\"sh\", \"-c\", \"{script}\"]")
    };
    format!(
        "[[around]]\nenter = {}\nleave = {}\n{more}\n",
        say("enter", enter),
        say("leave", leave)
    )
}

#[test]
fn pairs_are_entered_in_order_and_left_in_reverse_as_soon_as_all_is_read() {
    let world =
        World::new(&(pair("first", "true", "true", "") + &pair("second", "true", "true", "")));
    let report = world.run(&Cancel::new()).unwrap();
    assert_eq!(report.status, RunStatus::Done);
    assert_eq!(
        world.log(),
        [
            "enter-first readings reading",
            "enter-second readings reading",
            "leave-second readings read",
            "leave-first readings read"
        ]
    );
    let kinds: Vec<String> = world.steps().into_iter().map(|(kind, _)| kind).collect();
    assert_eq!(kinds, ["reach", "enter", "enter", "read", "leave", "leave", "store"]);
    assert!(owed_leaves(&world.path("state")).is_empty());
    let log = fs::read_to_string(world.path("state/journal.log")).unwrap();
    assert!(log.contains("leave sh -c") && log.contains("ends: done"), "{log}");
}

#[test]
fn a_failure_to_enter_stops_the_run_or_not_and_is_always_left() {
    let world = World::new(
        &(pair("first", "true", "true", "")
            + &pair("second", "echo no gauge >&2; exit 3", "true", "")),
    );
    let error = world.run(&Cancel::new()).unwrap_err();
    let words = error.to_string();
    assert!(words.contains("exit status 3") && words.contains("no gauge"), "{words}");
    let left = ["leave-second readings failed", "leave-first readings failed"];
    assert_eq!(world.log()[2..], left);
    assert_eq!(world.journal.entries(None, 1).unwrap()[0].outcome, Outcome::Failed);
    assert!(owed_leaves(&world.path("state")).is_empty());

    let world = World::new(&pair("only", "exit 3", "true", "if-enter-fails = \"go-on\""));
    let report = world.run(&Cancel::new()).unwrap();
    assert!(report.snapshot.is_some() && report.status == RunStatus::Exceptions);
    assert!(report.not_entered[0].contains("status 3"), "{:?}", report.not_entered);
    assert_eq!(world.log().len(), 2);
}

#[test]
fn what_cannot_be_left_is_no_success() {
    let world = World::new(&pair("only", "true", "exit 9", ""));
    let report = world.run(&Cancel::new()).unwrap();
    assert!(report.snapshot.is_some() && report.status == RunStatus::Exceptions);
    assert!(report.not_left[0].contains("status 9"), "{:?}", report.not_left);
    let entry = world.journal.entries(None, 1).unwrap().remove(0);
    assert!(entry.words.is_some_and(|words| words.contains("`leave` failed")));
    assert!(entry.hint.is_some_and(|hint| hint.contains("may still be stopped")));
}

#[test]
fn interruptions_and_time_outs_leave_too() {
    let cancel = Cancel::new();
    let world = World::new(&pair("only", "sleep 60", "true", ""));
    let report = std::thread::scope(|scope| {
        let run = scope.spawn(|| world.run(&cancel));
        while world.log().is_empty() {
            std::thread::yield_now();
        }
        cancel.cancel();
        run.join().unwrap()
    });
    assert_eq!(report.unwrap().status, RunStatus::Interrupted);
    assert_eq!(world.log()[1..], ["leave-only readings interrupted"]);

    let world = World::new(&pair("only", "sleep 60", "true", "timeout = \"1 second\""));
    let error = world.run(&Cancel::new()).unwrap_err();
    assert!(error.to_string().contains("timed out after 1 s"), "{error}");
    assert_eq!(world.log()[1..], ["leave-only readings failed"]);
}

#[test]
fn what_a_crash_left_owed_is_made_up_for_before_the_next_run_and_by_whoever_looks() {
    let owed = |world: &World| {
        let leave = format!("echo made-up $SKELLIN_STATUS >>{}/log", world.folder.path().display());
        let text = serde_json::json!({"plan": "readings", "store": "oak",
            "commands": [{"leave": ["sh", "-c", leave], "on": null, "seconds": 60}]});
        write(&world.path("state/owed/readings.json"), text.to_string());
        assert_eq!(owed_leaves(&world.path("state")).len(), 1);
    };
    let world = World::new(&pair("only", "true", "true", ""));
    owed(&world);
    world.run(&Cancel::new()).unwrap();
    assert_eq!(world.log()[0], "made-up interrupted");
    assert_eq!(world.steps()[0], ("leave".to_owned(), Outcome::Done));
    owed(&world);
    let done = world.conduct(&Cancel::new(), |orchestrator| orchestrator.make_up_for_leaves());
    assert_eq!((done, world.log().last().unwrap().as_str()), (1, "made-up interrupted"));
    let entry = world.journal.entries(None, 1).unwrap().remove(0);
    assert_eq!((entry.work, entry.outcome), (Work::Leave, Outcome::Done));
    assert!(owed_leaves(&world.path("state")).is_empty());
    // One that is being run right now leaves by itself.
    owed(&world);
    let lock = skellin_engine::PlanLock::take(&world.path("state"), "readings").unwrap();
    assert_eq!(world.conduct(&Cancel::new(), |orchestrator| orchestrator.make_up_for_leaves()), 0);
    drop(lock);
}

#[test]
fn a_full_state_directory_keeps_no_run_from_being_made() {
    let world = World::new(&pair("only", "true", "true", ""));
    // Root writes anywhere; what cannot be made is a directory in place of a file.
    write(&world.path("state/owed"), "no directory");
    let report = world.run(&Cancel::new()).unwrap();
    assert_eq!(report.status, RunStatus::Done);
    assert_eq!(world.log().len(), 2);
    let notes = world.notes.lock().unwrap().join("\n");
    assert!(notes.contains("its `leave` commands are not run"), "{notes}");
}
