//! The passphrases of a store: each has a slot of its own, which is added and revoked by itself.
//!
//! Nothing here takes the last one away: the slot that opened the store stays, whatever is asked, and
//! is put back if somebody else has revoked it at the same moment.

use skellin_place::{ObjectName, Place};
use zeroize::Zeroizing;

use crate::{
    error::{Result, StoreError},
    format::{
        bounds,
        keys::{Held, ReadingKeys},
        slot::{self, LONGEST_LABEL, PassphraseCost},
    },
    opening::unlocking::{Unlocked, read_slots, try_all},
    store::Store,
};

/// A passphrase of a store, as far as its slot tells of it. Nothing of it is secret, and nothing but
/// its id is proved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PassphraseSlot {
    /// 16 hexadecimal digits.
    pub id: String,
    /// Whose it is, in the words of whoever added it.
    pub label: Option<String>,
    /// When it was added, in seconds since 1970.
    pub created: Option<i64>,
    /// What it costs to try it.
    pub cost: PassphraseCost,
    /// Whether it is the one the store was opened with.
    pub is_own: bool,
}

/// A passphrase to be added.
#[derive(Clone, Copy, Debug)]
pub struct NewPassphrase<'a> {
    /// The passphrase.
    pub passphrase: &'a [u8],
    /// Whose it is; kept in clear.
    pub label: Option<&'a str>,
    /// Whether nothing can be written to the store with it.
    pub restore_only: bool,
    /// What it costs to try it.
    pub cost: PassphraseCost,
    /// The moment, in seconds since 1970.
    pub now: i64,
}

fn copies(id: &str) -> Result<[ObjectName; 2]> {
    let name = |copy| ObjectName::new(format!("keys/{id}.{copy}"));
    Ok([name("b")?, name("a")?])
}

/// The slot a passphrase opens, and what it yields.
fn own_slot(place: &dyn Place, passphrase: &[u8]) -> Result<(String, Unlocked, Vec<u8>)> {
    let (unlocked, opened) = try_all(place, passphrase, None)?;
    let id = opened.slot.trim_start_matches("keys/").split('.').next().unwrap_or_default();
    Ok((id.to_owned(), unlocked, opened.header))
}

impl Store {
    /// All passphrases of the store at a place; the oldest first. `present`: one of them.
    ///
    /// # Errors
    /// [`StoreError::WrongPassphrase`], damage, or a failure of the place.
    pub fn passphrases(place: &dyn Place, present: &[u8]) -> Result<Vec<PassphraseSlot>> {
        let (own, ..) = own_slot(place, present)?;
        let (candidates, _) = read_slots(place)?;
        let told = candidates.into_iter().filter_map(|candidate| {
            let (_, slot) = candidate.copies.into_iter().next()?;
            Some(PassphraseSlot {
                is_own: candidate.id == own,
                id: candidate.id,
                cost: slot.passphrase_cost(),
                created: slot.created,
                label: slot.label,
            })
        });
        let mut told: Vec<_> = told.collect();
        told.sort_by(|a, b| (a.created, &a.id).cmp(&(b.created, &b.id)));
        Ok(told)
    }

    /// Adds a passphrase; returns the id of its slot.
    ///
    /// # Errors
    /// [`StoreError::WrongPassphrase`] if the present one is, [`StoreError::RestoreOnly`] if it only
    /// restores, [`StoreError::KnownPassphrase`] if the new
    /// one opens the store already, or a failure of the place.
    pub fn add_passphrase(
        place: &dyn Place,
        present: &[u8],
        new: NewPassphrase<'_>,
    ) -> Result<String> {
        let (_, unlocked, header) = own_slot(place, present)?;
        let Unlocked { epoch, held: Held::Full(master), .. } = unlocked else {
            return Err(StoreError::RestoreOnly);
        };
        match own_slot(place, new.passphrase) {
            Ok(_) => return Err(StoreError::KnownPassphrase),
            Err(StoreError::WrongPassphrase { .. }) => {}
            Err(error) => return Err(error),
        }
        let label: Option<String> =
            new.label.map(|label| label.chars().take(LONGEST_LABEL).collect());
        let told = slot::Told { label, created: Some(new.now) };
        let held = match new.restore_only {
            true => Held::Reading(Box::new(ReadingKeys::of(&master))),
            false => Held::Full(master),
        };
        let (id, slot) = slot::create(new.passphrase, new.cost, epoch, &held, &header, told)?;
        for copy in copies(&id)? {
            place.create(&copy, &slot)?;
        }
        // What does not open is not added: it is read back as it lies there.
        match own_slot(place, new.passphrase)? {
            (opened, ..) if opened == id => Ok(id),
            _ => Err(StoreError::damaged(format!("keys/{id}"), "it does not open")),
        }
    }

    /// Revokes the passphrase whose id begins so; the whole id. Whoever knew it may have copied the keys
    /// it opened: it unlearns nothing.
    ///
    /// # Errors
    /// [`StoreError::WrongPassphrase`], [`StoreError::OwnPassphrase`] if it is the present one,
    /// [`StoreError::NoSlot`] if none or several ids begin so, or a failure of the place.
    pub fn revoke_passphrase(place: &dyn Place, present: &[u8], id: &str) -> Result<String> {
        let (own, unlocked, _) = own_slot(place, present)?;
        if let Held::Reading(_) = unlocked.held {
            return Err(StoreError::RestoreOnly);
        }
        let listed = place.listing("keys")?;
        let ids =
            listed.iter().map(|object| object.name.leaf().split('.').next().unwrap_or_default());
        let mut fitting: Vec<&str> = ids.filter(|known| known.starts_with(id)).collect();
        fitting.sort_unstable();
        fitting.dedup();
        let [revoked] = fitting.as_slice() else {
            return Err(StoreError::NoSlot(id.to_owned()));
        };
        if *revoked == own {
            return Err(StoreError::OwnPassphrase);
        }
        let mut kept = Vec::new();
        for copy in copies(&own)? {
            if let Ok(bytes) = place.fetch(&copy, bounds::SMALL) {
                kept.push((copy, Zeroizing::new(bytes)));
            }
        }
        // Somebody has revoked it since it was tried: then the other one is the last.
        if kept.is_empty() {
            return Err(StoreError::WrongPassphrase { slots: 0 });
        }
        for copy in copies(revoked)? {
            place.delete(&copy)?;
        }
        // Two who revoke each other at the same moment would leave nobody: what opened the store for
        // this command lies there after it, too.
        for (copy, bytes) in kept {
            match place.create(&copy, &bytes) {
                Err(error) if error.kind == skellin_place::PlaceErrorKind::Exists => {}
                other => other?,
            }
        }
        Ok((*revoked).to_owned())
    }
}
