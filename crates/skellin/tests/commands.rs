//! The commands as scripts use them: exit statuses, JSON, refusals.

use crate::world;

use std::{
    fs,
    io::Write,
    process::{Command, Stdio},
};

use serde_json::Value;
use world::common::{assert_same, content, make_odd_tree, settle, write};
use world::{World, private};

#[test]
fn the_whole_way_from_plan_to_restore() {
    let world = World::new();
    make_odd_tree(&world.path("ridge"));
    settle(&world.path("ridge"));
    world.usual_plan("skip *.bin");
    assert_eq!(world.run(&["plan", "check"]).0, 0);
    let (status, rehearsal) = world.json(&["run", "readings", "--dry-run", "-v"]);
    let run = &rehearsal["runs"][0];
    assert_eq!(
        (status, run["status"].as_str(), run["dry-run"].as_bool()),
        (0, Some("done"), Some(true))
    );
    assert_eq!((&run["snapshot"], &run["run"]), (&Value::Null, &Value::Null));
    let skipped: Vec<_> = run["paths"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|path| path["change"] == "skipped")
        .collect();
    assert_eq!(skipped.len(), 1);
    assert_eq!(skipped[0]["rule"], "skip *.bin");
    assert!(
        !world.path("cache").exists() && !world.path("state").exists(),
        "a dry run leaves no trace"
    );

    let (status, first) = world.json(&["run", "readings", "--label", "before-upgrade"]);
    let run = &first["runs"][0];
    assert_eq!(status, 0);
    for (key, kind) in [("plan", "readings"), ("store", "oak"), ("status", "done")] {
        assert_eq!(run[key], kind);
    }
    assert_eq!(run["files"]["new"], rehearsal["runs"][0]["files"]["new"]);
    assert!(run["started"].as_str().unwrap().ends_with("+00:00"));
    assert_eq!(run["exceptions"], Value::Array(Vec::new()));
    let (_, second) = world.json(&["run", "readings"]);
    assert_eq!(second["runs"][0]["bytes"]["read"], 0);

    let (_, history) = world.json(&["history", "readings"]);
    let snapshots = history["snapshots"].as_array().unwrap();
    assert_eq!(snapshots.len(), 2);
    assert_eq!(snapshots[0]["labels"], serde_json::json!(["field", "before-upgrade"]));
    assert_eq!(snapshots[0]["machine"], "hut");
    assert_eq!(snapshots[0]["id"], run["snapshot"]);
    assert_eq!(snapshots[0]["sources"][0], world.path("ridge").display().to_string());

    let (_, tree) = world.json(&["tree", "readings@newest"]);
    let entries = tree["entries"].as_array().unwrap();
    let entry = |end: &str| {
        let found = entries
            .iter()
            .find(|entry| entry["path"].as_str().is_some_and(|path| path.ends_with(end)));
        found.unwrap_or_else(|| panic!("{end} in {tree}"))
    };
    assert_eq!(
        (entry("/notes.md")["kind"].as_str(), entry("/notes.md")["mode"].as_str()),
        (Some("file"), Some("4711"))
    );
    assert_eq!(
        (entry("/link")["kind"].as_str(), entry("/link")["target"].as_str()),
        (Some("link"), Some("notes.md"))
    );
    assert_eq!(entry("/pipe")["kind"], "pipe");
    assert_eq!(entry("/nothing")["kind"], "dir");
    assert_eq!(entry("/empty")["modified"], "2023-11-14T22:13:20.123456789+00:00");
    let raw = entries.iter().filter(|entry| entry["path"]["base64"].is_string()).count();
    assert_eq!(raw, 1, "a name that is no UTF-8 is in base64");
    let id = snapshots[1]["id"].as_str().unwrap();
    let (status, below) = world.json(&["tree", &id[..8], "ridge/nothing"]);
    assert_eq!((status, below["entries"].as_array().unwrap().len()), (0, 3));

    let (_, versions) =
        world.json(&["versions", "readings", &world.path("ridge/notes.md").display().to_string()]);
    assert_eq!(versions["versions"].as_array().unwrap().len(), 1);
    let printed = world.output(&["print", "readings@newest", "ridge/series/gauge-04.csv"]);
    assert_eq!(printed.stdout, content(1, 40_000));

    let back = world.path("back");
    let to = back.display().to_string();
    let (status, foretold) = world.json(&["restore", "readings@newest", "--to", &to, "--dry-run"]);
    assert_eq!((status, back.exists()), (0, false));
    let (status, restored) = world.json(&["restore", "readings@newest", "--to", &to]);
    assert_eq!(status, 0);
    assert_eq!(
        (&restored["restored"], &restored["bytes"]),
        (&foretold["restored"], &foretold["bytes"])
    );
    for key in ["left", "replaced", "renamed", "removed"] {
        assert_eq!(restored[key], 0, "{key}");
    }
    fs::remove_file(world.path("ridge/series/noise.bin")).unwrap();
    let series = fs::File::open(world.path("ridge/series")).unwrap();
    series
        .set_modified(std::time::UNIX_EPOCH + std::time::Duration::new(1_700_000_001, 123_456_789))
        .unwrap();
    assert_same(&world.path("ridge"), &back.join("ridge"));

    let (status, verified) = world.json(&["verify", "oak"]);
    assert_eq!(
        (status, verified["snapshots"].as_u64(), verified["status"].as_str()),
        (0, Some(2), Some("done"))
    );
    assert!(verified["bytes-read"].as_u64().unwrap() > 0);
    // Trees are read whatever share of the data is: both copies, and nothing else.
    let (_, none) = world.json(&["verify", "oak", "--data", "none"]);
    let trees = fs::read_dir(world.path("oak/trees")).unwrap();
    let trees: u64 = trees.map(|entry| entry.unwrap().metadata().unwrap().len()).sum();
    assert_eq!(none["bytes-read"], 2 * trees);
}

