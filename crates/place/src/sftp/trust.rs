//! Whether a host is the one that is known.

use std::path::PathBuf;

use russh::keys::{HashAlg, PublicKey};

use super::{
    known_hosts::{self, Says},
    target::Hop,
};

/// What is known of a host's key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Trust {
    /// It is the known one.
    Known,
    /// No key of this host is known.
    New,
    /// Another one is known: its hash, the file and the line.
    Changed { known: String, file: PathBuf, line: usize },
    /// It is marked as revoked there.
    Revoked { file: PathBuf, line: usize },
    /// What is known cannot be read: why, the file, and the line if it is one.
    Unclear { why: String, file: PathBuf, line: Option<usize> },
}

/// The hash by which people compare keys.
pub(super) fn sha256(key: &PublicKey) -> String {
    key.fingerprint(HashAlg::Sha256).to_string()
}

/// The hash of a key as it stands in a file.
fn sha256_of(key: &[u8]) -> String {
    PublicKey::from_bytes(key).map_or_else(|_| "another key".to_owned(), |key| sha256(&key))
}

/// Compares a key with those that are known of a host. A revoked key is refused wherever that
/// stands, and what cannot be read makes no key new.
pub(super) fn look(hop: &Hop, key: &PublicKey) -> Trust {
    let Ok(bytes) = key.to_bytes() else {
        let why = "the host key has an unknown form".to_owned();
        let file = hop.known_hosts.first().cloned().unwrap_or_default();
        return Trust::Unclear { why, file, line: None };
    };
    let (mut known, mut otherwise) = (false, None);
    for file in &hop.known_hosts {
        let lines = match known_hosts::lines_of(file, &hop.name, hop.port) {
            Ok(lines) => lines,
            Err(error) => {
                let (why, file) = (format!("it cannot be read: {error}"), file.clone());
                otherwise.get_or_insert(Trust::Unclear { why, file, line: None });
                continue;
            }
        };
        for line in lines {
            let (file, number) = (file.clone(), line.number);
            match line.says {
                Says::Revoked(revoked) if revoked == bytes => {
                    return Trust::Revoked { file, line: number };
                }
                Says::Revoked(_) => {}
                Says::Key(this) if this == bytes => known = true,
                Says::Key(other) => {
                    let changed = Trust::Changed { known: sha256_of(&other), file, line: number };
                    otherwise.get_or_insert(changed);
                }
                Says::Unclear => {
                    let why = "it names the host in an unknown form".to_owned();
                    otherwise.get_or_insert(Trust::Unclear { why, file, line: Some(number) });
                }
            }
        }
    }
    match known {
        true => Trust::Known,
        false => otherwise.unwrap_or(Trust::New),
    }
}

/// The kinds of keys that are known of a host, to be asked for first.
pub(super) fn known_algorithms(hop: &Hop) -> Vec<russh::keys::Algorithm> {
    let lines = hop
        .known_hosts
        .iter()
        .flat_map(|file| known_hosts::lines_of(file, &hop.name, hop.port).unwrap_or_default());
    let keys = lines.filter_map(|line| match line.says {
        Says::Key(key) => PublicKey::from_bytes(&key).ok(),
        _ => None,
    });
    keys.map(|key| key.algorithm()).collect()
}

/// Writes down that a host has this key.
pub(super) fn learn(hop: &Hop, key: &PublicKey) -> Result<(), String> {
    let Some(file) = hop.known_hosts.first() else {
        return Err("no known-hosts file is set".to_owned());
    };
    let failed = |error: &dyn std::fmt::Display| format!("{}: {error}", file.display());
    let bytes = key.to_bytes().map_err(|error| failed(&error))?;
    let algorithm = key.algorithm();
    known_hosts::add(file, &hop.name, hop.port, algorithm.as_str(), &bytes)
        .map_err(|error| failed(&error))
}
