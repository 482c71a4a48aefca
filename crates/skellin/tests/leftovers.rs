//! What killed runs leave behind: the runs that follow remove it, and none of it stands in their way.

use crate::world;

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Child, Stdio},
    time::{Duration, Instant, SystemTime},
};

use world::{
    World,
    common::{assert_same, content, settle, write},
};

/// A source of so many files, each a little less than a MiB.
fn station(files: u64) -> World {
    let world = World::new();
    for number in 0..files {
        write(&world.path(&format!("ridge/{number}")), content(2 * number, 900_000));
    }
    settle(&world.path("ridge"));
    world.usual_plan("");
    world
}

fn start(world: &World, arguments: &[&str]) -> Child {
    let mut command = world.command(arguments);
    command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

fn objects(world: &World, folder: &str) -> Vec<PathBuf> {
    let listed = fs::read_dir(world.path("oak").join(folder)).unwrap();
    listed.map(|entry| entry.unwrap().path()).collect()
}

fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let deadline = Instant::now() + Duration::from_secs(60);
    while !holds() {
        assert!(Instant::now() < deadline, "waited for {what}");
        std::thread::sleep(Duration::from_millis(2));
    }
}

fn make_older(path: &Path, seconds: u64) {
    let then = SystemTime::now() - Duration::from_secs(seconds);
    fs::File::options().write(true).open(path).unwrap().set_modified(then).unwrap();
}

#[test]
fn drafts_and_records_of_killed_runs_go_with_the_next_good_one() {
    let world = station(40);
    let left = |world: &World| (objects(world, "runs").len(), objects(world, "unfinished").len());
    for round in 0..60u64 {
        if left(&world).0 >= 8 && left(&world).1 >= 2 {
            break;
        }
        write(&world.path(&format!("ridge/new-{round}")), content(500 + round, 3_000_000));
        let mut child = start(&world, &["run", "readings"]);
        let before = left(&world);
        let deadline = Instant::now() + Duration::from_secs(60);
        let begun = |now: (usize, usize)| now.0 > before.0 && (round % 2 == 0 || now.1 > before.1);
        while !begun(left(&world)) && child.try_wait().unwrap().is_none() {
            assert!(Instant::now() < deadline, "the run hangs");
        }
        child.kill().unwrap();
        child.wait().unwrap();
    }
    let (records, drafts) = left(&world);
    assert!(records >= 8 && drafts >= 2, "{records} records and {drafts} drafts were left");
    objects(&world, "unfinished").iter().for_each(|draft| make_older(draft, 300));
    // What is younger may be somebody's.
    write(&world.path("oak/unfinished/00112233445566778899aabb"), b"young");
    // Torn, and not even a file: no run minds.
    write(&world.path("oak/runs/00112233445566778899aabbccddeeff"), b"torn");
    fs::create_dir(world.path("oak/runs/ffeeddccbbaa99887766554433221100")).unwrap();
    fs::remove_file(world.path("oak/runs/00112233445566778899aabbccddeeff")).unwrap();
    // One of the killed runs may have come so far as to settle those before it.
    let earlier = objects(&world, "verdicts").len();
    world.done(&["run", "readings"]);
    assert_eq!(objects(&world, "unfinished").len(), 1, "but for the young one");
    assert_eq!(objects(&world, "runs").len(), 1, "but for what is no record");
    assert!(objects(&world, "revokes").is_empty());
    assert_eq!(objects(&world, "verdicts").len(), earlier + 1, "one for all of them");
    let back = world.path("back").display().to_string();
    world.done(&["restore", "readings@newest", "--to", &back]);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
    fs::remove_dir(world.path("oak/runs/ffeeddccbbaa99887766554433221100")).unwrap();
    world.done(&["verify", "oak"]);
    let (_, again) = world.json(&["run", "readings"]);
    assert_eq!(again["runs"][0]["bytes"]["new"], 0, "{again}");
}

