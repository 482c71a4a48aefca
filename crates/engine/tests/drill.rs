//! Drills: a restore into scratch says whether what is kept comes back, and what it would take.

use crate::common;

use std::{collections::HashSet, fs, path::Path, sync::Arc};

use common::{
    content, create_store, make_odd_tree, memory_store, newest, open_store, plan_of, run_at,
    scratch, settle, write,
};
use skellin_engine::{
    Cancel, Event,
    drill::{DrillReport, DrillRequest, Share, drill},
};
use skellin_place::{Extent, MemoryPlace, Place};
use skellin_store::{Entry, Store};

const EVENING: i64 = 1_790_000_000_000;

/// A drill of the newest snapshot.
struct Drilling<'a> {
    store: &'a Store,
    share: Share,
    scratch: &'a Path,
    is_tried: &'a dyn Fn(&[u8], &Entry) -> bool,
    seed: u8,
}

impl Drilling<'_> {
    fn run(&self) -> DrillReport {
        let snapshot = newest(self.store);
        let request = DrillRequest {
            snapshot: &snapshot,
            before: None,
            share: self.share,
            scratch: self.scratch,
            is_own: true,
            is_tried: self.is_tried,
            seed: [self.seed; 32],
            cancel: &Cancel::new(),
            events: &|_: Event| {},
        };
        drill(self.store, &request).unwrap()
    }
}

fn none(_: &[u8], _: &Entry) -> bool {
    false
}

fn of(store: &Store, scratch: &Path, share: Share) -> DrillReport {
    Drilling { store, share, scratch, is_tried: &none, seed: 1 }.run()
}

#[test]
fn what_is_kept_comes_back_and_nothing_of_it_stays() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    make_odd_tree(&source);
    write(&source.join("long.bin"), content(3, 3_000_000));
    settle(&source);
    let (_, place) = memory_store();
    let plan = plan_of(&[&source], "");
    run_at(&place, &plan, EVENING);
    let store = open_store(&place);
    // What a drill that was killed has left is in nobody's way.
    let cache = folder.path().join("cache");
    let left = cache.join("drill").join(&blake3::hash(b"readings").to_hex()[..16]);
    write(&left.join("ridge/long.bin"), "half");
    for share in [Share::All, Share::Files(10_000)] {
        let report = of(&store, &cache, share);
        assert_eq!(report.wrong, [], "{share:?}");
        assert_eq!(report.files, report.of.0, "{share:?}");
        assert_eq!(report.is_whole, share == Share::All);
        assert!(report.files > 5 && report.bytes >= 3_000_000 && report.live > 5, "{report:?}");
        assert!(report.whole_seconds.is_some_and(|seconds| seconds > 0.0), "{report:?}");
        assert_eq!(fs::read_dir(cache.join("drill")).unwrap().count(), 0);
    }
}

#[test]
fn a_source_that_rots_and_a_store_that_does_are_both_found() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..40 {
        write(&source.join(format!("{}/{number}", number % 5)), content(number, 30_000));
    }
    settle(&source);
    let memory = MemoryPlace::new();
    create_store(&memory);
    let place: Arc<dyn Place> = Arc::new(memory.clone());
    run_at(&place, &plan_of(&[&source], ""), EVENING);
    let cache = folder.path().join("cache");
    // A byte that changed without a trace.
    let rotten = source.join("3/3");
    let modified = fs::metadata(&rotten).unwrap().modified().unwrap();
    let mut bytes = fs::read(&rotten).unwrap();
    bytes[777] ^= 1;
    fs::write(&rotten, bytes).unwrap();
    fs::File::options().write(true).open(&rotten).unwrap().set_modified(modified).unwrap();
    // A file that changed tells nothing.
    write(&source.join("4/4"), "another");
    let report = of(&open_store(&place), &cache, Share::All);
    assert_eq!((report.wrong_count, report.live), (1, 38), "{report:?}");
    assert!(report.wrong[0].path.ends_with(b"/3/3"), "{report:?}");
    assert!(report.wrong[0].cause.words.contains("the file in its source has other content"));

    fs::remove_dir_all(&source).unwrap();
    // Each container of data damaged in turn: what a drill of everything finds is what is lost.
    for object in memory.names().into_iter().filter(|name| name.as_str().starts_with("data/")) {
        let inner = memory.fork();
        let mut bytes = Vec::new();
        inner.read(&object, Extent::Within(u64::MAX), &mut bytes).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        inner.overwrite(&object, bytes);
        let place: Arc<dyn Place> = Arc::new(inner);
        let report = of(&open_store(&place), &cache, Share::All);
        assert!(report.wrong_count > 0, "{object}: {report:?}");
        assert_eq!(report.files + report.wrong_count, 40, "each is compared or told of");
        assert_eq!(fs::read_dir(cache.join("drill")).unwrap().count(), 0);
    }
}

#[test]
fn samples_stay_small_and_come_to_every_file_in_time() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..600 {
        write(&source.join(format!("{}/{number}", number % 7)), format!("gauge {number}"));
    }
    settle(&source);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), EVENING);
    let store = open_store(&place);
    let cache = folder.path().join("cache");
    let mut tried: HashSet<Vec<u8>> = HashSet::new();
    let mut drills = 0;
    while tried.len() < 600 {
        drills += 1;
        let before = tried.clone();
        let is_tried = |path: &[u8], _: &Entry| before.contains(path);
        let share = Share::Files(100);
        let seed = drills;
        let drilling =
            Drilling { store: &store, share, scratch: &cache, is_tried: &is_tried, seed };
        let report = drilling.run();
        assert_eq!((report.wrong_count, report.of.0), (0, 600));
        assert_eq!(report.files, 100, "neighbours or not, as many as asked for");
        let again = drilling.run();
        assert_eq!(report.sample, again.sample, "the seed decides, and nothing else");
        tried.extend(report.sample.into_iter().map(|(path, _)| path));
        assert!(drills < 200, "{} of 600 after {drills} drills", tried.len());
    }
    assert!(drills >= 6);
}

#[test]
fn an_interrupted_drill_says_so_and_leaves_nothing() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..50 {
        write(&source.join(number.to_string()), content(number, 50_000));
    }
    settle(&source);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&source], ""), EVENING);
    let store = open_store(&place);
    let (snapshot, cancel) = (newest(&store), Cancel::new());
    let cache = folder.path().join("cache");
    let stop = cancel.clone();
    let request = DrillRequest {
        snapshot: &snapshot,
        before: None,
        share: Share::All,
        scratch: &cache,
        is_own: true,
        is_tried: &none,
        seed: [1; 32],
        cancel: &cancel,
        events: &move |event: Event| {
            if matches!(event, Event::Begun { .. }) {
                stop.cancel();
            }
        },
    };
    let report = drill(&store, &request).unwrap();
    assert!(report.interrupted && report.snapshot.is_none());
    assert_eq!(fs::read_dir(cache.join("drill")).unwrap().count(), 0);
}
