//! Other accounts of the machine, other machines in the store, and what others have written: by the
//! commands.

use crate::world;

use std::{
    fs,
    os::unix::fs::{PermissionsExt, symlink},
    path::Path,
    process::Command,
};

use world::World;
use world::common::{assert_same, content, settle, write};

fn mode(path: &Path, mode: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn what_others_may_write_is_not_obeyed_and_the_command_that_mends_it_is_named() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "42 pairs");
    world.usual_plan("");
    world.plan(
        "ringing",
        &format!("sources = [\"{}\"]\nstore = \"oak\"\n", world.path("ridge").display()),
    );
    let refused = |path: &str, arguments: &[&str], status: i32| {
        let (ended, said) = world.fail(arguments);
        assert_eq!(ended, status, "{path} {arguments:?}: {said}");
        let mend = format!("chmod go-w {}", world.path(path).display());
        let all = format!("{said}{}", world.run(arguments).1);
        assert!(all.contains("is ignored") && all.contains(&mend), "{path}: {all}");
    };
    // One plan that others may write stops itself alone.
    let plan = "config/plans/readings.toml";
    mode(&world.path(plan), 0o666);
    refused(plan, &["plan", "check", "readings"], 2);
    assert_eq!(world.fail(&["run", "readings"]).0, 2);
    world.done(&["run", "ringing"]);
    let look_in = world.path("ridge").display().to_string();
    let doctor = world.run(&["doctor", "--look-in", &look_in]).1;
    assert!(doctor.contains("is ignored"), "{doctor}");
    mode(&world.path(plan), 0o644);
    for path in ["config/stores.toml", "config/plans", "config"] {
        let before = fs::metadata(world.path(path)).unwrap().permissions().mode();
        mode(&world.path(path), before | 0o020);
        let doctor: &[&str] = &["doctor", "--look-in", &look_in];
        for arguments in [&["run", "readings"], &["plan", "check", "readings"][..], doctor] {
            refused(path, arguments, 2);
        }
        mode(&world.path(path), before);
    }
    // Nor is a key that others may have written, or read.
    mode(&world.path("key"), 0o640);
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 2 && said.contains("chmod 600"), "{said}");
    mode(&world.path("key"), 0o600);
    if rustix::process::geteuid().is_root() {
        std::os::unix::fs::chown(world.path("key"), Some(12_345), None).unwrap();
        let (status, said) = world.fail(&["run", "readings"]);
        assert!(
            status == 2 && said.contains("another account") && said.contains("chown"),
            "{said}"
        );
        std::os::unix::fs::chown(world.path("key"), Some(0), None).unwrap();
    }
    world.done(&["run", "readings"]);
}

#[test]
fn what_the_program_writes_is_for_its_account_alone_whatever_the_umask() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "42 pairs");
    world.usual_plan("");
    let command = world.command(&["run", "readings"]);
    let mut shell = Command::new("sh");
    shell
        .args(["-c", "umask 0; exec \"$0\" \"$@\""])
        .arg(command.get_program())
        .args(command.get_args());
    shell.env_clear();
    for (name, value) in command.get_envs() {
        shell.env(name, value.unwrap());
    }
    assert!(shell.status().unwrap().success());
    let mut ahead = vec![
        world.path("state"),
        world.path("cache"),
        world.path("oak/data"),
        world.path("oak/trees"),
    ];
    let mut seen = 0;
    while let Some(path) = ahead.pop() {
        let facts = fs::symlink_metadata(&path).unwrap();
        assert_eq!(facts.permissions().mode() & 0o077, 0, "{}", path.display());
        seen += 1;
        if facts.is_dir() {
            ahead.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        }
    }
    assert!(seen > 8, "{seen}");
}

