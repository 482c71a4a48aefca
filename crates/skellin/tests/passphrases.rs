//! Passphrases, renamed plans and moved stores, by the commands.

use crate::world;

use std::fs;

use world::{World, common::write, private};

fn secret(world: &World, name: &str, text: &str) -> String {
    write(&world.path(name), text);
    private(&world.path(name));
    world.path(name).display().to_string()
}

#[test]
fn passphrases_are_added_changed_and_revoked_and_runs_go_on() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "two terns\n");
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let (second, third) = (
        secret(&world, "second", "gannets over the stack"),
        secret(&world, "third", "fulmars below the ridge"),
    );
    let weak = secret(&world, "weak", "1234567890123");
    let (status, said) = world.fail(&["passphrase", "add", "oak", "--new-passphrase-file", &weak]);
    assert!(status == 7 && said.contains("only digits"), "{status}: {said}");
    world.done(&[
        "passphrase",
        "add",
        "oak",
        "--label",
        "in the safe",
        "--new-passphrase-file",
        &second,
    ]);
    let (_, listed) = world.json(&["passphrase", "list", "oak"]);
    let slots = listed["passphrases"].as_array().unwrap().clone();
    let id = |own: bool| {
        let slot = slots.iter().find(|slot| slot["in-use"] == own).unwrap();
        slot["id"].as_str().unwrap().to_owned()
    };
    assert_eq!(slots.len(), 2);
    assert!(slots.iter().any(|slot| slot["label"] == "in the safe" && slot["added"].is_string()));
    let (status, said) = world.fail(&["passphrase", "revoke", "oak", &id(true), "--yes"]);
    assert!(status != 0 && said.contains("this is the passphrase in use"), "{status}: {said}");
    // The key file that stores.toml names goes with it, and the next run needs nobody.
    let before = fs::read(world.path("key")).unwrap();
    let changed = world.done(&["passphrase", "change", "oak", "--new-passphrase-file", &third]);
    assert!(changed.contains("written to"), "{changed}");
    assert_ne!(fs::read(world.path("key")).unwrap(), before);
    write(&world.path("ridge/notes.md"), "three terns\n");
    world.done(&["run", "readings"]);
    let place = world.path("oak").display().to_string();
    let history =
        |file: &str| world.run(&["history", "--place", &place, "--passphrase-file", file]).0;
    let old = secret(&world, "old", std::str::from_utf8(&before).unwrap());
    assert_eq!((history(&old), history(&second), history(&third)), (5, 0, 0));
    world.done(&["passphrase", "revoke", "oak", &id(false)[..8], "--yes"]);
    assert_eq!((history(&second), history(&third)), (5, 0));
    let (status, said) = world.fail(&["history", "--place", &place, "--passphrase-file", &second]);
    assert!(status == 5 && said.contains("wrong passphrase for store"), "{said}");
}

#[test]
fn a_plan_is_renamed_and_its_history_stays_with_it() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "two terns\n");
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let (status, said) = world.fail(&["plan", "rename", "readings", "Not This"]);
    assert!(status == 2 && said.contains("not a valid plan name"), "{said}");
    world.done(&["plan", "rename", "readings", "gauges"]);
    assert!(!world.path("config/plans/readings.toml").exists());
    world.done(&["plan", "check"]);
    write(&world.path("ridge/more.md"), "three terns\n");
    let (_, run) = world.json(&["run", "gauges"]);
    let files = &run["runs"][0]["files"];
    assert_eq!(
        (&files["new"], &files["gone"]),
        (&1.into(), &0.into()),
        "it goes on from what was: {run}"
    );
    let (_, history) = world.json(&["history", "gauges"]);
    let plans: Vec<_> =
        history["snapshots"].as_array().unwrap().iter().map(|one| one["plan"].clone()).collect();
    assert_eq!(plans, ["gauges", "gauges"]);
    let (_, journal) = world.json(&["journal", "gauges"]);
    assert_eq!(journal["entries"].as_array().unwrap().len(), 2);
    let versions = world.done(&["versions", "gauges", "notes.md"]);
    assert!(versions.contains("1 version"), "{versions}");
    let to = world.path("back").display().to_string();
    world.done(&["restore", "gauges@newest", "--to", &to]);
    assert_eq!(fs::read_to_string(world.path("back/ridge/notes.md")).unwrap(), "two terns\n");
    // A second time it keeps the series it had.
    world.done(&["plan", "rename", "gauges", "levels"]);
    let (_, history) = world.json(&["history", "levels"]);
    assert_eq!(history["snapshots"].as_array().unwrap().len(), 2);
}

