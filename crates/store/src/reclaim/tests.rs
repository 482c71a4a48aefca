//! Reclaims by themselves: what they leave, wherever they are stopped; and beside runs.

use std::{
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use skellin_place::{HookedPlace, MemoryPlace, Place, PlaceError, PlaceErrorKind};

use super::{Reclaim, ReclaimProgress, ReclaimReport, ReclaimWatch};
use crate::{
    Cache, DataShare, RunId, Snapshot, Store, StoreError,
    protocol_tests::{PASSPHRASE, Unwatched, begin, draft, memory, noise, open, put, read, run},
};

impl ReclaimWatch for Unwatched {
    fn is_cancelled(&self) -> bool {
        false
    }
    fn progress(&self, _: ReclaimProgress) {}
}

const RECLAIM: Reclaim<'_> = Reclaim {
    machine: "mast",
    origin: None,
    now: 1_000_000,
    waste: 10,
    most: u64::MAX,
    patience: Duration::ZERO,
};

fn reclaim(place: &Arc<dyn Place>) -> Result<ReclaimReport, StoreError> {
    let store = Store::open(Arc::clone(place), PASSPHRASE, Cache::None)?;
    Arc::new(store).reclaim(&RECLAIM, &Unwatched)
}

type Files = Vec<(&'static str, Vec<u8>)>;

/// What the sources hold in a night: a part that stays, one that changes in places, one that is new.
fn files(night: u64) -> Files {
    let mut register = noise(1, 150_000);
    for change in 0..=night {
        let at = (change as usize * 37_000) % 140_000;
        register[at..at + 2_000].copy_from_slice(&noise(100 + change, 2_000));
    }
    vec![
        ("notes", noise(2, 40_000)),
        ("register", register),
        ("today", noise(1000 + night, 30_000)),
    ]
}

/// A store of some nights of which the last few are kept.
fn nights(all: u64, kept: usize) -> (MemoryPlace, Arc<dyn Place>, Vec<(Snapshot, Files)>) {
    let (memory, place) = memory();
    let mut made: Vec<(Snapshot, Files)> =
        (0..all).map(|night| (run(&place, night as i64, &files(night)), files(night))).collect();
    let store = open(&place);
    let gone: Vec<RunId> = made.drain(..made.len() - kept).map(|(one, _)| one.run).collect();
    store.expire(&gone, "hut").expect("expires");
    (memory, place, made)
}

fn assert_whole(place: &Arc<dyn Place>, made: &[(Snapshot, Files)]) {
    let store = open(place);
    let listed = store.snapshots().expect("lists");
    for (snapshot, files) in made {
        assert!(listed.iter().any(|one| one.run == snapshot.run), "{} is listed", snapshot.run);
        for (file, content) in files {
            assert_eq!(read(&store, snapshot, file).expect("reads"), *content, "{file}");
        }
    }
    assert_eq!(open(place).verify(DataShare::All, &Unwatched).expect("verifies").damage, []);
}

fn bytes(place: &Arc<dyn Place>) -> u64 {
    open(place).holdings().expect("lists").iter().map(|holding| holding.bytes).sum()
}

#[test]
fn a_reclaimed_store_is_as_small_as_a_new_one_with_the_same_snapshots() {
    let (_, place, made) = nights(12, 3);
    let before = bytes(&place);
    let foretold = open(&place).dry_run_reclaim(&RECLAIM, &Unwatched).expect("looks");
    assert_eq!(bytes(&place), before, "a dry run writes nothing");
    let report = reclaim(&place).expect("reclaims");
    assert_eq!((report.snapshots, report.spared, report.revoked), (3, 0, 0));
    assert_eq!((foretold.deleted, foretold.freed), (report.deleted, report.freed));
    assert_whole(&place, &made);
    let (_, fresh) = memory();
    made.iter().for_each(|(one, files)| drop(run(&fresh, one.started, files)));
    let (after, least) = (bytes(&place), bytes(&fresh));
    assert!(after < before / 2 && after as f64 <= least as f64 * 1.15, "{before} {after} {least}");
    let left = |folder: &str| place.listing(folder).expect("lists").len();
    assert_eq!([left("runs"), left("acks"), left("revokes")], [0; 3]);
    assert_eq!(left("notices"), 1, "what was deleted is remembered");
    // Nothing more to do, and runs go on from there.
    let again = reclaim(&place).expect("reclaims");
    assert_eq!((again.deleted, again.stored), (0, 0));
    let next = run(&place, 20, &files(11));
    assert_eq!(next.new_bytes, 0, "what was moved is found");
    assert_whole(&place, &[made, vec![(next, files(11))]].concat());
}

#[test]
fn lists_of_containers_move_with_the_pages_they_lie_among() {
    let (_, place) = memory();
    let name = |night: u64| -> &'static str { Box::leak(format!("night-{night:03}").into()) };
    let files = |night: u64| -> Files {
        let kept = night.saturating_sub(40)..=night;
        kept.map(|night| (name(night), noise(night, 3_000))).collect()
    };
    // Each snapshot needs something of forty runs, so that its list has pages.
    let made: Vec<(Snapshot, Files)> =
        (0..60).map(|night| (run(&place, night as i64, &files(night)), files(night))).collect();
    let kept = &made[50..];
    let lists = |one: &(Snapshot, Files)| Store::pages_of_needed(&one.0.needed).count();
    assert!(kept.iter().all(|one| lists(one) > 0), "they have pages");
    let gone: Vec<RunId> = made[..50].iter().map(|(one, _)| one.run).collect();
    open(&place).expire(&gone, "hut").expect("expires");
    let report = reclaim(&place).expect("reclaims");
    assert!(report.moved > 20 && report.unreadable.is_empty(), "{report:?}");
    assert_eq!(reclaim(&place).expect("reclaims").moved, 0);
    assert_whole(&place, kept);
    let next = run(&place, 99, &files(60));
    assert_whole(&place, &[kept, &[(next, files(60))]].concat());
}

#[test]
fn a_thousand_small_runs_leave_few_objects() {
    let (_, place) = memory();
    let mut last = None;
    for night in 0..60u64 {
        let files: Files = vec![("register", noise(night / 3, 3_000)), ("stays", noise(7, 9_000))];
        last = Some((run(&place, night as i64, &files), files));
        let store = open(&place);
        let listed = store.snapshots().expect("lists");
        let old: Vec<RunId> =
            listed[..listed.len().saturating_sub(8)].iter().map(|one| one.run).collect();
        store.expire(&old, "hut").expect("expires");
        if night % 6 == 5 {
            reclaim(&place).expect("reclaims");
        }
    }
    let holdings = open(&place).holdings().expect("lists");
    let objects = |folder: &str| {
        holdings.iter().find(|one| one.folder == folder).map_or(0, |one| one.objects)
    };
    assert!(objects("data") <= 12 && objects("trees") <= 16, "{holdings:?}");
    assert!(objects("index") <= 9 && objects("expired") <= 9, "{holdings:?}");
    assert_whole(&place, &last.into_iter().collect::<Vec<_>>());
}

/// Fails every operation from the number on, as if the process had been killed.
fn killed_at(memory: &MemoryPlace, moment: u64) -> (Arc<dyn Place>, Arc<AtomicU64>) {
    let count = Arc::new(AtomicU64::new(0));
    let counted = Arc::clone(&count);
    let inner: Arc<dyn Place> = Arc::new(memory.clone());
    let hook = move |operation, name: &str| match counted.fetch_add(1, Ordering::SeqCst) < moment {
        true => Ok(()),
        false => Err(PlaceError::new(operation, name, PlaceErrorKind::Failed)),
    };
    (Arc::new(HookedPlace::before(inner, hook)), count)
}

#[test]
fn wherever_it_is_killed_nothing_is_lost_and_the_next_one_finishes_it() {
    let (memory, place, made) = nights(6, 2);
    let usual = {
        let copy: Arc<dyn Place> = Arc::new(memory.fork());
        let (hooked, count) = killed_at(&memory.fork(), u64::MAX);
        reclaim(&hooked).expect("reclaims");
        drop(copy);
        count.load(Ordering::SeqCst)
    };
    assert!(usual > 60, "{usual}");
    for moment in (0..usual).step_by(7) {
        let copy = memory.fork();
        let (hooked, _) = killed_at(&copy, moment);
        assert!(reclaim(&hooked).is_err(), "killed at {moment}");
        let place: Arc<dyn Place> = Arc::new(copy);
        assert_whole(&place, &made);
        let next = run(&place, 50, &files(6));
        reclaim(&place).expect("the next finishes it");
        let both = [made.clone(), vec![(next, files(6))]].concat();
        assert_whole(&place, &both);
        let left = |folder: &str| place.listing(folder).expect("lists").len();
        assert!(left("notices") <= 1 && left("acks") == 0, "killed at {moment}");
    }
    drop(place);
}

#[test]
fn an_open_run_that_answers_keeps_what_it_holds_and_a_silent_one_checks_again() {
    let (_, place, made) = nights(4, 1);
    // A run that began before, and comes back to finish after all is over.
    let store = open(&place);
    let session = begin(&store, 40);
    let entries = put(&session, &files(1));
    let report = reclaim(&place).expect("reclaims");
    assert_eq!(report.revoked, 1);
    let ended = session.finish(draft(&session, &entries));
    assert!(matches!(ended, Err(StoreError::Revoked)), "it is done again");
    assert_whole(&place, &made);
    let again = run(&place, 41, &files(1));
    assert_whole(&place, &[made.clone(), vec![(again, files(1))]].concat());
    // One that answers in time.
    let (_, place, made) = nights(4, 1);
    let store = open(&place);
    let session = begin(&store, 40);
    let entries = put(&session, &files(1));
    let patient = Reclaim { patience: Duration::from_secs(60), ..RECLAIM };
    let (report, snapshot) = std::thread::scope(|scope| {
        let reclaims = scope.spawn(|| open(&place).reclaim(&patient, &Unwatched));
        while place.listing("notices").expect("lists").is_empty() {
            std::thread::yield_now();
        }
        session.poll().expect("answers");
        let report = reclaims.join().expect("ends").expect("reclaims");
        (report, session.finish(draft(&session, &entries)).expect("finishes"))
    });
    assert_eq!(report.revoked, 0);
    let both = [made, vec![(snapshot, files(1))]].concat();
    assert_whole(&place, &both);
    reclaim(&place).expect("reclaims");
    assert_whole(&place, &both);
    assert_eq!(place.listing("notices").expect("lists").len(), 1);
}

#[test]
fn what_it_cannot_know_or_do_it_refuses() {
    // A tree that cannot be read.
    let (memory, place, _) = nights(3, 2);
    for folder in ["trees", "spares"] {
        for tree in place.listing(folder).expect("lists") {
            if folder == "trees" || tree.name.leaf().len() < 60 {
                memory.overwrite(&tree.name, vec![0; tree.size as usize]);
            }
        }
    }
    let before = place.listing("data").expect("lists").len();
    let said = reclaim(&place).expect_err("refuses").to_string();
    assert!(said.contains("nobody can tell what snapshot"), "{said}");
    assert_eq!(place.listing("data").expect("lists").len(), before);
    // An account that may not delete, and a place that lists late.
    let (memory, _, _) = nights(3, 1);
    let inner: Arc<dyn Place> = Arc::new(memory.fork());
    let hook = |operation, name: &str| match operation {
        skellin_place::Operation::Delete => {
            Err(PlaceError::new(operation, name, PlaceErrorKind::Refused))
        }
        _ => Ok(()),
    };
    let appending: Arc<dyn Place> = Arc::new(HookedPlace::before(inner, hook));
    let said = reclaim(&appending).expect_err("refuses").to_string();
    assert!(said.contains("this account cannot delete"), "{said}");
    assert!(appending.listing("notices").expect("lists").is_empty());
}

#[test]
fn who_reads_an_old_snapshot_meanwhile_finds_what_has_moved() {
    let (_, place, made) = nights(8, 2);
    let reader = open(&place);
    let (snapshot, files) = &made[0];
    // The index is known before, the contents are read after.
    assert!(read(&reader, snapshot, "notes").is_ok());
    let report = reclaim(&place).expect("reclaims");
    assert!(report.moved > 0, "{report:?}");
    for (file, content) in files {
        assert_eq!(read(&reader, snapshot, file).expect("reads"), *content);
    }
}

#[test]
fn a_verification_beside_it_finds_no_damage() {
    let (memory, place, _) = nights(8, 2);
    let inner: Arc<dyn Place> = Arc::new(memory.clone());
    let reclaimed = Arc::new(AtomicU64::new(0));
    let once = Arc::clone(&reclaimed);
    // All is reclaimed between the listing and the first container that is read whole.
    let hook = move |operation, name: &str| {
        let is_read = matches!(operation, skellin_place::Operation::Read);
        if is_read && name.starts_with("data/") && once.fetch_add(1, Ordering::SeqCst) == 0 {
            reclaim(&place).expect("reclaims");
        }
        Ok(())
    };
    let hooked: Arc<dyn Place> = Arc::new(HookedPlace::before(inner, hook));
    let report = open(&hooked).verify(DataShare::All, &Unwatched).expect("verifies");
    assert!(reclaimed.load(Ordering::SeqCst) > 0);
    assert_eq!(report.damage, []);
}
