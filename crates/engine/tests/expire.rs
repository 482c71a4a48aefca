//! Snapshots that go by a plan's sentences: with all reasons, and never unasked where it is hardly meant.

use crate::common;

use std::{path::Path, sync::Arc};

use common::{content, memory_store, newest, open_store, scratch, write};
use skellin_engine::{
    Cancel, Configuration, EngineError, Event, Failure, Held, Journal, MovedClock, Orchestrator,
    RunAndCopies, RunOptions,
};
use skellin_place::Place;
use skellin_standins::noise;
use skellin_store::Store;

const DAY: i64 = 86_400_000;
/// 1 November 2026, 21:40 UTC.
const EVENING: i64 = 1_793_569_200_000;

struct World {
    folder: tempfile::TempDir,
    journal: Journal,
    places: [Arc<dyn Place>; 2],
}

impl World {
    fn new() -> Self {
        let folder = scratch();
        let below = |path: &str| folder.path().join(path);
        let stores = "[oak]\nplace = \"/nowhere/oak\"\n[pier]\nplace = \"/nowhere/pier\"\n";
        write(&below("config/stores.toml"), stores);
        let journal = Journal::open(&common::folders_below(folder.path()).state).unwrap();
        let world = Self { folder, journal, places: [memory_store().1, memory_store().1] };
        world.source(0);
        world
    }

    fn source(&self, night: u64) {
        write(&self.path().join("ridge/register"), content(night, 5_000));
    }

    fn path(&self) -> &Path {
        self.folder.path()
    }

    fn store(&self, name: &str) -> Arc<Store> {
        open_store(&self.places[usize::from(name == "pier")])
    }

    /// A night's run with all that follows it, by a plan of these words.
    fn night(&self, at: i64, words: &str) -> RunAndCopies<EngineError> {
        self.source(at.unsigned_abs());
        self.with(at, words, |orchestrator, plan| {
            let open = |store: &str| Ok(self.store(store));
            let options = RunOptions { unattended: true, ..RunOptions::default() };
            orchestrator.run_whole(plan, options, &open, &|_| {})
        })
    }

