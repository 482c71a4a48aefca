//! What stands behind a page's body and is not fingerprinted: hints where its references lie, and what
//! they need.

use std::collections::HashMap;

use super::{
    entry::PageRef,
    needs::{Needs, Within},
    spot::Spot,
};
use crate::{
    containers::{Containers, Location},
    format::{
        container::Salt,
        ids::{Class, ContainerId, RunId},
    },
};

const ANNEX_CONTAINER: usize = 40;
const ANNEX_HINT: usize = 16;
/// No hint.
const NOWHERE: u16 = u16::MAX;
/// In the block in which the page itself lies.
const SAME_BLOCK: u16 = u16::MAX - 1;

/// What is needed is not noted.
const NOT_NOTED: u16 = u16::MAX;

/// What the references of a page point to, in their order: where each lies, and for each that stands
/// for more than itself what all of it needs.
#[derive(Debug, Default)]
pub struct Refs {
    pub(crate) spots: Vec<Spot>,
    pub(crate) needs: Vec<Needs>,
}

impl Refs {
    pub(super) fn push(&mut self, spot: Spot, needs: &Needs) {
        self.spots.push(spot);
        self.needs.push(needs.clone());
    }

    pub(super) fn push_child(&mut self, child: &PageRef, needs: &Needs) {
        self.push(child.spot, needs);
    }

    pub(super) fn clear(&mut self) {
        self.spots.clear();
        self.needs.clear();
    }
}

/// The containers an annex names, by the numbers it gives them.
struct Table<'c> {
    containers: &'c Containers,
    numbers: HashMap<u32, u16>,
    rows: Vec<u8>,
}

impl Table<'_> {
    /// The number of a container; none if it cannot be named.
    fn number(&mut self, container: u32) -> Option<u16> {
        if let Some(number) = self.numbers.get(&container) {
            return Some(*number);
        }
        let known = self.containers.get(container);
        let salt = known.salt.get()?;
        let number = u16::try_from(self.numbers.len()).ok().filter(|n| *n < SAME_BLOCK)?;
        self.rows.extend_from_slice(&known.id.run.0);
        self.rows.extend_from_slice(salt);
        self.rows.extend_from_slice(&known.id.sequence.to_le_bytes());
        self.rows.extend_from_slice(&u32::from(known.id.class.code()).to_le_bytes());
        self.numbers.insert(container, number);
        Some(number)
    }

    /// What a reference needs: how many containers, and which.
    fn needs(&mut self, needs: &Needs, open: u64) -> Vec<u8> {
        let mut numbers = Vec::new();
        for within in needs.within().unwrap_or_default() {
            numbers.push(match within {
                Within::Container(container) => self.number(*container),
                Within::Block(token) => (*token == open).then_some(SAME_BLOCK),
            });
        }
        let noted: Option<Vec<u16>> = numbers.into_iter().collect();
        match noted.filter(|_| needs.within().is_some()) {
            Some(noted) => {
                let count = noted.len() as u16;
                std::iter::once(count).chain(noted).flat_map(u16::to_le_bytes).collect()
            }
            None => NOT_NOTED.to_le_bytes().to_vec(),
        }
    }
}

/// Stored form of a page: length of the body, body, annex. `open` is the token of the block the
/// page will lie in.
pub(crate) fn attach(body: &[u8], refs: &Refs, open: u64, containers: &Containers) -> Vec<u8> {
    let mut table = Table { containers, numbers: HashMap::new(), rows: Vec::new() };
    let mut hints = Vec::with_capacity(refs.spots.len() * ANNEX_HINT);
    for spot in &refs.spots {
        let (container, block, chunk, offset, length) = match spot {
            Spot::At(at) => {
                let number = table.number(at.container);
                (number.unwrap_or(NOWHERE), at.block, at.chunk, at.offset, at.length)
            }
            Spot::Open { token, chunk } if *token == open => (SAME_BLOCK, 0, *chunk, 0, 0),
            Spot::Open { .. } | Spot::Unknown => (NOWHERE, 0, 0, 0, 0),
        };
        for half in [container, block, chunk, 0] {
            hints.extend_from_slice(&half.to_le_bytes());
        }
        hints.extend_from_slice(&offset.to_le_bytes());
        hints.extend_from_slice(&length.to_le_bytes());
    }
    for needs in &refs.needs {
        hints.extend(table.needs(needs, open));
    }
    let size = (body.len() as u32).to_le_bytes();
    let count = (table.numbers.len() as u32).to_le_bytes();
    [size.as_slice(), body, &count, &table.rows, &hints].concat()
}

