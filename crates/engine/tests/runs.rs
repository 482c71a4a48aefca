//! Runs: what is read, what is stored, what is noticed.

use crate::common;

use std::{
    fs,
    os::unix::{fs::PermissionsExt, net::UnixListener},
    sync::Arc,
};

use common::{
    Restoring, Running, assert_clean, assert_same, content, listing, make_odd_tree, memory_store,
    newest, open_store, plan_of, run_at, scratch, settle, verify, write,
};
use skellin_engine::{Change, EngineError, FileCounts, RunStatus, history};
use skellin_place::{HookedPlace, Operation, Place, PlaceErrorKind};

const NIGHT: i64 = 1_790_000_000_000;

#[test]
fn everything_comes_back_as_it_was() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    make_odd_tree(&source);
    let (_, place) = memory_store();
    let plan = plan_of(&[&source], "");
    let report = run_at(&place, &plan, NIGHT);
    assert_eq!(report.status, RunStatus::Done, "{:?}", report.exceptions);
    assert_clean(&place);
    let store = open_store(&place);
    let back = folder.path().join("back");
    let restored = Restoring::all(&newest(&store), &back).run(&store);
    assert_eq!(restored.exceptions, Vec::new());
    assert_same(&source, &back.join("ridge"));
    // Holes stay holes.
    use std::os::unix::fs::MetadataExt;
    let blocks = |path: std::path::PathBuf| fs::metadata(path).unwrap().blocks();
    assert!(blocks(back.join("ridge/sparse.img")) <= blocks(source.join("sparse.img")) + 16);
}

#[test]
fn a_second_run_reads_nothing_and_writes_nearly_nothing() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    make_odd_tree(&source);
    settle(&source);
    let (memory, place) = memory_store();
    let plan = plan_of(&[&source], "");
    let first = run_at(&place, &plan, NIGHT);
    let containers = |memory: &skellin_place::MemoryPlace| {
        memory.names().iter().filter(|name| matches!(name.folder(), "data" | "trees")).count()
    };
    let before = containers(&memory);
    let second = run_at(&place, &plan, NIGHT + 1000);
    assert_eq!((second.bytes.read, second.bytes.new), (0, 0));
    assert_eq!(second.files, FileCounts { same: first.files.new, ..FileCounts::default() });
    assert_eq!(containers(&memory), before, "an unchanged tree needs no container");
    assert_eq!(newest(&open_store(&place)).root, {
        let store = open_store(&place);
        let all = history::snapshots(&store, None, |_, _| {}).unwrap();
        assert_eq!(all.len(), 2);
        all[0].root
    });
    // No record of a run stays behind.
    assert!(place.listing("runs").unwrap().is_empty());
}

#[test]
fn an_inode_that_changed_a_moment_ago_is_read_again() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("note"), "first");
    let (_, place) = memory_store();
    let plan = plan_of(&[&source], "");
    run_at(&place, &plan, NIGHT);
    // Same size, and within the same tick of a coarse clock perhaps the same times.
    let second = run_at(&place, &plan, NIGHT + 1000);
    assert_eq!(second.bytes.read, 5, "equal times prove nothing yet");
    settle(&source);
    run_at(&place, &plan, NIGHT + 2000);
    let fourth = run_at(&place, &plan, NIGHT + 3000);
    assert_eq!(fourth.bytes.read, 0);
}

#[test]
fn changes_are_counted_and_found() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..20 {
        write(&source.join(format!("series/{number:02}.csv")), content(number, 3000));
    }
    write(&source.join("gone/a"), "a");
    write(&source.join("gone/b"), "b");
    settle(&source);
    let (_, place) = memory_store();
    let plan = plan_of(&[&source], "skip *.part");
    assert_eq!(run_at(&place, &plan, NIGHT).files.new, 22);
    fs::remove_dir_all(source.join("gone")).unwrap();
    fs::remove_file(source.join("series/03.csv")).unwrap();
    write(&source.join("series/04.csv"), content(99, 3100));
    write(&source.join("series/new.csv"), content(100, 3000));
    write(&source.join("series/x.part"), "x");
    let running = Running::of(&plan).at(NIGHT + 1).dry();
    let rehearsal = running.run(&open_store(&place));
    let expected = FileCounts { new: 1, changed: 1, gone: 3, same: 18, skipped: 1 };
    assert_eq!(rehearsal.files, expected);
    assert_eq!(rehearsal.bytes.read, 6100);
    let paths = running.paths();
    let paths: Vec<_> = paths.iter().filter(|path| path.change != Change::Same).collect();
    let shown: Vec<_> = paths
        .iter()
        .map(|path| {
            let name = String::from_utf8_lossy(&path.path).rsplit('/').next().unwrap().to_owned();
            (name, path.change, path.rule)
        })
        .collect();
    let wanted = [
        ("gone", Change::Gone, None),
        ("03.csv", Change::Gone, None),
        ("04.csv", Change::Changed, None),
        ("new.csv", Change::New, None),
        ("x.part", Change::Skipped, Some(0)),
    ];
    assert_eq!(shown, wanted.map(|(name, change, rule)| (name.to_owned(), change, rule)));
    let report = run_at(&place, &plan, NIGHT + 2);
    assert_eq!(report.files, expected);
    assert_eq!(report.bytes.read, 6100);
}

