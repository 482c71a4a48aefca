//! `expire` and pins as people and scripts use them.

use std::fs;

use serde_json::Value;

use crate::world::World;

fn times(world: &World) -> Vec<String> {
    let (status, history) = world.json(&["history", "readings"]);
    assert_eq!(status, 0);
    let ids = history["snapshots"].as_array().unwrap().iter();
    ids.map(|one| one["id"].as_str().unwrap().to_owned()).collect()
}

fn plan(world: &World, retain: &str) {
    let source = world.path("ridge");
    fs::create_dir_all(&source).unwrap();
    fs::write(source.join("notes.md"), "two terns").unwrap();
    world.plan(
        "readings",
        &format!("sources = [\"{}\"]\nstore = \"oak\"\n{retain}", source.display()),
    );
}

#[test]
fn what_nothing_retains_goes_and_what_is_pinned_stays() {
    let world = World::new();
    plan(&world, "retain = [\"at least 2\"]\n");
    for night in 0..4 {
        fs::write(world.path("ridge/notes.md"), format!("night {night}")).unwrap();
        world.done(&["run", "readings"]);
    }
    let ids = times(&world);
    let (_, pinned) = world.json(&["history", "--pin", &ids[0][..8]]);
    assert_eq!(pinned["snapshots"][0]["id"].as_str(), Some(ids[0].as_str()));
    let (status, foretold) = world.json(&["expire", "readings", "--dry-run"]);
    assert_eq!((status, foretold["status"].as_str()), (0, Some("done")));
    let id_of = |one: &Value| one["snapshot"].as_str().unwrap().to_owned();
    let expired: Vec<String> = foretold["expired"].as_array().unwrap().iter().map(id_of).collect();
    assert_eq!(expired, ids[1..2]);
    assert_eq!(foretold["expired"][0]["because"], "at least 2: enough newer ones");
    assert_eq!(foretold["retained"][0]["because"], serde_json::json!(["pinned"]));
    assert_eq!(times(&world), ids, "a dry run leaves no trace");
    let text = world.done(&["expire", "readings"]);
    assert!(text.contains("3 snapshots stay, 1 expired"), "{text}");
    assert_eq!(times(&world), [ids[0].clone(), ids[2].clone(), ids[3].clone()]);
    let (_, history) = world.json(&["history", "readings"]);
    let newest = &history["snapshots"][2];
    assert_eq!(
        newest["retained-by"],
        serde_json::json!(["the newest snapshot never expires", "at least 2"])
    );
    assert_eq!(history["snapshots"][0]["pinned"], true);
    assert!(world.done(&["history"]).contains("pinned"));
    world.done(&["history", "--unpin", &ids[0]]);
    world.done(&["expire", "readings"]);
    assert_eq!(times(&world), ids[2..]);
    world.done(&["verify", "oak"]);
    let (status, said) = world.fail(&["history", "--pin", &ids[0]]);
    assert!(status == 2 && said.contains("no snapshot has an id"), "{said}");
    let journal = world.done(&["journal"]);
    assert!(journal.contains("1 snapshot expired"), "{journal}");
}

#[test]
fn a_changed_sentence_asks_before_many_go() {
    let world = World::new();
    plan(&world, "");
    (0..6).for_each(|_| drop(world.done(&["run", "readings"])));
    assert!(world.done(&["expire", "readings"]).contains("none expires"));
    plan(&world, "retain = [\"at least 1\"]\n");
    let (status, said) = world.json(&["expire", "readings"]);
    assert_eq!((status, said["status"].as_str()), (7, Some("guarded")));
    assert_eq!(said["expired"].as_array().unwrap().len(), 5);
    let (status, said) = world.fail(&["expire", "readings"]);
    assert!(status == 7 && said.contains("`retain` has changed"), "{said}");
    assert_eq!(times(&world).len(), 6);
    world.done(&["expire", "readings", "--agree"]);
    assert_eq!(times(&world).len(), 1, "the newest stays");
}

#[test]
fn the_room_comes_back_and_what_stays_restores() {
    let world = World::new();
    plan(&world, "retain = [\"at least 2\"]\n");
    let content = |night: u64| crate::common::content(night, 400_000);
    for night in 0..6 {
        fs::write(world.path("ridge/register"), content(night)).unwrap();
        world.done(&["run", "readings"]);
    }
    world.done(&["expire", "readings"]);
    let before = fs::read_dir(world.path("oak/data")).unwrap().count();
    let (status, foretold) = world.json(&["reclaim", "oak", "--dry-run"]);
    assert_eq!((status, foretold["status"].as_str()), (0, Some("done")));
    assert_eq!(fs::read_dir(world.path("oak/data")).unwrap().count(), before);
    let (status, done) = world.json(&["reclaim", "oak"]);
    assert_eq!(status, 0);
    assert_eq!(done["bytes"]["freed"], foretold["bytes"]["freed"]);
    let bytes = |key: &str| done["bytes"][key].as_u64().unwrap();
    assert!(bytes("freed") * 2 > bytes("before"), "four of six nights are gone: {done}");
    let (_, again) = world.json(&["reclaim", "oak"]);
    assert_eq!(again["containers"]["deleted"], 0);
    world.done(&["verify", "oak"]);
    for (at, id) in times(&world).iter().enumerate() {
        let to = world.path(&format!("back-{at}"));
        world.done(&["restore", id, "--to", to.to_str().unwrap()]);
        assert_eq!(fs::read(to.join("ridge/register")).unwrap(), content(4 + at as u64));
    }
    let journal = world.done(&["journal"]);
    assert!(journal.contains("freed"), "{journal}");
    let (status, said) = world.fail(&["reclaim", "elm"]);
    assert!(status == 2 && said.contains("no store `elm`"), "{said}");
}