#[test]
fn a_store_is_moved_only_to_where_it_is() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "two terns\n");
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let at = |name: &str| world.path(name).display().to_string();
    let (status, said) = world.fail(&["store", "move", "oak", &at("elm")]);
    assert!(status == 5 && said.contains("does not exist"), "{status}: {said}");
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    // Another store is no move.
    let other = format!(
        "{stores}\n[elm]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        at("elm"),
        at("key")
    );
    write(&world.path("config/stores.toml"), &other);
    world.done(&["store", "create", "elm"]);
    let (status, said) = world.fail(&["store", "move", "oak", &at("elm")]);
    assert!(status != 0 && said.contains("another store is at"), "{status}: {said}");
    write(&world.path("config/stores.toml"), format!("# the pair\n{stores}"));
    fs::rename(world.path("oak"), world.path("ash")).unwrap();
    // What was here is gone, and no other is put in its place by the way.
    let (status, said) = world.fail(&["store", "create", "oak"]);
    assert!(
        status == 7 && said.contains("held snapshots on") && said.contains("mount its drive"),
        "{said}"
    );
    world.done(&["store", "move", "oak", &at("ash")]);
    let now = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    assert!(now.starts_with("# the pair\n") && now.contains("/ash\""), "{now}");
    let (_, run) = world.json(&["run", "readings"]);
    assert_eq!(run["runs"][0]["files"]["same"], 1, "{run}");
}

#[test]
fn a_recovery_code_is_printed_once_and_opens_what_it_should() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "two terns\n");
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let (status, added) = world.json(&["passphrase", "add", "oak", "--recovery-code"]);
    assert_eq!(status, 0, "{added}");
    let code = added["recovery-code"].as_str().unwrap().to_owned();
    assert_eq!(code.split('-').map(str::len).collect::<Vec<_>>(), [5; 6], "{code}");
    let listed = world.done(&["passphrase", "list", "oak"]);
    assert!(listed.contains("recovery code") && !listed.contains(&code), "{listed}");
    // On a machine that knows nothing but the place and what is typed, in small letters.
    let place = world.path("oak").display().to_string();
    let typed = secret(&world, "typed", &code.to_lowercase().replace('-', " "));
    let back = world.path("back").display().to_string();
    let restore = ["restore", "readings@newest", "--to", &back];
    let by_hand = ["--place", &place, "--passphrase-file", &typed];
    world.done(&[&restore[..], &by_hand[..]].concat());
    assert_eq!(fs::read_to_string(world.path("back/ridge/notes.md")).unwrap(), "two terns\n");
    // One that only restores does the same, and nothing that writes.
    let args = ["passphrase", "add", "oak", "--recovery-code", "--restore-only"];
    let (_, added) = world.json(&args);
    let code = added["recovery-code"].as_str().unwrap();
    let only = secret(&world, "only", code);
    let by_hand = ["--place", &place, "--passphrase-file", &only];
    let verify = world.done(&[&["verify"], &by_hand[..]].concat());
    assert!(verify.contains("no damage"), "{verify}");
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let key = world.path("key").display().to_string();
    world.stores(&stores.replace(&key, &only));
    let before = fs::read_dir(world.path("oak/snapshots")).unwrap().count();
    for refused in [
        &["run", "readings"][..],
        &["reclaim", "oak"],
        &["passphrase", "add", "oak", "--recovery-code"],
        &["history", "--pin", "newest"],
    ] {
        let output = world.output(refused);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_ne!(output.status.code(), Some(0), "{refused:?}: {said}");
    }
    let (_, said) = world.fail(&["run", "readings"]);
    assert!(said.contains("only restores"), "{said}");
    assert_eq!(fs::read_dir(world.path("oak/snapshots")).unwrap().count(), before);
    assert!(world.done(&["drill", "readings"]).contains("everything matched"));
}