#[test]
fn a_store_restores_with_nothing_but_its_place_and_passphrase() {
    let world = World::new();
    make_odd_tree(&world.path("ridge"));
    world.usual_plan("");
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    // Another machine: no configuration, no state, no cache.
    for folder in ["config", "state", "cache"] {
        fs::remove_dir_all(world.path(folder)).unwrap();
    }
    let (place, key, to) = (world.path("oak"), world.path("key"), world.path("back"));
    let arguments =
        ["--place", place.to_str().unwrap(), "--passphrase-file", key.to_str().unwrap()];
    let with = |command: &[&'static str]| -> Vec<String> {
        command.iter().chain(&arguments).map(|word| (*word).to_string()).collect()
    };
    let run = |words: Vec<String>| world.run(&words.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(run(with(&["history"])).1.contains("1 snapshot"));
    let mut restore = with(&["restore", "readings@newest"]);
    restore.extend(["--to".to_owned(), to.display().to_string()]);
    assert_eq!(run(restore).0, 0);
    assert_same(&world.path("ridge"), &to.join("ridge"));
    assert_eq!(run(with(&["verify"])).0, 0);
    assert!(run(with(&["store", "show"])).1.contains("snapshots   1"));
    assert!(run(with(&["tree", "readings@newest"])).1.contains("notes.md"));
}

#[test]
fn exceptions_end_with_status_4_and_are_listed() {
    let world = World::new();
    write(&world.path("ridge/a"), "a");
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\", \"{}\"]\nstore = \"oak\"\n",
            world.path("ridge").display(),
            world.path("away").display()
        ),
    );
    let (status, text) = world.run(&["run", "readings"]);
    assert_eq!(status, 4);
    assert!(text.contains("1 exception:") && text.contains("away: it does not exist"), "{text}");
    let (status, value) = world.json(&["run", "readings"]);
    assert_eq!((status, value["runs"][0]["status"].as_str()), (4, Some("exceptions")));
    assert_eq!(value["runs"][0]["exceptions"][0]["reason"], "it does not exist");
    assert!(world.run(&["history"]).1.contains("1 exception"));
}

