//! Every record that is written comes back as it was; damaged ones give errors, never panics and
//! never more memory than they have bytes.

use minicbor::{Decode, Encode};
use proptest::prelude::*;

use crate::{
    ExceptionRecord, Fingerprint, KeptFile, Lineage, RunId, Snapshot, SnapshotSource, StoreId,
    format::{
        container::{Checkpoint, ContainerHeader},
        header::{Header, Layout},
        ids::{Class, ContainerId, hex, unhex},
        keys::{Held, Keys, Secret},
        signed::{Machine, Signed, decode, encode},
        slot::{self, PassphraseCost, Slot},
    },
    records::{
        control::{Ack, ContainerRun, Notice, Revoke, RunRecord, Verdict},
        expiry::{ExpiredMark, Pin},
        needed::{NeededRecord, NeededTiers},
    },
};

fn run_id() -> impl Strategy<Value = RunId> {
    any::<[u8; 16]>().prop_map(RunId)
}

fn container_runs() -> impl Strategy<Value = Vec<ContainerRun>> {
    let run = (run_id(), 1u8..3, prop::collection::vec(any::<(u32, u32)>(), 0..4))
        .prop_map(|(run, class, ranges)| ContainerRun { run, class, ranges });
    prop::collection::vec(run, 0..4)
}

fn needed() -> impl Strategy<Value = NeededRecord> {
    let id = (run_id(), 0u32..5000).prop_map(|(run, sequence)| ContainerId {
        class: Class::Data,
        run,
        sequence,
    });
    prop::collection::vec(id, 0..4).prop_map(|mut ids| {
        ids.sort_unstable();
        NeededTiers::default().record(&ids)
    })
}

fn wrapped_key() -> impl Strategy<Value = Option<[u8; 80]>> {
    prop::option::of(any::<[u8; 32]>().prop_map(|half| {
        let mut wrapped = [7; 80];
        wrapped[..32].copy_from_slice(&half);
        wrapped
    }))
}

prop_compose! {
    fn snapshot()(
        run in run_id(), plan in "[a-z]{1,12}", machine in "\\PC{1,12}", started: i64, ended: i64,
        sources in prop::collection::vec((prop::collection::vec(any::<u8>(), 0..9), prop::collection::vec(any::<u8>(), 0..9)), 0..4),
        root: [u8; 32], labels in prop::collection::vec("[a-z]{0,9}", 0..3), plan_text in "\\PC{0,60}",
        (files, bytes, new_bytes, stored_bytes, exceptions, sockets) in any::<(u64, u64, u64, u64, u64, u64)>(),
        reasons in prop::collection::vec("\\PC{0,20}", 0..3), needed in needed(), data_key in wrapped_key(), tree_key in wrapped_key(),
        kept in prop::collection::vec(("[a-z./]{1,12}", "\\PC{0,40}"), 0..3),
    ) -> Snapshot {
        let sources = sources.into_iter().map(|(name, path)| SnapshotSource { name: name.into(), path: path.into() }).collect();
        let exception = |reason| ExceptionRecord { path: b"/srv/\xff".to_vec().into(), reason };
        let kept = kept.into_iter().map(|(name, text)| KeptFile { name, text }).collect();
        let configuration = Some(kept).filter(|kept: &Vec<_>| !kept.is_empty());
        let exception_list = reasons.into_iter().map(exception).collect();
        Snapshot {
            run, plan, machine, started, ended, sources, root: Fingerprint(root), root_hint: None, labels, plan_text,
            files, bytes, new_bytes, stored_bytes, exceptions, exception_list, sockets, needed, data_key, tree_key,
            configuration,
        }
    }
}

