//! How much lies at a store's place.

use std::collections::BTreeSet;

use skellin_place::ObjectName;

use crate::{
    error::{Result, StoreError},
    store::{FOLDERS, Store},
    tree::{Item, Recipe, Spot},
};

/// How much room a store takes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    /// Number of containers.
    pub containers: u64,
    /// Bytes of containers, second copies and index.
    pub bytes: u64,
}

/// What lies in one folder of a store's place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holding {
    /// The folder; empty for what lies beside them all.
    pub folder: &'static str,
    /// Number of objects.
    pub objects: u64,
    /// Their bytes.
    pub bytes: u64,
}

impl Store {
    /// How much room the store takes.
    ///
    /// # Errors
    /// If the place fails.
    pub fn usage(&self) -> Result<Usage> {
        let mut usage = Usage::default();
        for (_, size) in self.list_containers()? {
            usage.containers += 1;
            usage.bytes += size;
        }
        for folder in ["index", "spares"] {
            self.place.list(folder, &mut |object| usage.bytes += object.size)?;
        }
        Ok(usage)
    }

    /// The objects in which the content of a file lies; each is told once and noted in `seen`.
    ///
    /// # Errors
    /// If its recipe cannot be read, or a chunk lies nowhere.
    pub fn objects_of(
        &self,
        recipe: &Recipe,
        seen: &mut BTreeSet<u32>,
        each: &mut dyn FnMut(ObjectName),
    ) -> Result<()> {
        let mut items = self.items(recipe);
        while let Some(item) = items.next_item()? {
            let Item::Chunk(chunk) = item else { continue };
            let at = match chunk.spot {
                Spot::At(location) => Some(location.container),
                Spot::Open { .. } | Spot::Unknown => self
                    .index
                    .find(&chunk.fingerprint.prefix(), &self.containers)
                    .map(|location| location.container),
            };
            let number = at.ok_or_else(|| StoreError::Lost(chunk.fingerprint.to_string()))?;
            if seen.insert(number) {
                each(self.containers.get(number).id.object()?);
            }
        }
        Ok(())
    }

    /// What lies at the place, folder by folder.
    ///
    /// # Errors
    /// If the place cannot be listed.
    pub fn holdings(&self) -> Result<Vec<Holding>> {
        let mut found = Vec::new();
        for folder in [""].iter().chain(FOLDERS) {
            let mut holding = Holding { folder, objects: 0, bytes: 0 };
            self.place.list(folder, &mut |object| {
                holding.objects += 1;
                holding.bytes += object.size;
            })?;
            found.push(holding);
        }
        Ok(found)
    }
}