#[test]
fn a_passphrase_in_the_environment_is_shown_to_no_command_and_memory_to_nobody() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "42 pairs");
    world.stores(&format!(
        "[oak]\nplace = \"{}\"\npassphrase = {{ env = \"OAK_KEY\" }}\n",
        world.path("oak").display()
    ));
    let seen = world.path("seen").display().to_string();
    world.plan(
        "readings",
        &format!(
            "sources = [\"{0}\"]\nstore = \"oak\"\n[[around]]\nenter = [\"sh\", \"-c\", \"env > {seen}; cat /proc/$PPID/limits | grep core >> {seen}; stat -c %U /proc/$PPID/mem >> {seen}\"]\n",
            world.path("ridge").display()
        ),
    );
    let passphrase = String::from_utf8(world::common::PASSPHRASE.to_vec()).unwrap();
    let mut command = world.command(&["run", "readings"]);
    assert!(command.env("OAK_KEY", &passphrase).env("OTHER", "stays").status().unwrap().success());
    let seen = fs::read_to_string(seen).unwrap();
    assert!(seen.contains("OTHER=stays") && seen.contains("SKELLIN_PLAN=readings"), "{seen}");
    assert!(!seen.contains("OAK_KEY") && !seen.contains(&passphrase), "{seen}");
    let core = seen.lines().find(|line| line.starts_with("Max core")).unwrap();
    assert_eq!(core.split_whitespace().nth(4), Some("0"), "{core}");
}

#[test]
fn another_machines_snapshots_are_taken_by_name_and_in_place_only_once_agreed_to() {
    let world = World::new();
    let source = world.path("ridge").display().to_string();
    let plan = |machine: &str| {
        world.plan(
            "readings",
            &format!("sources = [\"{source}\"]\nstore = \"oak\"\nmachine = \"{machine}\"\n"),
        );
    };
    write(&world.path("ridge/notes.md"), "of the mast");
    settle(&world.path("ridge"));
    plan("mast");
    world.done(&["run", "readings"]);
    // The other's alone is there: it is said whose it is.
    plan("hut");
    let to = world.path("back").display().to_string();
    let output = world.output(&["restore", "readings@newest", "--to", &to]);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success() && said.contains("using one of mast"), "{said}");
    fs::remove_file(world.path("ridge/notes.md")).unwrap();
    let (status, said) = world.fail(&["restore", "readings@newest", "--in-place"]);
    assert!(status == 7 && said.contains("mast") && said.contains("--agree"), "{said}");
    assert!(!world.path("ridge/notes.md").exists());
    write(&world.path("ridge/notes.md"), "of the hut");
    world.done(&["run", "readings"]);
    // And now our own counts, though the other runs after it.
    plan("mast");
    write(&world.path("ridge/notes.md"), "of the mast, later");
    world.done(&["run", "readings"]);
    plan("hut");
    assert_eq!(world.done(&["print", "readings@newest", "ridge/notes.md"]), "of the hut");
    let theirs = world.done(&["print", "readings@newest", "ridge/notes.md", "--machine", "mast"]);
    assert_eq!(theirs, "of the mast, later");
    let (status, said) =
        world.fail(&["print", "readings@newest", "ridge/notes.md", "--machine", "pier"]);
    assert!(
        status == 2 && said.contains("pier has no snapshot") && said.contains("hut and mast")
            || said.contains("mast and hut"),
        "{said}"
    );
    fs::remove_file(world.path("ridge/notes.md")).unwrap();
    let in_place = ["restore", "readings@newest", "--in-place", "--machine", "mast"];
    assert_eq!(world.fail(&in_place).0, 7);
    world.done(&[&in_place[..], &["--agree"]].concat());
    assert_eq!(fs::read_to_string(world.path("ridge/notes.md")).unwrap(), "of the mast, later");
}