/// Comes back as it was, refuses every cut, and survives every changed byte.
fn holds<T>(record: &T) -> Result<(), TestCaseError>
where
    T: Encode<()> + for<'b> Decode<'b, ()> + PartialEq + std::fmt::Debug,
{
    let bytes = encode(record);
    prop_assert_eq!(&decode::<T>(&bytes, "record").expect("decodes"), record);
    prop_assert_eq!(
        encode(&decode::<T>(&bytes, "record").expect("decodes")),
        bytes.clone(),
        "one form only"
    );
    for length in 0..bytes.len() {
        prop_assert!(decode::<T>(&bytes[..length], "record").is_err());
    }
    let longer = [bytes.as_slice(), b"x"].concat();
    prop_assert!(decode::<T>(&longer, "record").is_err());
    for at in 0..bytes.len() {
        // Heads that announce gigabytes among them.
        for value in [0x9b, 0xbb, 0x5b, 0x7b, 0xff, bytes[at] ^ 1] {
            let mut changed = bytes.clone();
            changed[at] = value;
            let _ = decode::<T>(&changed, "record");
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn snapshots_hold(snapshot in snapshot()) {
        holds(&snapshot)?;
    }

    #[test]
    fn records_of_the_protocol_hold(
        run in run_id(), lineage: [u8; 16], snapshot in "[0-9a-f]{0,152}", started: i64, order: i64, origin: Option<[u8; 16]>,
        lists in (container_runs(), container_runs(), container_runs()), dead in prop::collection::vec(run_id(), 0..4),
    ) {
        holds(&RunRecord { run, lineage: Lineage(lineage), snapshot, started, order, origin: origin.map(Lineage) })?;
        holds(&Notice { victims: lists.0, damaged: Some(true), deleted: None })?;
        holds(&Ack { holds: lists.1 })?;
        holds(&Revoke { notice: run })?;
        holds(&Verdict { deleted: lists.2, dead, at: Some(started) })?;
        holds(&ExpiredMark { run, more: None })?;
        holds(&ExpiredMark { run, more: Some(vec![run, run]) })?;
        holds(&Pin { run })?;
    }

    #[test]
    fn checkpoints_and_headers_hold(path in prop::collection::vec(any::<u8>(), 0..40), root: [u8; 32], created: i64, keys: [u8; 32], epoch: u32) {
        holds(&Checkpoint { path: path.into(), root: Fingerprint(root) })?;
        let header = Header {
            version: 1, store: StoreId([3; 16]), created, suite: 1, reader_flags: 0, writer_flags: 0, epoch,
            layout: Layout::default(), data_key: keys, tree_key: keys, signing_key: keys,
        };
        holds(&header)?;
        prop_assert_eq!(Header::decode(&header.encode(), "header").expect("decodes"), header);
    }

    #[test]
    fn container_headers_hold(run: [u8; 16], sequence: u32, epoch: u32, salt: [u8; 16], tree: bool, at in 0usize..160, value: u8) {
        let class = if tree { Class::Tree } else { Class::Data };
        let id = ContainerId { class, run: RunId(run), sequence };
        let header = ContainerHeader { id, epoch, salt, wrapped: [5; 80] };
        let mut bytes = header.encode();
        prop_assert_eq!(&ContainerHeader::decode(&bytes, "c").expect("decodes"), &header);
        let object = id.object().expect("a name");
        prop_assert_eq!(ContainerId::parse(class, object.leaf()), Some(id));
        bytes[at] = value;
        let _ = ContainerHeader::decode(&bytes, "c");
        prop_assert!(ContainerHeader::decode(&bytes[..159], "c").is_err());
    }

    #[test]
    fn signed_records_hold_for_their_context_only(body in prop::collection::vec(any::<u8>(), 0..60), at in any::<prop::sample::Index>()) {
        let keys = Keys::from_master(StoreId([1; 16]), 1, &Secret([2; 32])).expect("keys");
        let other = Keys::from_master(StoreId([1; 16]), 1, &Secret([3; 32])).expect("keys");
        let signed = Machine::certified(&keys, "hut").expect("certified").sign(b"here", body.clone());
        holds(&signed)?;
        prop_assert_eq!(signed.clone().verified(&keys, b"here", "r").expect("verifies"), body);
        prop_assert!(signed.clone().verified(&keys, b"there", "r").is_err());
        prop_assert!(signed.clone().verified(&other, b"here", "r").is_err(), "another store's machine");
        let mut bytes = signed.encode();
        let at = at.index(bytes.len());
        bytes[at] ^= 0x20;
        if let Ok(changed) = Signed::decode(&bytes, "r") {
            prop_assert!(changed == signed || changed.verified(&keys, b"here", "r").is_err());
        }
    }

    #[test]
    fn slots_survive_any_damage(at in any::<prop::sample::Index>(), value: u8, cut in any::<prop::sample::Index>()) {
        let master = Held::Full(Secret([3; 32]));
        let (_, mut bytes) = slot::create(b"gull", PassphraseCost::TRIVIAL, 1, &master, b"header", slot::Told::default()).expect("a slot");
        prop_assert!(Slot::decode(&bytes[..cut.index(bytes.len())], "slot").is_err());
        let at = at.index(bytes.len());
        let same = bytes[at] == value;
        bytes[at] = value;
        // Costs are bounded before they are paid: a slot cannot ask for hours or terabytes.
        let read = Slot::decode(&bytes, "slot");
        if let Ok(Some((_, opened))) = read.and_then(|slot| slot.open(b"gull", b"header", "slot")) {
            let is_master = matches!(&opened, Held::Full(opened) if opened.0 == [3; 32]);
            prop_assert!(same || is_master);
        }
    }

    #[test]
    fn hexadecimal_comes_back(bytes in prop::collection::vec(any::<u8>(), 0..40), noise in "\\PC{0,20}") {
        prop_assert_eq!(unhex(&hex(&bytes)), Some(bytes));
        let _ = unhex(&noise);
        let _ = RunId::parse(&noise);
        let _ = ContainerId::parse(Class::Data, &noise);
    }
}

#[test]
fn newer_formats_are_refused_by_name() {
    let header = Header {
        version: 1,
        store: StoreId([3; 16]),
        created: 0,
        suite: 1,
        reader_flags: 0,
        writer_flags: 0,
        epoch: 1,
        layout: Layout::default(),
        data_key: [0; 32],
        tree_key: [0; 32],
        signing_key: [0; 32],
    };
    let refused = |header: Header| {
        Header::decode(&header.encode(), "skellin-store").expect_err("is refused").to_string()
    };
    assert!(
        refused(Header { version: 2, ..header.clone() })
            .contains("needs a newer Skellin: format version 2")
    );
    assert!(refused(Header { suite: 9, ..header.clone() }).contains("algorithm suite 9"));
    assert!(refused(Header { reader_flags: 4, ..header.clone() }).contains("format flags 0x4"));
    let absurd = Layout { chunk_max: u32::MAX, ..Layout::default() };
    assert!(refused(Header { layout: absurd, ..header }).contains("out of bounds"));
}
