//! Comparisons of snapshots with each other and with what is there, held against an independent listing.

use crate::common;

use std::{
    collections::BTreeMap,
    fs,
    os::unix::{
        ffi::OsStrExt,
        fs::{PermissionsExt, symlink},
    },
    path::{Path, PathBuf},
    time::{Duration, UNIX_EPOCH},
};

use common::{content, memory_store, open_store, plan_of, run_at, scratch, write};
use proptest::prelude::*;
use skellin_engine::{Cancel, Cause, Comparing, Difference, Differing, Hears, Live, history};
use skellin_store::{Snapshot, Store};

const DAY: i64 = 86_400_000;
const NAMES: [&str; 7] = ["a", "b", "c/d", "c/e", "c/f/g", "h", "i/j"];

#[derive(Clone, Debug)]
enum Deed {
    Write(u64),
    Remove,
    Mode(u32),
    Touch(u64),
    Link(u8),
    Directory,
}

fn deed() -> impl Strategy<Value = Deed> {
    prop_oneof![
        4 => (0u64..4).prop_map(Deed::Write),
        2 => Just(Deed::Remove),
        1 => (0o600u32..0o650).prop_map(Deed::Mode),
        1 => (0u64..3).prop_map(Deed::Touch),
        1 => (0u8..2).prop_map(Deed::Link),
        1 => Just(Deed::Directory),
    ]
}

fn remove(path: &Path) {
    match path.symlink_metadata() {
        Ok(metadata) if metadata.is_dir() => fs::remove_dir_all(path).unwrap(),
        Ok(_) => fs::remove_file(path).unwrap(),
        Err(_) => {}
    }
}

fn touch(path: &Path, seconds: u64) {
    let time = UNIX_EPOCH + Duration::from_secs(1_700_000_000 + seconds);
    fs::File::open(path).unwrap().set_modified(time).unwrap();
}

fn does(root: &Path, deeds: &[(usize, Deed)]) {
    for (at, deed) in deeds {
        let path = root.join(NAMES[*at]);
        let is_file = path.symlink_metadata().is_ok_and(|metadata| metadata.is_file());
        match deed {
            Deed::Write(seed) => {
                remove(&path);
                // The same size, so that only the time or the content tells.
                write(&path, content(*seed, 900));
                touch(&path, seed / 2);
            }
            Deed::Remove => remove(&path),
            Deed::Mode(mode) if is_file => {
                fs::set_permissions(&path, fs::Permissions::from_mode(*mode)).unwrap();
            }
            Deed::Touch(seconds) if is_file => touch(&path, *seconds),
            Deed::Link(to) => {
                remove(&path);
                fs::create_dir_all(path.parent().unwrap()).unwrap();
                symlink(format!("to-{to}"), &path).unwrap();
            }
            Deed::Directory => {
                remove(&path);
                write(&path.join("below"), "something");
                touch(&path.join("below"), 7);
            }
            Deed::Mode(_) | Deed::Touch(_) => {}
        }
    }
}

#[derive(Default)]
struct Heard(Vec<Differing>);

impl Hears for Heard {
    fn differs(&mut self, differing: Differing) {
        self.0.push(differing);
    }

    fn lost(&mut self, path: &[u8], cause: Cause) {
        panic!("{}: {cause}", String::from_utf8_lossy(path));
    }
}

impl Heard {
    fn by_path(&self, root: &Path) -> BTreeMap<PathBuf, Difference> {
        let found = self.0.iter().map(|one| {
            let path = Path::new(std::ffi::OsStr::from_bytes(&one.path));
            (path.strip_prefix(root).unwrap().to_path_buf(), one.difference)
        });
        let all: BTreeMap<_, _> = found.collect();
        assert_eq!(all.len(), self.0.len(), "each path is told once");
        all
    }
}

fn comparing<'a>(store: &'a Store, cancel: &'a Cancel, read_all: bool) -> Comparing<'a> {
    Comparing { store, whole: true, read_all, cancel }
}

