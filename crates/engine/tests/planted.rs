//! Restores into directories that others may write: whatever they plant there while a restore goes
//! on, nothing but what is restored changes hands.

use crate::common;

use std::{
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt, symlink},
    path::Path,
    sync::atomic::{AtomicBool, AtomicU64, Ordering},
};

use common::{
    Restoring, memory_store, newest, open_store, plan_of, run_at, scratch, settle, write,
};
use rustix::fs::{CWD, Mode, mkfifoat};
use skellin_engine::{Destination, EngineError, Existing, LinkAbove};

const NIGHT: i64 = 1_790_000_000_000;

fn mode_of(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o7777
}

/// Swaps whatever of a restore shows under a name of its own for a link to the victim, as anybody
/// could who may write there.
fn plant(below: &Path, victim: &Path, swapped: &AtomicU64) {
    let Ok(entries) = fs::read_dir(below) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let is_draft = name.to_string_lossy().starts_with(".skellin-");
        let Ok(facts) = fs::symlink_metadata(entry.path()) else { continue };
        if facts.is_dir() && is_draft {
            // Others may not enter it: that is what keeps the rest safe.
            assert_eq!(facts.permissions().mode() & 0o777, 0o700, "a directory of our own");
        } else if facts.is_dir() {
            plant(&entry.path(), victim, swapped);
        } else if is_draft && fs::remove_file(entry.path()).is_ok() {
            let _ = symlink(victim, entry.path());
            swapped.fetch_add(1, Ordering::SeqCst);
        }
    }
}

#[test]
fn nothing_is_dressed_under_a_name_that_others_can_swap() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..150 {
        let at = source.join(format!("{}/{}", number % 3, number % 10));
        fs::create_dir_all(&at).unwrap();
        let pipe = at.join(format!("pipe-{number}"));
        mkfifoat(CWD, &pipe, Mode::from_raw_mode(0o666)).unwrap();
        fs::set_permissions(&pipe, fs::Permissions::from_mode(0o4777)).unwrap();
        write(&at.join(format!("file-{number}")), [1; 900]);
        symlink("nowhere", at.join(format!("link-{number}"))).unwrap();
    }
    settle(&source);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), NIGHT);
    let victim = folder.path().join("victim");
    write(&victim, b"root's own");
    fs::set_permissions(&victim, fs::Permissions::from_mode(0o600)).unwrap();
    let store = open_store(&place);
    let snapshot = newest(&store);
    let back = folder.path().join("back");
    let (done, swapped) = (AtomicBool::new(false), AtomicU64::new(0));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !done.load(Ordering::SeqCst) {
                plant(&back, &victim, &swapped);
            }
        });
        for _ in 0..3 {
            let _ = fs::remove_dir_all(&back);
            let report = Restoring::all(&snapshot, &back).run(&store);
            assert_eq!(report.exceptions, Vec::new());
        }
        done.store(true, Ordering::SeqCst);
    });
    assert_eq!(swapped.load(Ordering::SeqCst), 0, "nothing of it is ever within reach");
    assert_eq!((mode_of(&victim), fs::read(&victim).unwrap()), (0o600, b"root's own".to_vec()));
    common::assert_same(&source, &back.join("ridge"));
    let left = fs::read_dir(&back).unwrap().count();
    assert_eq!(left, 1, "the directory of our own is gone");
}

#[test]
fn a_directory_that_may_have_been_swapped_does_not_change_hands() {
    if !rustix::process::geteuid().is_root() {
        // Only root gives things away; `cargo xtask test` says so.
        return;
    }
    let folder = scratch();
    let source = folder.path().join("home/keeper");
    write(&source.join("work/notes.md"), "42 pairs");
    let own = |path: &Path| std::os::unix::fs::chown(path, Some(12_345), Some(12_345)).unwrap();
    for path in [&source, &source.join("work"), &source.join("work/notes.md")] {
        own(path);
    }
    settle(&source);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), NIGHT);
    let store = open_store(&place);
    let snapshot = newest(&store);
    // A directory of root's lies where the user's should be, in a directory that is the user's.
    fs::remove_dir_all(source.join("work")).unwrap();
    fs::create_dir(source.join("work")).unwrap();
    let mut restoring = Restoring::all(&snapshot, &source);
    (restoring.destination, restoring.existing) = (Destination::InPlace, Existing::Replace);
    let report = restoring.run(&store);
    let facts = fs::metadata(source.join("work")).unwrap();
    assert_eq!((facts.uid(), report.exception_count), (0, 1), "{:?}", report.exceptions);
    assert!(report.exceptions[0].cause.words.contains("owned by 0"), "{:?}", report.exceptions);
    // What is made anew does, without a moment in which it could be swapped.
    fs::remove_dir_all(source.join("work")).unwrap();
    let report = restoring.run(&store);
    assert_eq!(report.exceptions, Vec::new());
    assert_eq!(fs::metadata(source.join("work")).unwrap().uid(), 12_345);
}

