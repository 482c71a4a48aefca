//! Every region of every kind of object damaged, with and without parity, and mended.

use std::{collections::HashMap, sync::Arc, time::Duration};

use skellin_place::{MemoryPlace, Place};

use super::{MendStart, Mender};
use crate::{
    Damage, DataShare, Reclaim, Snapshot, StoreError,
    protocol_tests::{Unwatched, begin, draft, memory, name, noise, open, put, read},
    tree::Body,
};

const START: MendStart<'_> = MendStart { machine: "mast", origin: None, now: 2_000_000 };

fn files() -> Vec<(&'static str, Vec<u8>)> {
    vec![("notes", noise(2, 30_000)), ("register", noise(3, 90_000)), ("today", noise(4, 500))]
}

/// A store with two snapshots.
fn store_with(parity: u8) -> (MemoryPlace, Vec<Snapshot>) {
    let (memory, place) = memory();
    let mut made = Vec::new();
    for night in 0..2 {
        let store = open(&place);
        store.set_parity(parity);
        let session = begin(&store, night);
        let mut files = files();
        files[2].1[0] = night as u8;
        let entries = put(&session, &files);
        made.push(session.finish(draft(&session, &entries)).expect("finishes"));
    }
    (memory, made)
}

/// Verifies, mends all it can, and verifies again: what was damaged, and what is.
fn mend(
    place: &Arc<dyn Place>,
    live: &HashMap<&str, Vec<u8>>,
    made: &[Snapshot],
) -> (usize, Vec<Damage>) {
    let store = open(place);
    let report = store.verify(DataShare::All, &Unwatched).expect("verifies");
    let found = report.damage.len();
    store.record_damage("mast").expect("notes");
    if !report.lost.is_empty() {
        let mut mender = Mender::begin(&store, START, report.lost).expect("begins");
        for snapshot in made {
            for (file, bytes) in live {
                let Ok(Some(entry)) = store.entry(snapshot.root_page(&store), file.as_bytes())
                else {
                    continue;
                };
                let Body::File { recipe, .. } = &entry.body else { panic!("a file") };
                for (offset, chunk) in mender.lost_in(recipe).expect("looks") {
                    let range = offset as usize..offset as usize + chunk.length as usize;
                    if let Some(bytes) = bytes.get(range) {
                        mender.offer(bytes).expect("stores");
                    }
                }
            }
        }
        mender.finish(&|| false).expect("finishes");
    }
    store.mend_copies().expect("mends");
    let request = Reclaim {
        machine: "mast",
        origin: None,
        now: 2_000_000,
        waste: 100,
        most: 0,
        patience: Duration::ZERO,
    };
    let store = Arc::new(store.reopened());
    match store.reclaim(&request, &Unwatched) {
        // A page is lost: nobody can tell what is needed.
        Err(StoreError::NoReclaim(_)) => {}
        done => drop(done.expect("reclaims")),
    }
    let left = store.verify(DataShare::All, &Unwatched).expect("verifies").damage;
    assert_eq!(left, open(place).verify(DataShare::All, &Unwatched).expect("verifies").damage);
    (found, left)
}

fn assert_whole(place: &Arc<dyn Place>, made: &[Snapshot]) {
    let store = open(place);
    assert_eq!(store.snapshots().expect("lists").len(), made.len());
    for (night, snapshot) in made.iter().enumerate() {
        for (file, mut content) in files() {
            if file == "today" {
                content[0] = night as u8;
            }
            assert!(read(&store, snapshot, file).expect("reads") == content, "{file} of {night}");
        }
    }
}

/// Ways to damage an object: its name, and what becomes of it.
fn injuries(bytes: &[u8], share: usize) -> Vec<(String, Vec<u8>)> {
    let length = bytes.len();
    let region = (length * share / 100).max(1).min(length);
    let mut all = Vec::new();
    for at in (0..8).map(|part| part * (length - region) / 7) {
        let mut flipped = bytes.to_vec();
        flipped[at + region / 2] ^= 0x08;
        all.push((format!("flipped at {at}"), flipped));
        let mut blank = bytes.to_vec();
        blank[at..at + region].fill(0);
        all.push((format!("{region} blank at {at}"), blank));
    }
    all.push(("cut".to_owned(), bytes[..length - region].to_vec()));
    all.retain(|(_, damaged)| damaged != bytes);
    all
}

fn bytes_of(memory: &MemoryPlace, object: &str) -> Vec<u8> {
    memory.fetch(&name(object), u64::MAX).expect("reads")
}

