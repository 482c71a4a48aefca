//! Damage heals: whoever meets it says so, and the next run stores again what it needs. Each kind of
//! object region by region is `cargo xtask damage`'s.

use crate::world;

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
    process::Command,
};

use serde_json::Value;
use world::World;
use world::common::{assert_same, content, settle, write};

/// A source of some directories, and a snapshot of it.
fn world() -> World {
    let world = World::new();
    for number in 0..160 {
        let path = format!("ridge/{}/{}/gauge-{number}.csv", number % 4, number % 8);
        write(&world.path(&path), content(2 * number, 2500));
    }
    write(&world.path("ridge/long.dat"), content(1000, 300_000));
    world.usual_plan("");
    settle(&world.path("ridge"));
    world.done(&["run", "readings"]);
    world
}

fn objects(world: &World, folder: &str) -> Vec<PathBuf> {
    let listed = fs::read_dir(world.path("oak").join(folder)).unwrap();
    let mut found: Vec<_> = listed.map(|entry| entry.unwrap().path()).collect();
    found.sort_by_key(|path| fs::metadata(path).unwrap().modified().unwrap());
    found
}

fn flip(path: &Path, at: usize) {
    let mut bytes = fs::read(path).unwrap();
    bytes[at] ^= 1;
    fs::write(path, bytes).unwrap();
}

/// A change of the source and a run; its status and what it said.
fn run(world: &World, seed: u64) -> (i32, Value) {
    write(&world.path("ridge/2/2/gauge-2.csv"), content(seed, 2600));
    world.json(&["run", "readings"])
}

/// The newest snapshot restores to what the source holds.
fn assert_whole(world: &World) {
    let back = world.path("back");
    let _ = fs::remove_dir_all(&back);
    let to = back.display().to_string();
    world.done(&["restore", "readings@newest", "--to", &to]);
    assert_same(&world.path("ridge"), &back.join("ridge"));
}

#[test]
fn a_flipped_byte_in_a_tree_costs_nothing_and_poisons_no_run() {
    let world = world();
    let tree = objects(&world, "trees").pop().unwrap();
    flip(&tree, 300);
    // One copy: every snapshot is whole, the run says what it met, and writes two copies again.
    assert_whole(&world);
    let (status, first) = run(&world, 9001);
    assert!([0, 4].contains(&status), "{first}");
    assert_whole(&world);
    assert_eq!(run(&world, 9003).0, 0);
    assert_whole(&world);
}

#[test]
fn a_tree_that_lost_both_copies_costs_its_snapshot_and_no_later_one() {
    let world = world();
    let tree = objects(&world, "trees").pop().unwrap();
    let spare = world.path("oak/spares").join(tree.file_name().unwrap());
    for copy in [&tree, &spare] {
        let length = fs::metadata(copy).unwrap().len() as usize;
        (200..length - 600).step_by(40).for_each(|at| flip(copy, at));
    }
    let to = world.path("lost").display().to_string();
    assert_eq!(world.fail(&["restore", "readings@newest", "--to", &to]).0, 3);
    let (status, first) = run(&world, 9001);
    assert!(status == 4 || status == 0, "{first}");
    assert_whole(&world);
    assert_eq!(first["runs"][0]["bytes"]["new"].as_u64().unwrap(), 2600, "content is known still");
    assert_eq!(run(&world, 9003).0, 0);
    assert_whole(&world);
}

#[test]
fn a_container_that_is_not_as_long_as_it_was_is_not_built_upon() {
    for length in [0, 10_000] {
        let world = world();
        let container = objects(&world, "data").remove(0);
        fs::File::options().write(true).open(&container).unwrap().set_len(length).unwrap();
        // Also with a cache that knows the index.
        let (status, first) = run(&world, 9001);
        let run = &first["runs"][0];
        assert_eq!((status, run["status"].as_str()), (4, Some("exceptions")), "{first}");
        assert!(run["bytes"]["new"].as_u64().unwrap() > 10_000, "stored again: {first}");
        let named = run["damage"][0]["container"].as_str().unwrap();
        assert!(container.ends_with(named.strip_prefix("data/").unwrap()), "{first}");
        assert_whole(&world);
        // It is known from now on: a run is done, and none takes it for changed files.
        let (status, second) = self::run(&world, 9003);
        assert_eq!((status, &second["runs"][0]["files"]["changed"]), (0, &Value::from(1)));
        assert_whole(&world);
    }
}