#[test]
fn a_link_above_leads_nowhere_unless_somebody_agreed_to_that_very_one() {
    let folder = scratch();
    let top = folder.path().canonicalize().unwrap();
    let source = top.join("home/keeper/work/ridge");
    write(&source.join("notes.md"), "42 pairs");
    settle(&source);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), NIGHT);
    let store = open_store(&place);
    let snapshot = newest(&store);
    let (work, elsewhere) = (top.join("home/keeper/work"), top.join("elsewhere"));
    fs::remove_dir_all(&work).unwrap();
    fs::create_dir(&elsewhere).unwrap();
    symlink(&elsewhere, &work).unwrap();
    let mut restoring = Restoring::all(&snapshot, &top);
    restoring.destination = Destination::InPlace;
    for dry_run in [true, false] {
        restoring.dry_run = dry_run;
        match restoring.try_run(&store) {
            Err(EngineError::LinkAbove { link, target }) => {
                assert_eq!((link, target), (work.clone(), elsewhere.clone()));
            }
            other => panic!("{other:?}"),
        }
        assert_eq!(fs::read_dir(&elsewhere).unwrap().count(), 0);
    }
    // Another target than the one that was agreed to is none.
    restoring.through = vec![LinkAbove { link: work.clone(), target: top.join("harmless") }];
    assert!(restoring.try_run(&store).is_err());
    restoring.through = vec![LinkAbove { link: work.clone(), target: elsewhere.clone() }];
    assert_eq!(restoring.run(&store).exceptions, Vec::new());
    assert_eq!(fs::read(elsewhere.join("ridge/notes.md")).unwrap(), b"42 pairs");
}

#[test]
fn links_and_pipes_with_several_names_stay_one() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("a/file"), "x");
    mkfifoat(CWD, source.join("a/pipe"), Mode::RUSR).unwrap();
    symlink("file", source.join("a/link")).unwrap();
    fs::create_dir(source.join("b")).unwrap();
    for name in ["file", "pipe", "link"] {
        fs::hard_link(source.join("a").join(name), source.join("b").join(name)).unwrap();
    }
    settle(&source);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), NIGHT);
    let store = open_store(&place);
    let back = folder.path().join("back");
    Restoring::all(&newest(&store), &back).run(&store);
    for name in ["file", "pipe", "link"] {
        let inode = |below: &str| {
            fs::symlink_metadata(back.join("ridge").join(below).join(name)).unwrap().ino()
        };
        assert_eq!(inode("a"), inode("b"), "{name}");
    }
}

/// Somebody swaps directories below the restored one for links to what is not his, and back, while extra
/// files are being removed by root: nothing goes but what lies in directories of the restore.
#[test]
fn nothing_outside_goes_while_directories_are_swapped_for_links() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..40 {
        write(&source.join(format!("{}/kept-{number}", number % 4)), b"kept");
    }
    settle(&source);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), NIGHT);
    let victim = folder.path().join("victim");
    for name in ["extra-0", "deep/extra-1", "kept-0"] {
        write(&victim.join(name), b"root's own");
    }
    let before = common::listing(&victim);
    let store = open_store(&place);
    let snapshot = newest(&store);
    let (done, swapped) = (AtomicBool::new(false), AtomicU64::new(0));
    // Held while this test itself writes there: it goes by names.
    let quiet = std::sync::Mutex::new(());
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let aside = folder.path().join("aside");
            while !done.load(Ordering::SeqCst) {
                for name in ["0", "1", "extra"] {
                    let _held = quiet.lock().unwrap();
                    let at = source.join(name);
                    // Left there where something else was in its place: the snapshot has it.
                    let _ = fs::remove_dir_all(&aside);
                    if fs::rename(&at, &aside).is_err() {
                        continue;
                    }
                    if symlink(&victim, &at).is_ok() {
                        swapped.fetch_add(1, Ordering::SeqCst);
                        std::thread::yield_now();
                        let _ = fs::remove_file(&at);
                    }
                    // What was put in its place meanwhile gives way.
                    let _ = fs::remove_dir_all(&at);
                    let _ = fs::rename(&aside, &at);
                }
            }
        });
        // On a busy machine the other thread seldom gets its turn.
        for round in 0..400 {
            if round >= 25 && swapped.load(Ordering::SeqCst) > 20 {
                break;
            }
            let held = quiet.lock().unwrap();
            for number in 0..30 {
                let at = source.join(format!("extra/{}/extra-{number}", number % 5));
                let _ = fs::create_dir_all(at.parent().unwrap());
                let _ = fs::write(&at, b"extra");
                let _ = fs::write(source.join(format!("{}/extra-{number}", number % 4)), b"extra");
            }
            drop(held);
            let restoring = Restoring {
                destination: Destination::InPlace,
                existing: Existing::Replace,
                extra: skellin_engine::Extra::Remove { by: None },
                ..Restoring::all(&snapshot, folder.path())
            };
            // What was swapped under it may be told as an exception; it never fails as a whole.
            let report = restoring.run(&store);
            assert!(report.removed + report.exception_count > 0, "round {round}");
        }
        done.store(true, Ordering::SeqCst);
    });
    assert!(swapped.into_inner() > 20, "nothing was swapped");
    assert_eq!(common::listing(&victim), before);
}
