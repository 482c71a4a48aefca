//! A real run, killed at two hundred moments.

use crate::common;

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

use common::{
    PASSPHRASE, Restoring, Running, assert_clean, assert_same, content, create_store, open_store,
    plan_of, scratch, settle, write,
};
use skellin_engine::history;
use skellin_place::{DirectoryPlace, Place};

const MOMENTS: usize = 200;
/// Bytes the second state adds, all of them noise.
const FILES: u64 = 60;
const LENGTH: usize = 50_000;

struct World {
    folder: tempfile::TempDir,
    source: PathBuf,
    before: PathBuf,
}

fn copy(from: &Path, to: &Path) {
    let status = Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap();
    assert!(status.success());
}

/// Whether a few rounds fit there.
fn has_room(folder: &Path) -> bool {
    let facts = rustix::fs::statvfs(folder);
    facts.is_ok_and(|facts| facts.f_bavail * facts.f_frsize > 256 << 20)
}

impl World {
    fn new() -> Self {
        // Who is killed by a signal loses nothing that the kernel has: the disk is not what is tried here.
        let memory = tempfile::tempdir_in("/dev/shm").ok().filter(|it| has_room(it.path()));
        let folder = memory.unwrap_or_else(scratch);
        let (source, before) = (folder.path().join("ridge"), folder.path().join("oak"));
        for number in 0..10 {
            write(&source.join(format!("old/{number}")), content(1000 + number * 2, 9000));
        }
        let directory = DirectoryPlace::prepare(&before, skellin_store::FOLDERS).unwrap();
        create_store(&directory);
        let place: Arc<dyn Place> = Arc::new(directory);
        settle(&source);
        Running::of(&plan_of(&[&source], "")).at(1_700_000_000_000).run(&open_store(&place));
        copy(&source, &folder.path().join("first"));
        for number in 0..FILES {
            write(&source.join(format!("{}/{number}", number / 6)), content(number * 2, LENGTH));
        }
        settle(&source);
        write(&folder.path().join("key"), PASSPHRASE);
        let private = std::os::unix::fs::PermissionsExt::from_mode(0o600);
        fs::set_permissions(folder.path().join("key"), private).unwrap();
        Self { folder, source, before }
    }

    /// A copy of the store, configured for the program.
    fn round(&self, number: usize) -> PathBuf {
        let round = self.folder.path().join(format!("round-{number}"));
        fs::create_dir_all(round.join("config/plans")).unwrap();
        copy(&self.before, &round.join("oak"));
        let key = self.folder.path().join("key");
        let stores = format!(
            "[oak]\nplace = \"{}/oak\"\npassphrase = {{ file = \"{}\" }}\n",
            round.display(),
            key.display()
        );
        write(&round.join("config/stores.toml"), stores);
        let plan = format!(
            "sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\n",
            self.source.display()
        );
        write(&round.join("config/plans/readings.toml"), plan);
        round
    }
}

fn program(round: &Path) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_skellin"));
    command
        .args(["run", "readings", "--quiet"])
        .env("SKELLIN_CONFIG", round.join("config"))
        .env("SKELLIN_STATE", round.join("state"))
        .env("SKELLIN_CACHE", round.join("cache"))
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    command
}

fn objects(store: &Path) -> usize {
    let folders = ["runs", "data", "trees", "index", "spares", "snapshots"];
    folders.iter().map(|folder| fs::read_dir(store.join(folder)).unwrap().count()).sum()
}

fn entries(store: &Path, folder: &str) -> usize {
    fs::read_dir(store.join(folder)).unwrap().count()
}

/// Kills a run once so many objects are at the place, and a little later; whether that was between
/// its first and its last write.
fn kill_one(world: &World, number: usize, full: usize) -> bool {
    let round = world.round(number);
    let store = round.join("oak");
    let start = objects(&store);
    let wanted = start + 1 + number * (full - start) / MOMENTS;
    let mut child = program(&round).spawn().unwrap();
    let deadline = Instant::now() + Duration::from_secs(30);
    while objects(&store) < wanted && child.try_wait().unwrap().is_none() {
        assert!(Instant::now() < deadline, "the run hangs");
        std::hint::spin_loop();
    }
    // Not always right after a write: up to two milliseconds on.
    let later = Instant::now() + Duration::from_micros(number as u64 * 37 % 2000);
    while Instant::now() < later {
        std::hint::spin_loop();
    }
    child.kill().unwrap();
    child.wait().unwrap();
    // The run's record is its first write, and to remove it its last.
    let between = entries(&store, "runs") == 1;
    let arrived: u64 = fs::read_dir(store.join("data"))
        .unwrap()
        .map(|entry| entry.unwrap().metadata().unwrap().len())
        .sum::<u64>()
        - data_bytes(&world.before);
    check(world, &store, arrived);
    fs::remove_dir_all(round).unwrap();
    between
}

fn data_bytes(store: &Path) -> u64 {
    fs::read_dir(store.join("data"))
        .unwrap()
        .map(|entry| entry.unwrap().metadata().unwrap().len())
        .sum()
}

/// The store is correct, earlier snapshots restore, and the next run takes over what arrived.
fn check(world: &World, root: &Path, arrived: u64) {
    let place: Arc<dyn Place> = Arc::new(DirectoryPlace::open(root).unwrap());
    assert_clean(&place);
    let back = root.join("../back");
    let restore_all = || {
        let store = open_store(&place);
        for snapshot in history::snapshots(&store, None, |_, error| panic!("{error}")).unwrap() {
            let _ = fs::remove_dir_all(&back);
            assert_eq!(Restoring::all(&snapshot, &back).run(&store).exceptions, Vec::new());
            let first = snapshot.started == 1_700_000_000_000;
            let state =
                if first { world.folder.path().join("first") } else { world.source.clone() };
            assert_same(&state, &back.join("ridge"));
        }
        open_store(&place).snapshots().unwrap().len()
    };
    let before = restore_all();
    let report =
        Running::of(&plan_of(&[&world.source], "")).at(1_800_000_000_000).run(&open_store(&place));
    assert!(report.snapshot.is_some());
    assert_eq!(restore_all(), before + 1);
    // Whatever container had arrived is used: only what was being sent is stored again.
    let total = FILES * LENGTH as u64;
    let overhead = arrived / 20;
    assert!(
        report.bytes.new <= total - (arrived - overhead).min(total),
        "{} new after {arrived}",
        report.bytes.new
    );
}

#[test]
fn a_run_killed_at_any_moment_leaves_a_correct_store() {
    let world = World::new();
    let probe = world.round(MOMENTS + 1);
    assert!(program(&probe).status().unwrap().success());
    // With the record of the run, which is gone again.
    let full = objects(&probe.join("oak")) + 1;
    assert!(full > 40, "{full} objects give few moments");
    let (next, between) = (AtomicUsize::new(0), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let number = next.fetch_add(1, Ordering::SeqCst);
                    if number >= MOMENTS {
                        return;
                    }
                    if kill_one(&world, number, full) {
                        between.fetch_add(1, Ordering::SeqCst);
                    }
                }
            });
        }
    });
    let between = between.into_inner();
    eprintln!("{between} of {MOMENTS} kills fell between the first and the last write");
    assert!(
        between >= 150,
        "only {between} of {MOMENTS} kills fell between the first and the last write"
    );
}