#[test]
fn what_restore_or_verify_meets_is_stored_again_by_the_next_run() {
    for verifies in [true, false] {
        let world = world();
        let container = objects(&world, "data").remove(0);
        flip(&container, 5000);
        if verifies {
            let (status, report) = world.json(&["verify", "oak"]);
            let files = report["damage"][0]["files"].as_array().unwrap();
            assert!(status == 3 && !files.is_empty(), "{report}");
        } else {
            let to = world.path("lost").display().to_string();
            let (status, said) = world.fail(&["restore", "readings@newest", "--to", &to]);
            assert_eq!(status, 3, "{said}");
        }
        let (status, first) = run(&world, 9001);
        assert_eq!(status, 0, "{first}");
        assert_eq!(first["runs"][0]["files"]["changed"], 1, "nobody changed the others: {first}");
        assert!(first["runs"][0]["bytes"]["new"].as_u64().unwrap() > 10_000, "{first}");
        assert_whole(&world);
    }
}

#[test]
fn garbage_in_place_of_containers_names_every_file_in_them() {
    let world = world();
    let containers = objects(&world, "data");
    for is_empty in [false, true] {
        for container in &containers {
            let length = if is_empty { 0 } else { fs::metadata(container).unwrap().len() };
            fs::write(container, content(5, length as usize)).unwrap();
        }
        let (status, report) = world.json(&["verify", "oak"]);
        assert_eq!(status, 3);
        let damage = report["damage"].as_array().unwrap().iter();
        let named: BTreeSet<String> = damage
            .flat_map(|damage| damage["files"].as_array().unwrap())
            .map(ToString::to_string)
            .collect();
        let to = world.path("lost").display().to_string();
        let _ = fs::remove_dir_all(&to);
        let (_, restored) = world.json(&["restore", "readings@newest", "--to", &to]);
        let lost = restored["exceptions"].as_array().unwrap().len();
        assert!(named.len() == lost && lost > 5, "{named:?} named, {lost} lost");
    }
}

#[test]
fn a_damaged_slot_is_no_wrong_passphrase_and_the_other_copy_opens() {
    let world = world();
    let slots = objects(&world, "keys");
    let whole = fs::read(&slots[0]).unwrap();
    for at in (0..whole.len()).step_by(5) {
        flip(&slots[0], at);
        world.done(&["history"]);
        fs::write(&slots[0], &whole).unwrap();
    }
    for slot in &slots {
        flip(slot, whole.len() / 2);
    }
    let (status, said) = world.fail(&["history"]);
    assert!(status == 3 && said.contains("is damaged"), "{said}");
}

#[test]
fn a_snapshot_of_which_one_copy_is_left_is_listed_and_restores() {
    let world = world();
    for folder in ["snapshots", "spares"] {
        let copy = objects(&world, folder);
        let copy = copy.iter().find(|path| path.file_name().unwrap().len() > 60).unwrap();
        let bytes = fs::read(copy).unwrap();
        fs::remove_file(copy).unwrap();
        let (_, history) = world.json(&["history", "readings"]);
        assert_eq!(history["snapshots"].as_array().unwrap().len(), 1, "{folder}");
        assert_whole(&world);
        let (status, report) = world.json(&["verify", "oak"]);
        assert!(status == 3 && report["damage"][0]["reason"] == "it does not exist", "{report}");
        fs::write(copy, bytes).unwrap();
    }
    assert_eq!(world.run(&["verify", "oak"]).0, 0);
}

/// A full file system under cache and state, and a cache that another program cuts: nothing of it
/// ends a command by a signal, and what works without them works.
#[test]
fn a_full_disk_under_cache_and_state_ends_no_command() {
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let world = world();
    let inside = |script: &str| {
        let skellin = env!("CARGO_BIN_EXE_skellin");
        let mounts = "mount -t tmpfs -o size=64k none $SKELLIN_CACHE && mount -t tmpfs -o size=64k none $SKELLIN_STATE";
        let fill = "for d in $SKELLIN_CACHE $SKELLIN_STATE; do dd if=/dev/zero of=$d/full bs=4k >/dev/null 2>&1; done";
        let mut command = Command::new("unshare");
        let line = format!("{mounts} && {{ {fill}; {}; }}", script.replace("SKELLIN", skellin));
        command.args(["--mount", "sh", "-c", &line]);
        for (name, value) in world.command(&[]).get_envs() {
            command.env(name, value.unwrap());
        }
        command.output().unwrap()
    };
    let to = world.path("back").display().to_string();
    for (script, fine) in [
        ("SKELLIN run readings".to_owned(), true),
        ("SKELLIN verify oak".to_owned(), true),
        (format!("SKELLIN restore readings@newest --to {to}"), true),
        ("SKELLIN history".to_owned(), true),
        ("SKELLIN doctor".to_owned(), false),
        ("SKELLIN journal".to_owned(), false),
        ("SKELLIN due --run".to_owned(), false),
    ] {
        let output = inside(&script);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        let status = output.status.code().unwrap_or(255);
        assert!(status < 10, "{script}: {status} {said}");
        assert!(!fine || status == 0, "{script}: {status} {said}");
    }
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
}