#[test]
fn a_rehearsal_writes_nothing() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    make_odd_tree(&source);
    let (memory, place) = memory_store();
    let plan = plan_of(&[&source], "");
    let before = memory.names();
    let report = Running::of(&plan).dry().run(&open_store(&place));
    assert_eq!((report.snapshot, report.run), (None, None));
    assert!(report.files.new > 10);
    assert_eq!(memory.names(), before);
}

#[test]
fn a_byte_in_front_of_a_large_file_costs_two_chunks() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    let big = content(8, 8 << 20);
    write(&source.join("big"), &big);
    let memory = skellin_place::MemoryPlace::new();
    let creation = skellin_store::Creation {
        cost: skellin_store::PassphraseCost::TRIVIAL,
        ..Default::default()
    };
    skellin_store::Store::create(&memory, common::PASSPHRASE, creation).unwrap();
    let place: Arc<dyn Place> = Arc::new(memory);
    let plan = plan_of(&[&source], "");
    run_at(&place, &plan, NIGHT);
    write(&source.join("big"), [b"x".as_slice(), &big].concat());
    let report = run_at(&place, &plan, NIGHT + 1);
    assert!(report.bytes.new <= 2 * (128 << 10), "{}", report.bytes.new);
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_same(&source, &back.join("ridge"));
}

#[test]
fn the_same_tree_elsewhere_stores_only_trees() {
    let folder = scratch();
    let (one, two) = (folder.path().join("one"), folder.path().join("two"));
    for copy in [&one, &two] {
        for number in 0..30 {
            write(&copy.join(format!("{number}")), content(number, 9000));
        }
    }
    let (memory, place) = memory_store();
    run_at(&place, &plan_of(&[&one], ""), NIGHT);
    let data = |memory: &skellin_place::MemoryPlace| {
        memory.names().iter().filter(|name| name.folder() == "data").count()
    };
    let before = data(&memory);
    let report = run_at(&place, &plan_of(&[&two], ""), NIGHT + 1);
    assert_eq!(report.bytes.new, 0);
    assert_eq!(data(&memory), before);
}

#[test]
fn what_cannot_be_read_is_an_exception_and_the_run_goes_on() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("fine"), "fine");
    let (_, place) = memory_store();
    let missing = folder.path().join("missing");
    let plan = plan_of(&[&source, &missing], "");
    let report = run_at(&place, &plan, NIGHT);
    assert_eq!(report.status, RunStatus::Exceptions);
    assert_eq!(report.exception_count, 1);
    assert_eq!(report.exceptions[0].cause.words, "it does not exist");
    assert!(report.snapshot.is_some());
    let snapshot = newest(&open_store(&place));
    assert_eq!((snapshot.exceptions, snapshot.files), (1, 1));
    assert_eq!(snapshot.exception_list[0].reason, "it does not exist");
    if !rustix::process::geteuid().is_root() {
        fs::set_permissions(source.join("fine"), fs::Permissions::from_mode(0o0)).unwrap();
        let report = run_at(&place, &plan, NIGHT + 1);
        assert!(
            report.exceptions.iter().any(|exception| exception.cause.words == "permission denied")
        );
    }
}

