//! Stores that are made.

use skellin_place::{ObjectName, Place, PlaceErrorKind};

use crate::{
    error::{Result, StoreError},
    format::{
        bounds,
        header::{Header, Layout},
        ids::{Class, StoreId, random},
        keys::{Held, Keys, Secret},
        slot::{self, PassphraseCost},
    },
    opening::unlocking::{HEADER_NAMES, read_header},
    store::Store,
};

/// What a new store is to be like.
#[derive(Clone, Copy, Debug, Default)]
pub struct Creation {
    /// How content is cut and gathered.
    pub layout: Layout,
    /// What it costs to try a passphrase.
    pub cost: PassphraseCost,
    /// The moment, in seconds since 1970.
    pub now: i64,
}

fn name(text: impl Into<String>) -> Result<ObjectName> {
    Ok(ObjectName::new(text)?)
}

impl Store {
    /// Creates a store at an empty place that has the [`FOLDERS`](crate::FOLDERS).
    ///
    /// # Errors
    /// [`StoreError::Occupied`] if there is one already, or if the place fails.
    pub fn create(place: &dyn Place, passphrase: &[u8], creation: Creation) -> Result<StoreId> {
        let [main, spare] = HEADER_NAMES;
        let occupied = || StoreError::Occupied(place.describe());
        if !place.listing("keys")?.is_empty() || place.fetch(&name(main)?, bounds::SMALL).is_ok() {
            return Err(occupied());
        }
        let (store, master) = (StoreId(random()?), Secret::random()?);
        let keys = Keys::from_master(store, 1, &master)?;
        let header = Header {
            version: crate::format::header::VERSION,
            store,
            created: creation.now,
            suite: 1,
            reader_flags: 0,
            writer_flags: 0,
            epoch: 1,
            layout: creation.layout,
            data_key: keys.envelope(Class::Data).public(),
            tree_key: keys.envelope(Class::Tree).public(),
            signing_key: keys.store_key,
        };
        let bytes = header.encode();
        let (id, slot) = {
            let told = slot::Told { label: None, created: Some(creation.now) };
            slot::create(passphrase, creation.cost, 1, &Held::Full(master), &bytes, told)?
        };
        // The header makes it a store, so it comes last.
        for copy in ["b", "a"] {
            place.create(&name(format!("keys/{id}.{copy}"))?, &slot)?;
        }
        for header_name in [spare, main] {
            place.create(&name(header_name)?, &bytes).map_err(|error| match error.kind {
                PlaceErrorKind::Exists => occupied(),
                _ => error.into(),
            })?;
        }
        Ok(store)
    }

    /// The header of the store at a place, which needs no passphrase.
    ///
    /// # Errors
    /// [`StoreError::NoStore`], damage, or a failure of the place.
    pub fn header_at(place: &dyn Place) -> Result<Header> {
        read_header(place)
    }
}
