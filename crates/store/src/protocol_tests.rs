//! The run's half of the protocol between runs and reclaims, with notices, revokes, verdicts and
//! markers put by hand; and how the index and its copies behave.

use std::{
    sync::{
        Arc, OnceLock,
        atomic::{AtomicU64, Ordering},
        mpsc,
    },
    time::{Duration, Instant},
};

use skellin_place::{HookedPlace, MemoryPlace, ObjectName, Place};

use crate::{
    Cache, Comparison, Compression, ContentWriter, Creation, DataShare, Entry, Item, Layout,
    Moment, NewPassphrase, Owner, PassphraseCost, Recipe, RunId, Session, SessionStart, Snapshot,
    SnapshotDraft, SnapshotSource, Store, StoreError, TreeBuilder,
    format::{
        ids::{Class, ContainerId},
        signed::Machine,
    },
    records::control::{Ack, ContainerRun, Notice, Revoke, RunRecord, Verdict},
    tree::Body,
    verify::{VerifyProgress, VerifyWatch},
};

pub(super) const PASSPHRASE: &[u8] = b"kittiwakes";

pub(super) struct Unwatched;

impl VerifyWatch for Unwatched {
    fn is_cancelled(&self) -> bool {
        false
    }
    fn progress(&self, _: VerifyProgress) {}
}

pub(super) fn layout() -> Layout {
    Layout {
        chunk_min: 256,
        chunk_turn: 1024,
        chunk_max: 4096,
        strict_mask: 0xFC00_0000_0000_FFF0,
        loose_mask: 0xFFF0,
        data_block: 16 << 10,
        tree_block: 4 << 10,
        container: 64 << 10,
    }
}

pub(super) fn memory() -> (MemoryPlace, Arc<dyn Place>) {
    let memory = MemoryPlace::new();
    let creation = Creation { layout: layout(), cost: PassphraseCost::TRIVIAL, now: 0 };
    Store::create(&memory, PASSPHRASE, creation).expect("creates");
    let place: Arc<dyn Place> = Arc::new(memory.clone());
    (memory, place)
}

pub(super) fn open(place: &Arc<dyn Place>) -> Arc<Store> {
    Arc::new(Store::open(Arc::clone(place), PASSPHRASE, Cache::None).expect("opens"))
}

pub(super) fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

pub(super) fn begin(store: &Arc<Store>, started: i64) -> Arc<Session> {
    let start = SessionStart {
        plan: "readings",
        machine: "hut",
        started,
        order: None,
        origin: None,
        compression: Compression::Default,
    };
    Session::begin(store, &start).expect("begins")
}

fn file_entry(name: &str, size: u64, recipe: Recipe) -> Entry {
    Entry {
        name: name.as_bytes().to_vec(),
        mode: 0o644,
        owner: Owner::default(),
        modified: Moment::default(),
        changed: Moment::default(),
        inode: 1,
        links: None,
        unsettled: false,
        xattrs: Vec::new(),
        body: Body::File { size, recipe },
    }
}

/// Stores files; their entries.
pub(super) fn put(session: &Arc<Session>, files: &[(&str, Vec<u8>)]) -> Vec<Entry> {
    try_put(session, files).expect("stores")
}

/// As [`put`], where it may fail.
pub(super) fn try_put(
    session: &Arc<Session>,
    files: &[(&str, Vec<u8>)],
) -> Result<Vec<Entry>, StoreError> {
    let mut writer = ContentWriter::new(session)?;
    for (name, content) in files {
        writer.begin_file((*name).to_owned());
        let mut rest = content.as_slice();
        while let Some(cut) = session.writing.store.chunker().cut(rest, true) {
            writer.chunk(&rest[..cut])?;
            rest = &rest[cut..];
        }
        writer.end_file()?;
    }
    writer.close()?;
    let done = writer.take_done().into_iter();
    let mut entries: Vec<_> =
        done.map(|(name, content)| file_entry(&name, content.size, content.recipe)).collect();
    entries.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(entries)
}

pub(super) fn draft(session: &Arc<Session>, entries: &[Entry]) -> SnapshotDraft {
    try_draft(session, entries).expect("builds")
}

