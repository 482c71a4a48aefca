//! What somebody adds who may write to the place and has no passphrase: it costs neither time nor truth.

use std::collections::BTreeSet;

use skellin_place::Place;

use crate::{
    Cache, DataShare, Store,
    format::{
        container::ContainerHeader,
        ids::{Class, ContainerId},
        keys::Secret,
    },
    protocol_tests::{
        PASSPHRASE, Unwatched, data_containers, memory, name, noise, open, read, run,
    },
};

#[test]
fn a_forged_header_is_nobodys_and_speaks_for_no_other_container() {
    let (memory, place) = memory();
    let files: Vec<(String, Vec<u8>)> =
        (0..12).map(|number| (format!("f{number:02}"), noise(number, 30_000))).collect();
    let files: Vec<(&str, Vec<u8>)> =
        files.iter().map(|(name, content)| (name.as_str(), content.clone())).collect();
    let snapshot = run(&place, 1, &files);
    let store = open(&place);
    let genuine = data_containers(&store);
    assert!(genuine.len() > 3, "{}", genuine.len());
    // The run's own first container is replaced, and another of its run is added: 160 bytes each, and
    // a key of the stranger's, wrapped by what the header shows to everybody. What nothing points to
    // and has no end is what an upload left that broke off, and nobody's.
    let run_id = genuine[0].run;
    let forged = |sequence: u32| {
        let id = ContainerId { class: Class::Data, run: run_id, sequence };
        let wrapped = store.keys.wrap(run_id, Class::Data, &Secret([7; 32])).expect("wraps");
        let header = ContainerHeader { id, epoch: 1, salt: [0; 16], wrapped };
        memory.overwrite(&id.object().expect("a name"), header.encode().to_vec());
        id.object().expect("a name").to_string()
    };
    let last = genuine.iter().map(|id| id.sequence).max().unwrap_or_default();
    let names = BTreeSet::from([forged(genuine[0].sequence)]);
    forged(last + 1);
    // Without segments every container has to tell what it holds.
    for object in place.listing("index").expect("lists") {
        place.delete(&object.name).expect("deletes");
    }
    let fresh = open(&place);
    let report = fresh.verify(DataShare::All, &Unwatched).expect("verifies");
    let blamed = report.damage.iter().map(|damage| damage.object.clone());
    let blamed: BTreeSet<String> = blamed.filter(|object| object.starts_with("data/")).collect();
    assert_eq!(blamed, names);
    let lost: BTreeSet<&str> = report
        .damage
        .iter()
        .flat_map(|damage| &damage.files)
        .map(|file| std::str::from_utf8(&file.path).expect("text"))
        .collect();
    let fresh = open(&place);
    for (file, content) in &files {
        let is_lost = lost.iter().any(|path| path.ends_with(file));
        assert_eq!(
            read(&fresh, &snapshot, file).ok(),
            (!is_lost).then(|| content.clone()),
            "{file}"
        );
    }
    assert!(!lost.is_empty() && lost.len() < files.len() / 2, "{lost:?}");
}

/// The most memory this process has used so far, in bytes.
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").expect("reads");
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).expect("a peak");
    line.split_whitespace().nth(1).expect("a number").parse::<u64>().expect("a number") << 10
}

#[test]
fn forged_slots_cost_neither_memory_nor_the_right_passphrase() {
    let (memory, place) = memory();
    let own = place.listing("keys").expect("lists");
    let bytes = memory.fetch(&own[0].name, 1 << 20).expect("reads");
    // Key 2 is the memory in KiB and key 3 the passes; a stranger leaves the checksum out.
    let cost = [2, 8, 3, 1];
    let at = bytes.windows(4).position(|four| four == cost).expect("a trivial cost");
    let asking = |kib: u32, passes: u8, id: u8| {
        let sum = bytes.windows(2).rposition(|two| two == [8, 0x50]).expect("a checksum");
        let mut forged = [&bytes[..sum], &bytes[sum + 18..]].concat();
        forged[0] -= 1;
        let wanted = [&[2, 0x1a], kib.to_be_bytes().as_slice(), &[3, passes]].concat();
        forged.splice(at..at + 4, wanted);
        forged[5] = id;
        forged
    };
    for id in 0..=200u8 {
        let wanted = match id % 4 {
            0 => asking(4 << 20, 3, id),
            1 => asking(1 << 20, 8, id),
            2 => asking(1 << 20, 16, id),
            _ => asking(u32::MAX, 1, id),
        };
        memory.overwrite(&name(format!("keys/{id:016x}.a")), wanted);
    }
    let before = peak();
    Store::open(place, PASSPHRASE, Cache::None).expect("opens");
    // The kernel counts in batches, so that a peak may seem to fall by some pages.
    let spent = peak().saturating_sub(before);
    assert!(spent < 128 << 20, "{} MiB", spent >> 20);
}
