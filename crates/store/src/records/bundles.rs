//! Bundles: snapshots as they lie at the place, side by side in one object, so that whoever looks back
//! asks a far place a few times and not once for each. They prove themselves as they do alone; a
//! bundle that is lost or damaged costs time, no more.

use std::{
    collections::{BTreeMap, HashSet},
    sync::PoisonError,
};

use minicbor::{Decode, Encode, bytes::ByteVec};
use skellin_place::ObjectName;

use crate::{
    error::{Result, StoreError},
    format::{
        bounds,
        ids::RunId,
        signed::{decode, encode},
    },
    reading::{
        parallel::{AT_ONCE, side_by_side},
        rereading::twice,
    },
    records::snapshot::ListedSnapshot,
    store::Store,
};

/// So many snapshots that are in no bundle become one, and so many bundles of a level one of the next.
pub(crate) const BUNDLED: usize = 8;
/// A bundle of so many bytes is not merged into a larger one.
const LONG: u64 = 8 << 20;
/// A snapshot of more bytes stays alone.
const LARGE: usize = 256 << 10;

/// The name of a bundle: the run that wrote it, and how often its content was merged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct BundleId {
    pub run: RunId,
    pub level: u8,
}

/// A snapshot in a bundle.
#[derive(Encode, Decode)]
#[cbor(array)]
struct Bundled {
    /// Its name in `snapshots/`.
    #[n(0)]
    leaf: String,
    #[n(1)]
    sealed: ByteVec,
}

type Contents = BTreeMap<String, Vec<u8>>;

/// What a bundle holds, from its body: sealed snapshots by their names.
pub(crate) fn read_body(body: &[u8], object: &str) -> Result<Contents> {
    let bundled: Vec<Bundled> = decode(body, object)?;
    Ok(bundled.into_iter().map(|one| (one.leaf, one.sealed.into())).collect())
}

impl std::fmt::Display for BundleId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "index/{}.{:02x}", self.run, self.level)
    }
}

impl BundleId {
    fn parse(leaf: &str) -> Option<Self> {
        let (run, level) = leaf.split_once('.')?;
        let level = u8::from_str_radix(level, 16).ok()?;
        let id = Self { run: RunId::parse(run)?, level };
        id.to_string().ends_with(leaf).then_some(id)
    }
}

impl Store {
    /// Fetches what these snapshots say from a far place with as few requests as that takes. What
    /// cannot be fetched is asked for again, and its failure told, when it is read.
    pub fn fetch_snapshots(&self, listed: &[ListedSnapshot]) {
        if !self.place.is_far() {
            return;
        }
        let lacks = |one: &&ListedSnapshot| {
            let leaf = one.object.leaf();
            !self.nearby.has_snapshot(leaf) && !self.fetched().contains_key(leaf)
        };
        let mut wanted: Vec<&ListedSnapshot> = listed.iter().filter(lacks).collect();
        if wanted.len() >= BUNDLED
            && let Ok(bundles) = self.listed_bundles()
        {
            let leaves: HashSet<&str> = wanted.iter().map(|one| one.object.leaf()).collect();
            side_by_side(&bundles, AT_ONCE, |(id, _)| {
                let contents = self.read_bundle(*id).unwrap_or_default();
                for (leaf, sealed) in contents {
                    if leaves.contains(leaf.as_str()) {
                        self.hold(leaf, sealed);
                    }
                }
            });
            wanted.retain(lacks);
        }
        side_by_side(&wanted, AT_ONCE, |one| {
            if let Ok(sealed) = self.place.fetch(&one.object, bounds::SNAPSHOT) {
                self.hold(one.object.leaf().to_owned(), sealed);
            }
        });
    }

    fn fetched(&self) -> std::sync::MutexGuard<'_, Contents> {
        self.fetched.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps a sealed snapshot until it is read.
    fn hold(&self, leaf: String, sealed: Vec<u8>) {
        self.nearby.keep_snapshot(&leaf, &sealed);
        if !self.nearby.has_snapshot(&leaf) {
            self.fetched().insert(leaf, sealed);
        }
    }

    /// A sealed snapshot that was fetched ahead.
    pub(crate) fn take_fetched(&self, leaf: &str) -> Option<Vec<u8>> {
        self.fetched().remove(leaf)
    }

    /// The bundles a listing shows, with their sizes.
    pub(crate) fn listed_bundles(&self) -> Result<Vec<(BundleId, u64)>> {
        let listed = self.place.listing("index")?;
        let bundle = |object: &skellin_place::Listed| {
            Some((BundleId::parse(object.name.leaf())?, object.size))
        };
        Ok(listed.iter().filter_map(bundle).collect())
    }

    fn bundle_proof(&self, name: &str, body: &[u8]) -> [u8; 32] {
        let key = self.keys.names.derive("bundle");
        let mut hasher = blake3::Hasher::new_keyed(&key.0);
        *hasher.update(name.as_bytes()).update(body).finalize().as_bytes()
    }

    /// What a bundle holds, from the cache or the place.
    fn read_bundle(&self, id: BundleId) -> Result<Contents> {
        let name = id.to_string();
        let kept = self.nearby.bundle(&name);
        if let Some(contents) = kept.and_then(|kept| self.open_bundle(&name, &kept).ok()) {
            return Ok(contents);
        }
        twice(&*self.place, || {
            let bytes = self.place.fetch(&ObjectName::new(name.as_str())?, bounds::BUNDLE)?;
            let contents = self.open_bundle(&name, &bytes)?;
            self.nearby.keep_bundle(&name, &bytes);
            Ok(contents)
        })
    }

