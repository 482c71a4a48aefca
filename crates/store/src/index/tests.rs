//! Segments through a store: how few they stay, and what becomes of parts that nobody needs or that
//! somebody misses.

use std::sync::Arc;

use skellin_place::{MemoryPlace, Place};

use crate::{
    Cache, DataShare, Store,
    protocol_tests::{PASSPHRASE, Unwatched, begin, draft, memory, name, noise, open, put, read},
};

/// A store that cuts segments into parts of so many records.
fn open_with(place: &Arc<dyn Place>, records: usize, cache: &Cache) -> Arc<Store> {
    let mut store = Store::open(Arc::clone(place), PASSPHRASE, cache.clone()).expect("opens");
    store.records_a_part = records;
    Arc::new(store)
}

fn files(night: u64) -> Vec<(&'static str, Vec<u8>)> {
    vec![("a", noise(7, 60_000)), ("b", noise(night, 30_000))]
}

/// Nine nights, so that eight segments become one, which has parts.
fn nine_nights(place: &Arc<dyn Place>, cache: &Cache) {
    for night in 1..10 {
        let store = open_with(place, 50, cache);
        let session = begin(&store, night);
        let entries = put(&session, &files(night as u64));
        session.finish(draft(&session, &entries)).expect("finishes");
    }
}

fn parts(memory: &MemoryPlace) -> Vec<String> {
    let names = memory.names();
    let index = names.iter().filter(|name| name.folder() == "index");
    let parts = index.filter(|name| name.leaf().matches('-').count() == 2);
    parts.map(ToString::to_string).collect()
}

#[test]
fn a_long_segment_has_parts_and_knows_all_its_content() {
    let folder = tempfile::tempdir().expect("a directory");
    for cache in [Cache::None, Cache::ReadWrite(folder.path().to_path_buf())] {
        let (memory, place) = memory();
        nine_nights(&place, &cache);
        assert!(parts(&memory).len() > 1, "{:?}", memory.names());
        let store = open_with(&place, 50, &cache);
        assert_eq!(store.listed_segments().expect("lists").len(), 2, "one of eight, and one");
        assert_eq!(store.verify(DataShare::All, &Unwatched).expect("verifies").damage, Vec::new());
        // All that was ever stored is found again.
        let session = begin(&store, 20);
        for night in 1..10 {
            put(&session, &files(night));
        }
        assert_eq!(session.writing.new_bytes(), 0);
        session.abandon();
        for snapshot in store.snapshots().expect("lists") {
            let snapshot = store.read_snapshot(&snapshot).expect("reads");
            let night = snapshot.started as u64;
            assert_eq!(read(&store, &snapshot, "b").expect("reads"), noise(night, 30_000));
        }
    }
}

#[test]
fn a_segment_that_lacks_a_part_is_written_again() {
    for damage in ["deleted", "cut short"] {
        let (memory, place) = memory();
        nine_nights(&place, &Cache::None);
        let victim = name(parts(&memory).swap_remove(1));
        let bytes = place.fetch(&victim, 1 << 20).expect("reads");
        place.delete(&victim).expect("deletes");
        if damage == "cut short" {
            place.create(&victim, &bytes[..bytes.len() - 1]).expect("puts");
        }
        let report = open(&place).verify(DataShare::All, &Unwatched).expect("verifies");
        assert!(report.damage.iter().any(|found| found.object.contains("index/")), "{report:?}");
        assert!(report.damage.iter().all(|found| found.files.is_empty()), "{report:?}");
        let store = open(&place);
        let session = begin(&store, 10);
        assert!(!session.warnings.is_empty(), "{damage}");
        let entries = put(&session, &files(3));
        let snapshot = session.finish(draft(&session, &entries)).expect("finishes");
        assert_eq!(snapshot.new_bytes, 0, "nothing is stored twice");
        assert_eq!(parts(&memory), Vec::<String>::new(), "nothing of it is left");
        let report = open(&place).verify(DataShare::All, &Unwatched).expect("verifies");
        assert_eq!(report.damage, Vec::new());
    }
}

#[test]
fn parts_that_a_crash_has_left_go_and_those_of_an_open_run_stay() {
    let (memory, place) = memory();
    let store = open(&place);
    let other = begin(&store, 100);
    let [left, being_written] =
        [crate::RunId([9; 16]), other.run()].map(|run| format!("index/{run}-00000000-00000000"));
    for object in [&left, &being_written] {
        place.create(&name(object.clone()), b"half a part").expect("puts");
    }
    nine_nights(&place, &Cache::None);
    let there = parts(&memory);
    assert!(!there.contains(&left), "{there:?}");
    assert!(there.contains(&being_written), "{there:?}");
    other.abandon();
}