/// As [`draft`], where it may fail.
pub(super) fn try_draft(
    session: &Arc<Session>,
    entries: &[Entry],
) -> Result<SnapshotDraft, StoreError> {
    let mut builder = TreeBuilder::default();
    for entry in entries {
        builder.push(&**session, entry)?;
    }
    let (root, _) = builder.finish(&**session)?;
    let source = |entry: &Entry| SnapshotSource {
        name: entry.name.clone().into(),
        path: [b"/srv/", entry.name.as_slice()].concat().into(),
    };
    Ok(SnapshotDraft {
        sources: entries.iter().map(source).collect(),
        root,
        labels: Vec::new(),
        plan_text: String::new(),
        configuration: Vec::new(),
        files: entries.len() as u64,
        bytes: entries.iter().map(Entry::size).sum(),
        ended: 0,
        exceptions: 0,
        exception_list: Vec::new(),
        sockets: 0,
    })
}

/// A whole run over some files.
pub(super) fn run(place: &Arc<dyn Place>, started: i64, files: &[(&str, Vec<u8>)]) -> Snapshot {
    let store = open(place);
    let session = begin(&store, started);
    let entries = put(&session, files);
    session.finish(draft(&session, &entries)).expect("finishes")
}

/// The content of a file of a snapshot.
pub(super) fn read(store: &Store, snapshot: &Snapshot, name: &str) -> Result<Vec<u8>, StoreError> {
    let entry = store.entry(snapshot.root_page(store), name.as_bytes())?.expect("the entry");
    let Body::File { recipe, .. } = &entry.body else { panic!("a file") };
    let mut bytes = Vec::new();
    for item in store.items(recipe) {
        if let Item::Chunk(chunk) = item? {
            store.chunk(&chunk, |content| bytes.extend_from_slice(content))?;
        }
    }
    Ok(bytes)
}

pub(super) fn name(text: impl Into<String>) -> ObjectName {
    ObjectName::new(text).expect("a name")
}

fn machine(store: &Store) -> Machine {
    Machine::certified(&store.keys, "mast").expect("certified")
}

fn put_notice(store: &Store, id: &str, victims: &[ContainerId]) {
    let mut victims = victims.to_vec();
    victims.sort_unstable();
    let notice = Notice { victims: ContainerRun::gather(&victims), damaged: None, deleted: None };
    store.put_record(&format!("notices/{id}"), &notice, &machine(store)).expect("puts");
}

pub(super) fn data_containers(store: &Store) -> Vec<ContainerId> {
    let listed = store.list_containers().expect("lists");
    listed.into_iter().map(|(id, _)| id).filter(|id| id.class == Class::Data).collect()
}

fn acks(store: &Store) -> Vec<(String, Vec<ContainerId>)> {
    let listed = store.place.listing("acks").expect("lists");
    listed
        .into_iter()
        .map(|object| {
            let ack: Ack = store.get_record(object.name.as_str()).expect("an ack");
            (object.name.leaf().to_owned(), ContainerRun::spread(&ack.holds).expect("containers"))
        })
        .collect()
}

#[test]
fn a_run_announces_itself_first_and_takes_its_record_away_last() {
    let (memory, place) = memory();
    let store = open(&place);
    let session = begin(&store, 5);
    let record: RunRecord =
        store.get_record(&format!("runs/{}", session.run())).expect("the record");
    assert_eq!((record.run, record.started), (session.run(), 5));
    assert_eq!(record.lineage, store.lineage("readings", "hut"));
    let entries = put(&session, &[("a", noise(1, 50_000))]);
    let snapshot = session.finish(draft(&session, &entries)).expect("finishes");
    assert_eq!(memory.names().iter().filter(|name| name.folder() == "runs").count(), 0);
    // The snapshot has just the name that was announced, twice.
    for folder in ["snapshots", "spares"] {
        assert!(place.fetch(&name(format!("{folder}/{}", record.snapshot)), 1 << 30).is_ok());
    }
    assert_eq!(store.snapshots().expect("lists")[0].run, snapshot.run);
}

