use std::{cell::RefCell, collections::BTreeSet};

use proptest::prelude::*;

use super::*;
use crate::tree::{PageRef, Refs};

/// Takes pages as a place would.
#[derive(Default)]
struct Shelf(RefCell<BTreeMap<[u8; 32], Vec<u8>>>);

impl PageSink for Shelf {
    fn put_page(&self, body: &[u8], _: &Refs) -> Result<PageRef> {
        let name = *blake3::hash(body).as_bytes();
        self.0.borrow_mut().insert(name, body.to_vec());
        Ok(PageRef::unplaced(Fingerprint(name)))
    }
}

impl Shelf {
    /// What a record says, from the pages that were put.
    fn read(&self, record: &NeededRecord) -> (NeededTiers, Vec<ContainerId>) {
        let record: NeededRecord = decode(&encode(record), "a record").expect("decodes");
        let tier = |pages: &Vec<Fingerprint>| {
            let mut words = Words::new();
            for page in pages {
                let page: ListPage = decode(&self.0.borrow()[&page.0], "a page").expect("decodes");
                words.extend(open_words(page.words, "a page").expect("opens"));
            }
            Tier { pages: pages.clone(), words }
        };
        let tiers = NeededTiers(record.tiers.iter().map(tier).collect());
        let mut all = tiers.together();
        all.extend(open_words(record.newest, "the snapshot").expect("opens"));
        (tiers, ids_of(&all))
    }

    /// A run after another: its tiers and its record; pages are lost where `loses` says so.
    fn next(&self, base: NeededTiers, wanted: &BTreeSet<ContainerId>, loses: bool) -> NeededRecord {
        let sorted: Vec<ContainerId> = wanted.iter().copied().collect();
        let mut tiers = base;
        tiers.take_up(&sorted);
        tiers.write(self, |_| Ok(!loses)).expect("writes");
        tiers.record(&sorted)
    }
}

fn container(run: u16, sequence: u32) -> ContainerId {
    let mut id = [0; 16];
    id.copy_from_slice(&blake3::hash(&run.to_le_bytes()).as_bytes()[..16]);
    let class = if sequence.is_multiple_of(2) { Class::Data } else { Class::Tree };
    ContainerId { class, run: RunId(id), sequence }
}

proptest! {
    /// Whatever comes and goes from run to run, each list says just what its run needs, in few tiers.
    #[test]
    fn a_list_says_what_is_needed(
        runs in prop::collection::vec(
            (
                prop::collection::vec((0u16..200, 0u32..4000), 0..60),
                prop::collection::vec(any::<prop::sample::Index>(), 0..40),
                any::<bool>(),
            ),
            1..12,
        ),
    ) {
        let shelf = Shelf::default();
        let mut wanted = BTreeSet::new();
        let mut tiers = NeededTiers::default();
        for (come, go, loses) in runs {
            wanted.extend(come.into_iter().map(|(run, sequence)| container(run, sequence)));
            for index in go {
                let all: Vec<_> = wanted.iter().copied().collect();
                if !all.is_empty() {
                    wanted.remove(&all[index.index(all.len())]);
                }
            }
            let record = shelf.next(tiers, &wanted, loses);
            let (read, needed) = shelf.read(&record);
            prop_assert_eq!(&needed, &wanted.iter().copied().collect::<Vec<_>>());
            prop_assert!(record.newest.len() <= FEW, "{}", record.newest.len());
            let mut most = FEW * GROWTH;
            for tier in &read.0 {
                prop_assert!(tier.words.len() <= most, "{} of {most}", tier.words.len());
                most *= GROWTH;
            }
            let last = read.0.last();
            prop_assert!(last.is_none_or(|tier| tier.words.values().all(|ranges| !ranges.is_empty())));
            tiers = read;
        }
    }
}

/// A thousand runs that each bring two containers and make those of ten runs before superfluous,
/// but for one in four.
#[test]
fn a_list_costs_the_same_after_a_thousand_runs() {
    let (shelf, mut tiers, mut wanted) =
        (Shelf::default(), NeededTiers::default(), BTreeSet::new());
    let (mut carried, mut written) = (Vec::new(), Vec::new());
    for run in 0..1000 {
        wanted.extend([container(run, 0), container(run, 1)]);
        if run % 4 != 0 && run >= 10 {
            wanted.remove(&container(run - 10, 0));
            wanted.remove(&container(run - 10, 1));
        }
        let before: usize = shelf.0.borrow().values().map(Vec::len).sum();
        let record = shelf.next(tiers, &wanted, false);
        carried.push(encode(&record).len());
        written.push(shelf.0.borrow().values().map(Vec::len).sum::<usize>() - before);
        tiers = shelf.read(&record).0;
    }
    let mean = |of: &[usize]| of.iter().sum::<usize>() / of.len();
    assert!(wanted.len() > 500);
    assert!(mean(&carried[936..]) <= mean(&carried[8..72]) + 80, "{carried:?}");
    assert!(carried.iter().all(|bytes| *bytes < 400), "{carried:?}");
    assert!(mean(&written[488..]) < 450, "{written:?}");
}

#[test]
fn a_word_that_cannot_be_true_is_damage() {
    let word = |class, stretch, ranges: &[(u16, u16)]| Word {
        run: RunId([1; 16]),
        class,
        stretch,
        ranges: ranges.to_vec(),
    };
    assert!(word(1, 7, &[(0, 0), (3, 1023)]).open("x").is_ok());
    for wrong in [
        word(3, 7, &[]),
        word(1, 1 << 22, &[]),
        word(1, 7, &[(4, 3)]),
        word(1, 7, &[(0, 1024)]),
        word(1, 7, &[(0, 5), (5, 6)]),
    ] {
        assert!(wrong.clone().open("x").is_err(), "{wrong:?}");
    }
}
