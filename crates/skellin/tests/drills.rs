//! Drills as commands: by hand, by schedule, as on a new machine, and what they leave.

use crate::world;

use std::fs;

use world::{
    World,
    common::{content, settle, write},
    private,
};

#[test]
fn a_drill_proves_measures_and_is_remembered() {
    let world = World::new();
    world.usual_plan("");
    for number in 0..120 {
        write(&world.path(&format!("ridge/{}/{number}.csv", number % 4)), content(number, 3_000));
    }
    settle(&world.path("ridge"));
    let refused = world.output(&["drill", "readings"]);
    assert_ne!(refused.status.code(), Some(0), "there is no snapshot yet");
    world.done(&["run", "readings"]);
    let (status, report) = world.json(&["drill", "readings", "--sample", "50"]);
    assert_eq!((status, &report["status"]), (0, &"done".into()), "{report}");
    let files = &report["files"];
    assert!((20..=60).contains(&files["compared"].as_u64().unwrap()), "{report}");
    assert_eq!((&files["all"], &files["live"]), (&120.into(), &files["compared"]), "{report}");
    assert!(report["full-restore-seconds"].as_f64().unwrap() > 0.0);
    let text = world.done(&["drill", "readings", "--sample", "all"]);
    assert!(text.contains("120 of 120 files restored and compared"), "{text}");
    assert!(text.contains("the restore took") && text.contains("✓ everything matched"), "{text}");
    let (_, journal) = world.json(&["journal"]);
    let works = journal["entries"].as_array().unwrap().iter();
    let drills = works.filter(|entry| entry["work"] == "drill").count();
    assert_eq!(drills, 2, "{journal}");
    // As on a new machine: what is typed has to open it.
    let key = world.path("in-hand");
    write(&key, "not the one");
    private(&key);
    let key = key.display().to_string();
    let lost = ["drill", "readings", "--lost-machine", "--passphrase-file", &key];
    assert_eq!(world.output(&lost).status.code(), Some(5), "wrong passphrase");
    fs::copy(world.path("key"), world.path("in-hand")).unwrap();
    private(&world.path("in-hand"));
    let text = world.done(&lost);
    assert!(text.contains("with its place and the passphrase alone"), "{text}");
    for bad in ["0", "some", "-1"] {
        assert_eq!(world.output(&["drill", "readings", "--sample", bad]).status.code(), Some(2));
    }
    assert_eq!(world.output(&["drill", "nothing"]).status.code(), Some(2));
    assert_eq!(world.output(&["drill", "readings", "--store", "elm"]).status.code(), Some(2));
}

#[test]
fn a_store_that_lost_content_fails_the_drill_with_its_own_status() {
    let world = World::new();
    world.usual_plan("");
    for number in 0..30 {
        write(&world.path(&format!("ridge/{number}.csv")), content(number, 20_000));
    }
    settle(&world.path("ridge"));
    world.done(&["run", "readings"]);
    let data = fs::read_dir(world.path("oak/data")).unwrap().next().unwrap().unwrap().path();
    let mut bytes = fs::read(&data).unwrap();
    for at in (1000..bytes.len() - 2000).step_by(40_000) {
        bytes[at] ^= 1;
    }
    fs::write(&data, bytes).unwrap();
    let (status, report) = world.json(&["drill", "readings", "--sample", "all"]);
    assert_eq!((status, &report["status"]), (3, &"failed".into()), "{report}");
    let wrong = report["mismatch-count"].as_u64().unwrap();
    assert!(wrong > 0 && wrong + report["files"]["compared"].as_u64().unwrap() >= 30, "{report}");
    let doctor = world.output(&["doctor"]);
    let said = String::from_utf8_lossy(&doctor.stdout).into_owned();
    assert!(said.contains("the last drill found"), "{said}");
    // What was found is known: the next run stores it again, and then all is well.
    world.done(&["run", "readings"]);
    world.done(&["drill", "readings", "--sample", "all"]);
}

#[test]
fn a_scheduled_drill_is_due_once() {
    let world = World::new();
    world.usual_plan("");
    write(&world.path("ridge/notes.md"), "wind from the north");
    settle(&world.path("ridge"));
    world.done(&["run", "readings"]);
    let plan = world.path("config/plans/readings.toml");
    let text = fs::read_to_string(&plan).unwrap();
    write(&plan, format!("{text}\n[schedule]\ndrill = \"every 3 days\"\n"));
    let (_, due) = world.json(&["due"]);
    let of = |due: &serde_json::Value| {
        let works = due["stores"].as_array().unwrap().iter();
        let drill = works.clone().find(|one| one["work"] == "drill").unwrap();
        (drill["plan"].clone(), drill["due"].as_bool().unwrap())
    };
    let before = of(&due);
    assert_eq!(before.0, "readings");
    world.done(&["drill", "readings"]);
    let (_, due) = world.json(&["due"]);
    assert!(!of(&due).1, "{due}");
}

#[test]
fn a_share_of_the_data_is_another_one_each_time_until_all_is_proven() {
    let world = World::new();
    world.usual_plan("");
    for number in 0..40 {
        write(&world.path(&format!("ridge/{number}.bin")), content(number, 60_000));
    }
    settle(&world.path("ridge"));
    world.done(&["run", "readings"]);
    let proven = |report: &serde_json::Value| {
        let share = &report["proven"];
        (share["bytes"].as_u64().unwrap(), share["of"].as_u64().unwrap())
    };
    let (_, first) = world.json(&["verify", "oak", "--data", "25%"]);
    let (bytes, of) = proven(&first);
    assert!(bytes * 100 >= of * 25 && bytes < of, "{first}");
    let mut last = bytes;
    for _ in 0..3 {
        let (_, report) = world.json(&["verify", "oak", "--data", "25%"]);
        let (bytes, _) = proven(&report);
        assert!(bytes > last || bytes == of, "{report}");
        last = bytes;
    }
    assert_eq!(last, of, "four quarters are all of it");
    let text = world.done(&["verify", "oak", "--data", "none"]);
    assert!(text.contains("100% of the data proven"), "{text}");
}
