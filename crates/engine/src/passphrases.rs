//! The passphrases of a store of the configuration: added, changed together with the key file that
//! holds them, and revoked.

use std::{path::PathBuf, sync::Arc};

use skellin_place::Place;
use skellin_plan::{SecretSource, StoreConfig};
use skellin_store::{NewPassphrase, PassphraseCost, PassphraseSlot, Store, StoreError};

use crate::{
    config::Configuration,
    error::{EngineError, Result},
    new_store::keep_secret,
    places::open_place,
    refusal::Refusal,
    secrets::{Passphrase, read_secret},
};

/// A store's passphrases, opened with one of them.
#[derive(Debug)]
pub struct Passphrases<'a> {
    configuration: &'a Configuration,
    config: &'a StoreConfig,
    place: Arc<dyn Place>,
    present: Passphrase,
}

/// What became of a passphrase that was to be changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Changed {
    /// The id of the new one.
    pub added: String,
    /// The id of the old one.
    pub old: String,
    /// Whether the old one is revoked; else somebody has to update where it is read from first.
    pub is_revoked: bool,
    /// The key file that has the new one.
    pub file: Option<PathBuf>,
}

impl<'a> Passphrases<'a> {
    /// Of a store, by the passphrase the configuration names, or else by what `ask` gives.
    ///
    /// # Errors
    /// If the store cannot be reached, or the passphrase cannot be had.
    pub fn open<E: From<EngineError>>(
        configuration: &'a Configuration,
        name: &str,
        ask: &dyn Fn() -> Result<Passphrase, E>,
    ) -> Result<Self, E> {
        let config = configuration.store(name)?;
        let place = open_place(config, &configuration.folders)?;
        // Whether there is a store shows before anybody types a passphrase.
        Store::header_at(&*place).map_err(EngineError::from)?;
        let present = match &config.passphrase {
            Some(source) => read_secret(source, &format!("store `{name}`"))?,
            None => ask()?,
        };
        Ok(Self { configuration, config, place, present })
    }

    /// The place they are at: of a rotation the drive that is here.
    #[must_use]
    pub fn place(&self) -> String {
        self.place.describe()
    }

    /// The drives of the rotation; each has passphrases of its own.
    #[must_use]
    pub fn drives(&self) -> &[String] {
        &self.config.rotation.drives
    }

    fn error(&self, error: StoreError) -> EngineError {
        EngineError::of_opening(error, &self.config.name)
    }

    /// All of them, the oldest first.
    ///
    /// # Errors
    /// If the passphrase is wrong, or the place fails.
    pub fn list(&self) -> Result<Vec<PassphraseSlot>> {
        Store::passphrases(&*self.place, &self.present).map_err(|error| self.error(error))
    }

    /// Adds one; its id.
    ///
    /// # Errors
    /// If it opens the store already, or the place fails.
    pub fn add(&self, new: &Passphrase, label: Option<&str>, now: i64) -> Result<String> {
        self.add_role(new, label, now, false)
    }

    /// Adds one with which nothing can be written to the store; its id.
    ///
    /// # Errors
    /// As [`add`](Self::add).
    pub fn add_restore_only(
        &self,
        new: &Passphrase,
        label: Option<&str>,
        now: i64,
    ) -> Result<String> {
        self.add_role(new, label, now, true)
    }

    fn add_role(
        &self,
        new: &Passphrase,
        label: Option<&str>,
        now: i64,
        restore_only: bool,
    ) -> Result<String> {
        let cost = PassphraseCost::of_this_machine()?;
        let new = NewPassphrase { passphrase: new, label, restore_only, cost, now: now / 1000 };
        Store::add_passphrase(&*self.place, &self.present, new).map_err(|error| self.error(error))
    }

    /// Puts another one in place of the one in use. The new one opens the store before it is written
    /// to the key file, and is there before the old one is revoked: at every moment one of them works.
    ///
    /// # Errors
    /// If others use the same key file, if it cannot be written, or if the place fails.
    pub fn change(&self, new: &Passphrase, label: Option<&str>, now: i64) -> Result<Changed> {
        let file = match &self.config.passphrase {
            Some(SecretSource::File(file)) => Some(file.clone()),
            _ => None,
        };
        let others = self.others_of(file.as_ref());
        if let (Some(file), false) = (&file, others.is_empty()) {
            let stores = others.into_iter().map(str::to_owned).collect();
            return Err(Refusal::SharedKeyFile { file: file.clone(), stores }.into());
        }
        let own = self.list()?.into_iter().find(|slot| slot.is_own);
        let own = own.ok_or_else(|| self.error(StoreError::WrongPassphrase { slots: 0 }))?;
        let added = self.add(new, label.or(own.label.as_deref()), now)?;
        // Of a rotation the other drives still have the old one alone.
        let is_whole =
            self.drives().len() < 2 && (file.is_some() || self.config.passphrase.is_none());
        if is_whole {
            if let Some(file) = &file {
                keep_secret(file, new, true)?;
            }
            Store::revoke_passphrase(&*self.place, new, &own.id)
                .map_err(|error| self.error(error))?;
        }
        let file = file.filter(|_| is_whole);
        Ok(Changed { added, old: own.id, is_revoked: is_whole, file })
    }

    /// Revokes one by the beginning of its id; the whole id.
    ///
    /// # Errors
    /// If it is the one in use or none, or if the place fails.
    pub fn revoke(&self, id: &str) -> Result<String> {
        Store::revoke_passphrase(&*self.place, &self.present, id).map_err(|error| self.error(error))
    }

    /// Other stores that read their passphrase from a file.
    fn others_of(&self, file: Option<&PathBuf>) -> Vec<&str> {
        let shares = |other: &&StoreConfig| {
            let theirs = match &other.passphrase {
                Some(SecretSource::File(theirs)) => Some(theirs),
                _ => None,
            };
            other.name != self.config.name && theirs.is_some() && theirs == file
        };
        let stores = self.configuration.stores.fine.values();
        stores.filter(shares).map(|other| other.name.as_str()).collect()
    }
}
