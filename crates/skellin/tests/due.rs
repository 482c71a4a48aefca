//! What is due, by the commands: missed moments made up, failures tried again, each plan on its own.

use crate::world;

use std::{
    fs,
    time::{Duration, SystemTime},
};

use world::{
    World,
    common::{content, write},
};

/// A plan's file as if it had been there for some days.
fn age(world: &World, plan: &str) {
    let file = world.path("config/plans").join(format!("{plan}.toml"));
    let then = SystemTime::now() - Duration::from_secs(3 * 86_400);
    fs::File::options().write(true).open(file).unwrap().set_modified(then).unwrap();
}

fn of<'v>(value: &'v serde_json::Value, plan: &str) -> &'v serde_json::Value {
    let plans = value["plans"].as_array().unwrap();
    plans.iter().find(|found| found["plan"] == plan).unwrap_or_else(|| panic!("{plan}: {value}"))
}

#[test]
fn what_was_missed_is_run_once_and_by_hand_counts() {
    let world = World::new();
    write(&world.path("ridge/gauge.csv"), content(1, 9000));
    let source = world.path("ridge").display().to_string();
    let plan = |name: &str, sources: &str, schedule: &str| {
        let text = format!("sources = [\"{sources}\"]\nstore = \"oak\"\n{schedule}");
        world.plan(name, &text);
        age(&world, name);
    };
    plan("readings", &source, "[schedule]\nrun = \"daily at 12:00\"\n");
    plan(
        "ringing",
        &source,
        "[schedule]\nrun = \"0 12 * * *\"\ncatch-up = true\nspread = \"10 min\"\n",
    );
    plan(
        "elsewhere",
        &format!("{source}/not-there"),
        "[schedule]\nrun = \"every 2 days\"\nretry = \"2 times every 1 hour\"\n",
    );
    plan("by-hand", &source, "");
    let (status, due) = world.json(&["due"]);
    assert_eq!(status, 0);
    for name in ["readings", "ringing", "elsewhere"] {
        assert_eq!(of(&due, name)["due"], true, "{due}");
    }
    assert_eq!(
        (&of(&due, "by-hand")["due"], &of(&due, "by-hand")["at"]),
        (&false.into(), &serde_json::Value::Null)
    );
    assert!(["missed", "moment"].contains(&of(&due, "readings")["why"].as_str().unwrap()), "{due}");
    // One by hand is one that need not be made up.
    world.done(&["run", "readings"]);
    let (_, due) = world.json(&["due"]);
    assert_eq!(of(&due, "readings")["due"], false, "{due}");
    // What fails keeps no other from being run, and is said.
    let (status, said) = world.fail(&["due", "--run"]);
    assert!(
        status == 1 && said.contains("cannot read any source of plan `elsewhere`"),
        "{status}: {said}"
    );
    let (_, history) = world.json(&["history", "ringing"]);
    assert_eq!(history["snapshots"].as_array().unwrap().len(), 1);
    let (_, due) = world.json(&["due"]);
    assert!(due["plans"].as_array().unwrap().iter().all(|plan| plan["due"] == false), "{due}");
    assert_eq!(of(&due, "elsewhere")["why"], "again", "{due}");
    let (status, said) = world.fail(&["due", "--run"]);
    assert_eq!((status, said.as_str()), (0, ""), "nothing is due");
    let (status, text) = world.run(&["due"]);
    assert!(
        status == 0 && text.contains("nothing is due") && text.contains("no schedule"),
        "{text}"
    );
}

#[test]
fn a_plan_over_another_host_is_drafted_and_its_host_missed_aloud() {
    let world = World::new();
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let source = format!("sftp://keeper@127.0.0.1:{closed}/var/records");
    // The dry run cannot look there, and says so; nothing is saved.
    let (status, said) =
        world.fail(&["plan", "new", &source, "--store", "oak", "--name", "mast", "--yes"]);
    assert!(status == 5 && said.contains("nothing listens"), "{status}: {said}");
    assert!(!world.path("config/plans/mast.toml").exists());
    world.plan("mast", &format!("sources = [\"{source}\"]\nstore = \"oak\"\n"));
    world.done(&["plan", "check"]);
    let (status, said) = world.fail(&["run", "mast"]);
    assert!(status == 5 && said.contains("is the SSH service running"), "{status}: {said}");
    let (status, said) = world.fail(&["store", "reach", &source]);
    assert!(status == 5 && said.contains("nothing listens"), "{status}: {said}");
    let (status, said) = world.fail(&["store", "reach", "gopher://mast/x"]);
    assert!(status == 2 && said.contains("is not a kind of source"), "{status}: {said}");
    let (_, text) = world.run(&["doctor"]);
    assert!(text.contains("cannot read source") && text.contains("nothing listens"), "{text}");
    // Mistakes in the file of hosts keep plans that need it from being run.
    fs::write(world.path("config/hosts.toml"), "[mast]\nadress = \"10.0.0.7\"\n").unwrap();
    let (status, text) = world.run(&["plan", "check"]);
    assert!(status == 2 && text.contains("did you mean `address`?"), "{status}: {text}");
    let (status, said) = world.fail(&["run", "mast"]);
    assert!(status == 2 && said.contains("hosts.toml has mistakes"), "{status}: {said}");
}

#[test]
fn schedules_are_read_back_and_mistakes_told() {
    let world = World::new();
    let source = world.path("ridge").display().to_string();
    fs::create_dir_all(world.path("ridge")).unwrap();
    world.plan("readings", &format!("sources = [\"{source}\"]\nstore = \"oak\"\nzone = \"Europe/Olso\"\n[schedule]\nrun = \"0 12 31 2 *\"\nwindow = \"21\"\n"));
    let (status, text) = world.run(&["plan", "check"]);
    assert_eq!(status, 2, "{text}");
    for wanted in ["not a time zone", "never occurs", "not a window"] {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
    let (status, text) = world.run(&["due"]);
    assert!(status == 0 && text.contains("or all have mistakes"), "{text}");
}
