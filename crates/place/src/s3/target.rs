//! Which bucket, and how to get there.

use std::{fmt, path::PathBuf, time::Duration};

use zeroize::Zeroizing;

use crate::Throttles;

/// How the bucket stands in addresses.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum S3Style {
    /// `https://server/bucket/object`
    #[default]
    Path,
    /// `https://bucket.server/object`
    Host,
}

/// What requests are signed with.
#[derive(Clone)]
pub struct S3Key {
    /// Its name.
    pub id: String,
    /// Its secret.
    pub secret: Zeroizing<String>,
    /// What goes with keys that are lent for a while.
    pub token: Option<Zeroizing<String>>,
}

impl fmt::Debug for S3Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "S3Key({})", self.id)
    }
}

/// Where the key comes from.
#[derive(Clone, Debug)]
pub enum S3Login {
    /// From the user.
    Key(S3Key),
    /// From the machine's own role: asked for at this address, and again before it ends.
    Instance(String),
}

/// A part of a bucket.
#[derive(Clone, Debug)]
pub struct S3Target {
    /// The server: `https://host:port`.
    pub endpoint: String,
    /// The bucket.
    pub bucket: String,
    /// What all names begin with, without a slash at its end; may be empty.
    pub prefix: String,
    /// The region requests are signed for.
    pub region: String,
    /// How the bucket stands in addresses.
    pub style: S3Style,
    /// The key.
    pub login: S3Login,
    /// Larger objects are sent in parts of this size, in bytes.
    pub part_size: u64,
    /// The storage class of content, as the server names it; the rest is always at hand.
    pub class: Option<String>,
    /// How long it takes until content of that class can be read, in seconds; none if at once.
    pub thaw: Option<u64>,
    /// How long nobody can delete what is written, in seconds.
    pub lock: Option<u64>,
    /// How many requests at a time for one object, and connections kept.
    pub connections: usize,
    /// So long each step of a request may take.
    pub patience: Duration,
    /// A file with the certificates of a private authority.
    pub authority: Option<PathBuf>,
    /// How fast.
    pub throttles: Throttles,
}

impl S3Target {
    /// As the user would write it.
    #[must_use]
    pub fn describe(&self) -> String {
        match self.prefix.is_empty() {
            true => format!("s3://{}", self.bucket),
            false => format!("s3://{}/{}", self.bucket, self.prefix),
        }
    }
}