#[test]
fn condemned_containers_are_not_used_again() {
    let (_, place) = memory();
    let files = [("a", noise(1, 120_000)), ("b", noise(2, 90_000))];
    let first = run(&place, 1, &files);
    let store = open(&place);
    let victims = data_containers(&store);
    assert!(victims.len() > 2);
    put_notice(&store, "00112233445566778899aabbccddeeff", &victims[..2]);
    let second = run(&place, 2, &files);
    let used = store.needed(&second.needed).expect("reads");
    assert!(victims[..2].iter().all(|victim| !used.contains(victim)), "condemned for ever");
    assert!(
        second.new_bytes > 60_000 && second.new_bytes < 210_000,
        "only they are stored again: {}",
        second.new_bytes
    );
    // With the victims deleted both snapshots are whole.
    for victim in &victims[..2] {
        place.delete(&victim.object().expect("a name")).expect("deletes");
    }
    let store = open(&place);
    for snapshot in [&first, &second] {
        for (file, content) in &files {
            assert_eq!(read(&store, snapshot, file).expect("reads"), *content);
        }
    }
    assert_eq!(store.verify(DataShare::All, &Unwatched).expect("verifies").damage, Vec::new());
}

#[test]
fn a_notice_is_answered_with_everything_that_is_held() {
    let (_, place) = memory();
    run(&place, 1, &[("a", noise(1, 100_000))]);
    let store = open(&place);
    let held = data_containers(&store);
    put_notice(&store, "00000000000000000000000000000001", &held[..1]);
    let session = begin(&store, 2);
    let answered = acks(&store);
    assert_eq!(answered.len(), 1);
    assert_eq!(answered[0].0, format!("00000000000000000000000000000001-{}", session.run()));
    assert!(held.iter().all(|container| answered[0].1.contains(container)), "the base is held");
    // Another one while the run goes on: answered once, with its own containers as well.
    let entries = put(&session, &[("b", noise(2, 100_000))]);
    put_notice(&store, "00000000000000000000000000000002", &held[1..]);
    session.poll().expect("polls");
    session.poll().expect("polls");
    let answered = acks(&store);
    assert_eq!(answered.len(), 2);
    let own = answered[1].1.iter().filter(|container| container.run == session.run()).count();
    assert!(own > 1, "{:?}", answered[1]);
    session.finish(draft(&session, &entries)).expect("finishes");
}

/// As at the end of a long run to a far place, or in a long reclaim.
#[test]
fn a_run_that_has_not_looked_for_long_looks_again() {
    let (_, place) = memory();
    run(&place, 1, &[("a", noise(1, 100_000))]);
    let store = open(&place);
    let session = begin(&store, 2);
    put_notice(&store, "00000000000000000000000000000004", &data_containers(&store));
    session.poll_now_and_then().expect("it has looked a moment ago");
    assert!(acks(&store).is_empty());
    let long_ago = Instant::now().checked_sub(Duration::from_secs(120)).expect("a time");
    *session.polled.lock().expect("no panic") = long_ago;
    let (done, ended) = mpsc::channel();
    let looking = Arc::clone(&session);
    std::thread::spawn(move || done.send(looking.poll_now_and_then().is_ok()));
    let looked = ended.recv_timeout(Duration::from_secs(20));
    assert_eq!(looked, Ok(true), "it must not wait for itself");
    assert_eq!(acks(&store).len(), 1);
}

#[test]
fn a_notice_during_the_run_stops_the_use_of_its_victims() {
    let (_, place) = memory();
    run(&place, 1, &[("a", noise(1, 100_000))]);
    let store = open(&place);
    let session = begin(&store, 2);
    put_notice(&store, "00000000000000000000000000000003", &data_containers(&store));
    session.poll().expect("polls");
    let entries = put(&session, &[("a", noise(1, 100_000))]);
    let snapshot = session.finish(draft(&session, &entries)).expect("finishes");
    assert_eq!(snapshot.new_bytes, 100_000);
    let used = store.needed(&snapshot.needed).expect("reads");
    let data = used.iter().filter(|container| container.class == Class::Data);
    assert!(
        data.clone().count() > 0 && data.clone().all(|container| container.run == snapshot.run)
    );
}

