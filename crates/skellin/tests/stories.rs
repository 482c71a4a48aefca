//! Whole stories: the demo's, the journal's, and that of a plan made from nothing.

use crate::world;

use std::{fs, process::Command};

use world::{
    World,
    common::{scratch, write},
    private,
};

const PROGRAM: &str = env!("CARGO_BIN_EXE_skellin");

#[test]
fn the_whole_story_of_the_demo_holds() {
    let folder = scratch();
    let told = Command::new(PROGRAM)
        .args(["demo", "--headless", "--dir"])
        .arg(folder.path().join("ridge"))
        .output()
        .unwrap();
    let text = String::from_utf8(told.stdout).unwrap();
    assert!(told.status.success(), "{text}\n{}", String::from_utf8_lossy(&told.stderr));
    for step in [
        "dry run says",
        "as foretold",
        "only the difference",
        "with its time",
        "no damage",
        "place and the passphrase alone",
        "its SHA-256 shown",
        "16 files, then 4 new and 1 changed",
        "and nothing twice",
        "which are missing",
        "the drive that came back is up to date again",
        "pair: no damage",
        "it is repaired, no damage is left",
        "Every step held (17 steps)",
    ] {
        assert!(text.contains(step), "{step}\n{text}");
    }
    // A second time in the same directory nothing is touched.
    let again = Command::new(PROGRAM)
        .args(["demo", "--headless", "--dir"])
        .arg(folder.path().join("ridge"))
        .output()
        .unwrap();
    assert_eq!(again.status.code(), Some(2));
}

#[test]
fn the_journal_tells_of_every_run_restore_and_verification_and_of_no_dry_run() {
    let world = World::new();
    world.plan(
        "readings",
        &format!("sources = [\"{}\"]\nstore = \"oak\"\n", world.path("data").display()),
    );
    write(&world.path("data/notes.md"), "two terns\n");
    world.done(&["run", "readings", "--dry-run"]);
    assert!(!world.path("state/journal.sqlite").exists(), "a dry run leaves no trace");
    world.done(&["run", "readings"]);
    world.done(&[
        "restore",
        "readings@newest",
        "--to",
        world.path("back").to_str().unwrap(),
        "--dry-run",
    ]);
    world.done(&["restore", "readings@newest", "--to", world.path("back").to_str().unwrap()]);
    world.done(&["verify", "oak"]);
    fs::rename(world.path("oak"), world.path("away")).unwrap();
    assert_eq!(world.run(&["run", "readings"]).0, 5);
    let (_, said) = world.json(&["journal"]);
    let entries = said["entries"].as_array().unwrap();
    let told: Vec<_> = entries
        .iter()
        .map(|entry| (entry["work"].as_str().unwrap(), entry["status"].as_str().unwrap()))
        .collect();
    assert_eq!(told, [("run", "failed"), ("verify", "done"), ("restore", "done"), ("run", "done")]);
    assert!(entries[0]["words"].as_str().unwrap().contains("the place does not exist"));
    assert_eq!(entries[3]["files"]["new"], 1);
    assert!(entries[3]["snapshot"].is_string());
    let number = entries[0]["number"].to_string();
    let text = world.done(&["journal", "--run", &number]);
    assert!(
        text.contains("the place does not exist") && text.contains("whether its drive is mounted"),
        "{text}"
    );
    assert_eq!(world.json(&["journal", "ringing"]).1["entries"], serde_json::json!([]));
    assert_eq!(world.run(&["journal", "--run", "4711"]).0, 2);
}

#[test]
fn a_plan_is_drafted_checked_and_saved() {
    let world = World::bare();
    write(&world.path("records/notes.md"), "two terns\n");
    write(&world.path("records/x.part"), "half\n");
    write(&world.path("key"), "terns over the pier\n");
    private(&world.path("key"));
    let (records, oak, key) = (world.path("records"), world.path("store"), world.path("key"));
    let base = [
        "plan",
        "new",
        records.to_str().unwrap(),
        "--store",
        "oak",
        "--at",
        oak.to_str().unwrap(),
        "--passphrase-file",
        key.to_str().unwrap(),
        "--rule",
        "skip *.part",
        "--about",
        "Records",
    ];
    let with = |more: &[&str]| world.output(&[base.as_slice(), more].concat());
    for (more, expected) in [
        (["--run", "dayly at 9:00"].as_slice(), "did you mean `daily`?"),
        (&["--name", "No Good"], "is not a valid plan name"),
        (&["--rule", "skpi x"], "did you mean `skip`?"),
        (&[], "no terminal to confirm saving it"),
    ] {
        let refused = with(more);
        let said = String::from_utf8(refused.stderr).unwrap();
        assert_eq!(refused.status.code(), Some(2), "{said}");
        assert!(said.contains(expected), "{expected}\n{said}");
        assert!(!oak.exists() && !world.path("config/stores.toml").exists(), "nothing is written");
    }
    let saved = with(&["--run", "daily at 21:40", "--yes"]);
    let said = String::from_utf8(saved.stdout).unwrap();
    assert_eq!(saved.status.code(), Some(0), "{said}\n{}", String::from_utf8_lossy(&saved.stderr));
    for expected in [
        "snapshots",
        "mirror",
        "run = \"daily at 21:40\"",
        "1 new",
        "1 skipped",
        "skellin run records",
    ] {
        assert!(said.contains(expected), "{expected}\n{said}");
    }
    assert_eq!(world.json(&["plan", "check"]).1["problems"], serde_json::json!([]));
    world.done(&["run", "records"]);
    // The store is known now, and what stands in its file stays.
    let stores = world.path("config/stores.toml");
    let text = format!("# ours\n{}", fs::read_to_string(&stores).unwrap());
    write(&stores, &text);
    world.done(&[
        "plan",
        "new",
        records.to_str().unwrap(),
        "--store",
        "oak",
        "--name",
        "again",
        "--yes",
    ]);
    assert_eq!(fs::read_to_string(&stores).unwrap(), text);
    let (status, said) = world.fail(&[
        "plan",
        "new",
        records.to_str().unwrap(),
        "--store",
        "oak",
        "--name",
        "again",
        "--yes",
    ]);
    assert!(status == 2 && said.contains("there is already a plan `again`"), "{said}");
}