#[test]
fn refusals_have_a_status_a_reason_and_a_next_step() {
    let world = World::new();
    write(&world.path("ridge/a"), "a");
    world.usual_plan("");
    world.plan("broken", "sorces = [\"/a\"]\nstore = \"oka\"\n");
    let cases: &[(&[&str], i32, &[&str])] = &[
        (&["run", "raedings"], 2, &["no plan `raedings`", "did you mean `readings`?"]),
        (
            &["run", "broken"],
            2,
            &["plan `broken` has mistakes", "did you mean `sources`?", "did you mean `oak`?"],
        ),
        (&["run", "readings", "--label", "Nice Label"], 2, &["is not a valid label"]),
        (&["plan", "show", "broken"], 2, &["has mistakes"]),
        (&["plan", "check"], 2, &[]),
        (&["verify", "aok"], 2, &["no store `aok`", "did you mean `oak`?"]),
        (&["tree", "readings"], 2, &["is not a snapshot", "PLAN@WHEN"]),
        (&["tree", "readings@someday"], 2, &["is not a time"]),
        (&["tree", "readings@newest"], 2, &["`readings` has no snapshot in this store"]),
        (&["tree", "0123456789"], 2, &["no snapshot id begins with 0123456789"]),
        (&["versions", "readings", "/nowhere"], 2, &["is not in any snapshot"]),
        (
            &["store", "create", "oak"],
            1,
            &["there is already a store", "choose an empty directory"],
        ),
        (&["restore", "readings@newest"], 2, &["--to"]),
        (&["verify", "oak", "--data", "lots"], 2, &["a percentage from 1 to 100"]),
        (&["fly"], 2, &["unrecognized subcommand"]),
        (
            &["tree", "readings@newest", "--place", "s3://pier/x"],
            2,
            &["not configured in stores.toml", "credentials = "],
        ),
        (&["history", "--place", "/nowhere/at/all"], 5, &["the place does not exist", "mounted"]),
    ];
    for (arguments, expected, words) in cases {
        let (status, text) = world.fail(arguments);
        assert_eq!(status, *expected, "{arguments:?}: {text}");
        for word in *words {
            assert!(text.contains(word), "{arguments:?} lacks {word:?}: {text}");
        }
    }
    let (status, value) = world.json(&["run", "raedings"]);
    assert_eq!((status, value["error"]["kind"].as_str()), (2, Some("usage")));
    assert_eq!(value["error"]["hint"], "did you mean `readings`?");
    let (status, checked) = world.json(&["plan", "check", "broken"]);
    assert_eq!(status, 2);
    let lines: Vec<_> = checked["problems"]
        .as_array()
        .unwrap()
        .iter()
        .map(|problem| problem["line"].as_u64().unwrap())
        .collect();
    assert_eq!(lines, [1, 1, 2]);
}

#[test]
fn secrets_are_guarded_and_never_shown() {
    let world = World::new();
    write(&world.path("ridge/a"), "a");
    world.usual_plan("");
    let oak = world.path("oak").display().to_string();
    let key = world.path("key");
    fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let (status, text) = world.fail(&["run", "readings"]);
    assert_eq!(status, 2);
    assert!(text.contains("others can read") && text.contains("chmod 600"), "{text}");
    private(&key);
    write(&key, "another passphrase\nsecond line");
    let (status, text) = world.fail(&["run", "readings"]);
    assert_eq!(status, 5, "{text}");
    assert!(text.contains("wrong passphrase"), "{text}");
    assert!(!text.contains("another passphrase"));
    world.stores(&format!("[oak]\nplace = \"{oak}\"\npassphrase = \"terns over the pier\"\n"));
    let (status, text) = world.run(&["plan", "check"]);
    assert_eq!(status, 2);
    assert!(text.contains("contains a secret in plain text") && !text.contains("terns"), "{text}");
    world.stores(&format!("[oak]\nplace = \"{oak}\"\npassphrase = {{ env = \"OAK\" }}\n"));
    assert!(world.fail(&["run", "readings"]).1.contains("OAK"));
    let status = world
        .command(&["run", "readings", "-q"])
        .env("OAK", "terns over the pier")
        .status()
        .unwrap();
    assert!(status.success());
    world.stores(&format!("[oak]\nplace = \"{oak}\"\npassphrase = {{ command = [\"echo\", \"terns over the pier\"] }}\n"));
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    world.stores(&format!("[oak]\nplace = \"{oak}\"\npassphrase = {{ command = [\"false\"] }}\n"));
    assert!(world.fail(&["run", "readings"]).1.contains("false ended with"));
    world.stores(&format!("[oak]\nplace = \"{oak}\"\n"));
    let (status, text) = world.fail(&["run", "readings"]);
    assert_eq!(status, 2);
    assert!(text.contains("no terminal to ask on"), "{text}");
}

