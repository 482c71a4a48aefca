use std::sync::Arc;

use skellin_place::{CountingPlace, MemoryPlace, Place};

use super::*;
use crate::{
    Cache, DataShare,
    protocol_tests::{PASSPHRASE, Unwatched, memory, name, noise, open, read, run},
};

fn nights(place: &Arc<dyn Place>, nights: std::ops::Range<i64>) {
    for night in nights {
        run(place, night, &[("a", noise(night as u64, 900))]);
    }
}

fn bundles(memory: &MemoryPlace) -> Vec<String> {
    let names = memory.names();
    let index = names.iter().filter(|name| name.folder() == "index");
    index.filter(|name| name.leaf().contains('.')).map(ToString::to_string).collect()
}

/// Reads every snapshot as from far away; how many there are, and the requests that took.
fn look_back(memory: &MemoryPlace, cache: Cache) -> (Vec<i64>, Vec<String>) {
    let counting = Arc::new(CountingPlace::new(Arc::new(memory.clone())));
    let place: Arc<dyn Place> = counting.clone();
    let store = Store::open(place, PASSPHRASE, cache).expect("opens");
    let listed = store.snapshots().expect("lists");
    counting.take();
    store.fetch_snapshots(&listed);
    let read = |one| store.read_snapshot(one).expect("reads").started;
    let times = listed.iter().map(read).collect();
    (times, counting.take())
}

#[test]
fn many_snapshots_are_had_with_few_requests() {
    let (memory, place) = memory();
    nights(&place, 0..76);
    // One of 64, one of 8, and four alone.
    assert_eq!(bundles(&memory).len(), 2, "{:?}", bundles(&memory));
    let folder = tempfile::tempdir().expect("a directory");
    for cache in [Cache::None, Cache::ReadWrite(folder.path().to_path_buf())] {
        let (times, asked) = look_back(&memory, cache.clone());
        assert_eq!(times, (0..76).collect::<Vec<_>>());
        assert_eq!(asked.len(), 1 + 2 + 4, "a listing, bundles, and those alone: {asked:?}");
        let (times, asked) = look_back(&memory, cache.clone());
        assert_eq!(times.len(), 76);
        if cache != Cache::None {
            assert_eq!(asked, Vec::<String>::new(), "all is kept");
        }
    }
    let store = open(&place);
    assert_eq!(store.verify(DataShare::All, &Unwatched).expect("verifies").damage, Vec::new());
}

#[test]
fn a_bundle_that_is_damaged_costs_requests_and_no_snapshot() {
    for damage in ["a changed byte", "cut short", "deleted", "another's"] {
        let (memory, place) = memory();
        nights(&place, 0..16);
        let [first, second] = bundles(&memory).try_into().expect("two of eight");
        let (first, second) = (name(first), name(second));
        let mut bytes = place.fetch(&first, 1 << 20).expect("reads");
        place.delete(&first).expect("deletes");
        match damage {
            "a changed byte" => bytes[500] ^= 1,
            "cut short" => bytes.truncate(700),
            "another's" => bytes = place.fetch(&second, 1 << 20).expect("reads"),
            _ => {}
        }
        if damage != "deleted" {
            place.create(&first, &bytes).expect("puts");
            let report = open(&place).verify(DataShare::None, &Unwatched).expect("verifies");
            assert_eq!(report.damage.len(), 1, "{damage}: {report:?}");
            assert_eq!(report.damage[0].object, first.to_string());
        }
        let (times, asked) = look_back(&memory, Cache::None);
        assert_eq!(times, (0..16).collect::<Vec<_>>(), "{damage}");
        assert!(asked.len() > 8, "{asked:?}");
        // The next bundling heals.
        nights(&place, 16..24);
        let report = open(&place).verify(DataShare::None, &Unwatched).expect("verifies");
        assert_eq!(report.damage, Vec::new(), "{damage}");
        let (times, asked) = look_back(&memory, Cache::None);
        assert_eq!(times, (0..24).collect::<Vec<_>>(), "{damage}");
        assert!(asked.len() <= 4, "{asked:?}");
    }
}

#[test]
fn a_snapshot_that_is_gone_leaves_its_bundle_when_that_is_merged() {
    let (memory, place) = memory();
    nights(&place, 0..60);
    let store = open(&place);
    let gone = store.snapshots().expect("lists").swap_remove(3);
    for folder in ["snapshots", "spares"] {
        place.delete(&name(format!("{folder}/{}", gone.object.leaf()))).expect("deletes");
    }
    let holds = || {
        let ids = store.listed_bundles().expect("lists").into_iter();
        let leaf = gone.object.leaf();
        ids.filter(|(id, _)| store.read_bundle(*id).expect("reads").contains_key(leaf)).count()
    };
    assert_eq!(holds(), 1);
    assert_eq!(look_back(&memory, Cache::None).0.len(), 59, "what a bundle has is not listed");
    nights(&place, 60..66);
    assert_eq!(holds(), 0);
}

/// Who knows nothing of a far store reads a few headers for the keys of runs, and then all snapshots.
#[test]
fn the_keys_of_many_runs_are_had_with_few_requests() {
    let (memory, place) = memory();
    let files: Vec<_> =
        (0..40).map(|night: u64| (format!("page-{night:02}"), noise(night, 300))).collect();
    for night in 0..files.len() {
        let so_far = files[..=night].iter().map(|(name, content)| (name.as_str(), content.clone()));
        run(&place, night as i64, &so_far.collect::<Vec<_>>());
    }
    let counting = Arc::new(CountingPlace::new(Arc::new(memory.clone())));
    let place: Arc<dyn Place> = counting.clone();
    let store = Store::open(place, PASSPHRASE, Cache::None).expect("opens");
    let newest = store.snapshots().expect("lists").pop().expect("a snapshot");
    let snapshot = store.read_snapshot(&newest).expect("reads");
    counting.take();
    for (file, content) in &files {
        assert_eq!(read(&store, &snapshot, file).expect("reads"), *content);
    }
    let asked = counting.take();
    let of_data = asked.iter().filter(|asked| asked.starts_with("read data/")).count();
    assert!(of_data <= 40 + 9, "a block of each, and a few headers: {of_data}");
    assert!(asked.len() < 40 + 9 + 25, "{}: {asked:?}", asked.len());
}
