//! Whether something was changed since an earlier tree: defined here, and nowhere else.

use skellin_store::{Body, Entry, Moment};

use crate::metadata::{Facts, Sort};

/// By what it is told whether something was changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Stamps {
    modified: Moment,
    changed: Moment,
    inode: u64,
    /// Bytes of a file; nothing for what is none.
    size: Option<u64>,
}

/// What stamps say.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Sameness {
    /// It was not changed.
    Same,
    /// It looks unchanged, but was read so soon after its last change that it may have been changed
    /// once more without a trace.
    Doubted,
    /// It was changed, or is something else.
    Different,
}

impl Stamps {
    /// Of what is there now.
    pub fn of_facts(facts: &Facts) -> Self {
        Self {
            modified: facts.modified(),
            changed: facts.changed(),
            inode: facts.inode,
            size: (facts.sort() == Sort::File).then(|| facts.size()),
        }
    }

    /// Of an entry of a tree.
    pub fn of_entry(entry: &Entry) -> Self {
        Self {
            modified: entry.modified,
            changed: entry.changed,
            inode: entry.inode,
            size: match &entry.body {
                Body::File { size, .. } => Some(*size),
                _ => None,
            },
        }
    }

    /// Whether it is what an earlier tree has: of the same size, times and inode; and the change time
    /// lies long enough before the reading that no later change can have left it as it is.
    pub fn compare(&self, known: &Entry) -> Sameness {
        match (*self == Self::of_entry(known), known.unsettled) {
            (true, false) => Sameness::Same,
            (true, true) => Sameness::Doubted,
            (false, _) => Sameness::Different,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use skellin_store::{Owner, Recipe};

    use super::*;

    fn entry(seconds: i64, nanos: u32, inode: u64, size: u64, unsettled: bool) -> Entry {
        let at = Moment { seconds, nanos };
        Entry {
            name: b"a".to_vec(),
            mode: 0o644,
            owner: Owner::default(),
            modified: at,
            changed: at,
            inode,
            links: None,
            unsettled,
            xattrs: Vec::new(),
            body: Body::File { size, recipe: Recipe::Inline(Vec::new()) },
        }
    }

    proptest! {
        #[test]
        fn only_what_shows_no_trace_and_was_read_late_enough_is_the_same(
            a in (0i64..3, 0u32..3, 0u64..3, 0u64..3, any::<bool>()),
            b in (0i64..3, 0u32..3, 0u64..3, 0u64..3, any::<bool>()),
        ) {
            let known = entry(a.0, a.1, a.2, a.3, a.4);
            let now = entry(b.0, b.1, b.2, b.3, b.4);
            let expected = match ((a.0, a.1, a.2, a.3) == (b.0, b.1, b.2, b.3), a.4) {
                (true, false) => Sameness::Same,
                (true, true) => Sameness::Doubted,
                _ => Sameness::Different,
            };
            prop_assert_eq!(Stamps::of_entry(&now).compare(&known), expected);
        }
    }

    #[test]
    fn a_link_in_place_of_a_file_is_different() {
        let file = entry(1, 0, 7, 0, false);
        let link = Entry { body: Body::Link(b"b".to_vec()), ..file.clone() };
        assert_eq!(Stamps::of_entry(&link).compare(&file), Sameness::Different);
    }
}
