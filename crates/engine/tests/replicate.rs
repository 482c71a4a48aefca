//! Copies of snapshots in another store: the same to restore, sent once, and never half there.

use crate::common;

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
use skellin_store::{
    Body, Compression, ContentWriter, Creation, Entry, Item, Moment, Owner, PassphraseCost, Recipe,
    SessionStart, SnapshotDraft, SnapshotSource, Store, TreeBuilder,
};

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
        unwanted: None,
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
            unwanted: None,
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
            unwanted: None,
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

/// A snapshot of one file, which was read right after its last change, or long after it.
fn one_file(place: &Arc<dyn Place>, night: i64, bytes: &[u8], unsettled: bool) {
    let start = SessionStart {
        plan: "readings",
        machine: "hut",
        started: START + night * DAY,
        order: None,
        origin: None,
        compression: Compression::Default,
    };
    let session = skellin_store::Session::begin(&open_store(place), &start).unwrap();
    let mut writer = ContentWriter::new(&session).unwrap();
    writer.begin_file(());
    writer.chunk(bytes).unwrap();
    writer.end_file().unwrap();
    writer.close().unwrap();
    let ((), stored) = writer.take_done().remove(0);
    let entry = Entry {
        name: b"gauge.csv".to_vec(),
        mode: 0o644,
        owner: Owner::default(),
        modified: Moment { seconds: 1_790_000_000, nanos: 7 },
        changed: Moment { seconds: 1_790_000_000, nanos: 7 },
        inode: 4,
        links: None,
        unsettled,
        xattrs: Vec::new(),
        body: Body::File { size: stored.size, recipe: stored.recipe },
    };
    let mut builder = TreeBuilder::default();
    builder.push(&*session, &entry).unwrap();
    let (root, _) = builder.finish(&*session).unwrap();
    let source = SnapshotSource {
        name: b"gauge.csv".to_vec().into(),
        path: b"/srv/gauge.csv".to_vec().into(),
    };
    let draft = SnapshotDraft {
        sources: vec![source],
        root,
        labels: Vec::new(),
        plan_text: String::new(),
        configuration: Vec::new(),
        files: 1,
        bytes: bytes.len() as u64,
        ended: START + night * DAY,
        exceptions: 0,
        exception_list: Vec::new(),
        sockets: 0,
    };
    session.finish(draft).unwrap();
}

/// A file that was changed once more in the moment in which it was read shows no trace of it; the next
/// run reads it again, and a copy must not take the content of the night before for it.
#[test]
fn what_was_read_too_early_is_not_taken_for_what_came_after_it() {
    let ((_, from), to) = (memory_store(), other_store());
    one_file(&from, 0, &content(2, 3000), true);
    copy(&from, &to, None);
    one_file(&from, 1, &content(4, 3000), false);
    copy(&from, &to, None);
    let store = open_store(&to);
    let snapshot = common::newest(&store);
    assert_eq!(snapshot.started, START + DAY);
    let entry = store.entry(snapshot.root_page(&store), b"gauge.csv").unwrap().unwrap();
    let Body::File { recipe, .. } = &entry.body else { panic!("a file") };
    let Recipe::Inline(items) = recipe else { panic!("a few pieces") };
    let [Item::Chunk(chunk)] = items.as_slice() else { panic!("one piece") };
    store.chunk(chunk, |bytes| assert!(bytes == content(4, 3000))).unwrap();
}