#[test]
fn a_link_above_is_named_and_gone_through_only_as_agreed() {
    let world = World::new();
    write(&world.path("home/work/ridge/notes.md"), "42 pairs");
    settle(&world.path("home"));
    let source = world.path("home/work/ridge").display().to_string();
    world.plan("readings", &format!("sources = [\"{source}\"]\nstore = \"oak\"\n"));
    world.done(&["run", "readings"]);
    fs::remove_dir_all(world.path("home/work")).unwrap();
    fs::create_dir(world.path("elsewhere")).unwrap();
    symlink(world.path("elsewhere"), world.path("home/work")).unwrap();
    let (status, said) = world.fail(&["restore", "readings@newest", "--in-place", "--dry-run"]);
    let through =
        format!("{}={}", world.path("home/work").display(), world.path("elsewhere").display());
    assert!(status == 7 && said.contains("is now a link to") && said.contains(&through), "{said}");
    assert_eq!(fs::read_dir(world.path("elsewhere")).unwrap().count(), 0);
    world.done(&["restore", "readings@newest", "--in-place", "--through", &through]);
    assert_eq!(fs::read_to_string(world.path("elsewhere/ridge/notes.md")).unwrap(), "42 pairs");
}

#[test]
fn nothing_that_others_wrote_speaks_to_a_terminal() {
    let world = World::new();
    // An escape, a C1 control, and one that turns the direction of text.
    let evil = "\u{1b}]0;owned\u{7}\u{9b}31m\u{202e}x";
    write(&world.path(&format!("ridge/{evil}/{evil}")), content(1, 100));
    let source = world.path("ridge").display().to_string();
    world.plan(
        "readings",
        &format!(
            "about = \"\\u001b[2J\"\nsources = [\"{source}\", \"/no/such\"]\nstore = \"oak\"\n[[around]]\nenter = [\"sh\", \"-c\", \"printf '\\\\033[31mred'; exit 1\"]\nif-enter-fails = \"go-on\"\n"
        ),
    );
    // What is refused is shown, too.
    world.plan(
        "mistaken",
        "sources = [\"/\\u001b[2J\"]\nstore = \"o\\u001bak\"\nmachine = \"h\\u001b[1mut\\u009b\"\nlabels = [\"\\u001b[5m\"]\n",
    );
    let path = format!("{source}/{evil}/{evil}");
    let to = world.path("back").display().to_string();
    let commands: [&[&str]; 24] = [
        &["plan", "list"],
        &["plan", "show", "readings"],
        &["plan", "check", "readings"],
        &["explain", "readings", &path],
        &["run", "readings", "--dry-run", "-v"],
        &["run", "readings", "-v"],
        &["run", "no\u{1b}[31msuch"],
        &["history"],
        &["history", "readings", "--json"],
        &["tree", "readings@newest", &path[..path.len() - evil.len()]],
        &["tree", "readings@newest", "--json"],
        &["tree", "readings@newest", "/no/\u{1b}[31msuch"],
        &["versions", "readings", &path],
        &["versions", "readings", &path, "--json"],
        &["restore", "readings@newest", "--to", &to],
        &["restore", "readings@newest", "--to", &to, "--json"],
        &["verify", "oak"],
        &["store", "list"],
        &["store", "show", "oak"],
        &["journal"],
        &["journal", "--run", "1"],
        &["journal", "--json"],
        &["due"],
        &["doctor", "--look-in", &source],
    ];
    let mut shown = 0;
    for arguments in commands {
        let output = world.output(arguments);
        for bytes in [&output.stdout, &output.stderr] {
            let text = String::from_utf8_lossy(bytes);
            let harmful = |c: char| {
                (c.is_control() && !matches!(c, '\n' | '\t'))
                    || matches!(c, '\u{202a}'..='\u{202e}')
            };
            assert!(!text.contains(harmful), "{arguments:?}: {text:?}");
            shown += text.matches("\\u{1b}").count() + text.matches("\\u001b").count();
        }
    }
    assert!(shown > 8, "escaped and shown {shown} times");
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
}

