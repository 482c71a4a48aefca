//! Where tree pages go: one open block and container for all workers of a run. A container that is full
//! is handed back, so that nobody brings it to the place while all others wait for the writer.

use std::collections::HashMap;

use crate::{
    containers::{ContainerIx, Location},
    error::Result,
    format::{
        block::OpenBlock,
        compress::{Compression, Compressor},
        container::OpenContainer,
        ids::{Class, Fingerprint},
    },
    tree::{Needs, PageRef, Refs, Spot, Within, attach},
    writing::work::{Fresh, Writing},
};

pub(crate) struct TreeWriter {
    compressor: Compressor,
    block: OpenBlock,
    fingerprints: Vec<Fingerprint>,
    token: u64,
    container: Option<(ContainerIx, OpenContainer)>,
    /// Where the blocks went that were open once.
    sealed: HashMap<u64, Location>,
}

impl TreeWriter {
    pub fn new(compression: Compression) -> Result<Self> {
        Ok(Self {
            compressor: Compressor::new(compression)?,
            block: OpenBlock::default(),
            fingerprints: Vec::new(),
            token: 0,
            container: None,
            sealed: HashMap::new(),
        })
    }

    /// A spot in a block that has been sealed since becomes a location.
    pub fn resolve(&self, spot: Spot) -> Spot {
        match spot {
            Spot::Open { token, chunk } => match self.sealed.get(&token) {
                Some(at) => Spot::At(Location { chunk, ..*at }),
                None => spot,
            },
            other => other,
        }
    }

    /// As [`resolve`](Self::resolve), for what something needs.
    fn resolve_needs(&self, needs: &Needs) -> Needs {
        let resolved = |within: &Within| match within {
            Within::Block(token) => match self.sealed.get(token) {
                Some(at) => Within::Container(at.container),
                None => *within,
            },
            Within::Container(_) => *within,
        };
        needs.within().map_or(Needs::default(), |within| {
            let mut within: Vec<Within> = within.iter().map(resolved).collect();
            within.sort_unstable();
            within.dedup();
            Needs::of(within)
        })
    }

    /// Adds a page, unless this run has put it already; with a container that became full by it.
    pub fn put(
        &mut self,
        writing: &Writing,
        fingerprint: Fingerprint,
        body: &[u8],
        refs: &Refs,
    ) -> Result<(PageRef, Option<OpenContainer>)> {
        let mut full = None;
        if self.block.is_empty() {
            self.token = writing.next_token();
        }
        let chunk = self.fingerprints.len() as u16;
        let mine = Fresh::Open { token: self.token, chunk };
        let spot = match writing.claim(&fingerprint, mine) {
            Some(Fresh::At(location)) => Spot::At(location),
            Some(Fresh::Open { token, chunk }) => self.resolve(Spot::Open { token, chunk }),
            None => {
                let refs = Refs {
                    spots: refs.spots.iter().map(|spot| self.resolve(*spot)).collect(),
                    needs: refs.needs.iter().map(|needs| self.resolve_needs(needs)).collect(),
                };
                let stored = attach(body, &refs, self.token, &writing.store.containers);
                self.block.push(&stored);
                self.fingerprints.push(fingerprint);
                let spot = Spot::Open { token: self.token, chunk };
                if self.block.is_full(writing.store.header.layout.tree_block) {
                    full = self.seal(writing)?;
                }
                self.resolve(spot)
            }
        };
        Ok((PageRef { fingerprint, spot }, full))
    }

    fn seal(&mut self, writing: &Writing) -> Result<Option<OpenContainer>> {
        if self.block.is_empty() {
            return Ok(None);
        }
        let (number, mut container) = match self.container.take() {
            Some(open) => open,
            None => writing.begin_container(Class::Tree)?,
        };
        let (block, offset, length) =
            container.add(&mut self.block, &self.fingerprints, &mut self.compressor)?;
        let at = Location { container: number, block, chunk: 0, offset, length };
        writing.place_block(&self.fingerprints, at);
        self.fingerprints.clear();
        self.sealed.insert(self.token, at);
        if container.is_full(writing.store.full_container()) {
            return Ok(Some(container));
        }
        self.container = Some((number, container));
        Ok(None)
    }

    /// Seals the open block and hands the container over, however full.
    pub fn close(&mut self, writing: &Writing) -> Result<Option<OpenContainer>> {
        if let Some(full) = self.seal(writing)? {
            return Ok(Some(full));
        }
        let open = self.container.take().map(|(_, container)| container);
        Ok(open.filter(|container| !container.is_empty()))
    }
}