/// The hints of an annex. They need not be true, only never dangerous: whoever follows one checks the
/// fingerprint, and what is needed was true when it was written, since a container's name is never
/// used for other bytes.
pub(crate) struct Hints<'a> {
    numbers: Vec<Option<u32>>,
    rows: &'a [u8],
    /// Where the page itself lies.
    own: Option<Location>,
}

impl<'a> Hints<'a> {
    /// Of a page that has none.
    #[cfg(test)]
    pub const NONE: Hints<'static> = Hints { numbers: Vec::new(), rows: &[], own: None };

    pub fn of(annex: &'a [u8], own: Location, containers: &Containers) -> Self {
        let none = Self { numbers: Vec::new(), rows: &[], own: Some(own) };
        let Some((count, rest)) = annex.split_first_chunk::<4>() else { return none };
        let size = (u32::from_le_bytes(*count) as usize).saturating_mul(ANNEX_CONTAINER);
        let Some((table, rows)) = rest.split_at_checked(size) else { return none };
        let number = |row: &[u8]| {
            let (mut run, mut salt): ([u8; 16], Salt) = ([0; 16], [0; 16]);
            run.copy_from_slice(&row[..16]);
            salt.copy_from_slice(&row[16..32]);
            let sequence = u32::from_le_bytes([row[32], row[33], row[34], row[35]]);
            let id = ContainerId { class: Class::from_code(row[36])?, run: RunId(run), sequence };
            Some(containers.number(id, Some(&salt)))
        };
        let numbers = table.chunks_exact(ANNEX_CONTAINER).map(number).collect();
        Self { numbers, rows, own: Some(own) }
    }

    fn container(&self, number: u16) -> Option<u32> {
        match number {
            SAME_BLOCK => self.own.map(|own| own.container),
            number => self.numbers.get(usize::from(number)).copied().flatten(),
        }
    }

    /// Where the reference of this number lies.
    pub(super) fn spot(&self, number: usize) -> Spot {
        let at = number.saturating_mul(ANNEX_HINT);
        let row = self.rows.get(at..at.saturating_add(ANNEX_HINT));
        let (Some(row), Some(own)) = (row, self.own) else { return Spot::Unknown };
        let half = |at: usize| u16::from_le_bytes([row[at], row[at + 1]]);
        let word = |at: usize| u32::from_le_bytes([row[at], row[at + 1], row[at + 2], row[at + 3]]);
        if half(0) == SAME_BLOCK {
            return Spot::At(Location { chunk: half(4), ..own });
        }
        self.container(half(0)).map_or(Spot::Unknown, |container| {
            Spot::At(Location {
                container,
                block: half(2),
                chunk: half(4),
                offset: word(8),
                length: word(12),
            })
        })
    }

    /// What the references need that stand for more than themselves, behind the places of all
    /// `references`. Earlier writers noted none.
    pub(super) fn needs(&self, references: usize) -> impl Iterator<Item = Needs> {
        let mut rest = self.rows.get(references.saturating_mul(ANNEX_HINT)..).unwrap_or_default();
        std::iter::from_fn(move || {
            let mut half = || {
                let (half, behind) = rest.split_first_chunk::<2>()?;
                rest = behind;
                Some(u16::from_le_bytes(*half))
            };
            let count = half()?;
            if count == NOT_NOTED {
                return Some(Needs::default());
            }
            let noted = (0..count).map(|_| half().and_then(|number| self.container(number)));
            let noted: Option<Vec<u32>> = noted.collect();
            Some(noted.map_or(Needs::default(), |noted| {
                Needs::of(noted.into_iter().map(Within::Container).collect())
            }))
        })
    }
}

/// Body and annex of a stored page.
pub(crate) fn split(stored: &[u8]) -> Option<(&[u8], &[u8])> {
    let (length, rest) = stored.split_first_chunk::<4>()?;
    rest.split_at_checked(u32::from_le_bytes(*length) as usize)
}
