//! Stores as earlier versions have written them, which every later one reads.

use std::sync::{Arc, OnceLock};

use minicbor::bytes::ByteVec;
use skellin_place::{MemoryPlace, Place};

use crate::{
    Cache, DataShare, Store,
    format::signed::{decode, encode},
    protocol_tests::{PASSPHRASE, Unwatched, begin, draft, memory, name, noise, open, put, read},
    records::control::RunRecord,
};

/// Objects by name, as [`dump`] made them on 30 November 2026: nine nights, a merged index segment in
/// parts, a bundle of snapshots, lists of containers with a tier.
const FORMAT_1: &[u8] = include_bytes!("../golden/format-1.cbor");
const NIGHTS: i64 = 9;

fn files(night: i64) -> Vec<(&'static str, Vec<u8>)> {
    vec![
        ("few", noise(100 + night as u64 / 3, 900)),
        ("long", noise(7, 24_000)),
        ("new", noise(night as u64, 3000)),
    ]
}

fn load(bytes: &[u8]) -> Arc<dyn Place> {
    let objects: Vec<(String, ByteVec)> = decode(bytes, "a golden store").expect("decodes");
    let memory = MemoryPlace::new();
    for (object, bytes) in objects {
        memory.create(&name(object), &bytes).expect("puts");
    }
    Arc::new(memory)
}

/// What it holds behind its seals, each with the decoder that meets it.
pub(crate) fn bodies() -> &'static [(&'static str, Vec<u8>)] {
    static BODIES: OnceLock<Vec<(&str, Vec<u8>)>> = OnceLock::new();
    BODIES.get_or_init(|| {
        let place = load(FORMAT_1);
        let store = open(&place);
        let fetch = |object: &str| place.fetch(&name(object), 1 << 30).expect("fetches");
        let objects = |folder: &str| place.listing(folder).expect("lists").into_iter();
        let mut bodies = vec![("header", fetch("skellin-store"))];
        bodies.extend(objects("keys").map(|one| ("slot", fetch(one.name.as_str()))));
        for container in objects("data").chain(objects("trees")) {
            let bytes = fetch(container.name.as_str());
            bodies.push(("trailer", bytes[bytes.len() - 64..].to_vec()));
            bodies.push(("container", bytes[..136].to_vec()));
        }
        let page = |body: Vec<u8>| {
            let length = (body.len() as u32).to_le_bytes();
            ("page", [&length, body.as_slice(), &[0; 8]].concat())
        };
        for listed in store.snapshots().expect("lists") {
            let snapshot = store.read_snapshot(&listed).expect("reads");
            bodies.push(page(store.page_body(&snapshot.root).expect("reads")));
            for list in Store::pages_of_needed(&snapshot.needed) {
                bodies.push(("list", store.page_body(list).expect("reads")));
            }
            let run = RunRecord {
                run: snapshot.run,
                lineage: listed.lineage,
                snapshot: listed.object.leaf().to_owned(),
                started: snapshot.started,
                order: listed.order.0,
                origin: None,
            };
            bodies.extend([("snapshot", encode(&snapshot)), ("run", encode(&run))]);
        }
        for id in store.listed_segments().expect("lists") {
            bodies.push(("segment", store.segment_at_place(id).expect("reads")));
        }
        for (id, _) in store.listed_bundles().expect("lists") {
            bodies.push(("bundle", fetch(&id.to_string())[32..].to_vec()));
        }
        let block = [0, 2, 3, 4].map(u32::to_le_bytes).concat();
        bodies.push(("block", [block.as_slice(), b"abcdefg"].concat()));
        bodies
    })
}

#[test]
fn a_store_of_format_1_is_read_and_written_to() {
    let place = load(FORMAT_1);
    let look = |nights: i64| {
        let store = open(&place);
        let listed = store.snapshots().expect("lists");
        assert_eq!(listed.len() as i64, nights);
        for one in &listed {
            let snapshot = store.read_snapshot(one).expect("reads");
            assert_eq!((snapshot.plan.as_str(), snapshot.machine.as_str()), ("readings", "hut"));
            for (file, content) in files(snapshot.started) {
                assert_eq!(read(&store, &snapshot, file).expect("reads"), content, "{file}");
            }
            assert!(store.needed(&snapshot.needed).expect("reads").len() >= 2);
        }
        let report = store.verify(DataShare::All, &Unwatched).expect("verifies");
        assert_eq!(report.damage, Vec::new());
    };
    look(NIGHTS);
    assert_eq!(open(&place).listed_bundles().expect("lists").len(), 1);
    let store = open(&place);
    let session = begin(&store, NIGHTS + 1);
    let entries = put(&session, &files(NIGHTS + 1)[..2]);
    assert_eq!(session.writing.new_bytes(), 0, "what is there is found");
    let mut entries = entries;
    entries.extend(put(&session, &files(NIGHTS + 1)[2..]));
    session.finish(draft(&session, &entries)).expect("finishes");
    look(NIGHTS + 1);
}

/// Makes such a store anew, for a format that does not exist yet: `cargo test -p skellin-store -- --ignored
/// dump` writes it to the temporary directory.
#[test]
#[ignore = "it makes what the other test reads"]
fn dump() {
    let (memory, place) = memory();
    for night in 1..=NIGHTS {
        let mut store = Store::open(Arc::clone(&place), PASSPHRASE, Cache::None).expect("opens");
        store.records_a_part = 16;
        let session = begin(&Arc::new(store), night);
        let entries = put(&session, &files(night));
        session.finish(draft(&session, &entries)).expect("finishes");
    }
    let objects: Vec<(String, ByteVec)> = memory
        .names()
        .into_iter()
        .map(|object| {
            let bytes = place.fetch(&object, 1 << 30).expect("reads");
            (object.to_string(), bytes.into())
        })
        .collect();
    let path = std::env::temp_dir().join("golden.cbor");
    std::fs::write(&path, encode(&objects)).expect("writes");
    assert_eq!(
        load(&encode(&objects)).listing("index").expect("lists").len(),
        memory.names().iter().filter(|name| name.folder() == "index").count()
    );
}
