//! What a verification is asked for, and what it tells.

use std::collections::HashMap;

use crate::{
    format::ids::{ContainerId, Prefix, RunId},
    mending::LostContents,
};

/// How much of the data is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DataShare {
    /// None: structure only.
    None,
    /// So many percent of the bytes: the containers whose last proof is longest ago.
    Percent(u8),
    /// Every container.
    All,
}

/// A file that damage touches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TouchedFile {
    /// The snapshot.
    pub snapshot: RunId,
    /// The full path on the machine.
    pub path: Vec<u8>,
}

/// One piece of damage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// The object at the place.
    pub object: String,
    /// Where in it, if that is known.
    pub offset: Option<u64>,
    /// What is wrong.
    pub why: String,
    /// The files it touches; with another good copy of their content, none.
    pub files: Vec<TouchedFile>,
}

/// What a verification found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VerifyReport {
    /// Snapshots whose structure was walked.
    pub snapshots: u64,
    /// Containers at the place.
    pub containers: u64,
    /// Bytes of containers that were read whole.
    pub bytes_read: u64,
    /// All containers of data, with their bytes.
    pub data: Vec<(ContainerId, u64)>,
    /// Those of them that were read and are what was written.
    pub proven: Vec<ContainerId>,
    /// What is wrong.
    pub damage: Vec<Damage>,
    /// Contents of files and pages of which no copy can be read.
    pub lost: LostContents,
}

/// How far a verification is.
#[derive(Clone, Copy, Debug)]
pub struct VerifyProgress {
    /// Containers proved.
    pub containers_done: usize,
    /// Containers to prove.
    pub containers: usize,
    /// Bytes read.
    pub bytes: u64,
}

/// Something that interrupts long work, and hears how far it is.
pub trait VerifyWatch: Sync {
    /// Whether to stop.
    fn is_cancelled(&self) -> bool;
    /// Told now and then.
    fn progress(&self, progress: VerifyProgress);
}

/// What is wrong, by object; and the contents of which no good copy was found, by the number of
/// what is to blame.
#[derive(Default)]
pub(super) struct Findings {
    pub damage: Vec<Damage>,
    pub bad: HashMap<Prefix, usize>,
}

impl Findings {
    pub(super) fn note(
        &mut self,
        object: impl Into<String>,
        offset: Option<u64>,
        why: String,
    ) -> usize {
        self.damage.push(Damage { object: object.into(), offset, why, files: Vec::new() });
        self.damage.len() - 1
    }

    pub(super) fn lose(&mut self, prefix: Prefix, object: String, why: String) {
        if self.bad.contains_key(&prefix) {
            return;
        }
        let known = self.damage.iter().position(|damage| damage.object == object);
        let cause = known.unwrap_or_else(|| self.note(object, None, why));
        self.bad.insert(prefix, cause);
    }
}
