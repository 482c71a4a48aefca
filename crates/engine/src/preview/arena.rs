//! Sums by directory, packed: a node for each directory, the directories right below one beside
//! each other and sorted by name, so that a path is found by halving.

use crate::run::Change;

/// A number of paths that are no directories, and their bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Share {
    /// Paths.
    pub files: u64,
    /// Bytes.
    pub bytes: u64,
}

impl Share {
    fn add(&mut self, other: Self) {
        self.files += other.files;
        self.bytes += other.bytes;
    }
}

/// How much of a directory becomes what.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Shares {
    /// Not in the newest snapshot.
    pub new: Share,
    /// In it, but different.
    pub changed: Share,
    /// In it, and no longer there.
    pub gone: Share,
    /// As it was.
    pub same: Share,
    /// Left out by a rule, with all that lies below on the same file system.
    pub skipped: Share,
    /// Paths that could not be looked at.
    pub troubles: u64,
}

impl Shares {
    /// What is included.
    #[must_use]
    pub fn taken(&self) -> Share {
        let mut sum = self.new;
        sum.add(self.changed);
        sum.add(self.same);
        sum
    }

    /// What would not stay as it is: new, changed and gone.
    #[must_use]
    pub fn moved(&self) -> Share {
        let mut sum = self.new;
        sum.add(self.changed);
        sum.add(self.gone);
        sum
    }

    /// The share of one kind of change.
    #[must_use]
    pub fn of(&self, change: Change) -> Share {
        match change {
            Change::New => self.new,
            Change::Changed => self.changed,
            Change::Gone => self.gone,
            Change::Same => self.same,
            Change::Skipped => self.skipped,
        }
    }

    /// Counts a path, or several, as one kind of change.
    pub fn count(&mut self, change: Change, files: u64, bytes: u64) {
        let share = match change {
            Change::New => &mut self.new,
            Change::Changed => &mut self.changed,
            Change::Gone => &mut self.gone,
            Change::Same => &mut self.same,
            Change::Skipped => &mut self.skipped,
        };
        share.add(Share { files, bytes });
    }

    /// Adds other shares.
    pub fn add(&mut self, other: &Self) {
        self.new.add(other.new);
        self.changed.add(other.changed);
        self.gone.add(other.gone);
        self.same.add(other.same);
        self.skipped.add(other.skipped);
        self.troubles += other.troubles;
    }
}

/// Number of a directory.
pub(super) type NodeId = u32;

struct Node {
    parent: Option<NodeId>,
    /// Where its name lies; a source has its full path.
    name: (u32, u32),
    /// The directories right below: the first, and how many.
    below: (NodeId, u32),
    shares: Shares,
}

/// All directories that have been met.
#[derive(Default)]
pub(super) struct Arena {
    names: Vec<u8>,
    nodes: Vec<Node>,
    /// The sources come first.
    sources: u32,
}

impl Arena {
    pub fn with_sources<'n>(paths: impl Iterator<Item = &'n [u8]>) -> Self {
        let mut arena = Self::default();
        for path in paths {
            arena.push(None, path);
            arena.sources += 1;
        }
        arena
    }

    fn push(&mut self, parent: Option<NodeId>, name: &[u8]) -> NodeId {
        let start = self.names.len() as u32;
        self.names.extend_from_slice(name);
        let node = Node {
            parent,
            name: (start, self.names.len() as u32),
            below: (0, 0),
            shares: Shares::default(),
        };
        self.nodes.push(node);
        self.nodes.len() as NodeId - 1
    }

    /// Adds the directories below one, sorted by name; the number of the first.
    pub fn add_below<'n>(
        &mut self,
        parent: NodeId,
        names: impl Iterator<Item = &'n [u8]>,
    ) -> NodeId {
        let first = self.nodes.len() as NodeId;
        for name in names {
            self.push(Some(parent), name);
        }
        self.nodes[parent as usize].below = (first, self.nodes.len() as u32 - first);
        first
    }

    /// Adds shares to a directory and all above it.
    pub fn add(&mut self, node: NodeId, shares: &Shares) {
        let mut next = Some(node);
        while let Some(node) = next {
            let node = &mut self.nodes[node as usize];
            node.shares.add(shares);
            next = node.parent;
        }
    }

    fn name(&self, node: NodeId) -> &[u8] {
        let (start, end) = self.nodes[node as usize].name;
        &self.names[start as usize..end as usize]
    }

    /// The directory at a full path.
    pub fn find(&self, path: &[u8]) -> Option<NodeId> {
        let above = (0..self.sources).filter_map(|source| {
            let rest = path.strip_prefix(self.name(source))?;
            (rest.is_empty() || rest.starts_with(b"/") || self.name(source).ends_with(b"/"))
                .then_some((source, rest))
        });
        let (mut node, rest) = above.min_by_key(|(_, rest)| rest.len())?;
        for name in rest.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            let (mut low, count) = self.nodes[node as usize].below;
            let mut high = low + count;
            loop {
                if low >= high {
                    return None;
                }
                let middle = u32::midpoint(low, high);
                match self.name(middle).cmp(name) {
                    std::cmp::Ordering::Less => low = middle + 1,
                    std::cmp::Ordering::Greater => high = middle,
                    std::cmp::Ordering::Equal => {
                        node = middle;
                        break;
                    }
                }
            }
        }
        Some(node)
    }

    pub fn shares(&self, node: NodeId) -> Shares {
        self.nodes[node as usize].shares
    }

    /// The directories right below one, by name, with their shares.
    pub fn below(&self, node: NodeId) -> impl Iterator<Item = (&[u8], Shares)> {
        let (first, count) = self.nodes[node as usize].below;
        (first..first + count).map(|node| (self.name(node), self.shares(node)))
    }

    /// The sum of all sources.
    pub fn total(&self) -> Shares {
        let mut sum = Shares::default();
        (0..self.sources).for_each(|source| sum.add(&self.shares(source)));
        sum
    }
}
