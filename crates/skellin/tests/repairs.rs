//! Repairs by the command: from parity, from the files, from another store, and after kills.

use crate::world;

use std::{
    fs,
    path::{Path, PathBuf},
    time::Duration,
};

use world::World;
use world::common::{assert_same, content, create_store, settle, write};

/// A source and a snapshot of it; `more`: what stores.toml says more of the store.
fn world(more: &str) -> World {
    let world = World::new();
    for number in 0..60 {
        let path = format!("ridge/{}/gauge-{number}.csv", number % 4);
        write(&world.path(&path), content(2 * number, 2500));
    }
    write(&world.path("ridge/long.dat"), content(1000, 300_000));
    write(&world.path("more"), more);
    stores(&world, "");
    world.usual_plan("");
    settle(&world.path("ridge"));
    world.done(&["run", "readings"]);
    world
}

fn stores(world: &World, others: &str) {
    let more = fs::read_to_string(world.path("more")).unwrap();
    let (oak, key) = (world.path("oak"), world.path("key"));
    world.stores(&format!(
        "[oak]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n{more}\n{others}",
        oak.display(),
        key.display()
    ));
}

/// The largest container of data.
fn container(world: &World) -> PathBuf {
    let listed = fs::read_dir(world.path("oak/data")).unwrap();
    let all = listed.map(|entry| entry.unwrap().path());
    all.max_by_key(|path| fs::metadata(path).unwrap().len()).unwrap()
}

/// Blanks a part, in percent of the object.
fn blank(path: &Path, from: usize, to: usize) {
    let mut bytes = fs::read(path).unwrap();
    let length = bytes.len();
    bytes[length * from / 100..length * to / 100].fill(0);
    fs::write(path, bytes).unwrap();
}

fn assert_whole(world: &World, truth: &str) {
    let back = world.path("back");
    let _ = fs::remove_dir_all(&back);
    world.done(&["restore", "readings@newest", "--to", &back.display().to_string()]);
    assert_same(&world.path(truth), &back.join("ridge"));
}

#[test]
fn parity_mends_by_itself_what_is_within_its_share() {
    let world = world("parity = \"3%\"");
    fs::rename(world.path("ridge"), world.path("truth")).unwrap();
    blank(&container(&world), 40, 43);
    let (status, found) = world.json(&["verify", "oak"]);
    assert_eq!(status, 3, "{found}");
    assert_eq!(found["damage"][0]["files"].as_array().unwrap().len(), 0, "{found}");
    // Nothing is lost, also before anybody repairs it.
    assert_whole(&world, "truth");
    let (status, repaired) = world.json(&["verify", "oak", "--repair"]);
    assert_eq!((status, &repaired["repaired"]), (4, &1.into()), "{repaired}");
    assert_eq!(repaired["damage"][0]["repaired"], true);
    assert!(world.done(&["verify", "oak"]).contains("no damage"));
    assert!(world.done(&["verify", "oak", "--repair"]).contains("nothing to repair"));
    assert_whole(&world, "truth");
    let journal = world.done(&["journal"]);
    assert!(journal.contains("repair") && journal.contains("1 object repaired"), "{journal}");
}

#[test]
fn without_parity_the_files_or_another_store_help_and_else_what_is_lost_is_told() {
    let world = world("");
    let elm = world.path("elm");
    create_store(&skellin_place::DirectoryPlace::prepare(&elm, skellin_store::FOLDERS).unwrap());
    let key = world.path("key").display().to_string();
    let others =
        format!("[elm]\nplace = \"{}\"\npassphrase = {{ file = \"{key}\" }}\n", elm.display());
    // The files still hold what is lost.
    blank(&container(&world), 20, 60);
    let (status, repaired) = world.json(&["verify", "oak", "--repair"]);
    assert_eq!(status, 4, "{repaired}");
    assert!(repaired["stored-anew"].as_u64().unwrap() > 0);
    assert_whole(&world, "ridge");
    // Another store holds it.
    stores(&world, &others);
    world.done(&["replicate", "oak", "elm"]);
    fs::rename(world.path("ridge"), world.path("truth")).unwrap();
    blank(&container(&world), 20, 60);
    let (status, repaired) = world.json(&["verify", "oak", "--repair"]);
    assert_eq!(status, 4, "{repaired}");
    assert_whole(&world, "truth");
    // Nobody does: the rest comes back, and what is lost is named.
    stores(&world, "");
    blank(&container(&world), 20, 60);
    let (status, left) = world.json(&["verify", "oak", "--repair"]);
    let damage = left["damage"].as_array().unwrap();
    assert!(status == 3 && left["status"] == "failed", "{left}");
    let is_told = |one: &serde_json::Value| {
        one["repaired"] == false && !one["files"].as_array().unwrap().is_empty()
    };
    assert!(damage.iter().any(is_told), "{left}");
    let back = world.path("rest").display().to_string();
    let (status, rest) = world.json(&["restore", "readings@newest", "--to", &back]);
    assert!(
        status == 3 && rest["exceptions"].as_array().is_some_and(|all| !all.is_empty()),
        "{rest}"
    );
    assert!(rest["restored"].as_u64().unwrap() > 20, "{rest}");
}

#[test]
fn a_repair_that_is_killed_harms_nothing_and_the_next_one_ends() {
    let world = world("parity = \"10%\"");
    fs::rename(world.path("ridge"), world.path("truth")).unwrap();
    blank(&container(&world), 50, 58);
    for step in 0..10 {
        let mut child = world.command(&["verify", "oak", "--repair"]).spawn().unwrap();
        // By the moment, not by a condition: wherever it is then.
        std::thread::sleep(Duration::from_millis(20 + 25 * step));
        child.kill().unwrap();
        child.wait().unwrap();
        assert_whole(&world, "truth");
    }
    let (status, last) = world.json(&["verify", "oak", "--repair"]);
    assert!([0, 4].contains(&status), "{last}");
    assert!(world.done(&["verify", "oak"]).contains("no damage"));
    assert_whole(&world, "truth");
}
