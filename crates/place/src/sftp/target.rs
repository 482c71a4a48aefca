//! Which host, and how to log in.

use std::{fmt, path::PathBuf, time::Duration};

use zeroize::Zeroizing;

use crate::Throttles;

/// A host and the login there.
#[derive(Clone)]
pub struct Hop {
    /// The name by which its key is known, as the user writes it.
    pub name: String,
    /// The name or address to connect to.
    pub address: String,
    /// The port.
    pub port: u16,
    /// The user there.
    pub user: String,
    /// Files with private keys, in the order they are tried.
    pub identities: Vec<PathBuf>,
    /// Whether keys of a running agent are tried.
    pub agent: bool,
    /// The user's password, which is sent to the server if nothing else was enough.
    pub password: Option<Zeroizing<String>>,
    /// What opens private keys that are encrypted; it is never sent.
    pub identity_passphrase: Option<Zeroizing<String>>,
    /// Files with the keys of known hosts; what is accepted is written to the first.
    pub known_hosts: Vec<PathBuf>,
}

impl fmt::Debug for Hop {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}:{}", self.user, self.address, self.port)
    }
}

/// A directory on a host.
#[derive(Clone, Debug)]
pub struct SftpTarget {
    /// The host.
    pub hop: Hop,
    /// Hosts to go through, the nearest first.
    pub via: Vec<Hop>,
    /// The directory: a full path, or one below the directory the login leads to.
    pub path: String,
    /// How many connections at most.
    pub connections: usize,
    /// So long each step of a connection, and each request, may take.
    pub patience: Duration,
    /// How fast.
    pub throttles: Throttles,
}

impl SftpTarget {
    /// As the user would write it.
    #[must_use]
    pub fn describe(&self) -> String {
        let Hop { name, port, user, .. } = &self.hop;
        let port = if *port == 22 { String::new() } else { format!(":{port}") };
        let slash = if self.path.starts_with('/') { "" } else { "/~/" };
        format!("sftp://{user}@{name}{port}{slash}{}", self.path)
    }
}
