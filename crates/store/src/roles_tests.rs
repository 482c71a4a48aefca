//! What each role must not be able to do, whatever program it uses.

use std::sync::Arc;

use skellin_place::Place;

use crate::{
    Cache, DataShare, NewPassphrase, PassphraseCost, RecoveryCode, Session, SessionStart, Store,
    StoreError,
    format::keys::Secret,
    protocol_tests::{PASSPHRASE, Unwatched, draft, memory, noise, open, put, read, run},
};

const ONLY: &[u8] = b"only looks and restores";

fn add(place: &Arc<dyn Place>, passphrase: &[u8], restore_only: bool) -> String {
    let (label, cost) = (None, PassphraseCost::TRIVIAL);
    let new = NewPassphrase { passphrase, label, restore_only, cost, now: 1 };
    Store::add_passphrase(&**place, PASSPHRASE, new).expect("adds")
}

fn start() -> SessionStart<'static> {
    SessionStart {
        plan: "readings",
        machine: "hut",
        started: 2,
        order: None,
        origin: None,
        compression: crate::Compression::Default,
    }
}

#[test]
fn restore_only_reads_everything_and_writes_nothing() {
    let (memory, place) = memory();
    let content = noise(1, 90_000);
    let snapshot = run(&place, 1, &[("a", content.clone())]);
    let id = add(&place, ONLY, true);
    let before = memory.names();
    let store = Arc::new(Store::open(Arc::clone(&place), ONLY, Cache::None).expect("opens"));
    assert!(store.is_restore_only() && !open(&place).is_restore_only());
    assert_eq!(read(&store, &snapshot, "a").expect("reads"), content);
    let report = store.verify(DataShare::All, &Unwatched).expect("verifies");
    assert_eq!(report.damage, []);
    assert!(matches!(Session::begin(&store, &start()), Err(StoreError::RestoreOnly)));
    assert!(matches!(store.mend_copies(), Err(StoreError::RestoreOnly)));
    let (passphrase, label, cost) = (b"third".as_slice(), None, PassphraseCost::TRIVIAL);
    let new = NewPassphrase { passphrase, label, restore_only: false, cost, now: 1 };
    let added = Store::add_passphrase(&*place, ONLY, new);
    assert!(matches!(added, Err(StoreError::RestoreOnly)));
    let own = Store::passphrases(&*place, PASSPHRASE).expect("lists");
    let full = own.iter().find(|slot| slot.id != id).expect("the full one").id.clone();
    let revoked = Store::revoke_passphrase(&*place, ONLY, &full);
    assert!(matches!(revoked, Err(StoreError::RestoreOnly)));
    assert_eq!(memory.names(), before, "nothing has come or gone");
    // The full role revokes it as any other.
    Store::revoke_passphrase(&*place, PASSPHRASE, &id).expect("revokes");
    assert!(Store::open(place, ONLY, Cache::None).is_err());
}

/// Somebody with a passphrase that only restores, with write access to the place and a program that
/// signs with keys of its own.
#[test]
fn what_restore_only_forges_is_refused_by_its_signature() {
    let (_, place) = memory();
    let content = noise(1, 90_000);
    let genuine = run(&place, 1, &[("a", content.clone())]);
    add(&place, ONLY, true);
    let mut patched = Store::open(Arc::clone(&place), ONLY, Cache::None).expect("opens");
    let keys = Arc::get_mut(&mut patched.keys).expect("nobody else holds them");
    keys.sign_with(&Secret([9; 32])).expect("any key");
    let patched = Arc::new(patched);
    let session = Session::begin(&patched, &start()).expect("nobody keeps it from writing");
    let entries = put(&session, &[("a", noise(2, 50_000))]);
    let forged = session.finish(draft(&session, &entries)).expect("nor from finishing").run;
    let store = open(&place);
    let listed = store.snapshots().expect("lists");
    let read_of = |run| {
        let one = listed.iter().find(|one| one.run == run)?;
        Some(store.read_snapshot(one))
    };
    let refused = read_of(forged).expect("its name is listed");
    let told = refused.err().map(|error| error.to_string()).unwrap_or_default();
    assert!(told.contains("not certified by this store"), "{told}");
    assert!(read_of(genuine.run).expect("listed").is_ok());
    assert_eq!(read(&store, &genuine, "a").expect("reads"), content);
    // The next run of a full role neither takes over nor deduplicates what was forged.
    let after = run(&place, 3, &[("a", noise(2, 50_000))]);
    assert_eq!(read(&open(&place), &after, "a").expect("reads"), noise(2, 50_000));
}

#[test]
fn a_recovery_code_opens_however_it_is_typed() {
    let (_, place) = memory();
    run(&place, 1, &[("a", noise(1, 9_000))]);
    let code = RecoveryCode::new().expect("a code");
    add(&place, code.text().as_bytes(), false);
    for typed in [
        code.text().to_string(),
        code.text().to_lowercase().replace('-', " "),
        code.text().replace('-', "").replace('0', "o"),
    ] {
        let store = Store::open(Arc::clone(&place), typed.as_bytes(), Cache::None);
        assert_eq!(store.expect("opens").snapshots().expect("lists").len(), 1);
    }
    let mut slipped = code.text().to_string();
    let first = if slipped.starts_with('7') { '8' } else { '7' };
    slipped.replace_range(0..1, &first.to_string());
    let wrong = Store::open(place, slipped.as_bytes(), Cache::None);
    assert!(matches!(wrong, Err(StoreError::WrongPassphrase { .. })));
}
