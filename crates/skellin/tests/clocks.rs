//! Clocks that are wrong: a run that is dated far ahead, or far back, changes nothing for those after
//! it.

use crate::world;

use serde_json::Value;
use skellin_engine::{Beginning, Ending, Journal, Outcome, Work};
use world::{
    World,
    common::{Running, content, open_store, plan_of, settle, write},
};

const DAY: i64 = 24 * 3600 * 1000;

fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// A plan of a hundred files and more, which stops and asks when many of them change at once.
fn station() -> World {
    let world = World::new();
    for number in 0..120 {
        write(&world.path(&format!("ridge/{number}")), content(number, 400));
    }
    settle(&world.path("ridge"));
    let source = world.path("ridge");
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\nshrink = \"40%\"\n",
            source.display()
        ),
    );
    world
}

/// A run whose clock says something else, as the journal has it too; its snapshot's id.
fn run_dated(world: &World, at: i64) -> String {
    let place: std::sync::Arc<dyn skellin_place::Place> =
        std::sync::Arc::new(skellin_place::DirectoryPlace::open(world.path("oak")).unwrap());
    let plan = plan_of(&[&world.path("ridge")], "");
    let report = Running::of(&plan).at(at).run(&open_store(&place));
    let journal = Journal::open(&world.path("state")).unwrap();
    let entry = journal.begin(&Beginning {
        work: Work::Run,
        plan: Some("readings"),
        store: "oak",
        machine: "hut",
        unattended: false,
        started: at,
    });
    let ending = Ending { snapshot: report.snapshot, ..Ending::at(at + 1000, Outcome::Done) };
    journal.finish(entry.unwrap(), &ending).unwrap();
    report.snapshot.unwrap().to_string()
}

/// Changes a tenth of the files, each time others.
fn change(world: &World, round: u64) {
    for number in (round * 12)..(round * 12 + 12) {
        write(&world.path(&format!("ridge/{number}")), content(1000 + number, 500));
    }
}

/// What `print` gives of a file, beside what it is now.
fn assert_newest(world: &World, file: u64) {
    let path = world.path(&format!("ridge/{file}"));
    let output = world.output(&["print", "readings@newest", path.to_str().unwrap()]);
    assert_eq!(output.stdout, std::fs::read(&path).unwrap(), "{file}");
}

#[test]
fn a_run_with_the_clock_ahead_is_no_base_for_ever_and_not_the_newest() {
    let world = station();
    world.done(&["run", "readings"]);
    change(&world, 0);
    let ahead = run_dated(&world, now() + 400 * DAY);
    let said = world.output(&["print", "readings@newest", world.path("ridge/0").to_str().unwrap()]);
    let (said, note) = (said.stdout, String::from_utf8(said.stderr).unwrap());
    assert_eq!(said, content(0, 400), "what is dated later than now is not the newest");
    assert!(note.contains(&ahead[..8]) && note.contains("the clock was ahead"), "{note}");
    for round in 1..7 {
        change(&world, round);
        let (status, report) = world.json(&["run", "readings"]);
        assert_eq!(status, 0, "round {round}: {report}");
        assert_eq!(report["runs"][0]["files"]["changed"], 12, "compared with the run before it");
        assert_newest(&world, round * 12);
        assert_newest(&world, 0);
    }
    let (status, report) = world.json(&["run", "readings"]);
    assert_eq!((status, &report["runs"][0]["files"]["changed"]), (0, &Value::from(0)));
    // It is shown as what it is.
    let (_, history) = world.json(&["history"]);
    let snapshots = history["snapshots"].as_array().unwrap();
    let marked: Vec<_> = snapshots.iter().filter(|one| one["ahead"] == true).collect();
    assert_eq!(marked.len(), 1);
    assert_eq!(marked[0]["id"], Value::from(ahead.clone()));
    assert!(world.done(&["history"]).contains("dated later than now"));
    let (_, doctor) = world.run(&["doctor", "--look-in", world.path("ridge").to_str().unwrap()]);
    assert!(doctor.contains("dated later than now") && doctor.contains("timedatectl"), "{doctor}");
    assert!(doctor.contains(&ahead[..8]) && !doctor.contains("it is late"), "{doctor}");
    // And it can be had by its id.
    let printed = world.output(&["print", &ahead, world.path("ridge/0").to_str().unwrap()]);
    assert_eq!(printed.stdout, content(1000, 500));
}

#[test]
fn a_clock_that_fell_back_leaves_the_last_run_the_newest() {
    let world = station();
    world.done(&["run", "readings"]);
    change(&world, 0);
    // A machine without a battery starts its time anew.
    run_dated(&world, 60_000);
    assert_newest(&world, 0);
    change(&world, 1);
    let (status, report) = world.json(&["run", "readings"]);
    assert_eq!((status, &report["runs"][0]["files"]["changed"]), (0, &Value::from(12)));
    assert_newest(&world, 12);
}

#[test]
fn copies_keep_the_order_of_the_runs() {
    let world = station();
    let text = std::fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let place = world.path("pier").display().to_string();
    world.stores(&format!(
        "{text}{}",
        text.replace("[oak]", "[pier]").replace(&world.path("oak").display().to_string(), &place,)
    ));
    let made = skellin_place::DirectoryPlace::prepare(world.path("pier"), skellin_store::FOLDERS);
    world::common::create_store(&made.unwrap());
    run_dated(&world, now() + 400 * DAY);
    change(&world, 0);
    world.done(&["run", "readings"]);
    world.done(&["replicate", "oak", "pier"]);
    let file = world.path("ridge/0");
    let asked = ["print", "readings@newest", file.to_str().unwrap(), "--store", "pier"];
    assert_eq!(world.output(&asked).stdout, content(1000, 500));
    let (_, again) = world.json(&["replicate", "oak", "pier"]);
    assert_eq!(again["copied"], 0, "{again}");
}