#[test]
fn a_plan_none_of_whose_sources_can_be_read_fails() {
    let folder = scratch();
    let (_, place) = memory_store();
    let plan = plan_of(&[&folder.path().join("missing")], "");
    let error = Running::of(&plan).try_run(&open_store(&place)).expect_err("fails");
    assert!(matches!(error, EngineError::NoSources(_)), "{error}");
    assert!(open_store(&place).snapshots().unwrap().is_empty());
}

#[test]
fn sockets_are_counted_and_make_no_noise() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("a"), "a");
    let _socket = UnixListener::bind(source.join("socket")).unwrap();
    let (_, place) = memory_store();
    let report = run_at(&place, &plan_of(&[&source], ""), NIGHT);
    assert_eq!((report.status, report.sockets, report.files.new), (RunStatus::Done, 1, 1));
    assert_eq!(newest(&open_store(&place)).sockets, 1);
}

#[test]
fn sources_may_be_files_links_and_namesakes() {
    let folder = scratch();
    let (a, b) = (folder.path().join("a/data"), folder.path().join("b/data"));
    write(&a.join("x"), "in a");
    write(&b.join("x"), "in b");
    let single = folder.path().join("single.txt");
    write(&single, "alone");
    let link = folder.path().join("link");
    write(&folder.path().join("real/inside"), "through a link");
    std::os::unix::fs::symlink(folder.path().join("real"), &link).unwrap();
    settle(folder.path());
    let (_, place) = memory_store();
    let plan = plan_of(&[&a, &b, &single, &link], "");
    let report = run_at(&place, &plan, NIGHT);
    assert_eq!((report.status, report.files.new), (RunStatus::Done, 4), "{:?}", report.exceptions);
    let second = run_at(&place, &plan, NIGHT + 1);
    assert_eq!((second.files.same, second.bytes.read), (4, 0));
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_eq!(fs::read_to_string(back.join("data/x")).unwrap(), "in a");
    assert_eq!(fs::read_to_string(back.join("data~2/x")).unwrap(), "in b");
    assert_eq!(fs::read_to_string(back.join("single.txt")).unwrap(), "alone");
    assert_eq!(fs::read_to_string(back.join("link/inside")).unwrap(), "through a link");
}

#[test]
fn the_store_itself_is_kept_out() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("a"), "a");
    let root = source.join("oak");
    let directory = skellin_place::DirectoryPlace::prepare(&root, skellin_store::FOLDERS).unwrap();
    common::create_store(&directory);
    let place: Arc<dyn Place> = Arc::new(directory);
    let plan = plan_of(&[&source], "");
    let mut running = Running::of(&plan);
    running.keep_out = vec![root.clone()];
    let report = running.run(&open_store(&place));
    assert_eq!(report.files.new, 1);
    assert!(
        running.notes().contains("oak belongs to Skellin and is excluded"),
        "{}",
        running.notes()
    );
    // The other way round: a source in the store.
    let inside = plan_of(&[&root.join("data"), &folder.path().join("ridge/a")], "");
    let mut running = Running::of(&inside);
    running.keep_out = vec![root];
    let report = running.run(&open_store(&place));
    assert_eq!(report.files.same + report.files.new, 1);
    assert!(running.notes().contains("is inside"), "{}", running.notes());
}

#[test]
fn skipped_directories_leave_no_trace_unless_something_in_them_is_taken() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("cache/a/keep.csv"), "keep");
    write(&source.join("cache/a/drop.bin"), "drop");
    write(&source.join("cache/b/drop.bin"), "drop");
    write(&source.join("notes.md"), "notes");
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], "skip cache/\ntake *.csv"), NIGHT);
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    let found: Vec<_> =
        listing(&back.join("ridge")).into_keys().map(|path| path.display().to_string()).collect();
    assert_eq!(found, ["", "cache", "cache/a", "cache/a/keep.csv", "notes.md"]);
}

#[test]
fn chunks_whose_container_vanished_are_stored_again() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..20 {
        write(&source.join(format!("{number}")), content(number, 20_000));
    }
    settle(&source);
    let (memory, place) = memory_store();
    let plan = plan_of(&[&source], "");
    run_at(&place, &plan, NIGHT);
    let victims: Vec<_> =
        memory.names().into_iter().filter(|name| name.folder() == "data").step_by(2).collect();
    assert!(victims.len() > 2);
    for victim in &victims {
        place.delete(victim).unwrap();
    }
    let damaged = verify(&place);
    assert!(!damaged.damage.is_empty());
    assert!(damaged.damage.iter().all(|damage| !damage.files.is_empty()));
    let report = run_at(&place, &plan, NIGHT + 1);
    assert_eq!(report.status, RunStatus::Done);
    assert!(report.bytes.new > 0 && report.bytes.new < 400_000, "{}", report.bytes.new);
    // The content is back, so that even the older snapshot is whole again.
    assert_clean(&place);
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_same(&source, &back.join("ridge"));
}