#[test]
fn the_base_is_taken_over_only_where_nothing_of_it_is_condemned() {
    let (_, place) = memory();
    run(&place, 1, &[("few", noise(1, 3000)), ("many", noise(2, 120_000))]);
    let recipe = |store: &Arc<Store>, comparison: &Comparison, file: &str| {
        let base = comparison.base().expect("a base");
        let entry =
            store.entry(base.root_page(store), file.as_bytes()).expect("reads").expect("is there");
        let Body::File { recipe, .. } = entry.body else { panic!("a file") };
        recipe
    };
    let store = open(&place);
    let comparison = Comparison::dry_run(&store, "readings", "hut").expect("compares");
    for file in ["few", "many"] {
        assert!(
            comparison.take_over(&mut recipe(&store, &comparison, file)).expect("looks"),
            "{file}"
        );
    }
    assert!(matches!(recipe(&store, &comparison, "many"), Recipe::Paged(..)));
    // A dry run leaves nothing behind.
    assert!(place.listing("runs").expect("lists").is_empty());
    put_notice(&store, "00000000000000000000000000000004", &data_containers(&store));
    let store = open(&place);
    let comparison = Comparison::dry_run(&store, "readings", "hut").expect("compares");
    for file in ["few", "many"] {
        assert!(
            !comparison.take_over(&mut recipe(&store, &comparison, file)).expect("looks"),
            "{file}"
        );
    }
    assert!(place.listing("acks").expect("lists").is_empty(), "nor does it answer");
}

#[test]
fn a_revoked_run_is_no_success() {
    let (_, place) = memory();
    let store = open(&place);
    let session = begin(&store, 1);
    let revoke = Revoke { notice: RunId([9; 16]) };
    store
        .put_record(&format!("revokes/{}", session.run()), &revoke, &machine(&store))
        .expect("puts");
    let entries = put(&session, &[("a", noise(1, 10_000))]);
    assert!(matches!(session.finish(draft(&session, &entries)), Err(StoreError::Revoked)));
    assert_eq!(place.listing("runs").expect("lists").len(), 1, "its record waits for a verdict");
    // A torn revoke counts as one.
    let session = begin(&store, 2);
    place.create(&name(format!("revokes/{}", session.run())), b"torn").expect("creates");
    let entries = put(&session, &[("a", noise(1, 10_000))]);
    assert!(matches!(session.finish(draft(&session, &entries)), Err(StoreError::Revoked)));
}

/// What another process does, before each operation by its number.
type Other = Box<dyn Fn(&Arc<dyn Place>, u64) + Send + Sync>;

/// A place at which another process does something between the operations of this one.
struct Meanwhile {
    place: Arc<dyn Place>,
    count: Arc<AtomicU64>,
    other: Arc<OnceLock<Other>>,
}

impl Meanwhile {
    fn at(place: &Arc<dyn Place>) -> Self {
        let (count, other) = (Arc::default(), Arc::<OnceLock<Other>>::default());
        let (inner, counter, does) = (Arc::clone(place), Arc::clone(&count), Arc::clone(&other));
        let hooked = HookedPlace::before(Arc::clone(place), move |_, _| {
            if let Some(does) = does.get() {
                does(&inner, AtomicU64::fetch_add(&counter, 1, Ordering::SeqCst));
            }
            Ok(())
        });
        Self { place: Arc::new(hooked), count, other }
    }
}

/// Whenever a run that lives is settled as dead, it is either listed and knows it, or done again.
#[test]
fn a_run_that_is_settled_while_it_lives_is_no_success_without_a_snapshot() {
    let (mut revoked, mut listed) = (0, 0);
    let moments = (0..24).flat_map(|first| (first..24).map(move |second| [first, second]));
    for moments in moments {
        let (_, place) = memory();
        let meanwhile = Meanwhile::at(&place);
        let store = open(&meanwhile.place);
        let session = begin(&store, 2);
        let entries = put(&session, &[("a", noise(1, 10_000))]);
        let draft = draft(&session, &entries);
        let run = session.run();
        // It is revoked before one operation, and looked for and declared dead before another.
        let settles: Other = Box::new(move |place, number| {
            let (other, id) = (open(place), RunId([6; 16]));
            if number == moments[0] {
                other.revoke(&[run], id, &machine(&other)).expect("revokes");
            }
            if number == moments[1] {
                other.conclude(&[run], id, &machine(&other), 0).expect("concludes");
            }
        });
        assert!(meanwhile.other.set(settles).is_ok(), "once");
        let ended = session.finish(draft);
        assert!(meanwhile.count.load(Ordering::SeqCst) < 24, "every operation is met");
        let shown = open(&place).snapshots().expect("lists");
        match ended {
            Ok(_) => {
                assert_eq!(shown.len(), 1, "{moments:?}: what succeeded is listed");
                assert_eq!(shown[0].run, session.run());
                listed += 1;
            }
            Err(StoreError::Revoked) => revoked += 1,
            Err(error) => panic!("{moments:?}: {error}"),
        }
    }
    assert!(revoked > 20 && listed > 5, "{revoked} revoked, {listed} listed");
}

