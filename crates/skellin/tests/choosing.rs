//! What is included and what that takes, as the commands tell it: mounts, outlooks, rules that
//! decide nothing, what no plan takes.

use crate::world;

use std::{collections::BTreeMap, fs, process::Command};

use serde_json::Value;
use world::World;
use world::common::{content, settle, write};

/// What a dry run makes of each path below the source, with some file systems mounted in it.
fn verdicts(world: &World, rules: &str, mounts: &str) -> BTreeMap<String, String> {
    world.usual_plan(rules);
    let root = world.path("ridge");
    let script = format!(
        "set -e; cd {}; {mounts}; exec {} run readings --dry-run -v --json",
        root.display(),
        env!("CARGO_BIN_EXE_skellin")
    );
    // A name space of its own, so that nothing is mounted for anybody else.
    let output = Command::new("unshare")
        .args(["--mount", "sh", "-c", &script])
        .env("SKELLIN_CONFIG", world.path("config"))
        .env("SKELLIN_STATE", world.path("state"))
        .env("SKELLIN_CACHE", world.path("cache"))
        .output()
        .unwrap();
    let errors = String::from_utf8_lossy(&output.stderr);
    assert!(
        output.status.success(),
        "mounting in a name space of its own must be allowed: {errors}"
    );
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    let paths = report["runs"][0]["paths"].as_array().unwrap();
    let of = |path: &Value| {
        let name = path["path"].as_str().unwrap().strip_prefix(root.to_str().unwrap()).unwrap();
        (name.to_owned(), path["change"].as_str().unwrap().to_owned())
    };
    paths.iter().map(of).collect()
}

#[test]
fn mounts_in_a_source_are_followed_or_left_out_and_never_without_end() {
    // Said aloud by those who start the tests where nobody may mount.
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let world = World::new();
    for path in ["real/x", "bound/hidden", "other/hidden", "loop/hidden"] {
        write(&world.path("ridge").join(path), "x");
    }
    let mounts =
        "mount --bind real bound; mount --bind . loop; mount -t tmpfs none other; echo y > other/y";
    let all = verdicts(&world, "", mounts);
    for path in ["/real/x", "/bound/x", "/other/y", "/loop/real/x", "/loop/loop/hidden"] {
        assert_eq!(all.get(path).map(String::as_str), Some("new"), "{path} in {all:?}");
    }
    assert!(all.keys().all(|path| !path.contains("/loop/loop/loop")), "{all:?}");
    let without = verdicts(&world, "skip other-filesystems", mounts);
    assert_eq!(without.get("/other").map(String::as_str), Some("skipped"));
    assert_eq!(without.get("/bound/x").map(String::as_str), Some("new"), "the same file system");
    assert!(!without.contains_key("/other/y"));
}

#[test]
fn a_dry_run_says_what_a_run_would_store_take_and_cost() {
    let world = World::new();
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let price = "price = { currency = \"EUR\", gib-month = 100 }\n";
    world.stores(&format!("{stores}{price}"));
    world.usual_plan("");
    write(&world.path("ridge/a.bin"), content(2, 3 << 20));
    let (_, first) = world.json(&["run", "readings", "--dry-run"]);
    let outlook = &first["runs"][0]["outlook"];
    let stored = outlook["stored"].as_u64().unwrap();
    assert!((3 << 20..4 << 20).contains(&stored), "{outlook}");
    assert_eq!(outlook["runs"], 0);
    let cost = &outlook["cost-month"];
    let more = cost["after"].as_f64().unwrap() - cost["now"].as_f64().unwrap();
    assert!((more - stored as f64 / f64::from(1 << 30) * 100.0).abs() < 0.01, "{cost}");
    assert_eq!(cost["currency"], "EUR");
    let (status, text) = world.run(&["run", "readings", "--dry-run"]);
    assert_eq!(status, 0);
    assert!(text.contains("to store") && text.contains("no run has been timed yet"), "{text}");
    assert!(text.contains("EUR a month instead of 0.00"), "{text}");
    settle(&world.path("ridge"));
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    write(&world.path("ridge/b.bin"), content(4, 1 << 20));
    let (_, second) = world.json(&["run", "readings", "--dry-run"]);
    let outlook = &second["runs"][0]["outlook"];
    assert_eq!(outlook["runs"], 1, "the journal tells by now");
    let range: Vec<f64> = outlook["seconds-range"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one.as_f64().unwrap())
        .collect();
    let seconds = outlook["seconds"].as_f64().unwrap();
    assert!(range[0] <= seconds && seconds <= range[1], "{outlook}");
}

#[test]
fn rules_the_last_run_had_no_use_for_are_noted() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "x");
    write(&world.path("ridge/x.part"), "x");
    world.usual_plan("skip *.part\nskip *.old over 1 KiB\nskip .cache/");
    let check = || world.run(&["plan", "check"]).1;
    assert!(!check().contains("matched no path"), "nothing has been run yet");
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    let said = check();
    let notes: Vec<&str> = said.lines().filter(|line| line.contains("matched no path")).collect();
    assert_eq!(notes.len(), 2, "{said}");
    assert!(notes[0].contains("readings.toml:7: `skip *.old over 1 KiB`"), "{said}");
    assert!(notes[1].contains("readings.toml:8: `skip .cache/`"), "{said}");
    // New rule written since then has not had its chance.
    world.usual_plan("skip *.part\nskip *.new");
    assert!(!check().contains("matched no path"));
}

#[test]
fn the_doctor_has_a_status_for_scripts() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "x");
    for number in 0..9 {
        write(&world.path(&format!("letters/{number}.odt")), "x");
    }
    world.usual_plan("");
    let look_in = world.folder.path().display().to_string();
    let (status, found) = world.json(&["doctor", "--look-in", &look_in]);
    let found = found["findings"].as_array().unwrap();
    let tells = |subject: &str, what: &str| {
        found.iter().any(|one| {
            one["subject"].as_str().unwrap().ends_with(subject)
                && one["what"].as_str().unwrap().contains(what)
                && !one["hint"].as_str().unwrap().is_empty()
        })
    };
    assert_eq!(status, 4);
    assert!(tells("plan readings", "no successful run"), "{found:?}");
    assert!(tells("/letters", "9 of them irreplaceable"), "{found:?}");
    assert!(tells("store oak", "same file system"), "{found:?}");
    assert!(!tells("/ridge", "") && !tells("/oak", "") && !tells("/state", ""), "{found:?}");
    world.usual_plan("skipp *.part");
    let (status, text) = world.run(&["doctor", "--look-in", &look_in]);
    assert!(status == 2 && text.contains("1 mistake"), "{status}: {text}");
}
