//! Restores: what is in the way, what leads astray, what is damaged.

use crate::common;

use std::{
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt, symlink},
    path::{Path, PathBuf},
    sync::Arc,
};

use common::{
    Restoring, assert_same, content, listing, make_odd_tree, memory_store, newest, open_store,
    plan_of, run_at, scratch, write,
};
use skellin_engine::{Destination, EngineError, Existing, Extra, Refusal};
use skellin_place::{MemoryPlace, Place};
use skellin_store::{Snapshot, Store};

const NIGHT: i64 = 1_790_000_000_000;

struct World {
    folder: tempfile::TempDir,
    source: PathBuf,
    memory: MemoryPlace,
    store: Arc<Store>,
    snapshot: Snapshot,
}

fn world(make: impl FnOnce(&Path)) -> World {
    let folder = scratch();
    let source = folder.path().join("ridge");
    fs::create_dir(&source).unwrap();
    make(&source);
    let (memory, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), NIGHT);
    let store = open_store(&place);
    let snapshot = newest(&store);
    World { folder, source, memory, store, snapshot }
}

fn simple(source: &Path) {
    write(&source.join("a/one"), "stored one");
    write(&source.join("a/two"), "stored two");
    write(&source.join("b/three"), "stored three");
}

fn read(path: impl AsRef<Path>) -> String {
    fs::read_to_string(path).unwrap()
}

#[test]
fn what_is_in_the_way_is_left_replaced_or_renamed() {
    let world = world(simple);
    let back = world.folder.path().join("back");
    for existing in [Existing::Leave, Existing::Replace, Existing::Rename] {
        let _ = fs::remove_dir_all(&back);
        write(&back.join("ridge/a/one"), "mine");
        let restoring = Restoring { existing, ..Restoring::all(&world.snapshot, &back) };
        let rehearsal =
            Restoring { existing, dry_run: true, ..Restoring::all(&world.snapshot, &back) };
        let foretold = rehearsal.run(&world.store);
        assert_eq!(listing(&back).len(), 4, "a dry run writes nothing");
        let report = restoring.run(&world.store);
        assert_eq!(
            (foretold.left, foretold.replaced, foretold.renamed),
            (report.left, report.replaced, report.renamed)
        );
        assert_eq!((foretold.restored, foretold.bytes), (report.restored, report.bytes));
        let (one, kept) = (back.join("ridge/a/one"), back.join("ridge/a/one.kept-20261112-2114"));
        match existing {
            Existing::Leave => {
                assert_eq!((read(one), report.left, kept.exists()), ("mine".to_owned(), 1, false));
            }
            Existing::Replace => assert_eq!(
                (read(one), report.replaced, kept.exists()),
                ("stored one".to_owned(), 1, false)
            ),
            Existing::Rename => assert_eq!(
                (read(one), report.renamed, read(kept)),
                ("stored one".to_owned(), 1, "mine".to_owned())
            ),
        }
        assert_eq!(read(back.join("ridge/b/three")), "stored three");
        assert_eq!(report.exceptions, Vec::new());
        let drafts =
            listing(&back).into_keys().filter(|path| path.to_string_lossy().contains(".skellin"));
        assert_eq!(drafts.count(), 0, "no draft stays behind");
    }
}

#[test]
fn single_paths_come_back_with_the_directories_above_them() {
    let world = world(|source| {
        simple(source);
        fs::set_permissions(source.join("a"), fs::Permissions::from_mode(0o711)).unwrap();
    });
    let back = world.folder.path().join("back");
    let mut restoring = Restoring::all(&world.snapshot, &back);
    restoring.paths = vec![world.source.join("a/two"), PathBuf::from("ridge/b")];
    let report = restoring.run(&world.store);
    assert_eq!(report.exceptions, Vec::new());
    let found: Vec<_> = listing(&back).into_keys().map(|path| path.display().to_string()).collect();
    assert_eq!(found, ["", "ridge", "ridge/a", "ridge/a/two", "ridge/b", "ridge/b/three"]);
    assert_eq!(fs::metadata(back.join("ridge/a")).unwrap().mode() & 0o777, 0o711);
    restoring.paths = vec![PathBuf::from("ridge/nothing")];
    assert!(matches!(
        restoring.try_run(&world.store),
        Err(EngineError::Refused(Refusal::NotInSnapshot { .. }))
    ));
}

