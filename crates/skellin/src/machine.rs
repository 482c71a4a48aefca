//! The machine the program runs on: its name, and its stores.

use std::{path::Path, sync::Arc};

use skellin_engine::{
    Configuration, EngineError, Journal, Passphrase, open_place, read_secret,
    timers::{Setting, Starter},
};
use skellin_store::{Cache, Store};

/// The machine's own name, which plans may overrule.
pub(crate) fn machine_name() -> String {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    if name.is_empty() { "machine".to_owned() } else { name }
}

/// Where processes are listed (proc(5)).
pub(crate) const PROC: &str = "/proc";

/// What timers of this account are written for and compared with.
///
/// # Errors
/// If this program does not find itself.
pub(crate) fn timer_setting(configuration: &Configuration) -> std::io::Result<Setting<'_>> {
    let variables = ["SKELLIN_STATE", "SKELLIN_CACHE", "SKELLIN_DRIVES"];
    let variables = variables.iter().filter_map(|name| {
        let value = std::env::var(name).ok().filter(|value| !value.is_empty())?;
        Some(((*name).to_owned(), value))
    });
    Ok(Setting {
        configuration,
        program: std::env::current_exe()?,
        is_root: rustix::process::geteuid().is_root(),
        variables: variables.collect(),
    })
}

/// What starts runs by themselves on this machine.
pub(crate) fn starter(setting: &Setting<'_>, journal: Option<&Journal>) -> Starter {
    let now = jiff::Timestamp::now().as_millisecond();
    Starter::find(setting, journal, Path::new(PROC), now)
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
        (None, Some(source)) => read_secret(source, &format!("store `{name}`"))?,
        (None, None) => return Err(EngineError::NoPassphrase(name.to_owned())),
    };
    let opened = Store::open(place, &read, cache);
    let store = opened.map_err(|error| EngineError::of_opening(error, name))?;
    store.set_parity(config.parity);
    Ok(Arc::new(store))
}
