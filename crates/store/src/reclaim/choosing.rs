//! Which containers a reclaim gives up: those of which nothing is needed, those that waste more than
//! they should, and small ones that one would hold as well.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BinaryHeap, HashMap, HashSet},
};

use super::marking::Marks;
use crate::{
    containers::{ContainerIx, Containers},
    error::Result,
    format::ids::{ContainerId, Prefix},
    index::{Loaded, Record, Records},
};

/// So many small containers of about one size become one.
const MERGED: usize = 4;
/// Containers are of about one size within this factor.
const ALIKE: u64 = 4;
/// What is needed of a container is known by the number of contents, not by their bytes: so much more, in
/// percent, it may waste than that tells.
const UNSURE: u128 = 50;
/// The smallest size that is told apart, in bytes.
const LEAST: u64 = 4 << 10;

/// A container and how much of it is needed.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Weighed {
    pub id: ContainerId,
    /// Its bytes at the place.
    pub size: u64,
    /// The share of its contents that is needed, and lies best here.
    pub needed: f64,
    /// Whether all of its contents are needed, and lie better elsewhere: a reclaim that was stopped left
    /// it.
    pub is_copy: bool,
}

impl Weighed {
    /// Bytes of it that nobody needs.
    pub fn waste(&self) -> u64 {
        ((1.0 - self.needed) * self.size as f64) as u64
    }

    fn kept(&self) -> u64 {
        self.size - self.waste()
    }
}

/// What is given up.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Choice {
    /// Containers of which nothing is needed.
    pub dead: Vec<Weighed>,
    /// Containers whose needed contents are stored anew.
    pub moved: Vec<Weighed>,
    /// Bytes of all containers, and those of them that nobody needs, before.
    pub bytes: u64,
    pub waste: u64,
    /// Whether more would have been moved but for the limit.
    pub is_limited: bool,
}

impl Choice {
    /// Bytes of what is moved that somebody needs.
    pub fn needed(&self) -> u64 {
        self.moved.iter().map(Weighed::kept).sum()
    }
}

/// How far a reclaim goes.
#[derive(Clone, Copy, Debug)]
pub(super) struct Limits {
    /// Percent of the store that may be waste.
    pub waste: u8,
    /// At most so many bytes are stored anew.
    pub moved: u64,
    /// Bytes from which on a container is full.
    pub full: u64,
}

/// Chooses. `must`: containers that have been condemned before and are still there. `spared`: those
/// that are left alone, needed or not.
pub(super) fn choose(
    weighed: &[Weighed],
    must: &HashSet<ContainerId>,
    spared: &dyn Fn(&Weighed) -> bool,
    limits: Limits,
) -> Choice {
    let mut choice = Choice::default();
    let mut kept = Vec::new();
    let mut moved = 0u64;
    for one in weighed {
        choice.bytes += one.size;
        choice.waste += one.waste();
        if one.needed == 0.0 && (must.contains(&one.id) || !spared(one)) {
            choice.dead.push(*one);
        } else if must.contains(&one.id) {
            moved += one.kept();
            choice.moved.push(*one);
        } else if !spared(one) {
            kept.push(*one);
        }
    }
    kept.sort_by(|a, b| a.needed.total_cmp(&b.needed).then(a.id.cmp(&b.id)));
    let mut bytes: u64 = kept.iter().map(|one| one.size).sum();
    let mut waste: u64 = kept.iter().map(Weighed::waste).sum();
    let mut left = Vec::new();
    for one in kept {
        let is_much =
            u128::from(waste) * (100 + UNSURE) > u128::from(bytes) * u128::from(limits.waste);
        let fits = moved.saturating_add(one.kept()) <= limits.moved;
        choice.is_limited |= is_much && !fits;
        if is_much && fits && one.waste() > 0 {
            moved += one.kept();
            (bytes, waste) = (bytes - one.waste(), waste - one.waste());
            choice.moved.push(one);
        } else {
            left.push(one);
        }
    }
    let small = |size: u64| size < limits.full / ALIKE;
    let step = |size: u64| (size.max(LEAST) / LEAST).ilog(ALIKE);
    let mut alike: BTreeMap<(u8, u32), Vec<Weighed>> = BTreeMap::new();
    for one in left.into_iter().filter(|one| small(one.size)) {
        alike.entry((one.id.class.code(), step(one.size))).or_default().push(one);
    }
    for ((class, of), group) in alike {
        // All that is stored anew of a class becomes one container, as long as that is small.
        let of_class = choice.moved.iter().filter(|one| one.id.class.code() == class);
        let becomes: u64 = of_class.map(Weighed::kept).sum();
        let joins = usize::from(becomes > 0 && small(becomes) && step(becomes) == of);
        if group.len() + joins < MERGED {
            continue;
        }
        let kept: u64 = group.iter().map(Weighed::kept).sum();
        match moved.saturating_add(kept) <= limits.moved {
            true => {
                moved += kept;
                choice.moved.extend(group);
            }
            false => choice.is_limited = true,
        }
    }
    // What was written together stays together.
    choice.moved.sort_by_key(|one| one.id);
    choice
}

