//! Every decoder that meets bytes of a place, for attacks: whatever the bytes, none panics, and none
//! takes memory out of all proportion. They are called with what lies behind all seals too, since whoever
//! holds the keys of a store may be the enemy of who reads it.

use crate::{
    containers::{Containers, Location},
    error::StoreError,
    format::{
        block::Block,
        container::{self, ContainerHeader},
        header::Header,
        ids::{Class, ContainerId, RunId},
        keys::Secret,
        parity::ParityKey,
        signed::{Signed, decode},
        slot::Slot,
    },
    index,
    records::{bundles, control, expiry, needed, snapshot::Snapshot},
    tree,
};

const OBJECT: &str = "an attack";

/// Gives bytes to a decoder.
pub type Decode = fn(&[u8]);

/// The decoders, by name.
pub const DECODERS: &[(&str, Decode)] = &[
    ("header", |bytes| drop(Header::decode(bytes, OBJECT))),
    ("slot", |bytes| drop(Slot::decode(bytes, OBJECT))),
    ("signed", |bytes| drop(Signed::decode(bytes, OBJECT))),
    ("container", |bytes| drop(ContainerHeader::decode(bytes, OBJECT))),
    ("trailer", |bytes| {
        drop(container::directory_range(bytes, bytes, bytes.len() as u64, OBJECT));
    }),
    ("directory", |bytes| drop(container::read_directory(bytes, OBJECT))),
    ("parity", |bytes| {
        let id = ContainerId { class: Class::Data, run: RunId([1; 16]), sequence: 0 };
        let key = ParityKey::new(&Secret([9; 32]), id);
        let _ = container::claimed_range(bytes);
        drop(container::mend(bytes, &key));
    }),
    ("block", |bytes| drop(Block::parse(bytes.to_vec()))),
    ("page", |bytes| {
        let containers = Containers::default();
        let id = ContainerId { class: Class::Tree, run: RunId([1; 16]), sequence: 0 };
        let container = containers.number(id, None);
        let own = Location { container, block: 0, chunk: 0, offset: 0, length: 0 };
        tree::read_page(bytes, own, &containers, OBJECT);
    }),
    ("snapshot", |bytes| drop(decode::<Snapshot>(bytes, OBJECT))),
    ("run", |bytes| drop(decode::<control::RunRecord>(bytes, OBJECT))),
    ("notice", |bytes| drop(decode::<control::Notice>(bytes, OBJECT))),
    ("ack", |bytes| drop(decode::<control::Ack>(bytes, OBJECT))),
    ("revoke", |bytes| drop(decode::<control::Revoke>(bytes, OBJECT))),
    ("verdict", |bytes| drop(decode::<control::Verdict>(bytes, OBJECT))),
    ("expired", |bytes| drop(decode::<expiry::ExpiredMark>(bytes, OBJECT))),
    ("pin", |bytes| drop(decode::<expiry::Pin>(bytes, OBJECT))),
    ("list", |bytes| needed::read_page(bytes, OBJECT)),
    ("bundle", |bytes| drop(bundles::read_body(bytes, OBJECT))),
    ("segment", |bytes| {
        let mut part = |_, _: &_| Err(StoreError::damaged(OBJECT, "it has no such part"));
        index::read_segment(bytes.to_vec(), OBJECT, &mut part);
    }),
];

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::golden_tests::bodies;

    /// What the golden store holds, as each decoder meets it.
    fn seed(name: &str, number: usize) -> Vec<u8> {
        let bodies = bodies();
        let fitting: Vec<_> = bodies.iter().filter(|(of, _)| **of == *name).collect();
        let fitting = match fitting.is_empty() {
            // Records of reclaims and verdicts are not in it: those of runs look much the same.
            true => bodies.iter().filter(|(of, _)| *of == "run" || *of == "snapshot").collect(),
            false => fitting,
        };
        fitting[number % fitting.len()].1.clone()
    }

    #[test]
    fn what_a_store_holds_is_decoded() {
        for (name, bytes) in bodies() {
            let (_, decoder) = DECODERS.iter().find(|(of, _)| of == name).expect("a decoder");
            decoder(bytes);
        }
        let held: std::collections::BTreeSet<_> = bodies().iter().map(|(name, _)| *name).collect();
        for needed in ["header", "slot", "container", "block", "page", "snapshot", "segment"] {
            assert!(held.contains(needed), "{needed}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        /// Real objects, changed here and there.
        #[test]
        fn nothing_changed_here_and_there_makes_a_decoder_panic(
            decoder in 0..DECODERS.len(),
            number in 0..50usize,
            edits in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), 0..4u8), 0..6),
        ) {
            let (name, decode) = DECODERS[decoder];
            let mut bytes = seed(name, number);
            for (at, value, kind) in edits {
                if bytes.is_empty() {
                    break;
                }
                let at = at.index(bytes.len());
                match kind {
                    0 => bytes[at] = value,
                    1 => bytes.insert(at, value),
                    2 => drop(bytes.remove(at)),
                    _ => bytes.truncate(at),
                }
            }
            decode(&bytes);
        }

        /// Anything at all.
        #[test]
        fn no_bytes_make_a_decoder_panic(
            decoder in 0..DECODERS.len(),
            bytes in prop::collection::vec(any::<u8>(), 0..300),
        ) {
            DECODERS[decoder].1(&bytes);
        }
    }

    /// Writes the seeds of the fuzz target: `cargo test -p skellin-store -- --ignored seeds` puts them into
    /// the directory that `SKELLIN_SEEDS` names.
    #[test]
    #[ignore = "it writes seeds"]
    fn seeds() {
        let folder = std::env::var_os("SKELLIN_SEEDS").expect("SKELLIN_SEEDS names a directory");
        for (number, (name, bytes)) in bodies().iter().enumerate() {
            let code = DECODERS.iter().position(|(of, _)| of == name).expect("a decoder") as u8;
            let is_second =
                number > 0 && bodies()[..number].iter().filter(|one| one.0 == *name).count() > 1;
            if bytes.len() < 4096 && !is_second {
                let file = std::path::Path::new(&folder).join(format!("{name}-{number}"));
                std::fs::write(file, [&[code], bytes.as_slice()].concat()).expect("writes");
            }
        }
    }
}