#[test]
fn in_place_means_where_it_was() {
    let world = world(make_odd_tree);
    let before = listing(&world.source);
    fs::remove_dir_all(&world.source).unwrap();
    let mut restoring = Restoring::all(&world.snapshot, &world.source);
    restoring.destination = Destination::InPlace;
    let report = restoring.run(&world.store);
    assert_eq!(report.exceptions, Vec::new());
    let after = listing(&world.source);
    assert_eq!(before.keys().collect::<Vec<_>>(), after.keys().collect::<Vec<_>>());
    for (path, facts) in &before {
        assert_eq!(facts, &after[path], "{}", path.display());
    }
    // One file only, over one that was changed by mistake.
    write(&world.source.join("notes.md"), "spoilt");
    restoring.existing = Existing::Replace;
    restoring.paths = vec![world.source.join("notes.md")];
    let report = restoring.run(&world.store);
    assert_eq!((report.replaced, report.restored), (1, 1));
    assert_eq!(read(world.source.join("notes.md")), "wind from the north\n");
}

#[test]
fn links_in_the_destination_lead_nowhere() {
    let world = world(simple);
    let outside = world.folder.path().join("outside");
    write(&outside.join("one"), "untouched");
    for existing in [Existing::Leave, Existing::Replace, Existing::Rename] {
        let back = world.folder.path().join(format!("back-{existing:?}"));
        fs::create_dir_all(back.join("ridge")).unwrap();
        symlink(&outside, back.join("ridge/a")).unwrap();
        let restoring = Restoring { existing, ..Restoring::all(&world.snapshot, &back) };
        let report = restoring.run(&world.store);
        assert_eq!(read(outside.join("one")), "untouched", "{existing:?}");
        assert_eq!(fs::read_dir(&outside).unwrap().count(), 1, "{existing:?}");
        match existing {
            Existing::Leave => assert_eq!(report.exception_count, 1),
            _ => assert_eq!(read(back.join("ridge/a/one")), "stored one"),
        }
        assert_eq!(read(back.join("ridge/b/three")), "stored three");
    }
    // A link where a file belongs is not written through either.
    let back = world.folder.path().join("back-file");
    fs::create_dir_all(back.join("ridge/b")).unwrap();
    symlink(outside.join("one"), back.join("ridge/b/three")).unwrap();
    Restoring { existing: Existing::Replace, ..Restoring::all(&world.snapshot, &back) }
        .run(&world.store);
    assert_eq!(read(outside.join("one")), "untouched");
    assert!(!back.join("ridge/b/three").is_symlink());
}

#[test]
fn a_snapshot_that_names_places_outside_is_refused() {
    let world = world(simple);
    for path in ["/etc/../tmp/x", "relative/x", "/..", ""] {
        let mut forged = world.snapshot.clone();
        forged.sources[0].path = path.as_bytes().to_vec().into();
        let restoring = Restoring {
            destination: Destination::InPlace,
            ..Restoring::all(&forged, Path::new("/unused"))
        };
        let error = restoring.try_run(&world.store).expect_err("leads elsewhere");
        assert!(error.to_string().contains("cannot be restored in place"), "{error}");
    }
    let inside = world.folder.path().join("target");
    for name in ["..", ".", "a/b", "", "x\0y"] {
        let mut forged = world.snapshot.clone();
        forged.sources[0].name = name.as_bytes().to_vec().into();
        let restoring = Restoring::all(&forged, &inside);
        // Either the name is not in the root at all, or it is refused; nothing is written.
        let _ = restoring.try_run(&world.store);
        assert!(!inside.exists() || fs::read_dir(&inside).unwrap().count() == 0, "{name:?}");
    }
}

#[test]
fn a_directory_in_the_way_of_a_file_is_an_exception() {
    let world = world(simple);
    let back = world.folder.path().join("back");
    write(&back.join("ridge/a/one/deeper"), "mine");
    let report =
        Restoring { existing: Existing::Replace, ..Restoring::all(&world.snapshot, &back) }
            .run(&world.store);
    assert_eq!(report.exception_count, 1);
    assert!(
        report.exceptions[0].cause.words.contains("a directory is in the way"),
        "{:?}",
        report.exceptions
    );
    assert_eq!(read(back.join("ridge/a/one/deeper")), "mine");
    assert_eq!(read(back.join("ridge/a/two")), "stored two");
    let report = Restoring { existing: Existing::Rename, ..Restoring::all(&world.snapshot, &back) }
        .run(&world.store);
    assert_eq!(report.exceptions, Vec::new());
    assert_eq!(read(back.join("ridge/a/one.kept-20261112-2114/deeper")), "mine");
    assert_eq!(read(back.join("ridge/a/one")), "stored one");
}

#[test]
fn a_second_restore_over_the_first_changes_nothing() {
    let world = world(make_odd_tree);
    let back = world.folder.path().join("back");
    let first = Restoring::all(&world.snapshot, &back).run(&world.store);
    assert_same(&world.source, &back.join("ridge"));
    let again = Restoring::all(&world.snapshot, &back).run(&world.store);
    assert!(again.left > 8 && again.bytes == 0 && again.restored == 0, "{again:?}");
    assert_same(&world.source, &back.join("ridge"));
    let replaced =
        Restoring { existing: Existing::Replace, ..Restoring::all(&world.snapshot, &back) }
            .run(&world.store);
    assert_eq!(replaced.restored + replaced.same, first.restored);
    assert_eq!((replaced.replaced, replaced.bytes), (0, 0), "what is right already is not fetched");
    assert_same(&world.source, &back.join("ridge"));
}