#[test]
fn a_file_that_grows_as_it_is_read_ends_the_run_all_the_same() {
    let world = World::new();
    write(&world.path("ridge/log"), content(1, 3 << 20));
    write(&world.path("ridge/other"), "x");
    world.usual_plan("");
    let grows = world.path("ridge/log");
    let done = std::sync::atomic::AtomicBool::new(false);
    let (status, run) = std::thread::scope(|scope| {
        scope.spawn(|| {
            use std::io::Write as _;
            let mut log = fs::OpenOptions::new().append(true).open(&grows).unwrap();
            while !done.load(std::sync::atomic::Ordering::SeqCst) {
                // Faster than anything is read, up to what the test's disk bears.
                if log.metadata().unwrap().len() < 1 << 30 {
                    log.write_all(&[7; 1 << 20]).unwrap();
                }
            }
        });
        let ended = world.json(&["run", "readings"]);
        done.store(true, std::sync::atomic::Ordering::SeqCst);
        ended
    });
    assert_eq!(status, 4, "{run}");
    let reason = run["runs"][0]["exceptions"][0]["reason"].as_str().unwrap();
    assert!(reason.starts_with("it grew while it was read"), "{reason}");
    let (_, tree) = world.json(&["tree", "readings@newest", "ridge"]);
    let log = tree["entries"]
        .as_array()
        .unwrap()
        .iter()
        .find(|entry| entry["path"].as_str().unwrap().ends_with("/log"));
    assert!(log.unwrap()["size"].as_u64().unwrap() < 1 << 30);
}

#[test]
fn a_tree_deeper_than_files_may_be_open_costs_no_other() {
    let world = World::new();
    let mut deep = world.path("ridge/deep");
    for number in 0..200 {
        deep.push(number.to_string());
    }
    write(&deep.join("bottom"), "x");
    for number in 0..60 {
        write(&world.path(&format!("ridge/wide-{number}/{number}/file")), content(number, 100));
    }
    world.usual_plan("");
    let limited = |arguments: &[&str]| {
        let command = world.command(arguments);
        let mut shell = Command::new("sh");
        shell
            .args(["-c", "ulimit -n 128; exec \"$0\" \"$@\""])
            .arg(command.get_program())
            .args(command.get_args());
        shell.env_clear();
        for (name, value) in command.get_envs() {
            shell.env(name, value.unwrap());
        }
        shell.output().unwrap()
    };
    let output = limited(&["run", "readings", "--json"]);
    let run: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let exceptions = run["runs"][0]["exceptions"].as_array().unwrap();
    assert_eq!((output.status.code(), exceptions.len()), (Some(4), 1), "{run}");
    let exception = &exceptions[0];
    assert!(exception["path"].as_str().unwrap().contains("/deep/"), "{exception}");
    assert!(exception["reason"].as_str().unwrap().contains("ulimit -n"), "{exception}");
    let to = world.path("back").display().to_string();
    world.done(&["restore", "readings@newest", "--to", &to]);
    for number in 0..60 {
        assert!(world.path(&format!("back/ridge/wide-{number}/{number}/file")).exists());
    }
    // With more of them all of it is stored, and a restore that may open few says what it lacks.
    world.done(&["run", "readings"]);
    let to = world.path("again").display().to_string();
    let output = limited(&["restore", "readings@newest", "--to", &to]);
    let said = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(4), "{said}{}", String::from_utf8_lossy(&output.stdout));
    assert!(world.path("again/ridge/wide-59/59/file").exists());
}

#[test]
fn a_weak_passphrase_has_to_be_agreed_to() {
    let world = World::new();
    write(&world.path("weak"), "gull");
    world::private(&world.path("weak"));
    world.stores(&format!(
        "[elm]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        world.path("elm").display(),
        world.path("weak").display()
    ));
    let (status, said) = world.fail(&["store", "create", "elm"]);
    assert!(status == 7 && said.contains("weak") && said.contains("--weak-passphrase"), "{said}");
    assert!(!world.path("elm").exists(), "nothing was made");
    world.done(&["store", "create", "elm", "--weak-passphrase"]);
}
