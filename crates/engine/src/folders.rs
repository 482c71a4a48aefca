//! Where configuration, state and cache are on this machine.

use std::path::PathBuf;

use crate::{
    error::{EngineError, Result},
    refusal::Refusal,
};

/// Where configuration, state and cache are.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Folders {
    /// Plans and stores.
    pub config: PathBuf,
    /// What must not be lost lightly.
    pub state: PathBuf,
    /// What can be made again.
    pub cache: PathBuf,
    /// Where to look for what no plan takes; empty for the usual places of the machine.
    pub look_in: Vec<PathBuf>,
    /// The directory in which drives appear, each as one of its own; none for whatever the machine
    /// has mounted.
    pub drives: Option<PathBuf>,
}

impl Folders {
    /// By `--config`, the environment, and the usual places of root and others.
    ///
    /// # Errors
    /// If no home directory to go by.
    pub fn find(
        config: Option<PathBuf>,
        env: &dyn Fn(&str) -> Option<PathBuf>,
        is_root: bool,
    ) -> Result<Self> {
        let own = |variable: &'static str,
                   for_root: &str,
                   xdg: &str,
                   below_home: &str|
         -> Result<PathBuf> {
            if let Some(path) = env(variable) {
                return Ok(path);
            }
            if is_root {
                return Ok(PathBuf::from(for_root));
            }
            let base = env(xdg).or_else(|| env("HOME").map(|home| home.join(below_home)));
            base.map(|base| base.join("skellin"))
                .ok_or_else(|| EngineError::from(Refusal::NoHome { variable }))
        };
        Ok(Self {
            config: match config {
                Some(config) => config,
                None => own("SKELLIN_CONFIG", "/etc/skellin", "XDG_CONFIG_HOME", ".config")?,
            },
            state: own("SKELLIN_STATE", "/var/lib/skellin", "XDG_STATE_HOME", ".local/state")?,
            cache: own("SKELLIN_CACHE", "/var/cache/skellin", "XDG_CACHE_HOME", ".cache")?,
            look_in: Vec::new(),
            drives: env("SKELLIN_DRIVES"),
        })
    }
}
