//! Whatever happens to a tree between runs, every snapshot restores as the tree was then.

use crate::common;

use std::{
    fs,
    os::unix::fs::{PermissionsExt, symlink},
    path::{Path, PathBuf},
    process::Command,
};

use common::{
    Restoring, assert_clean, assert_same, content, memory_store, open_store, plan_of, run_at,
    scratch, write,
};
use proptest::prelude::*;
use skellin_engine::{Destination, Existing, Extra, RunStatus, history};

/// Something that happens to a tree.
#[derive(Clone, Debug)]
enum Act {
    Write { at: usize, seed: u64, length: usize },
    Append { at: usize, seed: u64 },
    Remove { at: usize },
    Rename { from: usize, to: usize },
    Link { from: usize, to: usize },
    Symlink { at: usize },
    Mode { at: usize, mode: u32 },
    Holes { at: usize, length: u64 },
}

fn act() -> impl Strategy<Value = Act> {
    let at = 0..SPOTS.len();
    prop_oneof![
        4 => (at.clone(), any::<u64>(), 0usize..40_000).prop_map(|(at, seed, length)| Act::Write { at, seed, length }),
        2 => (at.clone(), any::<u64>()).prop_map(|(at, seed)| Act::Append { at, seed }),
        2 => at.clone().prop_map(|at| Act::Remove { at }),
        1 => (at.clone(), at.clone()).prop_map(|(from, to)| Act::Rename { from, to }),
        1 => (at.clone(), at.clone()).prop_map(|(from, to)| Act::Link { from, to }),
        1 => at.clone().prop_map(|at| Act::Symlink { at }),
        1 => (at.clone(), prop::sample::select(vec![0o600, 0o644, 0o4755, 0o440])).prop_map(|(at, mode)| Act::Mode { at, mode }),
        1 => (at, 1u64..2_000_000).prop_map(|(at, length)| Act::Holes { at, length }),
    ]
}

/// Places in the tree; some are directories of others, and then one has to give way.
const SPOTS: [&str; 12] =
    ["a", "b", "c/x", "c/y", "c/deep/z", "d", "d/under", "e e/ü", "e e/-", "f/1", "f/2", "f/3/4"];

fn clear(path: &Path) {
    match fs::symlink_metadata(path) {
        Ok(metadata) if metadata.is_dir() => fs::remove_dir_all(path).unwrap(),
        Ok(_) => fs::remove_file(path).unwrap(),
        Err(_) => {}
    }
}

/// Makes room for something at a spot: what is in its way goes.
fn room(root: &Path, spot: &str) -> PathBuf {
    let path = root.join(spot);
    for above in path.ancestors().skip(1).take_while(|above| *above != root) {
        if fs::symlink_metadata(above).is_ok_and(|metadata| !metadata.is_dir()) {
            clear(above);
        }
    }
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    clear(&path);
    path
}