    fn with<T>(
        &self,
        at: i64,
        words: &str,
        work: impl FnOnce(&Orchestrator<'_>, &skellin_plan::Plan) -> T,
    ) -> T {
        let text = format!(
            "sources = [\"{}/ridge\"]\nstore = \"oak\"\nzone = \"UTC\"\n{words}",
            self.path().display()
        );
        write(&self.path().join("config/plans/readings.toml"), text);
        let configuration = Configuration::load(common::folders_below(self.path())).unwrap();
        let file = configuration.plan_file("readings").unwrap();
        assert_eq!(file.problems, []);
        let orchestrator = Orchestrator {
            configuration: &configuration,
            journal: Some(&self.journal),
            machine: "hut",
            clock: &MovedClock::at(at),
            cancel: &Cancel::new(),
            events: &|_: Event| {},
        };
        work(&orchestrator, file.plan.as_ref().unwrap())
    }

    /// Which nights a store still has.
    fn nights(&self, store: &str) -> Vec<i64> {
        let listed = self.store(store).snapshots().unwrap();
        listed.iter().map(|one| (one.started - EVENING) / DAY).collect()
    }
}

const AFTER: &str = "[schedule]\nexpire = \"after run\"\n";

#[test]
fn nights_expire_after_good_runs_in_every_store_by_its_own_sentences() {
    let world = World::new();
    let words = format!(
        "retain = [\"one a day for 3 days\", \"one a week for 2 weeks\"]\n[[copy]]\nstore = \"pier\"\nretain = [\"at least 5\"]\n{AFTER}"
    );
    for night in 0..20 {
        let done = world.night(EVENING + night * DAY, &words);
        assert!(done.run.is_ok() && done.copies.iter().all(|(_, copy)| copy.is_ok()));
        let copied = done.copies[0].1.as_ref().unwrap().copied;
        assert_eq!(copied, 1, "what has expired there is not copied again");
        assert!(done.expired.iter().all(|(_, expired)| expired.as_ref().unwrap().held.is_none()));
    }
    // Night 0 is a Sunday, so that weeks end with nights 0, 7, 14; the last night is 19.
    assert_eq!(world.nights("oak"), [7, 14, 16, 17, 18, 19]);
    assert_eq!(world.nights("pier"), [15, 16, 17, 18, 19]);
    common::assert_clean(&world.places[0]);
    // Every one left has its reasons, all of them.
    let reasons = world.with(EVENING + 19 * DAY, &words, |orchestrator, plan| {
        let store = world.store("oak");
        let report = orchestrator.dry_run_expiry(plan, ("oak", &store), false).unwrap();
        let appraisal = report.appraisal;
        appraisal.fates.iter().map(|fate| appraisal.because(fate).join(", ")).collect::<Vec<_>>()
    });
    assert_eq!(reasons[0], "one a week for 2 weeks");
    assert_eq!(reasons[2], "one a day for 3 days");
    assert_eq!(
        reasons[5],
        "the newest snapshot never expires, one a day for 3 days, one a week for 2 weeks"
    );
}

#[test]
fn changed_sentences_let_many_go_only_if_somebody_agrees() {
    let world = World::new();
    let before = "retain = [\"one a day for 4 weeks\"]\n";
    (0..10).for_each(|night| drop(world.night(EVENING + night * DAY, before)));
    let after = format!("retain = [\"one a day for 2 days\"]\n{AFTER}");
    for night in 10..12 {
        let done = world.night(EVENING + night * DAY, &after);
        assert_eq!(done.expired[0].1.as_ref().unwrap().held, Some(Held::Changed));
    }
    assert_eq!(world.nights("oak").len(), 12, "it is asked for as long as nobody has agreed");
    world.with(EVENING + 12 * DAY, &after, |orchestrator, plan| {
        let asked = std::cell::Cell::new(0);
        let agree = |appraisal: &skellin_engine::expire::Appraisal, held: Option<Held>| {
            assert_eq!(held, Some(Held::Changed));
            asked.set(appraisal.changed().len());
            true
        };
        let open = || -> Result<_, EngineError> { Ok(world.store("oak")) };
        let done = orchestrator.expire(plan, "oak", false, &agree, open).unwrap();
        assert!(done.is_done && asked.get() == 10, "{}", asked.get());
    });
    assert_eq!(world.nights("oak"), [10, 11]);
}

#[test]
fn nothing_expires_while_the_guard_is_up() {
    let world = World::new();
    let words = format!("retain = [\"at least 2\"]\n{AFTER}");
    for file in 0..300 {
        write(&world.path().join(format!("ridge/{file}")), content(file, 100));
    }
    (0..3).for_each(|night| drop(world.night(EVENING + night * DAY, &words)));
    assert_eq!(world.nights("oak"), [1, 2]);
    std::fs::remove_dir_all(world.path().join("ridge")).unwrap();
    std::fs::create_dir(world.path().join("ridge")).unwrap();
    let done = world.night(EVENING + 3 * DAY, &words);
    assert!(done.run.unwrap().snapshot.is_none() && done.expired.is_empty());
    let one = "retain = [\"at least 1\"]\n";
    world.with(EVENING + 3 * DAY, one, |orchestrator, plan| {
        let store = world.store("oak");
        let report = orchestrator.dry_run_expiry(plan, ("oak", &store), false).unwrap();
        assert_eq!((report.held, report.appraisal.going().count()), (Some(Held::Shrunk), 1));
    });
    assert_eq!(world.nights("oak"), [1, 2]);
}

#[test]
fn a_machine_that_goes_on_continues_the_series_and_one_beside_it_has_its_own() {
    let world = World::new();
    let words = |machine: &str| format!("machine = \"{machine}\"\nretain = [\"at least 3\"]\n");
    let foretold = |machine: &str| {
        world.with(EVENING + 30 * DAY, &words(machine), |orchestrator, plan| {
            let store = world.store("oak");
            let report = orchestrator.dry_run_expiry(plan, ("oak", &store), false).unwrap();
            report.appraisal.fates.iter().map(|fate| fate.decision.stays()).collect::<Vec<_>>()
        })
    };
    (0..4).for_each(|night| drop(world.night(EVENING + night * DAY, &words("hut"))));
    (4..6).for_each(|night| drop(world.night(EVENING + night * DAY, &words("mast"))));
    assert_eq!(foretold("mast"), [false, false, false, true, true, true]);
    // The first is back: they take turns, so that neither's snapshots count for the other's.
    world.night(EVENING + 6 * DAY, &words("hut"));
    assert_eq!(foretold("mast"), [false, false, true, true, true, true, true]);
    assert_eq!(newest(&world.store("oak")).machine, "hut");
}

#[test]
fn a_clock_that_has_jumped_empties_no_store() {
    let world = World::new();
    let words = format!("retain = [\"one a day for 2 weeks\"]\n{AFTER}");
    (0..8).for_each(|night| drop(world.night(EVENING + night * DAY, &words)));
    let done = world.night(EVENING + 3000 * DAY, &words);
    assert_eq!(done.expired[0].1.as_ref().unwrap().held, Some(Held::MostAtOnce));
    assert_eq!(world.nights("oak").len(), 9);
}

#[test]
fn a_store_that_cannot_be_opened_is_told_of() {
    let world = World::new();
    let words = format!("retain = [\"at least 1\"]\n{AFTER}");
    let opened = std::cell::Cell::new(0);
    let done = world.with(EVENING, &words, |orchestrator, plan| {
        let open = |store: &str| match opened.replace(opened.get() + 1) {
            0 => Ok(world.store(store)),
            _ => Err(EngineError::Cancelled),
        };
        orchestrator.run_whole(plan, RunOptions::default(), &open, &|_| {})
    });
    assert!(done.run.is_ok());
    assert!(done.expired[0].1.as_ref().is_err_and(Failure::is_interruption));
}

#[test]
fn a_goal_lets_the_oldest_go_until_there_is_room_and_no_more() {
    let world = World::new();
    let none = "retain = [\"at least 2\", \"at most 9 TiB\"]\n";
    for night in 0..8u64 {
        // Each night's file is there in that night alone.
        write(&world.path().join("ridge/tonight"), noise(&format!("tonight {night}"), 200_000));
        world.night(EVENING + night as i64 * DAY, none);
    }
    let going = |words: &str| {
        world.with(EVENING + 8 * DAY, words, |orchestrator, plan| {
            let store = world.store("oak");
            let report = orchestrator.dry_run_expiry(plan, ("oak", &store), false).unwrap();
            let goes = report.appraisal.fates.iter().map(|fate| !fate.decision.stays());
            (goes.collect::<Vec<bool>>(), report.appraisal.unmet_goals())
        })
    };
    assert_eq!(going(none), (vec![false; 8], Vec::new()));
    let used = world.store("oak").usage().unwrap().bytes / 1024;
    let wanted = |kib: u64| format!("retain = [\"at least 2\", \"at most {kib} KiB\"]\n");
    // Three nights of 200 000 bytes are about 586 KiB.
    let (goes, unmet) = going(&wanted(used - 500));
    let expected: Vec<bool> = (0..8).map(|night| night < 3).collect();
    assert_eq!((goes, unmet.len()), (expected, 0));
    // What other sentences retain stays, also if the goal is not met then.
    let (goes, unmet) = going(&wanted(100));
    assert_eq!(goes, (0..8).map(|night| night < 6).collect::<Vec<bool>>());
    assert_eq!(unmet, ["at most 100 KiB"]);
}
