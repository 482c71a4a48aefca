//! The containers a snapshot needs, told in tiers: what is new stands in the snapshot itself, what is
//! older in pages that many snapshots share. So a snapshot costs the same however many runs have
//! gone before it, and all it needs is read with a few pages.
//!
//! The same thought as in a log-structured merge tree (O'Neil et al., 1996): the newest word on a
//! stretch of containers counts, and tiers are merged when they become long.

use std::collections::BTreeMap;

use minicbor::{Decode, Encode};

use crate::{
    error::{Result, StoreError},
    format::{
        ids::{Class, ContainerId, Fingerprint, RunId},
        signed::{decode, encode},
    },
    store::Store,
    tree::PageSink,
};

/// Level of the pages, as trees count them.
const LEVEL: u8 = 96;
/// So many stretches stand in a snapshot; the first tier has up to `GROWTH` times as many.
const FEW: usize = 12;
/// Each tier holds so many times what the one above it does.
const GROWTH: usize = 4;
/// A page ends once it has so many bytes.
const LONG: usize = 64 << 10;
/// Bits of a container's number that tell it apart from the others of its stretch.
const WIDTH: u32 = 10;

/// Containers of one run and class that lie side by side: 1,024 numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Stretch {
    run: RunId,
    class: Class,
    number: u32,
}

/// Which of a stretch: first and last of each range, counted from its beginning. None: not one.
type Ranges = Vec<(u16, u16)>;

/// What is needed of each stretch of which something is said.
type Words = BTreeMap<Stretch, Ranges>;

/// As records have it.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(array)]
pub(crate) struct Word {
    #[n(0)]
    run: RunId,
    #[n(1)]
    class: u8,
    #[n(2)]
    stretch: u32,
    #[n(3)]
    ranges: Ranges,
}

/// The list as a snapshot carries it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct NeededRecord {
    /// The pages of each tier, the newest tier first.
    #[n(0)]
    tiers: Vec<Vec<Fingerprint>>,
    /// What differs from the tiers.
    #[n(1)]
    newest: Vec<Word>,
}

/// A page of a tier.
#[derive(Encode, Decode)]
#[cbor(array)]
struct ListPage {
    #[n(0)]
    level: u8,
    #[n(1)]
    words: Vec<Word>,
}

#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Tier {
    /// Its pages, as far as they are at the place.
    pages: Vec<Fingerprint>,
    words: Words,
}

/// The tiers below what stands in a snapshot, the newest first.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct NeededTiers(Vec<Tier>);

impl Word {
    fn of((stretch, ranges): (&Stretch, &Ranges)) -> Self {
        let Stretch { run, class, number } = *stretch;
        Self { run, class: class.code(), stretch: number, ranges: ranges.clone() }
    }

    fn open(self, object: &str) -> Result<(Stretch, Ranges)> {
        let wrong = || StoreError::damaged(object, "an impossible list of containers");
        let class = Class::from_code(self.class).ok_or_else(wrong)?;
        let fits = self.stretch >> (u32::BITS - WIDTH) == 0
            && self.ranges.iter().all(|(first, last)| first <= last && *last >> WIDTH == 0)
            && self.ranges.is_sorted_by(|a, b| a.1 < b.0);
        let stretch = Stretch { run: self.run, class, number: self.stretch };
        fits.then_some((stretch, self.ranges)).ok_or_else(wrong)
    }
}

/// Whether the body of a page is a list of containers, which refers to no other content.
pub(crate) fn is_list(body: &[u8]) -> bool {
    let mut decoder = minicbor::Decoder::new(body);
    matches!((decoder.array(), decoder.u8()), (Ok(Some(2)), Ok(LEVEL)))
}

/// The words of a page of a tier.
fn words_of_page(body: &[u8], object: &str) -> Result<Words> {
    let found: ListPage = decode(body, object)?;
    if found.level != LEVEL {
        return Err(StoreError::damaged(object, "it is a page of something else"));
    }
    open_words(found.words, object)
}

/// A page of a tier, whatever becomes of it.
#[cfg(any(test, fuzzing))]
pub(crate) fn read_page(body: &[u8], object: &str) {
    drop(words_of_page(body, object));
}

fn open_words(words: Vec<Word>, object: &str) -> Result<Words> {
    words.into_iter().map(|word| word.open(object)).collect()
}

/// Sorted ids as words.
fn words_of(sorted: &[ContainerId]) -> Words {
    let mut words = Words::new();
    for id in sorted {
        let number = id.sequence >> WIDTH;
        let low = (id.sequence & ((1 << WIDTH) - 1)) as u16;
        let ranges = words.entry(Stretch { run: id.run, class: id.class, number }).or_default();
        match ranges.last_mut() {
            Some((_, last)) if *last + 1 == low => *last = low,
            _ => ranges.push((low, low)),
        }
    }
    words
}

/// Words as sorted ids.
fn ids_of(words: &Words) -> Vec<ContainerId> {
    let mut ids: Vec<ContainerId> = Vec::new();
    for (Stretch { run, class, number }, ranges) in words {
        for low in ranges.iter().flat_map(|(first, last)| *first..=*last) {
            let sequence = number << WIDTH | u32::from(low);
            ids.push(ContainerId { class: *class, run: *run, sequence });
        }
    }
    ids.sort_unstable();
    ids
}