#[test]
fn a_credential_of_the_service_manager_serves_as_a_secret() {
    let world = World::new();
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let file = format!("{{ file = \"{}\" }}", world.path("key").display());
    world.stores(&stores.replace(&file, "{ credential = \"oak\" }"));
    let show = |folder: Option<&str>| {
        let mut command = world.command(&["store", "show", "oak"]);
        if let Some(folder) = folder {
            command.env("CREDENTIALS_DIRECTORY", world.path(folder));
        }
        let output = command.output().unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    let (status, said) = show(None);
    assert!(status != 0 && said.contains("passed no credential oak"), "{status}: {said}");
    write(&world.path("given/oak"), fs::read(world.path("key")).unwrap());
    private(&world.path("given/oak"));
    assert_eq!(show(Some("given")), (0, String::new()));
}

#[test]
fn a_plan_runs_once_at_a_time() {
    let world = World::new();
    write(&world.path("ridge/a"), "a");
    world.usual_plan("");
    let lock = skellin_engine::PlanLock::take(&world.path("state"), "readings").unwrap();
    let (status, text) = world.fail(&["run", "readings"]);
    assert_eq!(status, 6);
    assert!(text.contains("is already running"), "{text}");
    assert_eq!(world.run(&["run", "readings", "--dry-run"]).0, 0, "a dry run is in nobody's way");
    drop(lock);
    assert_eq!(world.run(&["run", "readings"]).0, 0);
}

#[test]
fn a_store_in_a_source_is_noticed_and_kept_out() {
    let world = World::new();
    fs::rename(world.path("oak"), world.path("ridge-oak")).unwrap();
    fs::create_dir(world.path("ridge")).unwrap();
    fs::rename(world.path("ridge-oak"), world.path("ridge/oak")).unwrap();
    write(&world.path("ridge/a"), "a");
    world.stores(&format!(
        "[oak]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        world.path("ridge/oak").display(),
        world.path("key").display()
    ));
    world.usual_plan("");
    let (status, text) = world.run(&["plan", "check"]);
    assert_eq!(status, 0);
    assert!(text.contains("is inside source"), "{text}");
    let output = world.output(&["run", "readings"]);
    assert!(String::from_utf8_lossy(&output.stderr).contains("belongs to Skellin and is excluded"));
    assert!(String::from_utf8_lossy(&output.stdout).contains("1 new"));
}

#[test]
fn damage_ends_with_status_3_and_names_the_files() {
    let world = World::new();
    write(&world.path("ridge/only"), content(2, 100_000));
    world.usual_plan("");
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    let container = fs::read_dir(world.path("oak/data")).unwrap().next().unwrap().unwrap().path();
    let mut bytes = fs::read(&container).unwrap();
    bytes[5000] ^= 1;
    fs::write(&container, bytes).unwrap();
    let (status, value) = world.json(&["verify", "oak"]);
    assert_eq!(status, 3);
    let damage = &value["damage"][0];
    assert!(damage["container"].as_str().unwrap().starts_with("data/"));
    assert!(damage["files"][0]["path"].as_str().unwrap().ends_with("/ridge/only"));
    let (status, text) = world.run(&["verify", "oak"]);
    assert_eq!(status, 3);
    assert!(
        text.contains("1 object is damaged") && text.contains("/ridge/only in snapshot"),
        "{text}"
    );
    let to = world.path("back").display().to_string();
    let (status, value) = world.json(&["restore", "readings@newest", "--to", &to]);
    assert_eq!((status, value["exceptions"].as_array().unwrap().len()), (3, 1));
    assert!(!world.path("back/ridge/only").exists(), "no half file");
    // The next run stores it again from the source, since it is known to be damaged.
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    world.done(&["restore", "readings@newest", "--to", &to, "--existing", "replace"]);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
}

#[test]
fn an_interrupted_run_ends_within_a_second_and_with_the_signals_status() {
    let world = World::new();
    for number in 0..40 {
        write(&world.path(&format!("ridge/{number}")), content(number * 2, 2 << 20));
    }
    world.usual_plan("");
    for (signal, expected) in
        [(rustix::process::Signal::INT, 130), (rustix::process::Signal::TERM, 143)]
    {
        let mut child =
            world.command(&["run", "readings", "--json"]).stdout(Stdio::piped()).spawn().unwrap();
        // As soon as something of the run is at the place.
        while fs::read_dir(world.path("oak/data")).unwrap().count() < 3 {
            assert!(child.try_wait().unwrap().is_none(), "it was too quick");
            std::thread::yield_now();
        }
        let asked = std::time::Instant::now();
        rustix::process::kill_process(rustix::process::Pid::from_child(&child), signal).unwrap();
        let output = child.wait_with_output().unwrap();
        assert!(asked.elapsed().as_secs_f64() < 1.0, "{:?}", asked.elapsed());
        assert_eq!(output.status.code(), Some(expected));
        let value: Value = serde_json::from_slice(&output.stdout).unwrap();
        assert_eq!(value["runs"][0]["status"], "interrupted");
        assert_eq!(value["runs"][0]["snapshot"], Value::Null);
        assert_eq!(world.run(&["verify", "oak"]).0, 0);
        for entry in fs::read_dir(world.path("oak/data")).unwrap() {
            fs::remove_file(entry.unwrap().path()).unwrap();
        }
    }
    let (status, value) = world.json(&["run", "readings"]);
    assert_eq!((status, value["runs"][0]["status"].as_str()), (0, Some("done")));
}

#[test]
fn progress_is_told_as_json_lines() {
    let world = World::new();
    write(&world.path("ridge/a"), content(2, 300_000));
    world.usual_plan("");
    let output = world.output(&["run", "readings", "--progress", "json", "--quiet"]);
    assert!(output.stdout.is_empty());
    let events: Vec<Value> = String::from_utf8(output.stderr)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let named: Vec<_> = events.iter().map(|event| event["event"].as_str().unwrap()).collect();
    assert_eq!((named[0], named[1], *named.last().unwrap()), ("opened", "begun", "ended"));
    let last = events.iter().rfind(|event| event["event"] == "progress").unwrap();
    assert_eq!(
        (last["files"].as_u64(), last["read"].as_u64(), last["total-bytes"].as_u64()),
        (Some(1), Some(300_000), Some(300_000))
    );
}

#[test]
fn a_reader_that_goes_away_is_no_failure() {
    let world = World::new();
    write(&world.path("ridge/a"), content(1, 3 << 20));
    world.usual_plan("");
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    let mut child = world
        .command(&["print", "readings@newest", "ridge/a"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), output.stderr), (Some(0), Vec::new()));
}