fn happen(root: &Path, act: &Act) {
    let is_file = |path: &Path| fs::symlink_metadata(path).is_ok_and(|metadata| metadata.is_file());
    match act {
        Act::Write { at, seed, length } => write(&room(root, SPOTS[*at]), content(*seed, *length)),
        Act::Append { at, seed } => {
            let path = root.join(SPOTS[*at]);
            if is_file(&path) {
                let mut bytes = fs::read(&path).unwrap();
                bytes.extend(content(*seed, 700));
                clear(&path);
                write(&path, bytes);
            }
        }
        Act::Remove { at } => clear(&root.join(SPOTS[*at])),
        Act::Rename { from, to } => {
            let from = root.join(SPOTS[*from]);
            if is_file(&from) && from != root.join(SPOTS[*to]) {
                let aside = root.join("aside");
                fs::rename(&from, &aside).unwrap();
                fs::rename(&aside, room(root, SPOTS[*to])).unwrap();
            }
        }
        Act::Link { from, to } => {
            let from = root.join(SPOTS[*from]);
            if is_file(&from) && from != root.join(SPOTS[*to]) {
                let aside = root.join("aside");
                fs::hard_link(&from, &aside).unwrap();
                fs::rename(&aside, room(root, SPOTS[*to])).unwrap();
            }
        }
        Act::Symlink { at } => symlink("../where/ever", room(root, SPOTS[*at])).unwrap(),
        Act::Mode { at, mode } => {
            let path = root.join(SPOTS[*at]);
            if is_file(&path) {
                fs::set_permissions(path, fs::Permissions::from_mode(*mode)).unwrap();
            }
        }
        Act::Holes { at, length } => {
            let file = fs::File::create(room(root, SPOTS[*at])).unwrap();
            file.set_len(*length).unwrap();
            std::os::unix::fs::FileExt::write_all_at(&file, b"island", length / 2).unwrap();
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    #[test]
    fn every_snapshot_restores_as_the_tree_was(nights in prop::collection::vec(prop::collection::vec(act(), 0..14), 1..5)) {
        let folder = scratch();
        let source = folder.path().join("ridge");
        fs::create_dir(&source).unwrap();
        let (_, place) = memory_store();
        let plan = plan_of(&[&source], "");
        for (night, acts) in nights.iter().enumerate() {
            acts.iter().for_each(|act| happen(&source, act));
            let report = run_at(&place, &plan, 1_790_000_000_000 + night as i64);
            prop_assert_eq!(report.status, RunStatus::Done, "{:?}", report.exceptions);
            let copy = Command::new("cp").arg("-a").arg(&source).arg(folder.path().join(format!("night-{night}"))).status();
            prop_assert!(copy.unwrap().success());
        }
        assert_clean(&place);
        let store = open_store(&place);
        for (night, snapshot) in history::snapshots(&store, None, |_, _| {}).unwrap().iter().enumerate() {
            let back = folder.path().join(format!("back-{night}"));
            let report = Restoring::all(snapshot, &back).run(&store);
            prop_assert_eq!(report.exceptions, Vec::new());
            assert_same(&folder.path().join(format!("night-{night}")), &back.join("ridge"));
        }
    }

    #[test]
    fn a_directory_becomes_exactly_what_it_was(nights in prop::collection::vec(prop::collection::vec(act(), 0..14), 2..5)) {
        let folder = scratch();
        let source = folder.path().join("ridge");
        let (keep, cache) = (source.join("keep.tmp"), source.join("cache/deep/x"));
        write(&keep, "excluded");
        write(&cache, "excluded as well");
        let (_, place) = memory_store();
        let plan = plan_of(&[&source], "skip *.tmp cache/");
        let without = |path: &Path| {
            let mut all = common::listing(path);
            all.retain(|path, _| !path.starts_with("cache") && !path.ends_with("keep.tmp"));
            all
        };
        let mut states = Vec::new();
        for (night, acts) in nights.iter().enumerate() {
            acts.iter().for_each(|act| happen(&source, act));
            let report = run_at(&place, &plan, 1_790_000_000_000 + night as i64);
            prop_assert_eq!(report.status, RunStatus::Done, "{:?}", report.exceptions);
            states.push(without(&source));
        }
        let store = open_store(&place);
        let snapshots = history::snapshots(&store, None, |_, _| {}).unwrap();
        for (snapshot, state) in snapshots.iter().zip(&states).rev() {
            let exactly = |dry_run| Restoring {
                destination: Destination::InPlace,
                existing: Existing::Replace,
                extra: Extra::Remove { by: Some(&plan) },
                dry_run,
                ..Restoring::all(snapshot, folder.path())
            };
            let before = without(&source);
            let foretold = exactly(true).run(&store);
            prop_assert_eq!(&before, &without(&source), "a dry run changes nothing");
            let report = exactly(false).run(&store);
            prop_assert_eq!(&report.exceptions, &Vec::new());
            prop_assert_eq!(state, &without(&source));
            prop_assert!(foretold.extras.iter().all(|path| report.extras.contains(path)));
            prop_assert_eq!(fs::read(&keep).unwrap(), b"excluded");
            prop_assert_eq!(fs::read(&cache).unwrap(), b"excluded as well");
            let again = exactly(false).run(&store);
            prop_assert_eq!((again.replaced, again.removed, again.bytes), (0, 0, 0), "nothing is fetched twice");
            prop_assert_eq!(again.same, snapshot.files);
        }
    }
}