#[test]
fn a_torn_or_unreadable_record_fails_no_run() {
    let world = station(2);
    write(&world.path("oak/runs/00112233445566778899aabbccddeeff"), b"torn");
    // Longer than any record: it is read to its bound and no further.
    let long = world.path("oak/runs/10112233445566778899aabbccddeeff");
    write(&long, b"");
    fs::File::options().write(true).open(&long).unwrap().set_len(1 << 30).unwrap();
    for _ in 0..2 {
        let (status, report) = world.json(&["run", "readings"]);
        assert_eq!(status, 0, "{report}");
    }
}

#[test]
fn an_enter_command_that_outlives_its_run_is_ended_before_what_undoes_it() {
    let world = station(2);
    let (log, number) = (world.path("log"), world.path("number"));
    let enter = format!(
        "echo $$ > {}; trap '' TERM; while :; do echo entering >> {}; sleep 0.05; done",
        number.display(),
        log.display()
    );
    let leave = format!("echo leaving >> {}", log.display());
    let plan = |enter: &str| {
        world.plan(
            "readings",
            &format!(
                "sources = [\"{}\"]\nstore = \"oak\"\n[[around]]\nenter = [\"sh\", \"-c\", \"\"\"{enter}\"\"\"]\nleave = [\"sh\", \"-c\", \"\"\"{leave}\"\"\"]\n",
                world.path("ridge").display()
            ),
        );
    };
    plan(&enter);
    let mut child = start(&world, &["run", "readings"]);
    until("it enters", || fs::read_to_string(&log).is_ok_and(|text| text.contains("entering")));
    child.kill().unwrap();
    child.wait().unwrap();
    plan("true");
    let (status, report) = world.json(&["run", "readings"]);
    assert_eq!(status, 0, "{report}");
    assert!(report["notes"].to_string().contains("still running and was stopped"), "{report}");
    let text = fs::read_to_string(&log).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    let first = lines.iter().position(|line| *line == "leaving").unwrap();
    assert!(lines[first..].iter().all(|line| *line == "leaving"), "{text}");
    let left = fs::read_to_string(&number).unwrap();
    let stat = fs::read_to_string(format!("/proc/{}/stat", left.trim())).unwrap_or_default();
    assert!(stat.is_empty() || stat.contains(") Z "), "{stat}");
}

#[test]
fn two_replications_of_the_same_copy_at_once_do_not_double_it() {
    let world = station(12);
    let text = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let (oak, pier) = (world.path("oak").display().to_string(), world.path("pier"));
    let more = text.replace("[oak]", "[pier]").replace(&oak, &pier.display().to_string());
    world.stores(&format!("{text}{more}"));
    let place = skellin_place::DirectoryPlace::prepare(pier, skellin_store::FOLDERS).unwrap();
    world::common::create_store(&place);
    for night in 0..3 {
        write(&world.path("ridge/more"), content(700 + night, 400_000));
        world.done(&["run", "readings"]);
    }
    // Two machines: nothing of the one's state is the other's.
    let mut both: Vec<Child> = ["state-a", "state-b"]
        .iter()
        .map(|state| {
            let mut command = world.command(&["replicate", "oak", "pier", "--json"]);
            command.env("SKELLIN_STATE", world.path(state));
            command.stdout(Stdio::piped()).spawn().unwrap()
        })
        .collect();
    for child in both.drain(..) {
        let output = child.wait_with_output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        assert_eq!(output.status.code(), Some(0), "{text}");
    }
    let (_, history) = world.json(&["history", "--store", "pier"]);
    assert_eq!(history["snapshots"].as_array().unwrap().len(), 3, "{history}");
    world.done(&["verify", "pier"]);
    let (_, again) = world.json(&["replicate", "oak", "pier"]);
    assert_eq!((&again["copied"], &again["present"]), (&0.into(), &3.into()), "{again}");
}