#[test]
fn names_cannot_speak_to_the_terminal() {
    let world = World::new();
    write(&world.path("ridge/evil\u{1b}]0;title\u{7}name"), "x");
    world.usual_plan("");
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    let (_, text) = world.run(&["tree", "readings@newest"]);
    assert!(!text.contains('\u{1b}') && text.contains("evil\\u{1b}]0;title\\u{7}name"), "{text}");
}

#[test]
fn help_has_examples_and_empty_lists_say_what_to_do() {
    let world = World::bare();
    for command in ["run", "history", "tree", "versions", "print", "restore", "verify"] {
        let (status, text) = world.run(&[command, "--help"]);
        assert_eq!(status, 0);
        assert!(text.contains("Example"), "{command}");
    }
    assert!(world.run(&["plan", "list"]).1.contains("There are no plans yet"));
    assert!(world.run(&["store", "list"]).1.contains("There are no stores yet"));
    let (status, text) = world.fail(&["history"]);
    assert_eq!(status, 2);
    assert!(text.contains("there are no stores yet") && text.contains("stores.toml"), "{text}");
    let world = World::new();
    assert!(world.run(&["history"]).1.contains("There are no snapshots yet"));
    world.usual_plan("skip a # why");
    let (_, text) = world.run(&["plan", "show", "readings"]);
    assert!(text.contains("skip a") && text.contains("machine   hut"), "{text}");
    let (_, list) = world.json(&["store", "list"]);
    assert_eq!(list["stores"][0]["reachable"], true);
}

