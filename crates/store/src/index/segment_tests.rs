use proptest::prelude::*;

use super::super::{draft::SegmentDraft, record::encode_rows};
use super::*;

fn no_parts(_: u32, _: &PartRow) -> Result<Box<dyn SegmentBytes>> {
    panic!("it has no parts")
}

/// The bodies of a segment with so many records a part.
fn in_parts(mut draft: SegmentDraft, most: usize) -> (Vec<u8>, Vec<Vec<u8>>) {
    draft.records.sort_unstable();
    draft.records.dedup();
    let bodies: Vec<(PartRow, Vec<u8>)> = draft
        .records
        .chunks(most)
        .map(|records| {
            let mut bytes = Vec::new();
            encode_rows(records, &mut bytes);
            let row = PartRow {
                records: records.len() as u64,
                first: records[0].prefix,
                hash: *blake3::hash(&bytes).as_bytes(),
            };
            (row, bytes)
        })
        .collect();
    let (rows, bodies): (Vec<_>, Vec<_>) = bodies.into_iter().unzip();
    (draft.encode_head(&rows), bodies)
}

fn prefix(seed: u64) -> Prefix {
    let mut prefix = [0; 16];
    prefix.copy_from_slice(&blake3::hash(&seed.to_le_bytes()).as_bytes()[..16]);
    prefix
}

fn draft(seeds: &[u64]) -> SegmentDraft {
    let container = |sequence| SegmentContainer {
        id: ContainerId { class: Class::Data, run: RunId([1; 16]), sequence },
        salt: [sequence as u8; 16],
        blocks: (0..sequence).map(|block| (block * 100, 100)).collect(),
        length: u64::from(sequence) * 1000,
    };
    let record = |seed: &u64| Record {
        prefix: prefix(*seed),
        container: (*seed % 3) as u32,
        block: *seed as u16,
        chunk: 7,
    };
    SegmentDraft {
        level: 2,
        inputs: vec![SegmentId { run: RunId([9; 16]), number: 4 }],
        containers: vec![container(0), container(3), container(1)],
        keys: [((RunId([1; 16]), Class::Data), [8; WRAPPED])].into(),
        records: seeds.iter().map(record).collect(),
    }
}

proptest! {
    #[test]
    fn a_segment_finds_what_was_put_in_and_nothing_else(
        mut seeds in prop::collection::vec(0u64..5000, 0..600), most in 1usize..300,
    ) {
        let given = draft(&seeds);
        let (containers, inputs) = (given.containers.clone(), given.inputs.clone());
        let (head, parts) = in_parts(given.clone(), most);
        let whole = Segment::parse(Box::new(given.encode()), "s", &mut no_parts).expect("parses");
        let parted = Segment::parse(Box::new(head), "s", &mut |number, row| {
            let part = parts[number as usize].clone();
            assert_eq!(*blake3::hash(&part).as_bytes(), row.hash);
            Ok(Box::new(part))
        });
        seeds.sort_unstable();
        seeds.dedup();
        let mut order: Vec<_> = seeds.iter().map(|seed| prefix(*seed)).collect();
        order.sort_unstable();
        for segment in [whole, parted.expect("parses")] {
            prop_assert_eq!(&segment.containers, &containers);
            prop_assert_eq!(&segment.inputs, &inputs);
            prop_assert_eq!(&segment.keys, &[(RunId([1; 16]), Class::Data, [8; WRAPPED])]);
            prop_assert_eq!(segment.len(), seeds.len());
            for seed in 0..5000 {
                let mut found = Vec::new();
                segment.each_of(&prefix(seed), |number, record| { found.push((number, record)); true });
                prop_assert_eq!(found.len(), usize::from(seeds.binary_search(&seed).is_ok()));
                prop_assert!(found.iter().all(|(number, record)| record.block == seed as u16 && order[*number] == record.prefix));
            }
            let (mut all, mut records) = (Vec::new(), segment.records("s"));
            while let Some(record) = records.next().expect("reads") {
                all.push(record);
            }
            prop_assert_eq!(all.len(), seeds.len());
            prop_assert!(all.is_sorted());
        }
    }

    #[test]
    fn damaged_tables_give_errors_and_no_panic(at in 0usize..400, value: u8, cut in 0usize..2000) {
        let whole = draft(&[1, 2, 3, 4, 5]);
        let (head, parts) = in_parts(whole.clone(), 2);
        for mut body in [whole.encode(), head] {
            let at = at % body.len();
            body[at] = value;
            body.truncate(body.len().min(cut.max(1)));
            let segment = Segment::parse(Box::new(body), "s", &mut |number, _| {
                let part = parts.get(number as usize).cloned();
                part.map(|part| -> Box<dyn SegmentBytes> { Box::new(part) }).ok_or_else(|| misfit("s"))
            });
            if let Ok(segment) = segment {
                for seed in 0..10 { segment.each_of(&prefix(seed), |_, _| true); }
            }
        }
    }
}

/// Records that somebody wrote to be hard to find: crowded into one corner, and many of one prefix.
#[test]
fn crowded_prefixes_are_found_too() {
    let number = |number: u64| {
        let mut prefix = [0xFF; 16];
        prefix[8..].copy_from_slice(&number.to_be_bytes());
        prefix
    };
    let records = (0u64..3000).map(|at| (at.min(1500), at));
    let record = |(at, block): (u64, u64)| Record {
        prefix: number(at),
        container: 0,
        block: block as u16,
        chunk: 0,
    };
    let crowded = SegmentDraft { records: records.map(record).collect(), ..draft(&[1, 2]) };
    let segment = Segment::parse(Box::new(crowded.encode()), "s", &mut no_parts).expect("parses");
    let count = |prefix: &Prefix| {
        let mut count = 0;
        segment.each_of(prefix, |_, record| {
            assert_eq!(record.prefix, *prefix);
            count += 1;
            true
        });
        count
    };
    assert_eq!((count(&number(0)), count(&number(1499)), count(&number(1500))), (1, 1, 1500));
    assert_eq!((count(&number(1501)), count(&[0; 16]), count(&[0xFF; 16])), (0, 0, 0));
}

/// How often a long segment is read for one look-up.
#[test]
fn a_record_of_many_is_found_with_few_reads() {
    struct Counted(Vec<u8>, std::sync::Arc<std::sync::atomic::AtomicUsize>);
    impl SegmentBytes for Counted {
        fn len(&self) -> u64 {
            self.0.len() as u64
        }
        fn read(&self, at: u64, into: &mut [u8]) -> bool {
            self.1.fetch_add(1, Ordering::Relaxed);
            SegmentBytes::read(&self.0, at, into)
        }
    }
    let seeds: Vec<u64> = (0..200_000).collect();
    let reads = std::sync::Arc::default();
    let source = Counted(draft(&seeds).encode(), std::sync::Arc::clone(&reads));
    let segment = Segment::parse(Box::new(source), "s", &mut no_parts).expect("parses");
    let before = reads.load(Ordering::Relaxed);
    let mut found = 0;
    for seed in (0..200_000).step_by(100) {
        segment.each_of(&prefix(seed), |_, _| {
            found += 1;
            true
        });
    }
    let each = (reads.load(Ordering::Relaxed) - before) as f64 / 2000.0;
    assert_eq!(found, 2000);
    assert!(each < 3.0, "{each} reads each");
}