#[test]
fn files_whose_content_is_damaged_are_named_and_the_rest_comes_back() {
    let world = world(|source| {
        for number in 0..40 {
            write(&source.join(format!("{number:02}")), content(number, 12_000));
        }
    });
    let containers: Vec<_> =
        world.memory.names().into_iter().filter(|name| name.folder() == "data").collect();
    let victim = &containers[containers.len() / 2];
    let mut bytes = world.memory.fetch(victim, 1 << 30).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 0x40;
    world.memory.overwrite(victim, bytes);
    let place: Arc<dyn Place> = Arc::new(world.memory.clone());
    let report = common::verify(&place);
    assert_eq!(report.damage.len(), 1, "{:?}", report.damage);
    let damage = &report.damage[0];
    assert_eq!(damage.object, victim.to_string());
    assert!(damage.offset.is_some());
    let named: Vec<_> = damage.files.iter().map(|file| file.path.clone()).collect();
    let back = world.folder.path().join("back");
    let store = open_store(&place);
    let restored = Restoring::all(&world.snapshot, &back).run(&store);
    let failed: Vec<_> =
        restored.exceptions.iter().map(|exception| exception.path.clone()).collect();
    assert_eq!(failed, named, "restore fails for just the files that verify names");
    assert!(!failed.is_empty() && failed.len() < 20);
    for number in 0..40 {
        let path = back.join(format!("ridge/{number:02}"));
        match fs::read(&path) {
            Ok(bytes) => assert_eq!(bytes, content(number, 12_000)),
            Err(_) => assert!(
                failed.iter().any(|failed| failed.ends_with(format!("/{number:02}").as_bytes()))
            ),
        }
    }
}

#[test]
fn a_damaged_snapshot_is_read_from_its_spare_and_reported() {
    let world = world(simple);
    let place: Arc<dyn Place> = Arc::new(world.memory.clone());
    let name = place.listing("snapshots").unwrap().remove(0).name;
    let mut bytes = world.memory.fetch(&name, 1 << 30).unwrap();
    bytes[60] ^= 1;
    world.memory.overwrite(&name, bytes);
    let report = common::verify(&place);
    assert_eq!((report.damage.len(), report.snapshots), (1, 1));
    assert_eq!(report.damage[0].object, name.to_string());
    let store = open_store(&place);
    assert_eq!(newest(&store).run, world.snapshot.run);
    let back = world.folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_same(&world.source, &back.join("ridge"));
}

#[test]
fn a_store_without_its_index_still_restores_and_runs() {
    let world = world(simple);
    let place: Arc<dyn Place> = Arc::new(world.memory.clone());
    for segment in place.listing("index").unwrap() {
        place.delete(&segment.name).unwrap();
    }
    let store = open_store(&place);
    let back = world.folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    assert_same(&world.source, &back.join("ridge"));
    let report = run_at(&place, &plan_of(&[&world.source], ""), NIGHT + 1);
    assert_eq!(report.bytes.new, 0, "the containers tell what is in them");
    common::assert_clean(&place);
}

/// All below the source is to be what it was.
fn exactly(world: &World) -> Restoring<'_> {
    Restoring {
        destination: Destination::InPlace,
        existing: Existing::Replace,
        extra: Extra::Remove { by: None },
        ..Restoring::all(&world.snapshot, world.folder.path())
    }
}

#[test]
fn what_is_not_in_the_snapshot_goes_and_nothing_else_does() {
    let world = world(simple);
    let before = listing(&world.source);
    let outside = world.folder.path().join("outside");
    write(&outside.join("precious"), "precious");
    let store = world.source.join("extra/store");
    write(&store.join("container"), "precious");
    write(&world.source.join("extra/file"), "x");
    // Names that lead out are removed as names, never followed.
    symlink(&outside, world.source.join("b/out")).unwrap();
    symlink(&outside, world.source.join("extra/out")).unwrap();
    let _socket = std::os::unix::net::UnixListener::bind(world.source.join("a/socket")).unwrap();
    // A directory where a file was, and a link to one where a directory was.
    fs::remove_file(world.source.join("a/one")).unwrap();
    write(&world.source.join("a/one/below/deep"), "x");
    let report = Restoring { keep: vec![store.clone()], ..exactly(&world) }.run(&world.store);
    assert_eq!(read(outside.join("precious")), "precious");
    assert_eq!(read(store.join("container")), "precious");
    let words: Vec<_> = report.exceptions.iter().map(|one| one.cause.words.as_str()).collect();
    assert_eq!(words, ["not in the snapshot, but Skellin needs it: kept"]);
    assert!(!world.source.join("extra/file").exists() && world.source.join("a/socket").exists());
    fs::remove_file(world.source.join("a/socket")).unwrap();
    fs::remove_dir_all(world.source.join("extra")).unwrap();
    let report = exactly(&world).run(&world.store);
    assert_eq!(report.exceptions, Vec::new());
    assert_eq!(listing(&world.source), before);
}