#[test]
fn a_damaged_cache_is_not_believed() {
    let world = World::new();
    write(&world.path("ridge/a"), content(2, 200_000));
    world.usual_plan("");
    assert_eq!(world.run(&["run", "readings"]).0, 0);
    let mut touched = 0;
    let mut stack = vec![world.path("cache")];
    while let Some(path) = stack.pop() {
        if path.is_dir() {
            stack.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        } else {
            let mut file = fs::OpenOptions::new().append(true).open(&path).unwrap();
            file.write_all(b"rot").unwrap();
            touched += 1;
        }
    }
    assert!(touched > 0, "runs keep a cache");
    write(&world.path("ridge/b"), content(2, 200_000));
    let (status, value) = world.json(&["run", "readings"]);
    assert_eq!((status, value["runs"][0]["bytes"]["new"].as_u64()), (0, Some(0)));
    assert_eq!(world.run(&["verify", "oak"]).0, 0);
}

/// The list is printed as it comes; where it breaks off, the document says so and is whole all the same.
#[test]
fn a_tree_that_breaks_off_is_one_document_in_json() {
    let world = World::new();
    for number in 0..20_000 {
        write(&world.path(&format!("ridge/{:03}/{number}.csv", number / 200)), "");
    }
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let (status, whole) = world.json(&["tree", "readings@newest"]);
    assert_eq!((status, whole["entries"].as_array().unwrap().len()), (0, 20_101));
    let mut trees: Vec<_> =
        fs::read_dir(world.path("oak/trees")).unwrap().map(|file| file.unwrap().path()).collect();
    trees.sort();
    assert!(trees.len() > 2, "{trees:?}");
    let middle = &trees[trees.len() / 2];
    fs::remove_file(world.path("oak/spares").join(middle.file_name().unwrap())).unwrap();
    fs::remove_file(middle).unwrap();
    let (status, torn) = world.json(&["tree", "readings@newest"]);
    let listed = torn["entries"].as_array().unwrap().len();
    assert_eq!(status, 3, "{}", torn["error"]);
    assert!(listed > 100 && listed < 20_000, "{listed} before it");
    assert!(torn["error"]["message"].is_string(), "{}", torn["error"]);
}