#[test]
fn expired_and_dead_snapshots_are_not_listed_even_if_they_appear_again() {
    let (memory, place) = memory();
    let snapshots: Vec<_> =
        (0..3).map(|number| run(&place, number, &[("a", noise(number as u64, 5000))])).collect();
    let store = open(&place);
    let listed = store.snapshots().expect("lists");
    assert_eq!(listed.len(), 3);
    let copy = memory.fetch(&listed[0].object, 1 << 30).expect("reads");
    let (expired, dead) = (snapshots[0].run, snapshots[1].run);
    store.mark_expired(expired, &machine(&store)).expect("puts");
    place.delete(&listed[0].object).expect("deletes");
    let verdict = Verdict { deleted: Vec::new(), dead: vec![dead], at: None };
    store
        .put_record("verdicts/00000000000000000000000000000005", &verdict, &machine(&store))
        .expect("puts");
    // A late duplicate put raises nothing.
    memory.overwrite(&listed[0].object, copy);
    let left: Vec<_> =
        open(&place).snapshots().expect("lists").into_iter().map(|listed| listed.run).collect();
    assert_eq!(left, [snapshots[2].run]);
    // Markers that are torn or forged mark nothing.
    place.create(&name(format!("expired/{}", snapshots[2].run)), b"forged").expect("creates");
    place.create(&name("verdicts/00000000000000000000000000000006"), b"torn").expect("creates");
    assert_eq!(open(&place).snapshots().expect("lists").len(), 1);
}

#[test]
fn small_segments_are_merged_and_nothing_is_lost() {
    let (_, place) = memory();
    let file = |number: i64| noise(number as u64, 6000);
    let mut most = 0;
    for number in 0..20 {
        run(&place, number, &[("a", file(number))]);
        most = most.max(place.listing("index").expect("lists").len());
    }
    assert!(most < 12, "{most} segments");
    let store = open(&place);
    for listed in store.snapshots().expect("lists") {
        let snapshot = store.read_snapshot(&listed).expect("reads");
        assert_eq!(read(&store, &snapshot, "a").expect("reads"), file(listed.started));
    }
    let repeated = run(&place, 100, &[("a", file(3))]);
    assert_eq!(repeated.new_bytes, 0, "the merged index knows old content");
    // Without any index the containers tell the same.
    for segment in place.listing("index").expect("lists") {
        place.delete(&segment.name).expect("deletes");
    }
    let repeated = run(&place, 101, &[("a", file(7))]);
    assert_eq!(repeated.new_bytes, 0);
    assert_eq!(
        open(&place).verify(DataShare::All, &Unwatched).expect("verifies").damage,
        Vec::new()
    );
}

#[test]
fn a_damaged_segment_is_reported_and_done_without() {
    let (memory, place) = memory();
    run(&place, 1, &[("a", noise(1, 50_000))]);
    let segment = place.listing("index").expect("lists").remove(0).name;
    let mut bytes = memory.fetch(&segment, 1 << 30).expect("reads");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    memory.overwrite(&segment, bytes);
    let report = open(&place).verify(DataShare::All, &Unwatched).expect("verifies");
    assert_eq!(report.damage.len(), 1, "{:?}", report.damage);
    assert_eq!(report.damage[0].object, segment.to_string());
    assert!(report.damage[0].files.is_empty());
    let store = open(&place);
    let session = begin(&store, 2);
    assert_eq!(session.warnings.len(), 1);
    let entries = put(&session, &[("a", noise(1, 50_000))]);
    assert_eq!(session.finish(draft(&session, &entries)).expect("finishes").new_bytes, 0);
}