impl NeededTiers {
    /// What the tiers say together.
    fn together(&self) -> Words {
        let mut all = Words::new();
        for tier in self.0.iter().rev() {
            all.extend(tier.words.iter().map(|(stretch, ranges)| (*stretch, ranges.clone())));
        }
        all.retain(|_, ranges| !ranges.is_empty());
        all
    }

    /// What has to be said beyond the tiers so that all together is `wanted`.
    fn differing(&self, wanted: &Words) -> Words {
        let told = self.together();
        let gone = told.keys().filter(|stretch| !wanted.contains_key(stretch));
        let mut differing: Words = gone.map(|stretch| (*stretch, Ranges::new())).collect();
        let new = wanted.iter().filter(|(stretch, ranges)| told.get(stretch) != Some(ranges));
        differing.extend(new.map(|(stretch, ranges)| (*stretch, ranges.clone())));
        differing
    }

    /// Takes up what differs from the tiers, if that is more than a snapshot should carry.
    fn take_up(&mut self, sorted: &[ContainerId]) {
        let mut newer = self.differing(&words_of(sorted));
        if newer.len() <= FEW {
            return;
        }
        let mut most = FEW * GROWTH;
        for at in 0.. {
            if at == self.0.len() {
                self.0.push(Tier::default());
            }
            let is_last = at + 1 == self.0.len();
            let Tier { words: mut merged, .. } = std::mem::take(&mut self.0[at]);
            merged.append(&mut newer);
            if is_last {
                merged.retain(|_, ranges| !ranges.is_empty());
            }
            if merged.len() <= most {
                self.0[at].words = merged;
                return;
            }
            newer = merged;
            most = most.saturating_mul(GROWTH);
        }
    }

    /// Brings what was taken up to the place; `holds` says whether a page is there, where the new
    /// snapshot may refer to it.
    fn write(
        &mut self,
        sink: &dyn PageSink,
        mut holds: impl FnMut(&Fingerprint) -> Result<bool>,
    ) -> Result<()> {
        for tier in &mut self.0 {
            let mut kept = !tier.pages.is_empty();
            for page in &tier.pages {
                kept = kept && holds(page)?;
            }
            if kept {
                continue;
            }
            tier.pages.clear();
            for body in bodies(&tier.words) {
                tier.pages.push(sink.put_page(&body, &Default::default())?.fingerprint);
            }
        }
        Ok(())
    }

    /// What a snapshot carries that needs these containers.
    pub fn record(&self, sorted: &[ContainerId]) -> NeededRecord {
        NeededRecord {
            tiers: self.0.iter().map(|tier| tier.pages.clone()).collect(),
            newest: self.differing(&words_of(sorted)).iter().map(Word::of).collect(),
        }
    }
}

/// The pages of a tier.
fn bodies(words: &Words) -> Vec<Vec<u8>> {
    let (mut bodies, mut page, mut bytes) = (Vec::new(), Vec::new(), 0);
    for word in words.iter().map(Word::of) {
        bytes += 32 + 6 * word.ranges.len();
        page.push(word);
        if bytes >= LONG {
            bytes = 0;
            bodies.push(encode(&ListPage { level: LEVEL, words: std::mem::take(&mut page) }));
        }
    }
    if !page.is_empty() {
        bodies.push(encode(&ListPage { level: LEVEL, words: page }));
    }
    bodies
}

impl Store {
    fn tiers_of(&self, record: &NeededRecord) -> Result<NeededTiers> {
        let read = |pages: &Vec<Fingerprint>| -> Result<Tier> {
            let mut words = Words::new();
            for page in pages {
                let object = format!("the list of containers {page}");
                words.extend(words_of_page(&self.page_body(page)?, &object)?);
            }
            Ok(Tier { pages: pages.clone(), words })
        };
        record.tiers.iter().map(read).collect::<Result<_>>().map(NeededTiers)
    }

    /// The containers that a snapshot needs, sorted.
    ///
    /// # Errors
    /// If a page of its list cannot be read.
    pub(crate) fn needed(&self, record: &NeededRecord) -> Result<Vec<ContainerId>> {
        let mut all = self.tiers_of(record)?.together();
        all.extend(open_words(record.newest.clone(), "a snapshot's list of containers")?);
        Ok(ids_of(&all))
    }

    /// The pages of a snapshot's list.
    pub(crate) fn pages_of_needed(record: &NeededRecord) -> impl Iterator<Item = &Fingerprint> {
        record.tiers.iter().flatten()
    }

    /// The tiers for a snapshot that comes after another, and needs these containers of earlier
    /// runs. Where the other's cannot be read, all is told anew.
    pub(crate) fn next_tiers(
        &self,
        base: Option<&NeededRecord>,
        sorted: &[ContainerId],
        sink: &dyn PageSink,
    ) -> Result<NeededTiers> {
        let mut tiers = match base.map(|base| self.tiers_of(base)) {
            Some(Ok(tiers)) => tiers,
            None => NeededTiers::default(),
            Some(Err(error)) if error.is_unreadable() => NeededTiers::default(),
            Some(Err(error)) => return Err(error),
        };
        tiers.take_up(sorted);
        tiers.write(sink, |page| Ok(self.known_page(page)?.is_some()))?;
        Ok(tiers)
    }
}

#[cfg(test)]
#[path = "needed_tests.rs"]
mod tests;