#[test]
fn a_path_is_found_wherever_it_was() {
    let world = World::new();
    world.usual_plan("");
    write(&world.path("ridge/register.ods"), "rings");
    write(&world.path("ridge/scans/sheet-1.png"), vec![7; 3000]);
    write(&world.path("ridge/scans/\x1b[31msheet-2.png"), "red");
    world.done(&["run", "readings"]);
    write(&world.path("ridge/register.ods"), "rings and more");
    fs::remove_dir_all(world.path("ridge/scans")).unwrap();
    world.done(&["run", "readings"]);
    let (status, found) = world.json(&["search", "REGISTER"]);
    let hit = &found["paths"][0];
    assert_eq!((status, &hit["versions"], &hit["gone-since"]), (0, &2.into(), &Value::Null));
    assert!(hit["path"].as_str().unwrap().ends_with("ridge/register.ods"), "{found}");
    assert!(hit["first"].as_str() < hit["last"].as_str(), "{hit}");
    // A directory that went as a whole is told once.
    let (_, gone) = world.json(&["search", "readings", "*", "--gone"]);
    let paths: Vec<_> = gone["paths"].as_array().unwrap().iter().map(|hit| &hit["path"]).collect();
    assert!(paths.len() == 1 && paths[0].as_str().unwrap().ends_with("/scans"), "{gone}");
    let text = world.done(&["search", "readings", "*.png"]);
    assert!(
        text.contains("sheet-1.png  (deleted)") && text.contains("2 paths in 2 snapshots"),
        "{text}"
    );
    assert!(!text.contains('\x1b'), "{text}");
    let large = world.done(&["search", "*.png", "--over", "2 KiB"]);
    assert!(large.contains("sheet-1") && !large.contains("sheet-2"), "{large}");
    assert!(world.done(&["search", "*.png", "--until", "1 day ago"]).contains("0 paths"));
    assert!(world.done(&["search", "readings"]).contains("→ readings is a plan"));
    for (arguments, words) in [
        (&["search", "nowhere", "x"][..], "nowhere"),
        (&["search", "readings", "a//b"], "matches nothing"),
        (&["search", "x", "--over", "much"], "much"),
        (&["search", "x", "--since", "soonish"], "`soonish` is not a time"),
    ] {
        let refused = world.output(arguments);
        let said = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(refused.status.code() == Some(2) && said.contains(words), "{arguments:?}: {said}");
    }
}

#[test]
fn a_snapshot_is_exported_as_an_archive_or_not_at_all() {
    let world = World::new();
    world.usual_plan("");
    write(&world.path("ridge/notes.md"), "wind from the north");
    write(&world.path("ridge/scans/sheet.png"), content(2, 90_000));
    world.done(&["run", "readings"]);
    let out = world.path("all.tar.zst").display().to_string();
    let (status, told) = world.json(&["export", "readings@newest", "--out", &out]);
    assert_eq!((status, &told["members"], &told["bytes"]), (0, &4.into(), &90_019.into()));
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&out).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    let again = world.output(&["export", "readings@newest", "--out", &out]);
    let said = String::from_utf8_lossy(&again.stderr).into_owned();
    assert!(again.status.code() == Some(2) && said.contains("exists already"), "{said}");
    let part = world.output(&["export", "readings@newest", "ridge/scans", "--out", "-"]);
    assert_eq!(part.status.code(), Some(0));
    let names = Command::new("tar").arg("-t").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn();
    let mut names = names.unwrap();
    names.stdin.take().unwrap().write_all(&part.stdout).unwrap();
    let names = String::from_utf8(names.wait_with_output().unwrap().stdout).unwrap();
    assert_eq!(names, "ridge/scans/\nridge/scans/sheet.png\n");
    for (out, words) in [("x.zip", "FILE.tar"), ("/nowhere/at/all/x.tar", "cannot write")] {
        let refused = world.output(&["export", "readings@newest", "--out", out]);
        let said = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(refused.status.code() != Some(0) && said.contains(words), "{said}");
    }
    // A disk that is full leaves nothing that looks like an archive.
    let full = world.output(&["export", "readings@newest", "--out", "/dev/full/x.tar"]);
    assert_ne!(full.status.code(), Some(0));
    let left: Vec<_> =
        fs::read_dir(world.path("")).unwrap().map(|one| one.unwrap().file_name()).collect();
    assert!(
        left.iter().all(|name| !name.to_string_lossy().starts_with(".skellin-export")),
        "{left:?}"
    );
}