#[test]
fn runs_of_several_machines_share_a_store_at_the_same_time() {
    let (_, place) = memory();
    let shared = noise(7, 80_000);
    std::thread::scope(|scope| {
        for machine in 0..4u64 {
            let (place, shared) = (&place, &shared);
            scope.spawn(move || {
                for round in 0..5i64 {
                    let own = noise(100 + machine * 10 + round as u64, 20_000);
                    run(
                        place,
                        machine as i64 * 100 + round,
                        &[("own", own), ("shared", shared.clone())],
                    );
                }
            });
        }
    });
    let store = open(&place);
    let listed = store.snapshots().expect("lists");
    assert_eq!(listed.len(), 20);
    for listed in listed {
        let snapshot = store.read_snapshot(&listed).expect("reads");
        let (machine, round) = (listed.started as u64 / 100, listed.started as u64 % 100);
        assert_eq!(
            read(&store, &snapshot, "own").expect("reads"),
            noise(100 + machine * 10 + round, 20_000)
        );
        assert_eq!(read(&store, &snapshot, "shared").expect("reads"), shared);
    }
    assert_eq!(store.verify(DataShare::All, &Unwatched).expect("verifies").damage, Vec::new());
}

#[test]
fn passphrases_may_be_several_and_each_opens_all() {
    let (_, place) = memory();
    run(&place, 1, &[("a", noise(1, 5000))]);
    let cost = PassphraseCost::TRIVIAL;
    let new =
        |passphrase| NewPassphrase { passphrase, label: None, restore_only: false, cost, now: 1 };
    Store::add_passphrase(&*place, PASSPHRASE, new(b"second")).expect("adds");
    let wrong = Store::add_passphrase(&*place, b"neither", new(b"third"));
    assert!(matches!(
        wrong,
        Err(StoreError::WrongPassphrase { slots: 2 })
            | Err(StoreError::WrongPassphrase { slots: 1 })
    ));
    let store = Arc::new(Store::open(Arc::clone(&place), b"second", Cache::None).expect("opens"));
    let listed = store.snapshots().expect("lists");
    let snapshot = store.read_snapshot(&listed[0]).expect("reads");
    assert_eq!(read(&store, &snapshot, "a").expect("reads"), noise(1, 5000));
    let refused = Store::open(Arc::clone(&place), b"neither", Cache::None);
    assert!(matches!(refused, Err(StoreError::WrongPassphrase { slots: 2 })));
}

#[test]
fn a_passphrase_is_revoked_and_one_always_remains() {
    let (_, place) = memory();
    run(&place, 1, &[("a", noise(1, 5000))]);
    let cost = PassphraseCost::TRIVIAL;
    let add = |passphrase, label| {
        let new = NewPassphrase { passphrase, label, restore_only: false, cost, now: 7 };
        Store::add_passphrase(&*place, PASSPHRASE, new)
    };
    let second = add(b"second", Some("in the safe")).expect("adds");
    assert!(matches!(add(b"second", None), Err(StoreError::KnownPassphrase)));
    let listed = Store::passphrases(&*place, PASSPHRASE).expect("lists");
    let own = listed.iter().find(|slot| slot.is_own).expect("its own").id.clone();
    let other = listed.iter().find(|slot| !slot.is_own).expect("another");
    assert_eq!(
        (other.id.as_str(), other.label.as_deref(), other.created),
        (&*second, Some("in the safe"), Some(7))
    );
    let revoke = |present: &[u8], id: &str| Store::revoke_passphrase(&*place, present, id);
    assert!(matches!(revoke(PASSPHRASE, &own), Err(StoreError::OwnPassphrase)));
    assert!(matches!(revoke(PASSPHRASE, ""), Err(StoreError::NoSlot(_))));
    assert!(matches!(revoke(b"neither", &own), Err(StoreError::WrongPassphrase { .. })));
    assert_eq!(revoke(b"second", &own[..6]).expect("revokes"), own);
    let refused = Store::open(Arc::clone(&place), PASSPHRASE, Cache::None);
    assert!(matches!(refused, Err(StoreError::WrongPassphrase { .. })));
    let store = Store::open(Arc::clone(&place), b"second", Cache::None).expect("opens");
    assert_eq!(store.snapshots().expect("lists").len(), 1);
}

