//! Looking back through many snapshots: directories beside how they were before, versions of a
//! path, the beginning of a file; each held against the plain way to find the same out.

use crate::common;

use std::{
    collections::BTreeMap,
    fs,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use common::{content, memory_store, open_store, plan_of, run_at, scratch, write};
use proptest::prelude::*;
use skellin_engine::{
    Change,
    history::{self, Against},
};
use skellin_place::{HookedPlace, Operation, Place};
use skellin_plan::Query;
use skellin_store::{Body, Entry, Kind, PageRef, Snapshot, Store};

const NAMES: [&str; 6] = ["a", "b", "c/d", "c/e", "c/f/g", "h"];
const DAY: i64 = 86_400_000;

/// What each night makes of the names: nothing, or content by a seed.
type Night = Vec<Option<u64>>;

fn play(root: &Path, night: &Night) {
    let _ = fs::remove_dir_all(root);
    fs::create_dir_all(root).unwrap();
    for (name, seed) in NAMES.iter().zip(night) {
        if let Some(seed) = seed {
            write(&root.join(name), content(*seed, 300 + *seed as usize * 700));
            let file = fs::File::open(root.join(name)).unwrap();
            let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_700_000_000 + seed);
            file.set_modified(time).unwrap();
        }
    }
}

fn nights() -> impl Strategy<Value = Vec<Night>> {
    let night = proptest::collection::vec(proptest::option::weighted(0.7, 0u64..3), NAMES.len());
    proptest::collection::vec(night, 2..6)
}

/// The entries of a directory, all at once.
fn plainly(store: &Store, root: Option<PageRef>) -> BTreeMap<Vec<u8>, Entry> {
    root.into_iter()
        .flat_map(|root| store.entries(root))
        .map(|entry| entry.unwrap())
        .map(|entry| (entry.name.clone(), entry))
        .collect()
}

fn directory(store: &Store, snapshot: &Snapshot, path: &[u8]) -> Option<PageRef> {
    match history::locate(store, snapshot, path).unwrap()?.entry.body {
        Body::Directory { root, .. } => Some(root),
        _ => None,
    }
}

