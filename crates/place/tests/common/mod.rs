//! What every kind of place must do.
#![allow(dead_code, reason = "every test program uses its own part of this")]

pub mod far;
pub mod servers;
pub mod sshd;

use std::{
    sync::{Arc, Barrier},
    time::{Duration, Instant},
};

use skellin_place::{
    Extent, ObjectName, Place, PlaceError, PlaceErrorKind, Retries, RetryingPlace, Throttle,
    Throttles,
};
use skellin_standins::Wire;

pub fn name(text: &str) -> ObjectName {
    ObjectName::new(text).expect("a name")
}

pub fn says(error: &PlaceError, kind: PlaceErrorKind, reason: &str, hint: &str) {
    let told = error.hint.clone().unwrap_or_default();
    assert!(
        error.kind == kind && error.to_string().contains(reason) && told.contains(hint),
        "{kind:?}, {reason}, {hint} wanted, and it is {:?}: {error} → {told}",
        error.kind
    );
}

/// What nobody wants any more ends, however long its answer would be waited for; and what is asked
/// afterwards is answered. The place, which waits for a minute, lies at the end of the wire.
pub fn ends_when_given_up(place: impl Place + 'static, wire: &Wire) {
    let place = RetryingPlace::new(Arc::new(place), Retries::default());
    let object = name("data/given-up");
    place.create(&object, &[7; 300_000]).expect("creates");
    wire.freeze();
    std::thread::scope(|scope| {
        let asked = scope.spawn(|| place.fetch(&object, 1 << 30));
        while place.waiting().is_none() {
            std::thread::yield_now();
        }
        let begun = Instant::now();
        while !asked.is_finished() {
            assert!(begun.elapsed() < Duration::from_secs(20), "it waits on");
            place.give_up();
            std::thread::sleep(Duration::from_millis(20));
        }
        let error = asked.join().expect("no panic").expect_err("nobody waits for it");
        assert_eq!(error.kind, PlaceErrorKind::GivenUp, "{error}");
    });
    wire.thaw();
    assert_eq!(place.fetch(&object, 1 << 30).expect("goes on").len(), 300_000);
}

/// The suite.
pub fn conforms(place: &Arc<dyn Place>) {
    let a = name("data/a");
    assert!(place.listing("data").expect("lists").is_empty());
    assert_eq!(place.fetch(&a, 1 << 30).expect_err("is not there").kind, PlaceErrorKind::NotFound);
    place.create(&a, b"0123456789").expect("creates");
    assert_eq!(place.create(&a, b"other").expect_err("is there").kind, PlaceErrorKind::Exists);
    assert_eq!(place.fetch(&a, 1 << 30).expect("reads"), b"0123456789");
    let part = |extent| {
        let mut bytes = Vec::new();
        place.read(&a, extent, &mut bytes).map(|()| bytes)
    };
    assert_eq!(part(Extent::Range { offset: 2, length: 3 }).expect("reads"), b"234");
    assert_eq!(part(Extent::Range { offset: 10, length: 0 }).expect("reads"), b"");
    assert_eq!(part(Extent::Tail(4)).expect("reads"), b"6789");
    assert_eq!(part(Extent::Tail(99)).expect("reads"), b"0123456789");
    for (offset, length) in [(8, 3), (11, 1), (u64::MAX, 2), (0, u64::MAX)] {
        let error = part(Extent::Range { offset, length }).expect_err("reaches past the end");
        assert_eq!(error.kind, PlaceErrorKind::Short, "{offset} {length}");
    }
    for number in 0..1200 {
        place.create(&name(&format!("index/{number:04}")), &[0; 3]).expect("creates");
    }
    let mut listed = place.listing("index").expect("lists");
    listed.sort_by(|a, b| a.name.cmp(&b.name));
    assert_eq!(listed.len(), 1200);
    assert!(
        listed.iter().enumerate().all(|(number, object)| object.size == 3
            && object.name == name(&format!("index/{number:04}")))
    );
    place.delete(&a).expect("deletes");
    place.delete(&a).expect("deletes what is gone");
    assert!(place.listing("data").expect("lists").is_empty());
    // Many at once, all for one name: one wins, and its bytes are whole.
    let (barrier, contested) = (Barrier::new(8), name("data/contested"));
    let winners = std::thread::scope(|scope| {
        let writers: Vec<_> = (0..8u8)
            .map(|number| {
                let (barrier, contested) = (&barrier, &contested);
                scope.spawn(move || {
                    barrier.wait();
                    place.create(contested, &vec![number; 100_000]).is_ok()
                })
            })
            .collect();
        writers
            .into_iter()
            .map(|writer| writer.join().expect("no panic"))
            .filter(|won| *won)
            .count()
    });
    assert_eq!(winners, 1);
    let bytes = place.fetch(&contested, 1 << 30).expect("reads");
    assert!(bytes.len() == 100_000 && bytes.iter().all(|byte| *byte == bytes[0]));
    // More than goes into one request, and nothing at all.
    let large: Vec<u8> = (0..9_000_000u32).map(|number| (number % 251) as u8).collect();
    place.create(&name("data/large"), &large).expect("creates");
    assert!(place.fetch(&name("data/large"), 1 << 30).expect("reads") == large);
    let mut middle = Vec::new();
    let extent = Extent::Range { offset: 3_000_001, length: 4_000_000 };
    place.read(&name("data/large"), extent, &mut middle).expect("reads");
    assert!(middle == large[3_000_001..7_000_001]);
    place.create(&name("data/empty"), b"").expect("creates");
    assert_eq!(place.fetch(&name("data/empty"), 1 << 30).expect("reads"), b"");
    place.sweep(0).expect("sweeps");
    assert_eq!(place.listing("data").expect("lists").len(), 3);
}

/// A place that is made with limits takes at least the time they ask for, each way.
pub fn keeps_to_limits(make: impl FnOnce(Throttles) -> Arc<dyn Place>) {
    let throttle = || Some(Throttle::new(|| Some(1_000_000)));
    let place = make(Throttles { up: throttle(), down: throttle() });
    // Less than the tenth of a second that a burst and the roundings may save.
    let least = Duration::from_millis(200);
    let begun = Instant::now();
    place.create(&name("data/limited"), &[7; 300_000]).expect("creates");
    let written = begun.elapsed();
    assert_eq!(place.fetch(&name("data/limited"), 1 << 30).expect("reads").len(), 300_000);
    let read = begun.elapsed() - written;
    assert!(written > least && read > least, "{written:?} {read:?}");
}