#[test]
fn vanished_trees_are_stored_again_too() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    make_odd_tree(&source);
    settle(&source);
    let (memory, place) = memory_store();
    let plan = plan_of(&[&source], "");
    run_at(&place, &plan, NIGHT);
    for victim in memory.names().into_iter().filter(|name| name.folder() == "trees") {
        place.delete(&victim).unwrap();
    }
    let report = run_at(&place, &plan, NIGHT + 1);
    assert_eq!(report.bytes.new, 0, "the content of files is still there");
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_same(&source, &back.join("ridge"));
    // There was a second copy, and there are two again elsewhere: nothing is missing any more, as after a
    // reclaim.
    assert_clean(&place);
}

#[test]
fn an_interrupted_run_ends_without_a_snapshot_and_the_next_takes_over() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..200 {
        write(&source.join(format!("{:02}/{number:03}", number / 10)), content(number, 15_000));
    }
    settle(&source);
    let (memory, place) = memory_store();
    let plan = plan_of(&[&source], "");
    // Raised by the place itself after some containers: no clock is involved.
    let running = Running::of(&plan).at(NIGHT);
    let (left, cancel) = (std::sync::atomic::AtomicI64::new(30), running.cancel.clone());
    let trip = HookedPlace::after(Arc::clone(&place), move |operation, _| {
        let is_one = operation == Operation::Create;
        if is_one && left.fetch_sub(1, std::sync::atomic::Ordering::SeqCst) == 1 {
            cancel.cancel();
        }
        Ok(())
    });
    let tripping: Arc<dyn Place> = Arc::new(trip);
    let report = running.run(&open_store(&tripping));
    assert_eq!((report.status, report.snapshot), (RunStatus::Interrupted, None));
    assert!(open_store(&place).snapshots().unwrap().is_empty());
    assert_eq!(
        place.listing("runs").unwrap().len(),
        1,
        "a crashed run's record waits for a verdict"
    );
    assert_clean(&place);
    let stored: usize = memory.names().iter().filter(|name| name.folder() == "data").count();
    let again = Running::of(&plan).at(NIGHT + 1);
    let report = again.run(&open_store(&place));
    assert_eq!(report.status, RunStatus::Done);
    assert!(again.notes().contains("an earlier run was interrupted"), "{}", again.notes());
    assert!(
        report.bytes.new < 200 * 15_000 - (stored as u64 - 6) * 60_000,
        "{} new after {stored}",
        report.bytes.new
    );
    assert!(
        report.bytes.read < 200 * 15_000,
        "finished directories are not read again: {}",
        report.bytes.read
    );
    assert_eq!(report.files.new, 200, "against the last snapshot all are new");
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_same(&source, &back.join("ridge"));
    assert_clean(&place);
}

#[test]
fn a_store_that_went_missing_is_an_error_with_its_reason() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("a"), "a");
    let root = folder.path().join("oak");
    let directory = skellin_place::DirectoryPlace::prepare(&root, skellin_store::FOLDERS).unwrap();
    common::create_store(&directory);
    let place: Arc<dyn Place> = Arc::new(directory);
    let store = open_store(&place);
    fs::rename(&root, folder.path().join("unplugged")).unwrap();
    let plan = plan_of(&[&source], "");
    let error = Running::of(&plan).try_run(&store).expect_err("the place is away");
    let EngineError::Store(skellin_store::StoreError::Place(place_error)) = &error else {
        panic!("{error}")
    };
    assert_eq!(place_error.kind, PlaceErrorKind::Missing);
    assert!(error.hint().unwrap().contains("mounted"));
    assert!(!root.exists(), "nothing is written where the drive was");
}

