//! Reclaims at servers that others have written, while another machine's run is under way.

use std::fs;

use skellin_standins::Pace;

use crate::{
    distant::{Distant, Kind},
    world::common::{assert_same, content, settle, write},
};

fn space_comes_back_beside_another_machines_run(kind: Kind) {
    let distant = Distant::new(kind, 2, Pace { rate: Some(3_000_000), ..Pace::default() });
    let world = &distant.world;
    let ids = || -> Vec<String> {
        let (_, history) = world.json(&["history"]);
        let found = history["snapshots"].as_array().unwrap().iter();
        found.map(|one| one["id"].as_str().unwrap().to_owned()).collect()
    };
    let plan = fs::read_to_string(world.path("config/plans/readings.toml")).unwrap();
    world.plan("readings", &plan.replace("[[around]]", "retain = [\"at least 1\"]\n[[around]]"));
    for night in 0..3 {
        write(&world.path("ridge/0"), content(500 + night, 1 << 20));
        settle(&world.path("ridge"));
        world.done(&["run", "readings"]);
    }
    world.done(&["expire", "readings"]);
    assert_eq!(ids().len(), 1);
    // Another machine, which knows nothing of this one: it has in part what will be reclaimed.
    let source = world.path("mast");
    for number in 0..6 {
        let seed = if number == 0 { 500 } else { 900 + number };
        write(&source.join(format!("{number}")), content(seed, 1 << 20));
    }
    settle(&source);
    world.plan(
        "records",
        &format!("sources = [\"{}\"]\nstore = \"pier\"\nmachine = \"mast\"\n", source.display()),
    );
    let mut run = world
        .command(&["run", "records"])
        .env("SKELLIN_STATE", world.path("mast-state"))
        .env("SKELLIN_CACHE", world.path("mast-cache"))
        .spawn()
        .unwrap();
    let before = distant.wire.carried();
    crate::distant::until("the run is under way", || {
        let (there, _) = distant.wire.carried();
        there > before.0 + 500_000
    });
    assert!(run.try_wait().unwrap().is_none(), "it is still under way");
    let (status, report) = world.json(&["reclaim", "pier"]);
    assert_eq!(status, 0, "{report}");
    assert!(run.wait().unwrap().success());
    assert!(report["bytes"]["freed"].as_u64().unwrap() > 0, "{report}");
    assert_eq!(report["revoked-runs"], 0, "it was waited for: {report}");
    world.done(&["verify", "pier"]);
    for (plan, from) in [("readings", "ridge"), ("records", "mast")] {
        let back = world.path(&format!("back-{plan}"));
        let machine: &[&str] = if plan == "records" { &["--machine", "mast"] } else { &[] };
        let newest = format!("{plan}@newest");
        let command = ["restore", &newest, "--to", back.to_str().unwrap()];
        world.done(&[&command[..], machine].concat());
        assert_same(&world.path(from), &back.join(from));
    }
}

#[test]
fn space_comes_back_over_sftp_beside_another_run() {
    space_comes_back_beside_another_machines_run(Kind::Sftp);
}

#[test]
fn space_comes_back_over_s3_beside_another_run() {
    space_comes_back_beside_another_machines_run(Kind::S3);
}

#[test]
fn space_comes_back_over_webdav_beside_another_run() {
    space_comes_back_beside_another_machines_run(Kind::WebDav);
}
