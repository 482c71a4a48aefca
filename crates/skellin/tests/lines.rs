//! Lines that break and sources that hang, by the commands: what passes is waited for, and nothing
//! keeps a process from ending.

use crate::{distant, world};

use std::{
    fs,
    io::{BufRead as _, BufReader, Read as _},
    os::unix::fs::MetadataExt as _,
    process::{Child, Command, Stdio},
    time::Duration,
};

use distant::{Distant, KINDS, Kind, ask_to_end, until};
use rustix::process::Signal;
use serde_json::Value;
use skellin_standins::Pace;
use world::World;
use world::common::{assert_same, content, write};

/// Asks a process to end; it does so within five seconds, with the signal's status.
fn ends_soon(child: &mut Child, signal: Signal, status: i32, what: &str) {
    let (code, took) = ask_to_end(child, signal);
    assert_eq!(code, Some(status), "{what}");
    // Promised within five; a machine that has much to do gets one more.
    assert!(took < Duration::from_secs(6), "{what}: {took:?}");
}

#[test]
fn a_line_that_is_away_for_longer_than_a_few_tries_costs_no_run() {
    let pace = Pace { rate: Some(4 << 20), ..Pace::default() };
    let distant = Distant::new(Kind::Sftp, 6, pace);
    let child = distant.start_until(&["run", "readings", "--json"], 2 << 20);
    distant.wire.close();
    // Longer than five tries with pauses that double: what ended runs before.
    std::thread::sleep(Duration::from_secs(18));
    distant.wire.open();
    let output = child.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(0), "{text}");
    restores(&distant);
}

/// The newest snapshot restores as the source is.
fn restores(distant: &Distant) {
    let world = &distant.world;
    let to = world.path("back").display().to_string();
    world.done(&["restore", "readings@newest", "--to", &to]);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
    fs::remove_dir_all(world.path("back")).unwrap();
}

fn a_frozen_line_keeps_no_command_from_ending(kind: Kind) {
    let pace = Pace { rate: Some(4 << 20), ..Pace::default() };
    let distant = Distant::new(kind, 6, pace);
    let world = &distant.world;
    world.done(&["run", "readings"]);
    // A restore and a verification hang at the same time as a run of another plan.
    let source = world.path("ringing");
    for number in 0..48 {
        write(&source.join(format!("{number}")), content(1001 + 2 * number, 1 << 20));
    }
    let left = world.path("let go").display().to_string();
    let entered = world.path("entered").display().to_string();
    world.plan(
        "ringing",
        &format!(
            "sources = [\"{}\"]\nstore = \"pier\"\n[[around]]\nenter = [\"touch\", \"{entered}\"]\nleave = [\"touch\", \"{left}\"]\n",
            source.display()
        ),
    );
    let back = world.path("back").display().to_string();
    let commands: [(&[&str], Signal, i32); 3] = [
        (&["run", "ringing", "--json"], Signal::TERM, 143),
        (&["verify", "pier"], Signal::INT, 130),
        (&["restore", "readings@newest", "--to", &back, "--json"], Signal::TERM, 143),
    ];
    let mut children: Vec<Child> =
        commands.iter().map(|(arguments, ..)| distant.start_until(arguments, 1 << 18)).collect();
    until("the run reads", || world.path("entered").exists());
    until("the restore writes", || world.path("back/ridge").exists());
    distant.wire.freeze();
    std::thread::scope(|scope| {
        for (child, (arguments, signal, status)) in children.iter_mut().zip(commands) {
            scope.spawn(move || {
                ends_soon(child, signal, status, &format!("{kind:?} {arguments:?}"));
            });
        }
    });
    // Programs that read the answer get one, however the process had to end.
    for (child, (arguments, ..)) in children.iter_mut().zip(commands) {
        let mut text = String::new();
        child.stdout.take().unwrap().read_to_string(&mut text).unwrap();
        if arguments.contains(&"--json") {
            let answer: Value = serde_json::from_str(&text).unwrap_or_else(|_| panic!("{text}"));
            let status = &answer["runs"][0]["status"];
            assert!(
                answer["error"]["kind"] == "interrupted"
                    || status == "interrupted"
                    || answer["restored"].is_number(),
                "{answer}"
            );
        }
    }
    assert!(world.path("let go").exists(), "what was entered was left");
    let there = fs::metadata(world.path("back/ridge")).unwrap();
    let source = fs::metadata(world.path("ridge")).unwrap();
    assert_eq!(
        (there.mode(), there.mtime(), there.uid()),
        (source.mode(), source.mtime(), source.uid()),
        "no directory is half dressed"
    );
    // What was under way belongs to nobody any more.
    distant.wire.cut();
    distant.wire.thaw();
    world.done(&["run", "ringing"]);
    restores(&distant);
    world.done(&["verify", "pier"]);
}

