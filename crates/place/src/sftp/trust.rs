//! Whether a host is the one that is known.

use std::path::PathBuf;

use russh::keys::{
    HashAlg, PublicKey,
    known_hosts::{known_host_keys_path, learn_known_hosts_path},
};

use super::target::Hop;

/// What is known of a host's key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Trust {
    /// It is the known one.
    Known,
    /// No key of this host is known.
    New,
    /// Another one is known: its hash, the file and the line.
    Changed { known: String, file: PathBuf, line: usize },
}

/// The hash by which people compare keys.
pub(super) fn sha256(key: &PublicKey) -> String {
    key.fingerprint(HashAlg::Sha256).to_string()
}

/// Compares a key with those that are known of a host.
pub(super) fn look(hop: &Hop, key: &PublicKey) -> Trust {
    let mut changed = None;
    for file in &hop.known_hosts {
        // A file that is not there, or has lines of another make, knows nothing.
        for (line, known) in known_host_keys_path(&hop.name, hop.port, file).unwrap_or_default() {
            if known.key_data() == key.key_data() {
                return Trust::Known;
            }
            changed.get_or_insert(Trust::Changed {
                known: sha256(&known),
                file: file.clone(),
                line,
            });
        }
    }
    changed.unwrap_or(Trust::New)
}

/// The kinds of keys that are known of a host, to be asked for first.
pub(super) fn known_algorithms(hop: &Hop) -> Vec<russh::keys::Algorithm> {
    let keys = hop
        .known_hosts
        .iter()
        .flat_map(|file| known_host_keys_path(&hop.name, hop.port, file).unwrap_or_default());
    keys.map(|(_, key)| key.algorithm()).collect()
}

/// Writes down that a host has this key.
pub(super) fn learn(hop: &Hop, key: &PublicKey) -> Result<(), String> {
    let Some(file) = hop.known_hosts.first() else {
        return Err("no file is named for the keys of known hosts".to_owned());
    };
    learn_known_hosts_path(&hop.name, hop.port, key, file)
        .map_err(|error| format!("{}: {error}", file.display()))
}
