//! Every operation at the place goes wrong once: the outcome is an error that names what failed,
//! or a correct result, and never a listed snapshot that does not restore.

use crate::common;

use std::{fs, path::Path, sync::Arc, time::Duration};

use common::{
    PASSPHRASE, Restoring, Running, Unwatched, assert_same, content, create_store, newest,
    open_store, plan_of, run_at, scratch, settle, verify, write,
};
use skellin_place::{Fault, FaultyPlace, MemoryPlace, Place};
use skellin_plan::Plan;
use skellin_store::{Cache, DataShare, Store};

const NIGHT: i64 = 1_790_000_000_000;
const FAULTS: [Fault; 5] = [
    Fault::Fail,
    Fault::LostAnswer,
    Fault::Tear,
    Fault::Down,
    Fault::Delay(Duration::from_millis(3)),
];

/// Two states of a source, the first of them in a store.
struct World {
    folder: tempfile::TempDir,
    before: MemoryPlace,
    plan: Plan,
}

impl World {
    fn new() -> Self {
        let folder = scratch();
        let source = folder.path().join("ridge");
        for number in 0..12 {
            write(&source.join(format!("{}/{number}", number % 3)), content(number, 14_000));
        }
        settle(&source);
        let before = MemoryPlace::new();
        create_store(&before);
        let plan = plan_of(&[&source], "");
        let place: Arc<dyn Place> = Arc::new(before.clone());
        run_at(&place, &plan, NIGHT);
        fs::rename(&source, folder.path().join("first")).unwrap();
        // What changes is written beside and moved, so that the first state stays as it was.
        copy(&folder.path().join("first"), &source);
        write(&source.join("1/4"), content(104, 14_000));
        write(&source.join("2/new"), content(105, 30_000));
        settle(&source);
        Self { folder, before, plan }
    }

    /// Every listed snapshot restores, to one of the two states.
    fn check(&self, place: &Arc<dyn Place>, round: &str) {
        let store = open_store(place);
        let snapshots =
            skellin_engine::history::snapshots(&store, None, |_, error| panic!("{round}: {error}"))
                .unwrap();
        for snapshot in &snapshots {
            let back = self.folder.path().join("back");
            let _ = fs::remove_dir_all(&back);
            let report = Restoring::all(snapshot, &back).run(&store);
            assert_eq!(report.exceptions, Vec::new(), "{round}");
            let state = if snapshot.started == NIGHT { "first" } else { "ridge" };
            assert_same(&self.folder.path().join(state), &back.join("ridge"));
        }
        assert!(!snapshots.is_empty(), "{round}: the first snapshot is listed for ever");
    }
}

fn copy(from: &Path, to: &Path) {
    let status = std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap();
    assert!(status.success());
}

fn open(place: &Arc<FaultyPlace>) -> skellin_store::Result<Arc<Store>> {
    let place: Arc<dyn Place> = Arc::clone(place) as Arc<dyn Place>;
    Store::open(place, PASSPHRASE, Cache::None).map(Arc::new)
}

/// Operations that work takes when nothing goes wrong.
fn count(world: &World, work: impl Fn(&Arc<FaultyPlace>)) -> u64 {
    let place = Arc::new(FaultyPlace::new(Arc::new(world.before.fork()), u64::MAX, Fault::Fail));
    work(&place);
    place.operations()
}

#[test]
fn every_operation_of_a_run_may_fail() {
    let world = World::new();
    let total = count(&world, |place| {
        Running::of(&world.plan).at(NIGHT + 1).run(&open(place).unwrap());
    });
    assert!(total > 20, "{total} operations are few");
    let (mut failed, mut done) = (0, 0);
    for fault in FAULTS {
        for at in 0..total {
            let round = format!("{fault:?} at {at} of {total}");
            let memory = world.before.fork();
            let inner: Arc<dyn Place> = Arc::new(memory.clone());
            let place = Arc::new(FaultyPlace::new(Arc::clone(&inner), at, fault));
            let outcome = open(&place)
                .map_err(skellin_engine::EngineError::from)
                .and_then(|store| Running::of(&world.plan).at(NIGHT + 1).try_run(&store));
            match outcome {
                Ok(report) => {
                    assert!(report.snapshot.is_some(), "{round}");
                    let listed = open_store(&inner).snapshots().unwrap();
                    assert_eq!(listed.len(), 2, "{round}: a run that succeeded is listed");
                    done += 1;
                }
                Err(error) => {
                    let text = error.to_string();
                    let named =
                        ["create", "read", "list", "delete"].iter().any(|word| text.contains(word));
                    assert!(
                        named || text.contains("is damaged") || text.contains("no store"),
                        "{round}: {text}"
                    );
                    failed += 1;
                }
            }
            world.check(&inner, &round);
            if at % 5 == 0 {
                // And the next run succeeds, whatever was left behind.
                run_at(&inner, &world.plan, NIGHT + 2);
                world.check(&inner, &round);
                // A torn copy of a snapshot stays torn beside its spare; it touches no file.
                let damage = verify(&inner).damage;
                let harmless =
                    fault == Fault::Tear && damage.iter().all(|damage| damage.files.is_empty());
                assert!(damage.is_empty() || harmless, "{round}: {damage:?}");
            }
        }
    }
    assert!(failed > total && done > total, "{failed} failed, {done} succeeded");
}