    fn open_bundle(&self, name: &str, bytes: &[u8]) -> Result<Contents> {
        let (_, body) = bytes
            .split_first_chunk::<32>()
            .filter(|(proof, body)| **proof == self.bundle_proof(name, body))
            .ok_or_else(|| StoreError::damaged(name, "it is not authentic"))?;
        read_body(body, name)
    }

    /// Proves a bundle as it lies at the place: it, and those of these snapshots it holds.
    pub(crate) fn examine_bundle(&self, id: BundleId, listed: &[ListedSnapshot]) -> Result<()> {
        let name = id.to_string();
        let contents = twice(&*self.place, || {
            let bytes = self.place.fetch(&ObjectName::new(name.as_str())?, bounds::BUNDLE)?;
            self.open_bundle(&name, &bytes)
        })?;
        for one in listed {
            if let Some(sealed) = contents.get(one.object.leaf()) {
                self.open_snapshot(one, &name, sealed)?;
            }
        }
        Ok(())
    }

    fn write_bundle(&self, id: BundleId, contents: &Contents) -> Result<()> {
        let name = id.to_string();
        let bundled: Vec<Bundled> = contents
            .iter()
            .map(|(leaf, sealed)| Bundled { leaf: leaf.clone(), sealed: sealed.clone().into() })
            .collect();
        let body = encode(&bundled);
        let bytes = [self.bundle_proof(&name, &body).as_slice(), &body].concat();
        self.place.create(&ObjectName::new(name.as_str())?, &bytes)?;
        self.nearby.keep_bundle(&name, &bytes);
        Ok(())
    }

    /// Bundles the snapshots that are in no bundle if there are enough, and merges bundles of which
    /// there are many; `run` names the new ones.
    pub(crate) fn bundle_snapshots(&self, run: RunId) -> Result<()> {
        let present = self.present_snapshots("snapshots")?;
        let there: HashSet<&str> = present.iter().map(|one| one.object.leaf()).collect();
        let mut levels: BTreeMap<u8, Vec<(BundleId, u64, Contents)>> = BTreeMap::new();
        let mut covered: HashSet<String> = HashSet::new();
        for (id, size) in self.listed_bundles()? {
            match self.read_bundle(id) {
                Ok(contents) => {
                    covered.extend(contents.keys().cloned());
                    levels.entry(id.level).or_default().push((id, size, contents));
                }
                // What it held is bundled again.
                Err(error) if error.is_damage() => self.drop_bundle(id)?,
                Err(error) if error.is_unreadable() => {}
                Err(error) => return Err(error),
            }
        }
        let alone: Vec<ListedSnapshot> =
            present.iter().filter(|one| !covered.contains(one.object.leaf())).cloned().collect();
        let mut level = 0;
        if alone.len() >= BUNDLED {
            self.fetch_snapshots(&alone);
            let mut contents = Contents::new();
            for one in &alone {
                let leaf = one.object.leaf();
                let kept = self.nearby.snapshot(leaf).or_else(|| self.take_fetched(leaf));
                // What is kept near may be damaged, and a bundle stays.
                let kept = kept.filter(|kept| self.open_snapshot(one, leaf, kept).is_ok());
                let sealed = kept.map_or_else(
                    || Ok(self.place.fetch(&one.object, bounds::SNAPSHOT)?),
                    Ok::<_, StoreError>,
                );
                match sealed {
                    Ok(sealed) if sealed.len() <= LARGE => {
                        contents.insert(leaf.to_owned(), sealed);
                    }
                    Ok(_) => {}
                    Err(error) if error.is_unreadable() => {}
                    Err(error) => return Err(error),
                }
            }
            if contents.len() < BUNDLED {
                return Ok(());
            }
            let id = BundleId { run, level };
            self.write_bundle(id, &contents)?;
            let size = contents.values().map(|sealed| sealed.len() as u64).sum();
            levels.entry(level).or_default().push((id, size, contents));
        }
        while let Some(mut bundles) = levels.remove(&level) {
            bundles.retain(|(_, size, _)| *size < LONG);
            level = level.saturating_add(1);
            if bundles.len() < BUNDLED || level == u8::MAX {
                continue;
            }
            let inputs: Vec<BundleId> = bundles.iter().map(|(id, ..)| *id).collect();
            let mut merged: Contents =
                bundles.into_iter().flat_map(|(.., contents)| contents).collect();
            merged.retain(|leaf, _| there.contains(leaf.as_str()));
            let id = BundleId { run, level };
            self.write_bundle(id, &merged)?;
            inputs.into_iter().try_for_each(|input| self.drop_bundle(input))?;
            let size = merged.values().map(|sealed| sealed.len() as u64).sum();
            levels.entry(level).or_default().push((id, size, merged));
        }
        Ok(())
    }

    /// Lets bundles go of which most snapshots are gone; what is left in them is bundled again.
    pub(crate) fn drop_stale_bundles(&self) -> Result<()> {
        let present = self.present_snapshots("snapshots")?;
        let there: HashSet<&str> = present.iter().map(|one| one.object.leaf()).collect();
        for (id, _) in self.listed_bundles()? {
            let contents = match self.read_bundle(id) {
                Ok(contents) => contents,
                Err(error) if error.is_unreadable() => continue,
                Err(error) => return Err(error),
            };
            let left = contents.keys().filter(|leaf| there.contains(leaf.as_str())).count();
            if left * 2 < contents.len() {
                self.drop_bundle(id)?;
            }
        }
        Ok(())
    }

    pub(crate) fn drop_bundle(&self, id: BundleId) -> Result<()> {
        let name = id.to_string();
        self.place.delete(&ObjectName::new(name.as_str())?)?;
        self.nearby.forget_bundle(&name);
        Ok(())
    }
}

#[cfg(test)]
#[path = "bundles_tests.rs"]
mod tests;