fn listed(store: &Store, now: Option<PageRef>, against: Against) -> Vec<(Vec<u8>, Change)> {
    let mut found = Vec::new();
    history::list(store, now, against, &mut |entry, change| {
        found.push((entry.name, change));
        true
    })
    .unwrap();
    found
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn what_is_shown_of_the_past_is_what_was(nights in nights()) {
        let folder = scratch();
        let root = folder.path().join("ridge");
        let (_, place) = memory_store();
        let plan = plan_of(&[&root], "");
        for (number, night) in nights.iter().enumerate() {
            play(&root, night);
            run_at(&place, &plan, 1_790_000_000_000 + number as i64 * DAY);
        }
        let store = open_store(&place);
        let snapshots = history::snapshots(&store, Some("readings"), |_, _| {}).unwrap();
        let below = |name: &str| root.join(name).into_os_string().into_encoded_bytes();
        // Directories beside how they were.
        for pair in snapshots.windows(2) {
            for path in [root.clone().into_os_string().into_encoded_bytes(), below("c"), below("c/f")] {
                let (before, now) = (directory(&store, &pair[0], &path), directory(&store, &pair[1], &path));
                let against = before.map_or(Against::Missing, Against::Directory);
                let (old, new) = (plainly(&store, before), plainly(&store, now));
                let mut expected: BTreeMap<Vec<u8>, Change> = BTreeMap::new();
                for (name, entry) in &new {
                    let change = match old.get(name) {
                        None => Change::New,
                        Some(was) if was.kind() == Kind::Directory && entry.kind() == Kind::Directory => {
                            let same = was.body.same_content(&entry.body);
                            if same { Change::Same } else { Change::Changed }
                        }
                        Some(was) if (&was.modified, was.size()) == (&entry.modified, entry.size()) => Change::Same,
                        Some(_) => Change::Changed,
                    };
                    expected.insert(name.clone(), change);
                }
                for name in old.keys().filter(|name| !new.contains_key(*name)) {
                    expected.insert(name.clone(), Change::Gone);
                }
                prop_assert_eq!(listed(&store, now, against), expected.into_iter().collect::<Vec<_>>());
            }
        }
        // Versions: distinct neighbours of what each snapshot has.
        for (at, name) in NAMES.iter().enumerate() {
            let mut expected: Vec<(usize, usize, u64)> = Vec::new();
            for (number, night) in nights.iter().enumerate() {
                let Some(seed) = night[at] else { continue };
                match expected.last_mut() {
                    Some((_, last, was)) if *last + 1 == number && *was == seed => *last = number,
                    _ => expected.push((number, number, seed)),
                }
            }
            let versions = history::versions(&store, &below(name), &snapshots, &|| false, Err);
            let found: Vec<_> = versions
                .unwrap()
                .into_iter()
                .map(|version| {
                    let number = |time: i64| ((time - 1_790_000_000_000) / DAY) as usize;
                    (number(version.time), number(version.last_seen), (version.size - 300) / 700)
                })
                .collect();
            prop_assert_eq!(found, expected, "{}", name);
        }
        // Every path is found once, with its versions; deleted is what the last night does not have.
        let all = found(&[&store], None, false);
        for (at, name) in NAMES.iter().enumerate() {
            let versions = history::versions(&store, &below(name), &snapshots, &|| false, Err).unwrap();
            let hit = all.iter().find(|hit| hit.path == below(name));
            let spans = hit.map_or(&[][..], |hit| &hit.spans);
            let told: Vec<_> = spans.iter().map(|span| (span.first, span.last, span.size)).collect();
            let wanted: Vec<_> =
                versions.iter().map(|one| (one.time, one.last_seen, one.size)).collect();
            prop_assert_eq!(told, wanted, "{}", name);
            let is_gone = hit.is_some_and(|hit| hit.gone.is_some());
            prop_assert_eq!(is_gone, !versions.is_empty() && nights[nights.len() - 1][at].is_none());
        }
        let mut paths: Vec<_> = all.iter().map(|hit| &hit.path).collect();
        paths.dedup();
        prop_assert_eq!(paths.len(), all.len());
        // What is deleted is told by itself, or by the directory that went with it.
        let gone = found(&[&store], None, true);
        for hit in all.iter().filter(|hit| hit.gone.is_some()) {
            let above = |other: &history::Hit| {
                hit.path.starts_with(&[&other.path[..], b"/"].concat()) && other.gone == hit.gone
            };
            let told = gone.iter().filter(|other| other.path == hit.path || above(other)).count();
            prop_assert_eq!(told, 1, "{:?} {:?}", hit, gone);
        }
        // A second store that has every other night: together they tell what the nights were.
        let (_, second) = memory_store();
        for (number, night) in nights.iter().enumerate().step_by(2) {
            play(&root, night);
            run_at(&second, &plan, 1_790_000_000_000 + number as i64 * DAY);
        }
        let other = open_store(&second);
        prop_assert_eq!(facts(&found(&[&other, &store], None, false)), facts(&all));
        prop_assert_eq!(facts(&found(&[&other, &store], None, true)), facts(&gone));
    }
}

/// What was found, in the order of the paths.
fn found(stores: &[&Store], pattern: Option<&str>, only_gone: bool) -> Vec<history::Hit> {
    let query = Query::new(pattern, &[], 0).unwrap();
    let all = history::series(
        stores,
        history::Which { plan: Some("readings"), ..Default::default() },
        &mut |_, _| panic!(),
    );
    let hits = std::sync::Mutex::new(Vec::new());
    for series in all.unwrap() {
        series
            .search(
                stores,
                (&query, only_gone),
                &|| false,
                &|hit| hits.lock().unwrap().push(hit),
                &|_, _| panic!(),
            )
            .unwrap();
    }
    let mut hits = hits.into_inner().unwrap();
    hits.sort_by(|a, b| a.path.cmp(&b.path));
    hits
}

/// Of files: path, first, last, and since when it is gone.
fn facts(hits: &[history::Hit]) -> Vec<(Vec<u8>, i64, i64, Option<i64>)> {
    let ends = |hit: &history::Hit| {
        let (first, last) = (hit.spans.first().unwrap().first, hit.spans.last().unwrap().last);
        (hit.path.clone(), first, last, hit.gone)
    };
    hits.iter().map(ends).collect()
}