/// Two who revoke each other, whatever the order of their steps: somebody can still open the store.
#[test]
fn two_who_revoke_each_other_leave_one() {
    let cost = PassphraseCost::TRIVIAL;
    let (mut moment, mut done) = (0, false);
    while !done {
        let (_, place) = memory();
        let new =
            NewPassphrase { passphrase: b"second", label: None, restore_only: false, cost, now: 7 };
        let second = Store::add_passphrase(&*place, PASSPHRASE, new).expect("adds");
        let listed = Store::passphrases(&*place, PASSPHRASE).expect("lists");
        let first = listed.iter().find(|slot| slot.is_own).expect("its own").id.clone();
        let meanwhile = Meanwhile::at(&place);
        let revokes: Other = Box::new(move |place, number| {
            if number == moment {
                // It may have been revoked itself by now.
                let _ = Store::revoke_passphrase(&**place, b"second", &first);
            }
        });
        assert!(meanwhile.other.set(revokes).is_ok(), "once");
        let _ = Store::revoke_passphrase(&*meanwhile.place, PASSPHRASE, &second);
        done = meanwhile.count.load(Ordering::SeqCst) <= moment;
        let opens = |passphrase| Store::open(Arc::clone(&place), passphrase, Cache::None).is_ok();
        assert!(opens(PASSPHRASE) || opens(b"second"), "before operation {moment}");
        moment += 1;
    }
    assert!(moment > 8, "{moment} operations");
}

#[test]
fn a_header_or_slot_that_is_lost_or_changed_is_made_up_for_or_noticed() {
    let (memory, place) = memory();
    let (main, spare) = (name("skellin-store"), name("skellin-store.spare"));
    place.delete(&main).expect("deletes");
    assert!(Store::open(Arc::clone(&place), PASSPHRASE, Cache::None).is_ok(), "the spare serves");
    let bytes = memory.fetch(&spare, 1 << 30).expect("reads");
    for at in 0..bytes.len() {
        let mut changed = bytes.clone();
        changed[at] ^= 1;
        memory.overwrite(&spare, changed);
        let opened = Store::open(Arc::clone(&place), PASSPHRASE, Cache::None);
        assert!(opened.is_err(), "a change at {at} went unnoticed");
    }
    memory.overwrite(&spare, bytes);
    let slots = place.listing("keys").expect("lists");
    assert_eq!(slots.len(), 2, "a slot is kept twice");
    memory.overwrite(&slots[0].name, b"torn".to_vec());
    assert!(Store::open(Arc::clone(&place), PASSPHRASE, Cache::None).is_ok());
    for slot in &slots {
        place.delete(&slot.name).expect("deletes");
    }
    assert!(matches!(
        Store::open(Arc::clone(&place), PASSPHRASE, Cache::None),
        Err(StoreError::WrongPassphrase { slots: 0 })
    ));
    place.delete(&spare).expect("deletes");
    assert!(matches!(Store::open(place, PASSPHRASE, Cache::None), Err(StoreError::NoStore(_))));
}

#[test]
fn objects_under_another_name_are_not_believed() {
    let (memory, place) = memory();
    run(&place, 1, &[("a", noise(1, 100_000))]);
    run(&place, 2, &[("a", noise(2, 100_000))]);
    for folder in ["data", "trees", "snapshots", "index"] {
        let fork = memory.fork();
        let names: Vec<_> =
            fork.names().into_iter().filter(|name| name.folder() == folder).collect();
        let (one, two) = (
            fork.fetch(&names[0], 1 << 30).expect("reads"),
            fork.fetch(&names[1], 1 << 30).expect("reads"),
        );
        fork.overwrite(&names[0], two);
        fork.overwrite(&names[1], one);
        let swapped: Arc<dyn Place> = Arc::new(fork);
        let report = open(&swapped).verify(DataShare::All, &Unwatched).expect("verifies");
        assert!(!report.damage.is_empty(), "swapped objects in {folder} go unnoticed");
    }
}