/// What two listings say.
fn plainly(
    a: &BTreeMap<PathBuf, common::Facts>,
    b: &BTreeMap<PathBuf, common::Facts>,
) -> BTreeMap<PathBuf, Difference> {
    const DIRECTORY: u32 = 0o040_000;
    let mut all = BTreeMap::new();
    // What lies below something that is another kind of thing now is not told by itself.
    let is_replaced = |path: &Path| {
        path.ancestors().skip(1).any(|above| {
            let both = a.get(above).zip(b.get(above));
            both.is_some_and(|(was, is)| was.kind != is.kind)
        })
    };
    for path in a.keys().chain(b.keys()).filter(|path| !is_replaced(path)) {
        let difference = match (a.get(path), b.get(path)) {
            (None, _) => Difference::New,
            (_, None) => Difference::Gone,
            (Some(was), Some(is)) if (was.kind, &was.content) != (is.kind, &is.content) => {
                Difference::Changed
            }
            (Some(was), Some(is)) if was.kind == DIRECTORY => match was.mode == is.mode {
                true => continue,
                false => Difference::Metadata,
            },
            (Some(was), Some(is)) => match (was.mode, was.modified) == (is.mode, is.modified) {
                true => continue,
                false => Difference::Metadata,
            },
        };
        all.insert(path.clone(), difference);
    }
    all
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]
    #[test]
    fn what_differs_is_what_an_independent_look_finds(
        first in proptest::collection::vec((0..NAMES.len(), deed()), 1..12),
        second in proptest::collection::vec((0..NAMES.len(), deed()), 0..8),
    ) {
        let folder = scratch();
        let root = folder.path().join("ridge");
        write(&root.join("stays"), "as it is");
        does(&root, &first);
        let (_, place) = memory_store();
        let plan = plan_of(&[&root], "");
        run_at(&place, &plan, DAY);
        let before = common::listing(&root);
        does(&root, &second);
        run_at(&place, &plan, 2 * DAY);
        let wanted = plainly(&before, &common::listing(&root));
        let store = open_store(&place);
        let snapshots: Vec<Snapshot> = history::snapshots(&store, None, |_, _| {}).unwrap();
        let cancel = Cancel::new();
        let mut heard = Heard::default();
        comparing(&store, &cancel, false).snapshots(&snapshots[0], &snapshots[1], &mut heard).unwrap();
        prop_assert_eq!(heard.by_path(&root), wanted.clone());
        // Turned round, what was new is gone.
        let mut back = Heard::default();
        comparing(&store, &cancel, false).snapshots(&snapshots[1], &snapshots[0], &mut back).unwrap();
        let turned = |difference: &Difference| match difference {
            Difference::New => Difference::Gone,
            Difference::Gone => Difference::New,
            other => *other,
        };
        let wanted_back: BTreeMap<_, _> =
            wanted.iter().map(|(path, difference)| (path.clone(), turned(difference))).collect();
        prop_assert_eq!(back.by_path(&root), wanted_back);
        // And the first snapshot beside what is there now; reading all finds no less.
        let located = history::roots(&store, &snapshots[0]).unwrap();
        for read_all in [false, true] {
            let mut heard = Heard::default();
            let live = Live { path: &root, by: None };
            comparing(&store, &cancel, read_all)
                .live(&located[0].path, &located[0].entry, live, &mut heard)
                .unwrap();
            let found = heard.by_path(&root);
            if read_all {
                prop_assert_eq!(found, wanted.clone());
            } else {
                // A file of the same size and time is taken for the same.
                let missing: Vec<_> =
                    wanted.iter().filter(|(path, _)| !found.contains_key(*path)).collect();
                prop_assert!(missing.iter().all(|(_, difference)| **difference == Difference::Changed));
                let is_right = found.iter().all(|(path, difference)| {
                    let wanted = wanted.get(path);
                    wanted == Some(difference) || *difference == Difference::Metadata
                });
                prop_assert!(is_right, "{:?} {:?}", found, wanted);
            }
        }
    }
}

#[test]
fn a_source_beside_its_plan_leaves_out_what_rules_exclude() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("notes.md"), "wind");
    write(&root.join(".cache/big"), "nobody wants it");
    let (_, place) = memory_store();
    let plan = plan_of(&[&root], "skip .cache/");
    run_at(&place, &plan, DAY);
    write(&root.join(".cache/more"), "still");
    write(&root.join("new.md"), "gulls");
    let store = open_store(&place);
    let snapshot = common::newest(&store);
    let located = history::roots(&store, &snapshot).unwrap();
    let source_hosts = skellin_engine::SourceHosts::default();
    let looking = skellin_engine::Looking {
        plan: &plan,
        source_hosts: &source_hosts,
        before: None,
        keep_out: &[],
        now: DAY,
    };
    let (cancel, mut heard) = (Cancel::new(), Heard::default());
    let live = Live { path: &root, by: Some(&looking) };
    comparing(&store, &cancel, false)
        .live(&located[0].path, &located[0].entry, live, &mut heard)
        .unwrap();
    let wanted = [(PathBuf::from("new.md"), Difference::New)];
    assert_eq!(heard.by_path(&root), wanted.into_iter().collect());
    // Cancelled, it ends; and a source that is not there is gone.
    cancel.cancel();
    let cut = comparing(&store, &cancel, false).live(
        &located[0].path,
        &located[0].entry,
        live,
        &mut heard,
    );
    assert!(matches!(cut, Err(skellin_engine::EngineError::Cancelled)));
    fs::remove_dir_all(&root).unwrap();
    let (cancel, mut heard) = (Cancel::new(), Heard::default());
    comparing(&store, &cancel, false)
        .live(&located[0].path, &located[0].entry, live, &mut heard)
        .unwrap();
    assert!(heard.0.len() >= 2 && heard.0.iter().all(|one| one.difference == Difference::Gone));
}
