//! Lines that break and sources that hang, by the commands: what passes is waited for, and nothing
//! keeps a process from ending.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "../../place/tests/common/sshd.rs"]
#[allow(dead_code, unreachable_pub)]
mod sshd;
mod world;

use std::{
    fs,
    io::{BufRead as _, BufReader},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use rustix::process::{Pid, Signal, kill_process};
use skellin_standins::{Pace, Wire};
use sshd::{Sshd, user};
use world::World;
use world::common::{assert_same, content, settle, write};

/// A store on a server, reached over a line of our own.
fn pier(server: &Sshd, pace: Pace) -> (World, Wire) {
    let wire = Wire::to(server.port, pace).unwrap();
    let known = fs::read_to_string(server.path("known_hosts")).unwrap();
    let own = format!("[127.0.0.1]:{}", wire.port());
    write(
        &server.path("known_through"),
        known.replace(&format!("[127.0.0.1]:{}", server.port), &own),
    );
    let world = World::bare();
    write(&world.path("key"), world::common::PASSPHRASE);
    world::private(&world.path("key"));
    world.stores(&format!(
        "[pier]\nplace = \"sftp://{}@127.0.0.1:{}{}\"\nidentity = \"{}\"\nknown-hosts = \"{}\"\npatience = \"2 min\"\npassphrase = {{ file = \"{}\" }}\n",
        user(),
        wire.port(),
        server.path("store").display(),
        server.path("client").display(),
        server.path("known_through").display(),
        world.path("key").display()
    ));
    for number in 0..12 {
        write(&world.path(&format!("ridge/{number}")), content(2 * number, 1 << 20));
    }
    settle(&world.path("ridge"));
    let left = world.path("left").display().to_string();
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\"]\nstore = \"pier\"\n[[around]]\nenter = [\"true\"]\nleave = [\"touch\", \"{left}\"]\n",
            world.path("ridge").display()
        ),
    );
    world.done(&["store", "create", "pier"]);
    (world, wire)
}

fn start(world: &World) -> Child {
    world.command(&["run", "readings", "--json"]).stdout(Stdio::piped()).spawn().unwrap()
}

fn wait_until(mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(60), "it does not come");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Asks a process to end; it does so within some seconds, with the signal's status.
fn ends_soon(child: &mut Child, signal: Signal, status: i32) {
    let asked = Instant::now();
    kill_process(Pid::from_child(child), signal).unwrap();
    let ended = child.wait().unwrap();
    assert_eq!(ended.code(), Some(status));
    assert!(asked.elapsed() < Duration::from_secs(7), "{:?}", asked.elapsed());
}

#[test]
fn a_line_that_is_away_for_longer_than_a_few_tries_costs_no_run() {
    let server = Sshd::start();
    let (world, wire) = pier(&server, Pace { rate: Some(4 << 20), ..Pace::default() });
    let child = start(&world);
    let before = wire.carried().0;
    wait_until(|| wire.carried().0 > before + (2 << 20));
    wire.close();
    // Longer than five tries with pauses that double: what ended runs before.
    std::thread::sleep(Duration::from_secs(18));
    wire.open();
    let output = child.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(0), "{text}");
    let to = world.path("back").display().to_string();
    world.done(&["restore", "readings@newest", "--to", &to]);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
}

#[test]
fn a_frozen_line_keeps_no_process_from_ending() {
    let server = Sshd::start();
    for (signal, status) in [(Signal::TERM, 143), (Signal::INT, 130)] {
        let (world, wire) = pier(&server, Pace { rate: Some(2 << 20), ..Pace::default() });
        let mut child = start(&world);
        let before = wire.carried().0;
        wait_until(|| wire.carried().0 > before + (1 << 20));
        wire.freeze();
        ends_soon(&mut child, signal, status);
        assert!(world.path("left").exists(), "what was entered was left");
        fs::remove_dir_all(server.path("store")).unwrap();
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
    let mut child = start(&world);
    // As soon as a worker waits in the kernel for the file.
    let tasks = format!("/proc/{}/task", child.id());
    wait_until(|| {
        let tasks = fs::read_dir(&tasks).into_iter().flatten().flatten();
        let hangs = |stack: String| stack.contains("fanotify");
        tasks
            .map(|task| fs::read_to_string(task.path().join("wchan")).unwrap_or_default())
            .any(hangs)
            || world.path("entered").exists()
    });
    ends_soon(&mut child, Signal::TERM, 143);
    assert!(world.path("left").exists(), "what was entered was left");
    drop(helper.stdin.take());
    helper.wait().unwrap();
    // And the next run is whole.
    world.done(&["run", "readings"]);
}