#[test]
fn a_verdict_is_explained_with_its_file_and_line() {
    let world = World::new();
    write(&world.path("ridge/notes/a.csv"), "1".repeat(5000));
    write(&world.path("ridge/made/CACHEDIR.TAG"), "");
    write(&world.path("config/plans/shared.rules"), "# ours\nskip *.csv over 1 KiB\n");
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\"]\nstore = \"oak\"\nrules-from = [\"builtin:caches\", \"shared.rules\"]\nrules = '''\nskip notes/\ntake notes/**\ntake *.log\nskip *.log\nskip /var/x\n'''\n",
            world.path("ridge").display()
        ),
    );
    let path = |below: &str| world.path(below).display().to_string();
    let (status, said) = world.json(&[
        "explain",
        "readings",
        &path("ridge/notes/a.csv"),
        &path("ridge/made/x"),
        "/nowhere",
    ]);
    assert_eq!(status, 0);
    let [csv, made, nowhere] = [0, 1, 2].map(|number| said["paths"][number].clone());
    assert_eq!(
        (csv["verdict"].as_str(), csv["rule"].as_str()),
        (Some("take"), Some("take notes/**"))
    );
    assert!(
        csv["file"].as_str().unwrap().ends_with("plans/readings.toml") && csv["line"] == 6,
        "{csv}"
    );
    let overruled: Vec<_> = csv["overruled"]
        .as_array()
        .unwrap()
        .iter()
        .map(|rule| rule["line"].as_u64().unwrap())
        .collect();
    assert_eq!(overruled, [2, 5]);
    assert_eq!(
        (made["verdict"].as_str(), made["file"].as_str()),
        (Some("skip"), Some("builtin:caches"))
    );
    assert_eq!(made["exists"], false);
    assert_eq!((nowhere["verdict"].as_str(), nowhere["rule"].is_null()), (Some("skip"), true));
    let text = world.done(&["explain", "readings", &path("ridge")]);
    assert!(
        text.contains("no rule matches")
            && text.contains("1 file, 4.9 KiB included; 1 path excluded"),
        "{text}"
    );
    // What can never decide is said by the check, and all rules are shown with where they stand.
    let text = world.done(&["plan", "check"]);
    assert!(
        text.contains("readings.toml:7: `take *.log`: it has no effect: `skip *.log`"),
        "{text}"
    );
    assert!(
        text.contains("`skip /var/x`: it matches nothing") && text.contains("no mistakes"),
        "{text}"
    );
    let text = world.done(&["plan", "show", "readings"]);
    for expected in
        ["builtin:caches", "skip holding CACHEDIR.TAG", "shared.rules", "skip *.csv over 1 KiB"]
    {
        assert!(text.contains(expected), "{expected}\n{text}");
    }
}

#[test]
fn a_sudden_loss_stops_a_run_until_somebody_agrees() {
    let world = World::new();
    for number in 0..40 {
        write(&world.path(&format!("ridge/record-{number:02}")), format!("{number}"));
    }
    world.plan(
        "readings",
        &format!("sources = [\"{}\"]\nstore = \"oak\"\n", world.path("ridge").display()),
    );
    world.done(&["run", "readings"]);
    for number in 0..30 {
        fs::remove_file(world.path(&format!("ridge/record-{number:02}"))).unwrap();
    }
    let text = world.done(&["run", "readings", "--dry-run"]);
    assert!(text.contains("▲ 30 of 40 files are gone (75%)"), "{text}");
    let (status, said) = world.json(&["run", "readings"]);
    let run = &said["runs"][0];
    assert_eq!(
        (status, run["status"].as_str(), run["snapshot"].is_null()),
        (7, Some("guarded"), true)
    );
    assert_eq!(
        (run["guard"]["gone"].as_u64(), run["guard"]["before"].as_u64()),
        (Some(30), Some(40))
    );
    let entry = world.json(&["journal", "--limit", "1"]).1["entries"][0].clone();
    assert_eq!(entry["status"], "guarded");
    assert!(entry["words"].as_str().unwrap().contains("30 of 40"));
    world.done(&["run", "readings", "--agree"]);
    world.done(&["run", "readings"]);
}
