//! Proof and drills in a real terminal.

use crate::terminal;

use std::{fs, process::Command};

use terminal::{
    Screen,
    common::{settle, write},
    world,
};

fn program() -> &'static str {
    env!("CARGO_BIN_EXE_skellin")
}

#[test]
fn a_goal_that_is_missed_is_told_at_once_and_a_drill_is_watched() {
    let folder = world(true);
    let path = |below: &str| folder.path().join(below);
    let plan = path("config/plans/readings.toml");
    let text = fs::read_to_string(&plan).unwrap();
    write(&plan, format!("{text}\n[goal]\ncopies = 2\nback-within = \"4 hours\"\n"));
    // Files that have not changed for a while can be compared with.
    settle(&path("readings"));
    let ran = Command::new(program())
        .args(["run", "readings", "--quiet"])
        .env("SKELLIN_CONFIG", path("config"))
        .env("SKELLIN_STATE", path("state"))
        .env("SKELLIN_CACHE", path("cache"))
        .status();
    assert!(ran.unwrap().success());
    let screen = Screen::start(120, 32, folder.path(), program());
    screen.wait(&["1 of 2 plans safe ─ ✕ readings: 1 copy of 2 wanted"]);
    screen.keys(&["p"]);
    screen.wait(&[
        "1 plan short of the goal",
        "Weakest point",
        "✕ 1 copy of 2 wanted.",
        "Nothing tells how long a full restore takes.",
        "2 copies, full restore within 4 h",
        "not measured",
        "nothing proven",
    ]);
    screen.keys(&["d"]);
    screen.wait(&["Drill of readings", "✓ Everything matched.", "Live files", "Full restore"]);
    screen.keys(&["Enter"]);
    let text = screen.wait(&["just now", "drill", "compared"]);
    assert!(!text.contains("Nothing tells how long"), "{text}");
    // What does not match is told, and stays told.
    let source = path("readings/notes.md");
    let modified = fs::metadata(&source).unwrap().modified().unwrap();
    let mut bytes = fs::read(&source).unwrap();
    bytes[0] ^= 1;
    fs::write(&source, bytes).unwrap();
    fs::File::options().write(true).open(&source).unwrap().set_modified(modified).unwrap();
    screen.keys(&["d"]);
    screen.wait(&["✕ 1 file does not match:", "the file in its source has other content"]);
    screen.keys(&["Enter"]);
    screen.wait(&["✕ A drill", "restored files that did not match", "1 of 2 plans safe"]);
}