#[test]
fn a_search_reads_what_many_snapshots_share_once() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    for number in 0..300 {
        write(&root.join(format!("{}/record-{number:03}.csv", number % 30)), "");
    }
    let (_, place) = memory_store();
    let plan = plan_of(&[&root], "");
    for night in 0..20 {
        write(&root.join("7/tide.csv"), night.to_string());
        run_at(&place, &plan, 1_790_000_000_000 + night * DAY);
    }
    let reads = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&reads);
    let place: Arc<dyn Place> = Arc::new(HookedPlace::before(place, move |operation, _| {
        count.fetch_add(usize::from(operation == Operation::Read), Ordering::Relaxed);
        Ok(())
    }));
    let store = open_store(&place);
    let before = reads.load(Ordering::Relaxed);
    let hits = found(&[&store], Some("tide"), false);
    assert_eq!((hits.len(), hits[0].spans.len(), hits[0].gone), (1, 20, None));
    // 30 directories, two pages that change each night, and the snapshots themselves.
    let reads = reads.load(Ordering::Relaxed) - before;
    assert!(reads < 250, "{reads}");
    assert_eq!(found(&[&store], Some("record-00?.csv"), false).len(), 10);
    assert_eq!(found(&[&store], Some("/**/7/record-007.csv"), false).len(), 1);
}

#[test]
fn a_listing_stops_when_it_is_told_to_and_compares_with_nothing_if_there_is_nothing() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    for number in 0..500 {
        write(&root.join(format!("record-{number:03}")), "");
    }
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&root], ""), 1_790_000_000_000);
    let store = open_store(&place);
    let snapshot = common::newest(&store);
    let path = root.into_os_string().into_encoded_bytes();
    let now = directory(&store, &snapshot, &path);
    let mut seen = 0;
    history::list(&store, now, Against::Nothing, &mut |_, change| {
        assert_eq!(change, Change::Same);
        seen += 1;
        seen < 7
    })
    .unwrap();
    assert_eq!(seen, 7);
    // A directory that is gone lists what was in it.
    let gone = listed(&store, None, Against::Directory(now.unwrap()));
    assert!(gone.len() == 500 && gone.iter().all(|(_, change)| *change == Change::Gone));
}

#[test]
fn the_beginning_of_a_file_is_as_long_as_asked_and_no_longer() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    let bytes = content(1, 50_000);
    write(&root.join("gauge.csv"), &bytes);
    write(&root.join("empty"), "");
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&root], ""), 1_790_000_000_000);
    let store = open_store(&place);
    let snapshot = common::newest(&store);
    let located = |name: &str| {
        let path = root.join(name).into_os_string().into_encoded_bytes();
        history::must_locate(&store, &snapshot, &path).unwrap()
    };
    for most in [1, 777, 49_999, 50_000, 60_000] {
        let head = history::head(&store, &located("gauge.csv"), most).unwrap();
        assert_eq!(head, bytes[..most.min(bytes.len())]);
    }
    assert_eq!(history::head(&store, &located("empty"), 100).unwrap(), b"");
    assert!(history::head(&store, &located(""), 100).is_err(), "a directory has no content");
}

#[test]
fn what_brings_new_bytes_is_told_by_directory() {
    let scratch = scratch();
    let (_, place) = memory_store();
    let root = scratch.path().join("srv");
    let series = content(1, 400_000);
    write(&root.join("gauges/a.csv"), &series[..200_000]);
    write(&root.join("notes/same.md"), content(2, 9_000));
    let plan = plan_of(&[&root], "");
    run_at(&place, &plan, DAY);
    // One grows, one is new, one only moves its time.
    write(&root.join("gauges/a.csv"), &series[..300_000]);
    write(&root.join("cards/b.raw"), content(3, 60_000));
    let touched = fs::File::options().append(true).open(root.join("notes/same.md")).unwrap();
    touched.set_modified(std::time::UNIX_EPOCH + std::time::Duration::from_secs(5)).unwrap();
    run_at(&place, &plan, 2 * DAY);
    fs::remove_file(root.join("cards/b.raw")).unwrap();
    write(&root.join("gauges/a.csv"), &series);
    run_at(&place, &plan, 3 * DAY);
    let store = open_store(&place);
    let snapshots = history::snapshots(&store, None, |_, _| {}).unwrap();
    let told = history::brought(&store, &snapshots, &|| false).unwrap().told(5);
    let path = |name: &str| root.join(name).into_os_string().into_encoded_bytes();
    let paths: Vec<_> = told.iter().map(|one| one.path.clone()).collect();
    assert_eq!(paths, [path("gauges/a.csv"), path("cards/b.raw")], "{told:?}");
    // The chunk at the end of a file that grows comes anew as well.
    assert!((200_000..270_000).contains(&told[0].bytes), "{told:?}");
    assert_eq!(told[1].bytes, 60_000);
    let cut = history::brought(&store, &snapshots, &|| true);
    assert!(matches!(cut, Err(skellin_engine::EngineError::Cancelled)));
}