#[test]
fn a_frozen_line_to_sftp_keeps_no_command_from_ending() {
    a_frozen_line_keeps_no_command_from_ending(Kind::Sftp);
}

#[test]
fn a_frozen_line_to_s3_keeps_no_command_from_ending() {
    a_frozen_line_keeps_no_command_from_ending(Kind::S3);
}

#[test]
fn a_frozen_line_to_webdav_keeps_no_command_from_ending() {
    a_frozen_line_keeps_no_command_from_ending(Kind::WebDav);
}

#[test]
fn what_is_waited_for_is_said_and_recorded() {
    let pace = Pace { rate: Some(4 << 20), ..Pace::default() };
    let distant = Distant::new(Kind::S3, 8, pace);
    let mut child =
        distant.start_until(&["run", "readings", "--json", "--progress", "json"], 2 << 20);
    distant.wire.freeze();
    let lines = BufReader::new(child.stderr.take().unwrap()).lines();
    let waiting = |line: &Value, over| line["event"] == "waiting" && line["over"] == over;
    let mut lines = lines.map(|line| serde_json::from_str::<Value>(&line.unwrap()).unwrap());
    let said = lines.find(|line| waiting(line, false)).expect("it is said");
    assert!(said["seconds"].as_f64().unwrap() >= 30.0, "{said}");
    assert!(said["for"].as_str().unwrap().contains("s3://ridge"), "{said}");
    distant.wire.thaw();
    distant.wire.cut();
    assert!(lines.any(|line| waiting(&line, true)), "its end is said");
    let output = child.wait_with_output().unwrap();
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(0), "{report}");
    assert!(report["notes"].to_string().contains("waiting for s3://"), "{report}");
    let (_, entry) = distant.world.json(&["journal", "--run", "1"]);
    let steps = entry["steps"].as_array().unwrap();
    let wait = steps.iter().find(|step| step["kind"] == "wait").expect("a step");
    assert!(wait["ended"].is_string() && wait["status"] == "done", "{wait}");
}

fn a_line_that_breaks_every_three_megabytes_carries_everything(kind: Kind) {
    let distant = Distant::new(kind, 7, Pace::default());
    distant.wire.break_after(Some(3_000_000));
    let (status, report) = distant.world.json(&["run", "readings"]);
    assert_eq!(status, 0, "{report}");
    assert!(report["notes"].to_string().contains("starting again with containers of"), "{report}");
    // The next run knows, and needs no second start.
    write(&distant.world.path("ridge/more"), content(999, 4 << 20));
    let (status, report) = distant.world.json(&["run", "readings"]);
    assert_eq!(status, 0, "{report}");
    assert!(!report["notes"].to_string().contains("containers of"), "{report}");
    restores(&distant);
    distant.world.done(&["verify", "pier"]);
    distant.wire.break_after(None);
    distant.world.done(&["verify", "pier"]);
}

#[test]
fn sftp_over_a_line_that_breaks_every_three_megabytes() {
    a_line_that_breaks_every_three_megabytes_carries_everything(Kind::Sftp);
}

