//! Where tree pages go: one open block and container for all workers of a run.

use std::collections::HashMap;

use crate::{
    block::OpenBlock,
    compress::{Compression, Compressor},
    container::OpenContainer,
    containers::{ContainerIx, Location},
    error::Result,
    ids::{Class, Fingerprint},
    tree::{Annex, PageRef, Spot},
    writing::{Fresh, Writing},
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

    /// Adds a page, unless this run has put it already.
    pub fn put(
        &mut self,
        writing: &Writing,
        fingerprint: Fingerprint,
        body: &[u8],
        spots: &[Spot],
    ) -> Result<PageRef> {
        if self.block.is_empty() {
            self.token = writing.next_token();
        }
        let chunk = self.fingerprints.len() as u16;
        let mine = Fresh::Open { token: self.token, chunk };
        let spot = match writing.claim(&fingerprint, mine) {
            Some(Fresh::At(location)) => Spot::At(location),
            Some(Fresh::Open { token, chunk }) => self.resolve(Spot::Open { token, chunk }),
            None => {
                let spots: Vec<Spot> = spots.iter().map(|spot| self.resolve(*spot)).collect();
                let stored = Annex::attach(body, &spots, self.token, &writing.store.containers);
                self.block.push(&stored);
                self.fingerprints.push(fingerprint);
                let spot = Spot::Open { token: self.token, chunk };
                if self.block.is_full(writing.store.header.layout.tree_block) {
                    self.seal(writing)?;
                }
                self.resolve(spot)
            }
        };
        Ok(PageRef { fingerprint, spot })
    }

    fn seal(&mut self, writing: &Writing) -> Result<()> {
        if self.block.is_empty() {
            return Ok(());
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
            writing.finish_container(container)?;
        } else {
            self.container = Some((number, container));
        }
        Ok(())
    }

    /// Seals the open block and hands the container over, however full.
    pub fn close(&mut self, writing: &Writing) -> Result<()> {
        self.seal(writing)?;
        match self.container.take() {
            Some((_, container)) if !container.is_empty() => writing.finish_container(container),
            _ => Ok(()),
        }
    }
}
