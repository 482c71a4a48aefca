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

fn command(folder: &std::path::Path) -> Command {
    let mut command = Command::new(program());
    command
        .env("SKELLIN_CONFIG", folder.join("config"))
        .env("SKELLIN_STATE", folder.join("state"))
        .env("SKELLIN_CACHE", folder.join("cache"));
    command
}

#[test]
fn a_damaged_store_is_found_and_mended_on_the_screen() {
    let folder = world(true);
    let containers = || {
        let listed = fs::read_dir(folder.path().join("oak/data")).unwrap();
        listed.map(|entry| entry.unwrap().path()).collect::<Vec<_>>()
    };
    let screen = Screen::start(120, 32, folder.path(), program());
    screen.wait(&["readings", "oak"]);
    screen.keys(&["s"]);
    screen.wait(&["─ Stores ─", "v", "verify"]);
    screen.keys(&["v"]);
    screen.wait(&["Verification of store oak", "✓ No damage.", "Containers"]);
    screen.keys(&["Enter"]);
    // The files still hold what the newest snapshots need.
    let modified = |path: &std::path::PathBuf| fs::metadata(path).unwrap().modified().unwrap();
    let newest = containers().into_iter().max_by_key(modified).unwrap();
    let mut bytes = fs::read(&newest).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&newest, bytes).unwrap();
    screen.keys(&["v"]);
    screen.wait(&["✕ 1 object is damaged:", "data/", "m repairs it"]);
    screen.keys(&["m"]);
    screen.wait(&["✓ 1 object repaired. No damage is left."]);
    screen.keys(&["Enter"]);
    screen.wait(&["─ Stores ─"]);
    let verified = command(folder.path()).args(["verify", "oak"]).output().unwrap();
    assert!(verified.status.success(), "{}", String::from_utf8_lossy(&verified.stdout));
}

#[test]
fn with_a_passphrase_that_only_restores_there_are_was_and_the_tray() {
    let folder = world(true);
    let path = |below: &str| folder.path().join(below);
    write(&path("reads"), "guillemots only look");
    let private = |file: &str| {
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o600);
        fs::set_permissions(path(file), mode).unwrap();
    };
    private("reads");
    let new = path("reads").display().to_string();
    let added = command(folder.path())
        .args(["passphrase", "add", "oak", "--restore-only", "--new-passphrase-file", &new])
        .output()
        .unwrap();
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stderr));
    fs::copy(path("reads"), path("key")).unwrap();
    private("key");
    let screen = Screen::start(120, 32, folder.path(), program());
    let text = screen.wait(&["─ Was ─", "everything can be restored", "restore only", "tray"]);
    assert!(!text.contains("Proof") && !text.contains("dry run"), "{text}");
    // Nothing else opens, whatever is pressed.
    for key in ["s", "j", "p", "r", "d", "a", "End", "Right"] {
        screen.keys(&[key]);
    }
    screen.keys(&["?"]);
    let help = screen.wait(&["restore this path"]);
    assert!(!help.contains("run now") && !help.contains("write a rule"), "{help}");
    screen.keys(&["Escape"]);
    let text = screen.wait(&["─ Was ─", "restore only"]);
    assert!(!text.contains("─ Stores ─"), "{text}");
    // The tray restores.
    screen.keys(&["Down", "t", "T"]);
    screen.wait(&["Tray"]);
    screen.keys(&["Escape"]);
    screen.wait(&["─ Was ─"]);
    screen.keys(&["q"]);
}
