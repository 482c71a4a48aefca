//! Long files, which several workers store at the same time.

use crate::common;

use std::{
    fs,
    os::unix::fs::FileExt as _,
    path::Path,
    sync::{Arc, Once},
};

use common::{
    Restoring, Running, assert_clean, content, memory_store, newest, open_store, plan_of, scratch,
};
use skellin_engine::history;
use skellin_place::{HookedPlace, MemoryPlace, Operation, Place};
use skellin_store::{Body, Item};

const MIB: usize = 1 << 20;

/// Content in which cuts are found at once, late, and never.
fn image() -> Vec<u8> {
    let mut image = content(2, 5 * MIB + 77);
    image.resize(image.len() + 5 * MIB + 13, 0);
    let turn = content(4, 3001);
    (0..1500).for_each(|_| image.extend_from_slice(&turn));
    image.extend(content(6, 9 * MIB));
    image
}

/// The pieces of the file a run with so many workers stores; its report's new bytes.
fn pieces(empty: &MemoryPlace, source: &Path, readers: u32) -> (Vec<(bool, u64)>, u64) {
    let place: Arc<dyn Place> = Arc::new(empty.fork());
    let mut plan = plan_of(&[source], "");
    plan.readers = Some(readers);
    let store = open_store(&place);
    let report = Running::of(&plan).run(&store);
    assert_eq!((report.files.new, report.exceptions.len()), (1, 0), "{report:?}");
    let snapshot = newest(&store);
    let path = source.join("image.raw").into_os_string().into_encoded_bytes();
    let located = history::must_locate(&store, &snapshot, &path).unwrap();
    let Body::File { size, recipe } = &located.entry.body else { panic!("a file") };
    assert_eq!(*size, fs::metadata(source.join("image.raw")).unwrap().len());
    let items = store.items(recipe).map(|item| match item.unwrap() {
        Item::Chunk(chunk) => (true, u64::from(chunk.length)),
        Item::Hole(length) => (false, length),
    });
    let items: Vec<_> = items.collect();
    assert_eq!(items.iter().map(|(_, length)| length).sum::<u64>(), *size);
    let out = scratch();
    Restoring::all(&snapshot, out.path()).run(&store);
    let restored = out.path().join(source.file_name().unwrap()).join("image.raw");
    assert!(fs::read(restored).unwrap() == fs::read(source.join("image.raw")).unwrap());
    assert_clean(&place);
    (items, report.bytes.new)
}

#[test]
fn several_workers_cut_a_long_file_as_one_does() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    fs::create_dir(&source).unwrap();
    fs::write(source.join("image.raw"), image()).unwrap();
    // Where is cut hangs on a store's keys.
    let (empty, _) = memory_store();
    let (alone, new) = pieces(&empty, &source, 1);
    for readers in [2, 3, 7] {
        let (shared, more) = pieces(&empty, &source, readers);
        assert!(alone == shared, "{readers} workers cut {} and {}", alone.len(), shared.len());
        // What was stored from a place that turned out to be no cut stays behind.
        assert!(more < new + new / 20, "{more} of {new}");
    }
}

#[test]
fn holes_stay_holes_and_what_lies_between_is_cut_as_by_one() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    fs::create_dir(&source).unwrap();
    let file = fs::File::create(source.join("image.raw")).unwrap();
    let image = image();
    for (at, length) in [(0, 9 * MIB), (12 * MIB, 4096), (20 * MIB, 14 * MIB)] {
        file.write_all_at(&image[..length], at as u64).unwrap();
    }
    file.set_len(40 << 20).unwrap();
    drop(file);
    let (empty, _) = memory_store();
    let (alone, _) = pieces(&empty, &source, 1);
    assert!(alone.iter().filter(|(is_data, _)| !is_data).count() >= 3, "it has holes");
    let (shared, _) = pieces(&empty, &source, 4);
    assert!(alone == shared, "{} and {} pieces", alone.len(), shared.len());
}

#[test]
fn a_long_file_that_becomes_short_is_an_exception_and_ends() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    fs::create_dir(&source).unwrap();
    let path = source.join("image.raw");
    fs::write(&path, image()).unwrap();
    let (_, place) = memory_store();
    let mut plan = plan_of(&[&source], "");
    plan.readers = Some(3);
    // By the time a part of its content is stored it has been opened.
    let cut = Arc::new(Once::new());
    let (once, shortened) = (Arc::clone(&cut), path.clone());
    let hooked = HookedPlace::before(Arc::clone(&place), move |operation, name| {
        if operation == Operation::Create && name.starts_with("data/") {
            once.call_once(|| {
                let file = fs::OpenOptions::new().write(true).open(&shortened).unwrap();
                file.set_len(7 << 20).unwrap();
            });
        }
        Ok(())
    });
    let store = open_store(&(Arc::new(hooked) as Arc<dyn Place>));
    let report = Running::of(&plan).run(&store);
    assert!(cut.is_completed(), "it was cut while it was read");
    assert_eq!(report.exceptions.len(), 1, "{report:?}");
    let snapshot = newest(&store);
    let located =
        history::must_locate(&store, &snapshot, path.as_os_str().as_encoded_bytes()).unwrap();
    let Body::File { size, recipe } = &located.entry.body else { panic!("a file") };
    let lengths = store.items(recipe).map(|item| match item.unwrap() {
        Item::Chunk(chunk) => u64::from(chunk.length),
        Item::Hole(length) => length,
    });
    assert_eq!(lengths.sum::<u64>(), *size, "what it says it has it has");
    assert_clean(&place);
}
