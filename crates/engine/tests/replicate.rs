//! Copies of snapshots in another store: the same to restore, sent once, and never half there.
#![allow(clippy::unwrap_used, missing_docs)]

mod common;

use std::{
    fs,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use common::{
    PASSPHRASE, Restoring, assert_clean, assert_same, content, make_odd_tree, memory_store,
    open_store, plan_of, run_at, scratch, settle, write,
};
use skellin_engine::{Cancel, Event, MovedClock, ReplicateReport, ReplicateRequest, replicate};
use skellin_place::{MemoryPlace, Place};
use skellin_store::{Creation, PassphraseCost, Store};

const DAY: i64 = 86_400_000;
const START: i64 = 1_790_000_000_000;

/// A store that cuts otherwise than the first.
fn other_store() -> Arc<dyn Place> {
    let memory = MemoryPlace::new();
    let creation =
        Creation { cost: PassphraseCost::TRIVIAL, now: 1_790_000_000, ..Creation::default() };
    Store::create(&memory, PASSPHRASE, creation).unwrap();
    Arc::new(memory)
}

fn copy(from: &Arc<dyn Place>, to: &Arc<dyn Place>, plan: Option<&str>) -> ReplicateReport {
    let request = ReplicateRequest {
        plan,
        origin: None,
        clock: &MovedClock::at(START),
        cancel: &Cancel::new(),
        events: &|_: Event| {},
    };
    replicate(&open_store(from), &open_store(to), &request).unwrap()
}

#[test]
fn copies_restore_as_the_snapshots_do_and_are_sent_once() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    make_odd_tree(&source);
    for file in 0..300 {
        write(&source.join(format!("many/{}/{file}", file % 7)), content(file, 2000));
    }
    let (plan, (_, from), to) = (plan_of(&[&source], ""), memory_store(), other_store());
    // What was just written counts as changed in every copy.
    settle(&source);
    let mut expected = Vec::new();
    for night in 0..4 {
        write(&source.join("notes.md"), content(9000 + night, 90_000));
        fs::remove_file(source.join(format!("many/0/{}", night * 7))).unwrap();
        run_at(&from, &plan, START + night as i64 * DAY);
        let out = folder.path().join(format!("from-{night}"));
        Restoring::all(&common::newest(&open_store(&from)), &out).run(&open_store(&from));
        expected.push(out);
        if night == 1 {
            let report = copy(&from, &to, None);
            assert_eq!((report.copied, report.present), (2, 0));
        }
    }
    let report = copy(&from, &to, Some("readings"));
    assert_eq!((report.copied, report.present, report.damaged.len()), (2, 2, 0));
    assert!(report.read < 400_000, "changed only is read: {}", report.read);
    let again = copy(&from, &to, None);
    assert_eq!((again.copied, again.present, again.read, again.stored), (0, 4, 0, 0));
    assert_eq!(copy(&from, &to, Some("ringing")), ReplicateReport::default());
    assert_clean(&to);
    let (there, here) = (open_store(&to), open_store(&from));
    let (copies, originals) = (there.snapshots().unwrap(), here.snapshots().unwrap());
    assert_eq!(copies.len(), 4);
    for (night, (copied, original)) in copies.iter().zip(&originals).enumerate() {
        let (copied, original) =
            (there.read_snapshot(copied).unwrap(), here.read_snapshot(original).unwrap());
        assert_eq!((copied.started, copied.ended), (original.started, original.ended));
        assert_eq!((&copied.plan, &copied.machine), (&original.plan, &original.machine));
        assert_eq!((copied.files, copied.bytes), (original.files, original.bytes));
        assert_eq!(copied.exception_list, original.exception_list);
        let out = folder.path().join(format!("to-{night}"));
        Restoring::all(&copied, &out).run(&there);
        assert_same(&expected[night].join("ridge"), &out.join("ridge"));
    }
    // A run into the other store goes on from the copies.
    let next = run_at(&to, &plan, START + 9 * DAY);
    assert_eq!(next.files.new + next.files.changed, 0);
    let error = replicate(
        &here,
        &open_store(&from),
        &ReplicateRequest {
            plan: None,
            origin: None,
            clock: &MovedClock::at(START),
            cancel: &Cancel::new(),
            events: &|_: Event| {},
        },
    );
    assert!(error.unwrap_err().to_string().contains("the same store"));
}

#[test]
fn what_was_interrupted_goes_on_and_what_is_damaged_is_left_out() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    let (plan, (memory, from), to) = (plan_of(&[&source], ""), memory_store(), other_store());
    for night in 0..3u64 {
        for file in 0..80 {
            let name = format!("{night}/{file}");
            write(&source.join(name), content(night * 100 + file, 30_000));
        }
        run_at(&from, &plan, START + night as i64 * DAY);
    }
    // Somebody loses patience again and again; each time some of it is there.
    let mut tries = 0;
    loop {
        let (cancel, told) = (Cancel::new(), AtomicUsize::new(0));
        let events = |event: Event| {
            if matches!(event, Event::Progress(_)) && told.fetch_add(1, Ordering::SeqCst) >= 1 {
                cancel.cancel();
            }
        };
        let request = ReplicateRequest {
            plan: None,
            origin: None,
            clock: &MovedClock::at(START),
            cancel: &cancel,
            events: &events,
        };
        let report = replicate(&open_store(&from), &open_store(&to), &request).unwrap();
        assert_clean(&to);
        tries += 1;
        if !report.interrupted {
            break;
        }
        assert!(tries < 50, "it gets nowhere");
    }
    assert_eq!(open_store(&to).snapshots().unwrap().len(), 3);
    // Content that is lost makes no copy, and says which snapshot it was.
    let fresh = other_store();
    let data = memory.names().into_iter().filter(|name| name.as_str().starts_with("data/"));
    for name in data.collect::<Vec<_>>() {
        let mut bytes = memory.fetch(&name, 1 << 30).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        memory.overwrite(&name, bytes);
    }
    let report = copy(&from, &fresh, None);
    assert_eq!((report.copied, report.damaged.len()), (0, 3));
    assert!(report.damaged[0].reason.contains("authentic"), "{:?}", report.damaged);
    assert!(open_store(&fresh).snapshots().unwrap().is_empty());
}