#[test]
fn every_operation_of_a_restore_may_fail() {
    let world = World::new();
    let back = world.folder.path().join("faulty-back");
    let restore = |place: &Arc<FaultyPlace>| {
        let _ = fs::remove_dir_all(&back);
        let store = open(place)?;
        let listed = store.snapshots()?;
        let snapshot = store.read_snapshot(&listed[0])?;
        Restoring::all(&snapshot, &back).try_run(&store)
    };
    let total = count(&world, |place| {
        restore(place).unwrap();
    });
    for fault in FAULTS {
        for at in 0..total {
            let inner: Arc<dyn Place> = Arc::new(world.before.fork());
            let place = Arc::new(FaultyPlace::new(inner, at, fault));
            match restore(&place) {
                Ok(report) if report.exceptions.is_empty() => {
                    assert_same(&world.folder.path().join("first"), &back.join("ridge"));
                }
                Ok(report) => assert!(report.exception_count > 0),
                Err(error) => {
                    let text = error.to_string();
                    assert!(
                        text.contains("could not")
                            || text.contains("is damaged")
                            || text.contains("no store"),
                        "{text}"
                    );
                }
            }
            // What was restored before the failure is whole.
            if back.exists() {
                for path in common::listing(&back).keys().filter(|path| back.join(path).is_file()) {
                    assert!(
                        !path.to_string_lossy().contains(".skellin"),
                        "{fault:?} at {at}: {}",
                        path.display()
                    );
                    let original =
                        world.folder.path().join("first").join(path.strip_prefix("ridge").unwrap());
                    assert_eq!(fs::read(back.join(path)).unwrap(), fs::read(original).unwrap());
                }
            }
        }
    }
}

#[test]
fn every_operation_of_a_verification_may_fail() {
    let world = World::new();
    let prove = |place: &Arc<FaultyPlace>| open(place)?.verify(DataShare::All, &Unwatched);
    let total = count(&world, |place| {
        prove(place).unwrap();
    });
    for fault in FAULTS {
        for at in 0..total {
            let inner: Arc<dyn Place> = Arc::new(world.before.fork());
            let place = Arc::new(FaultyPlace::new(inner, at, fault));
            match prove(&place) {
                Ok(report) => assert!(
                    report.damage.is_empty(),
                    "{fault:?} at {at}: a failing place is no damage: {:?}",
                    report.damage
                ),
                Err(error) => assert!(!error.to_string().is_empty()),
            }
        }
    }
}

#[test]
fn every_object_may_be_torn_or_flipped_and_nothing_panics() {
    let world = World::new();
    for name in world.before.names() {
        let whole = world.before.fetch(&name, 1 << 30).unwrap();
        for change in 0..4 {
            let memory = world.before.fork();
            let mut bytes = whole.clone();
            match change {
                0 => bytes.truncate(bytes.len() / 2),
                1 => bytes.clear(),
                2 => {
                    let at = bytes.len() / 3;
                    bytes[at] ^= 0x10;
                }
                _ => bytes.extend_from_slice(b"more"),
            }
            memory.overwrite(&name, bytes);
            let place: Arc<dyn Place> = Arc::new(memory);
            let Ok(store) = Store::open(Arc::clone(&place), PASSPHRASE, Cache::None) else {
                continue;
            };
            let report = store.verify(DataShare::All, &Unwatched).unwrap();
            let spared = ["skellin-store", "keys/", "spares/"]
                .iter()
                .any(|start| name.as_str().starts_with(start));
            let noticed = !report.damage.is_empty() || (change == 3 && spared);
            assert!(noticed || spared, "{name}, change {change}: unnoticed");
            // A run on a damaged store makes a snapshot that is whole.
            let store = open_store(&place);
            if let Ok(report) = Running::of(&world.plan).at(NIGHT + 5).try_run(&store) {
                assert!(report.snapshot.is_some());
                let store = open_store(&place);
                let back = world.folder.path().join("back");
                let _ = fs::remove_dir_all(&back);
                let restored = Restoring::all(&newest(&store), &back).run(&store);
                // Damage inside a container that is still there is found by reading it, not by a
                // run, which reads nothing that it has.
                let inside =
                    name.as_str().starts_with("data/") || name.as_str().starts_with("trees/");
                assert!(
                    restored.exceptions.is_empty() || inside,
                    "{name}: {:?}",
                    restored.exceptions
                );
            }
        }
    }
}
