//! Files with several names: which content is on its way under some name already.

use std::collections::{HashMap, HashSet};

use skellin_store::{Body, Entry};

use super::{Shared, locked};

type Group = (u64, u64);

/// What is known of files with several names.
#[derive(Default)]
pub(super) struct Links {
    /// Groups whose content is being written under some name.
    begun: HashSet<Group>,
    /// Where the content of a group is, as a path below its source that can be opened again.
    pub written: HashMap<Group, Vec<u8>>,
    /// Names to be linked.
    pub repeated: Vec<(Vec<u8>, Entry)>,
}

/// Whether a file's content is already on its way under another name; the name is remembered.
pub(super) fn is_repeated(shared: &Shared<'_>, entry: &Entry, path: &[u8]) -> bool {
    let (Some(group), Body::File { .. }, false) =
        (entry.links, &entry.body, shared.request.dry_run)
    else {
        return false;
    };
    let mut links = locked(&shared.links);
    let repeated = !links.begun.insert(group);
    if repeated {
        links.repeated.push((path.to_vec(), entry.clone()));
    }
    repeated
}

/// A path was written: names of the same group can be linked to it.
pub(super) fn restored(shared: &Shared<'_>, entry: &Entry, path: &[u8]) {
    if let Some(group) = entry.links {
        locked(&shared.links).written.entry(group).or_insert_with(|| path.to_vec());
    }
}