/// The records of one segment, read in order.
struct Stream<'a> {
    loaded: &'a Loaded,
    records: Records<'a>,
    is_needed: Box<dyn Fn(usize) -> bool + 'a>,
    number: usize,
}

/// All records of several segments in the order of their prefixes.
struct Together<'a> {
    segments: Vec<Stream<'a>>,
    next: BinaryHeap<Reverse<(Prefix, usize, Row)>>,
}

/// A container by its number, and whether what lies there is needed.
type Row = (ContainerIx, bool);

impl<'a> Together<'a> {
    fn new(marks: &'a Marks) -> Result<Self> {
        let segments = marks.segments().map(|(loaded, is_needed)| Stream {
            loaded,
            records: loaded.segment.records("the index"),
            is_needed: Box::new(is_needed),
            number: 0,
        });
        let mut together = Self { segments: segments.collect(), next: BinaryHeap::new() };
        (0..together.segments.len()).try_for_each(|at| together.advance(at))?;
        Ok(together)
    }

    fn advance(&mut self, at: usize) -> Result<()> {
        let Stream { loaded, records, is_needed, number } = &mut self.segments[at];
        if let Some(Record { prefix, container, .. }) = records.next()? {
            if let Some(container) = loaded.numbers.get(container as usize) {
                self.next.push(Reverse((prefix, at, (*container, is_needed(*number)))));
            }
            *number += 1;
        }
        Ok(())
    }

    /// The containers in which one content lies, and whether it is needed.
    fn next_content(&mut self, into: &mut Vec<Row>) -> Result<bool> {
        into.clear();
        let Some(Reverse((prefix, ..))) = self.next.peek().copied() else { return Ok(false) };
        while let Some(Reverse((same, at, row))) = self.next.peek().copied() {
            if same != prefix {
                break;
            }
            self.next.pop();
            self.advance(at)?;
            if !into.contains(&row) {
                into.push(row);
            }
        }
        Ok(true)
    }
}