#[test]
fn parity_mends_every_region_up_to_its_share() {
    let (memory, made) = store_with(3);
    let objects = memory.names().into_iter().filter(|name| name.as_str().starts_with("data/"));
    for object in objects {
        let whole = bytes_of(&memory, object.as_str());
        for (way, damaged) in injuries(&whole, 3) {
            let copy = memory.fork();
            copy.overwrite(&object, damaged);
            let place: Arc<dyn Place> = Arc::new(copy);
            // While it is damaged everything is read all the same, and nobody is told of lost files.
            assert_whole(&place, &made);
            let report = open(&place).verify(DataShare::All, &Unwatched).expect("verifies");
            assert!(!report.damage.is_empty(), "{object} {way} is noticed");
            assert!(report.damage.iter().all(|damage| damage.files.is_empty()), "{object} {way}");
            let (found, left) = mend(&place, &HashMap::new(), &made);
            assert!(found > 0, "{object} {way} is noticed");
            assert_eq!(left, [], "{object} {way}");
            assert_whole(&place, &made);
        }
    }
}

#[test]
fn beyond_the_share_the_rest_is_moved_and_what_is_lost_is_named() {
    let (memory, made) = store_with(3);
    let largest = memory.names().into_iter().filter(|name| name.as_str().starts_with("data/"));
    let object = largest.max_by_key(|name| bytes_of(&memory, name.as_str()).len()).expect("data");
    let mut bytes = bytes_of(&memory, object.as_str());
    let (from, to) = (bytes.len() / 4, bytes.len() / 2);
    bytes[from..to].fill(0);
    memory.overwrite(&object, bytes);
    let place: Arc<dyn Place> = Arc::new(memory.fork());
    let report = open(&place).verify(DataShare::All, &Unwatched).expect("verifies");
    assert!(report.damage.iter().any(|damage| !damage.files.is_empty()) && !report.lost.is_empty());
    let (_, left) = mend(&place, &HashMap::new(), &made);
    assert!(!left.is_empty(), "what is lost stays told of");
    // With the files still there nothing is lost.
    let place: Arc<dyn Place> = Arc::new(memory);
    let (_, left) = mend(&place, &files().into_iter().collect(), &made);
    assert_eq!(left, []);
    assert_whole(&place, &made);
}

#[test]
fn without_parity_the_files_mend_what_they_still_hold() {
    let (memory, made) = store_with(0);
    let live: HashMap<&str, Vec<u8>> = files().into_iter().collect();
    let objects = memory.names().into_iter().filter(|name| name.as_str().starts_with("data/"));
    let mut lost = 0;
    for object in objects {
        let whole = bytes_of(&memory, object.as_str());
        for (way, damaged) in injuries(&whole, 3).into_iter().step_by(3) {
            let copy = memory.fork();
            copy.overwrite(&object, damaged);
            let place: Arc<dyn Place> = Arc::new(copy);
            let report = open(&place).verify(DataShare::All, &Unwatched).expect("verifies");
            lost += report.lost.len();
            let mut all = live.clone();
            // The content of each night, of which the live files have one.
            all.get_mut("today").expect("a file")[0] = 0;
            let (found, _) = mend(&place, &all, &made);
            assert!(found > 0, "{object} {way}");
            all.get_mut("today").expect("a file")[0] = 1;
            let (_, left) = mend(&place, &all, &made);
            assert_eq!(left, [], "{object} {way}");
            assert_whole(&place, &made);
        }
    }
    assert!(lost > 0, "without parity damage loses something");
}

#[test]
fn what_is_kept_twice_is_made_two_again() {
    let (memory, made) = store_with(3);
    for object in memory.names() {
        let text = object.as_str();
        if text.starts_with("data/") {
            continue;
        }
        let whole = bytes_of(&memory, text);
        let mut ways = injuries(&whole, 10);
        ways.push(("empty".to_owned(), Vec::new()));
        for (way, damaged) in ways.into_iter().step_by(2) {
            let copy = memory.fork();
            copy.overwrite(&object, damaged);
            let place: Arc<dyn Place> = Arc::new(copy);
            let (found, left) = mend(&place, &HashMap::new(), &made);
            assert!(found > 0, "{text} {way} is noticed");
            assert_eq!(left, [], "{text} {way} is mended");
            assert_whole(&place, &made);
        }
        // A record that is gone tells of nothing.
        let kept = ["trees/", "spares/", "snapshots/", "keys/", "index/"];
        if kept.iter().any(|folder| text.starts_with(folder)) {
            let copy = memory.fork();
            copy.delete(&object).expect("deletes");
            let place: Arc<dyn Place> = Arc::new(copy);
            let (found, left) = mend(&place, &HashMap::new(), &made);
            assert!(found > 0, "{text} removed is noticed");
            assert_eq!(left, [], "{text} removed is mended");
            assert_whole(&place, &made);
        }
    }
}