#[test]
fn nothing_goes_where_the_store_cannot_say_what_was_there() {
    let world = world(|source| {
        for number in 0..400 {
            write(&source.join(format!("many/{number:03}")), format!("stored {number}"));
        }
        write(&source.join("whole"), "stored");
    });
    write(&world.source.join("extra"), "x");
    // Trees are kept twice: both copies lose a stretch.
    let names = world.memory.names();
    let trees: Vec<&str> =
        names.iter().filter_map(|name| name.as_str().strip_prefix("trees/")).collect();
    let mut damaged = 0;
    for name in names.iter().filter(|name| trees.iter().any(|tree| name.as_str().ends_with(tree))) {
        let mut bytes = world.memory.fetch(name, 1 << 30).unwrap();
        let (from, to) = (bytes.len() / 3, bytes.len() / 2);
        bytes[from..to].iter_mut().for_each(|byte| *byte ^= 0x5A);
        world.memory.overwrite(name, bytes);
        damaged += 1;
    }
    assert!(damaged >= 2, "{names:?}");
    let store = open_store(&(Arc::new(world.memory.clone()) as Arc<dyn Place>));
    let restored = exactly(&world).try_run(&store);
    assert!(restored.is_err() || restored.unwrap().damaged > 0);
    let left = fs::read_dir(world.source.join("many")).unwrap().count();
    assert_eq!((left, world.source.join("whole").exists()), (400, true));
}

#[test]
fn versions_of_one_path_stand_beside_it_under_their_times() {
    let mut world = world(simple);
    let first = world.snapshot.clone();
    write(&world.source.join("a/one"), "changed one");
    let place: Arc<dyn Place> = Arc::new(world.memory.clone());
    run_at(&place, &plan_of(&[&world.source], ""), NIGHT + 86_400_000);
    world.store = open_store(&place);
    let second = newest(&world.store);
    for snapshot in [&first, &second] {
        let beside = Restoring {
            paths: vec![world.source.join("a/one"), world.source.join("b")],
            destination: Destination::InPlace,
            dated: true,
            ..Restoring::all(snapshot, world.folder.path())
        };
        assert_eq!(beside.run(&world.store).exceptions, Vec::new());
    }
    let beside = |path: &str, snapshot: &Snapshot| {
        let path = world.source.join(path);
        let name = path.file_name().unwrap().as_encoded_bytes();
        let name = skellin_engine::dated_name(name, snapshot.started);
        path.with_file_name(String::from_utf8(name).unwrap())
    };
    assert_eq!(read(beside("a/one", &first)), "stored one");
    assert_eq!(read(beside("a/one", &second)), "changed one");
    assert_eq!(read(beside("b", &first).join("three")), "stored three");
    assert_eq!(read(world.source.join("a/one")), "changed one");
}

#[test]
fn a_time_in_a_name_leaves_its_ending_and_its_length_fit() {
    let dated =
        |name: &str| String::from_utf8(skellin_engine::dated_name(name.as_bytes(), NIGHT)).unwrap();
    let stamp = dated("x").split_off(1);
    assert_eq!(stamp.len(), ".2026-09-21T145320".len());
    assert_eq!(dated("gauge.csv"), format!("gauge{stamp}.csv"));
    assert_eq!(dated(".profile"), format!(".profile{stamp}"));
    assert_eq!(dated("what.is a long remark"), format!("what.is a long remark{stamp}"));
    let long = dated(&format!("{}.csv", "ü".repeat(125)));
    assert!(long.len() <= 255 && long.ends_with(&format!("ü{stamp}.csv")), "{long}");
}

#[test]
fn directories_of_our_own_are_passed_over_in_place() {
    let world = world(simple);
    write(&world.source.join("b/three"), "written since");
    let restoring = || Restoring {
        destination: Destination::InPlace,
        existing: Existing::Replace,
        ..Restoring::all(&world.snapshot, world.folder.path())
    };
    let report = Restoring { keep: vec![world.source.join("b")], ..restoring() }.run(&world.store);
    assert_eq!((report.exceptions, report.replaced), (Vec::new(), 0));
    assert_eq!(read(world.source.join("b/three")), "written since");
    assert_eq!(restoring().run(&world.store).replaced, 1);
}