#[test]
fn a_deep_tree_and_a_wide_directory_pass() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    let deep: std::path::PathBuf = (0..300).map(|level| format!("d{level}")).collect();
    write(&source.join(&deep).join("bottom"), "bottom");
    for number in 0..3000 {
        write(&source.join(format!("wide/{number:05}")), if number % 500 == 0 { "x" } else { "" });
    }
    settle(&source);
    let (_, place) = memory_store();
    let plan = plan_of(&[&source], "");
    let report = run_at(&place, &plan, NIGHT);
    assert_eq!((report.status, report.files.new), (RunStatus::Done, 3001));
    assert_eq!(run_at(&place, &plan, NIGHT + 1).files.same, 3001);
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_same(&source, &back.join("ridge"));
}

#[test]
fn versions_show_each_distinct_content_once() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    let register = source.join("register.csv");
    let (_, place) = memory_store();
    let plan = plan_of(&[&source], "");
    let mut night = NIGHT;
    for text in ["one", "one", "two", "", "three"] {
        match text {
            "" => fs::remove_file(&register).unwrap(),
            text => write(&register, text),
        }
        write(&source.join("other"), format!("{night}"));
        let file =
            fs::File::options().append(true).create(true).open(source.join("other")).unwrap();
        drop(file);
        if register.exists() {
            let moment = std::time::UNIX_EPOCH
                + std::time::Duration::from_secs(1_700_000_000 + text.len() as u64);
            fs::File::options().append(true).open(&register).unwrap().set_modified(moment).unwrap();
        }
        run_at(&place, &plan, night);
        night += 1000;
    }
    let store = open_store(&place);
    use std::os::unix::ffi::OsStrExt;
    let versions =
        history::follow(&store, "readings", register.as_os_str().as_bytes(), "/".as_ref()).unwrap();
    let history::Followed { versions, gone_since, .. } = versions.unwrap();
    assert_eq!(gone_since, None);
    let seen: Vec<_> = versions
        .iter()
        .map(|version| {
            (version.size, (version.time - NIGHT) / 1000, (version.last_seen - NIGHT) / 1000)
        })
        .collect();
    assert_eq!(seen, [(3, 0, 1), (3, 2, 2), (5, 4, 4)]);
    let mut printed = Vec::new();
    let located = history::must_locate(&store, &newest(&store), b"ridge/register.csv").unwrap();
    history::print(&store, &located, &mut printed).unwrap();
    assert_eq!(printed, b"three");
    assert!(history::locate(&store, &newest(&store), b"/elsewhere/x").unwrap().is_none());
    assert!(history::locate(&store, &newest(&store), b"ridge/nothing").unwrap().is_none());
    // By a path from where one stands, by one below a source, by a name; and since when it is gone.
    write(&source.join("deep/tide.csv"), "another");
    write(&source.join("far/tide.csv"), "a third");
    write(&source.join("far/gauge.csv"), "a fourth");
    fs::remove_file(&register).unwrap();
    run_at(&place, &plan, night);
    let store = open_store(&place);
    let follow = |text: &str, stand: &std::path::Path| {
        history::follow(&store, "readings", text.as_bytes(), stand)
    };
    let (top, root) = (folder.path(), std::path::Path::new("/"));
    for (text, stand) in
        [("register.csv", source.as_path()), ("register.csv", root), ("ridge/register.csv", top)]
    {
        let followed = follow(text, stand).unwrap().unwrap();
        assert_eq!((followed.versions.len(), followed.gone_since), (3, Some(night)), "{text}");
    }
    let gauge = follow("gauge.csv", root).unwrap().unwrap();
    assert_eq!(
        (gauge.path, gauge.gone_since),
        (source.join("far/gauge.csv").into_os_string().into_encoded_bytes(), None)
    );
    assert!(
        follow("tide.csv", root).unwrap_err().to_string().contains("2 paths are named tide.csv")
    );
    assert!(follow("nothing", root).unwrap().is_none());
}

#[test]
fn labels_and_two_machines_keep_apart() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("a"), "a");
    let (_, place) = memory_store();
    let plan = plan_of(&[&source], "");
    let mut running = Running::of(&plan).at(NIGHT);
    running.labels = vec!["before-upgrade".to_owned()];
    running.run(&open_store(&place));
    let snapshot = newest(&open_store(&place));
    assert_eq!(
        (snapshot.labels, snapshot.machine.as_str()),
        (vec!["before-upgrade".to_owned()], "hut")
    );
    let store = open_store(&place);
    assert_ne!(store.lineage("readings", "hut"), store.lineage("readings", "mast"));
}