/// Weighs the containers that are there. Of several copies of a content the one counts that lies in
/// the container of which most is needed.
pub(super) fn weigh(
    marks: &Marks,
    containers: &Containers,
    listed: &[(ContainerId, u64)],
    must: &HashSet<ContainerId>,
) -> Result<Vec<Weighed>> {
    let numbers: HashMap<ContainerIx, usize> =
        listed.iter().enumerate().map(|(at, (id, _))| (containers.number(*id, None), at)).collect();
    let mut counts = vec![(0u64, 0u64); listed.len()];
    let mut rows = Vec::new();
    let mut together = Together::new(marks)?;
    while together.next_content(&mut rows)? {
        for (container, is_needed) in &rows {
            if let Some(at) = numbers.get(container) {
                counts[*at].0 += u64::from(*is_needed);
                counts[*at].1 += 1;
            }
        }
    }
    let share = |(needed, all): &(u64, u64)| *needed as f64 / (*all).max(1) as f64;
    let shares: Vec<f64> = counts.iter().map(share).collect();
    let mut best = vec![0u64; listed.len()];
    let mut together = Together::new(marks)?;
    while together.next_content(&mut rows)? {
        let there = rows.iter().filter(|(_, is_needed)| *is_needed);
        let there = there.filter_map(|(container, _)| numbers.get(container).copied());
        let rank = |at: &usize| (!must.contains(&listed[*at].0), shares[*at]);
        let better = |a: &usize, b: &usize| {
            rank(a).partial_cmp(&rank(b)).unwrap_or(std::cmp::Ordering::Equal).then(b.cmp(a))
        };
        if let Some(at) = there.max_by(better) {
            best[at] += 1;
        }
    }
    let weighed = listed.iter().zip(&counts).zip(best);
    let weighed = weighed.map(|(((id, size), (needed, all)), best)| Weighed {
        id: *id,
        size: *size,
        needed: best as f64 / (*all).max(1) as f64,
        is_copy: best == 0 && *all > 0 && needed == all,
    });
    Ok(weighed.collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::ids::{Class, RunId};
    use proptest::prelude::*;

    const LIMITS: Limits = Limits { waste: 10, moved: u64::MAX, full: 32 << 20 };

    fn weighed(rows: &[(u64, f64)]) -> Vec<Weighed> {
        let one = |(number, (size, needed)): (usize, &(u64, f64))| Weighed {
            id: ContainerId { class: Class::Data, run: RunId([1; 16]), sequence: number as u32 },
            size: *size,
            needed: *needed,
            is_copy: false,
        };
        rows.iter().enumerate().map(one).collect()
    }

    fn numbers(of: &[Weighed]) -> Vec<u32> {
        of.iter().map(|one| one.id.sequence).collect()
    }

    #[test]
    fn dead_ones_go_then_the_emptiest_until_little_is_wasted() {
        const FULL: u64 = 32 << 20;
        let rows = [(FULL, 1.0), (FULL, 0.0), (FULL, 0.2), (FULL, 0.6), (FULL, 0.95)];
        let all = weighed(&rows);
        let choice = choose(&all, &HashSet::new(), &|_| false, LIMITS);
        assert_eq!((numbers(&choice.dead), numbers(&choice.moved)), (vec![1], vec![2, 3]));
        let little = Limits { moved: FULL / 4, ..LIMITS };
        let choice = choose(&all, &HashSet::new(), &|_| false, little);
        assert!(choice.is_limited && numbers(&choice.moved) == [2]);
        let young = |one: &Weighed| one.id.sequence == 1;
        let must = [all[4].id].into();
        let choice = choose(&all, &must, &young, Limits { waste: 90, ..LIMITS });
        assert_eq!((numbers(&choice.dead), numbers(&choice.moved)), (vec![], vec![4]));
    }

    #[test]
    fn small_ones_of_a_size_are_merged_and_never_again_and_again() {
        let rows: Vec<(u64, f64)> =
            (0..9).map(|n| (if n < 5 { 5_000 } else { 400_000 }, 1.0)).collect();
        let choice = choose(&weighed(&rows), &HashSet::new(), &|_| false, LIMITS);
        assert_eq!(numbers(&choice.moved), [0, 1, 2, 3, 4, 5, 6, 7, 8]);
        let three = choose(&weighed(&rows[..3]), &HashSet::new(), &|_| false, LIMITS);
        assert!(three.moved.is_empty());
        // A thousand nights of 2000 bytes each: how often a byte is stored anew grows with the logarithm.
        let (mut there, mut moved) = (Vec::new(), 0u64);
        for _ in 0..1000 {
            there.push((2_000, 1.0));
            let choice = choose(&weighed(&there), &HashSet::new(), &|_| false, LIMITS);
            let gone: HashSet<usize> =
                choice.moved.iter().map(|one| one.id.sequence as usize).collect();
            let sum: u64 = choice.moved.iter().map(|one| one.size).sum();
            moved += sum;
            there = there
                .iter()
                .enumerate()
                .filter(|(at, _)| !gone.contains(at))
                .map(|(_, row)| *row)
                .collect();
            if sum > 0 {
                there.push((sum, 1.0));
            }
        }
        assert!(there.len() < 24, "{}", there.len());
        assert!(moved < 8 * 1000 * 2_000, "{moved}");
    }

    proptest! {
        #[test]
        fn what_is_chosen_leaves_little_waste_and_nothing_twice(rows in prop::collection::vec((1u64..40 << 20, 0u8..5), 0..60)) {
            let rows: Vec<(u64, f64)> = rows.into_iter().map(|(size, quarters)| (size, f64::from(quarters) / 4.0)).collect();
            let all = weighed(&rows);
            let choice = choose(&all, &HashSet::new(), &|_| false, LIMITS);
            let chosen: Vec<u32> = [numbers(&choice.dead), numbers(&choice.moved)].concat();
            let distinct: HashSet<u32> = chosen.iter().copied().collect();
            prop_assert_eq!(distinct.len(), chosen.len());
            let left = all.iter().filter(|one| !distinct.contains(&one.id.sequence));
            let moved: u64 = choice.moved.iter().map(Weighed::kept).sum();
            let (mut bytes, mut waste) = (moved, 0);
            for one in left {
                bytes += one.size;
                waste += one.waste();
            }
            prop_assert!(waste * 100 <= bytes * 10 + 100);
            prop_assert!(choice.dead.iter().all(|one| one.needed == 0.0));
        }
    }
}
