//! The machine the program runs on: its name, and its stores.

use std::sync::Arc;

use skellin_engine::{Configuration, EngineError, Passphrase, open_place, read_secret};
use skellin_store::{Cache, Store};

/// The machine's own name, which plans may overrule.
pub(crate) fn machine_name() -> String {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    if name.is_empty() { "machine".to_owned() } else { name }
}

/// Opens a store with the passphrase its configuration names.
pub(crate) fn open_configured(
    configuration: &Configuration,
    name: &str,
    passphrase: Option<&Passphrase>,
    cache: Cache,
) -> Result<Arc<Store>, EngineError> {
    let config = configuration.store(name)?;
    let place = open_place(config, &configuration.folders)?;
    let read = match (passphrase, &config.passphrase) {
        (Some(passphrase), _) => passphrase.clone(),
        (None, Some(source)) => read_secret(source, &format!("the store `{name}`"))?,
        (None, None) => return Err(EngineError::NoPassphrase(name.to_owned())),
    };
    Ok(Arc::new(Store::open(place, &read, cache)?))
}