#[test]
fn snapshots_are_compared_with_each_other_and_with_files() {
    let world = World::new();
    world.usual_plan("skip *.part");
    write(&world.path("ridge/notes.md"), "wind from the north");
    write(&world.path("ridge/scans/sheet.png"), content(2, 9_000));
    settle(&world.path("ridge"));
    world.done(&["run", "readings"]);
    assert!(world.done(&["compare", "readings@newest"]).contains("no differences"));
    write(&world.path("ridge/notes.md"), "wind from the south west");
    write(&world.path("ridge/half.part"), "excluded");
    fs::remove_dir_all(world.path("ridge/scans")).unwrap();
    let (status, live) = world.json(&["compare", "readings@newest"]);
    let told = |found: &Value| -> Vec<(String, String)> {
        let text = |value: &Value| value.as_str().unwrap().to_owned();
        let paths = found["paths"].as_array().unwrap().iter();
        let mut all: Vec<_> = paths
            .map(|one| {
                let path = text(&one["path"]);
                (path[path.rfind('/').unwrap() + 1..].to_owned(), text(&one["difference"]))
            })
            .collect();
        all.sort();
        all
    };
    let pair = |a: &str, b: &str| (a.to_owned(), b.to_owned());
    let wanted = [pair("notes.md", "changed"), pair("scans", "gone")];
    assert_eq!((status, told(&live)), (0, wanted.to_vec()));
    world.done(&["run", "readings"]);
    let (_, history) = world.json(&["history"]);
    let id = |number: usize| history["snapshots"][number]["id"].as_str().unwrap()[..10].to_owned();
    let (_, both) = world.json(&["compare", &id(0), &id(1)]);
    assert_eq!((told(&both), &both["gone"]), (wanted.to_vec(), &1.into()));
    let text = world.done(&["compare", &id(0), &id(1), "-v"]);
    assert!(text.contains("gone      ") && text.contains("sheet.png"), "{text}");
    assert!(text.contains("changed") && text.contains("19 B → 24 B"), "{text}");

    // In what the content differs, line by line, for people and for programs.
    let of_notes = ["compare", &id(0), &id(1), "--path", "ridge/notes.md", "--content"];
    let text = world.done(&of_notes);
    assert!(text.contains("1 − wind from the north\n"), "{text}");
    assert!(text.contains("1 + wind from the south west\n"), "{text}");
    let (_, notes) = world.json(&of_notes);
    let line = &notes["content"]["lines"][0];
    assert_eq!(line["before"]["text"], "wind from the north");
    assert_eq!((&line["now"]["line"], &notes["content"]["cut"]), (&1.into(), &false.into()));
    let live = ["compare", &id(1), "--path", "ridge/notes.md", "--content"];
    assert!(world.done(&live).contains("the content is the same"));
    let gone = ["compare", &id(0), "--path", "ridge/scans/sheet.png", "--content"];
    assert!(world.done(&gone).contains("bytes differ at the same offsets"));
    let refused = world.output(&["compare", &id(0), "--path", "ridge", "--content"]);
    assert_ne!(refused.status.code(), Some(0), "a directory has no content");

    // What a restore laid down is what was; a byte that changed without a trace is found by reading.
    let back = world.path("back").display().to_string();
    world.done(&["restore", &id(0), "--to", &back]);
    assert!(world.done(&["compare", &id(0), "--with", &back, "--read"]).contains("no differences"));
    let sheet = world.path("back/ridge/scans/sheet.png");
    let modified = fs::metadata(&sheet).unwrap().modified().unwrap();
    let mut bytes = fs::read(&sheet).unwrap();
    bytes[4_000] ^= 1;
    fs::write(&sheet, bytes).unwrap();
    fs::File::options().write(true).open(&sheet).unwrap().set_modified(modified).unwrap();
    assert!(world.done(&["compare", &id(0), "--with", &back]).contains("no differences"));
    let (_, read) = world.json(&["compare", &id(0), "--with", &back, "--read"]);
    assert_eq!(told(&read), [pair("sheet.png", "changed")]);
    let refused = world.output(&["compare", &id(0), "--with", "/nowhere", "--path", "ridge/none"]);
    assert_ne!(refused.status.code(), Some(0));
}