#[test]
fn s3_over_a_line_that_breaks_every_three_megabytes() {
    a_line_that_breaks_every_three_megabytes_carries_everything(Kind::S3);
}

#[test]
fn webdav_over_a_line_that_breaks_every_three_megabytes() {
    a_line_that_breaks_every_three_megabytes_carries_everything(Kind::WebDav);
}

#[test]
fn large_containers_are_read_over_a_line_that_breaks() {
    for kind in KINDS {
        let distant = Distant::new(kind, 6, Pace::default());
        distant.world.done(&["run", "readings"]);
        distant.wire.break_after(Some(3_000_000));
        distant.world.done(&["verify", "pier"]);
        restores(&distant);
    }
}

#[test]
fn what_the_line_changes_is_read_again_and_is_no_damage() {
    for kind in [Kind::S3, Kind::WebDav] {
        let distant = Distant::new(kind, 8, Pace::default());
        distant.world.done(&["run", "readings"]);
        for every in [19_000_000, 23_000_000] {
            distant.wire.flip_every(Some(every));
            let (status, report) = distant.world.json(&["verify", "pier"]);
            assert_eq!(status, 0, "{kind:?} {every}: {report}");
            restores(&distant);
        }
        distant.wire.flip_every(None);
        // Nothing was condemned on the way.
        let (status, report) = distant.world.json(&["run", "readings"]);
        assert_eq!((status, &report["runs"][0]["bytes"]["new"]), (0, &Value::from(0)), "{report}");
    }
}

/// Opening a file that nobody lets be opened hangs as one on a dead mount does (fanotify(7)).
const NOBODY_OPENS: &str = "
import ctypes, os, sys, time
libc = ctypes.CDLL(None, use_errno=True)
watch = libc.fanotify_init(0x4 | 0x1, os.O_RDONLY)
marked = libc.fanotify_mark(watch, 1, ctypes.c_uint64(0x10000), -100, sys.argv[1].encode())
print('ready' if watch >= 0 and marked == 0 else 'cannot', flush=True)
sys.stdin.read()
";

#[test]
fn a_source_that_hangs_keeps_no_process_from_ending() {
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_HANGS").is_some() {
        // Said aloud by whoever set it.
        return;
    }
    let world = World::new();
    for number in 0..20 {
        write(&world.path(&format!("ridge/{number}")), content(number, 1000));
    }
    let left = world.path("left").display().to_string();
    let entered = world.path("entered").display().to_string();
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\"]\nstore = \"oak\"\n[[around]]\nenter = [\"touch\", \"{entered}\"]\nleave = [\"touch\", \"{left}\"]\n",
            world.path("ridge").display()
        ),
    );
    let mut helper = Command::new("python3")
        .args(["-c", NOBODY_OPENS])
        .arg(world.path("ridge/7"))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = String::new();
    BufReader::new(helper.stdout.take().unwrap()).read_line(&mut said).unwrap();
    assert_eq!(said.trim(), "ready", "this kernel makes no file hang");
    let mut child =
        world.command(&["run", "readings", "--json"]).stdout(Stdio::piped()).spawn().unwrap();
    // As soon as a worker waits in the kernel for the file.
    let tasks = format!("/proc/{}/task", child.id());
    until("a worker hangs", || {
        let tasks = fs::read_dir(&tasks).into_iter().flatten().flatten();
        let hangs = |stack: String| stack.contains("fanotify");
        tasks
            .map(|task| fs::read_to_string(task.path().join("wchan")).unwrap_or_default())
            .any(hangs)
            || world.path("entered").exists()
    });
    ends_soon(&mut child, Signal::TERM, 143, "a source that hangs");
    assert!(world.path("left").exists(), "what was entered was left");
    drop(helper.stdin.take());
    helper.wait().unwrap();
    // And the next run is whole.
    world.done(&["run", "readings"]);
}
