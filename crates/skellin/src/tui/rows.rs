//! Rows of directories: what stands in them, and how they travel.

use std::sync::Arc;

use skellin_engine::Change;
use skellin_store::Kind;

/// The first rows are told of soon, the others in larger numbers.
pub(crate) const FIRST: usize = 256;
/// How many rows travel together.
pub(crate) const BATCH: usize = 8192;

/// What the tree shows of an entry, apart from its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct RowFacts {
    pub size: u64,
    pub files: u64,
    /// Seconds since 1970.
    pub modified: i64,
    pub kind: Kind,
    pub change: Change,
    /// Number of the rule that decides, in the sources as they are.
    pub rule: Option<u16>,
}

/// An entry on its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Row {
    pub name: Vec<u8>,
    pub facts: RowFacts,
    pub target: Option<Vec<u8>>,
}

/// Entries of a directory, in the order of their names. Names lie one behind the other, so that a
/// million of them cost little more than their bytes.
#[derive(Clone, Debug, Default)]
pub(crate) struct Batch {
    names: Vec<u8>,
    ends: Vec<u32>,
    facts: Vec<RowFacts>,
    /// Targets of links, by row.
    targets: Vec<(u32, Vec<u8>)>,
}

impl Batch {
    pub fn push(&mut self, row: Row) {
        if let Some(target) = row.target {
            self.targets.push((self.facts.len() as u32, target));
        }
        self.names.extend_from_slice(&row.name);
        self.ends.push(self.names.len() as u32);
        self.facts.push(row.facts);
    }

    pub fn len(&self) -> usize {
        self.facts.len()
    }

    pub fn name(&self, row: usize) -> &[u8] {
        let start = row.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.names[start as usize..self.ends[row] as usize]
    }

    pub fn facts(&self, row: usize) -> &RowFacts {
        &self.facts[row]
    }

    pub fn target(&self, row: usize) -> Option<&[u8]> {
        let found = self.targets.binary_search_by_key(&(row as u32), |(row, _)| *row).ok()?;
        Some(&self.targets[found].1)
    }

    /// The row of a name.
    pub fn find(&self, name: &[u8]) -> Option<usize> {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = usize::midpoint(low, high);
            match self.name(middle).cmp(name) {
                std::cmp::Ordering::Less => low = middle + 1,
                std::cmp::Ordering::Greater => high = middle,
                std::cmp::Ordering::Equal => return Some(middle),
            }
        }
        None
    }
}

impl FromIterator<Row> for Batch {
    fn from_iter<I: IntoIterator<Item = Row>>(rows: I) -> Self {
        let mut batch = Self::default();
        rows.into_iter().for_each(|row| batch.push(row));
        batch
    }
}

/// The rows of a directory as they came: in batches, by name.
#[derive(Clone, Debug, Default)]
pub(crate) struct Rows {
    batches: Vec<Arc<Batch>>,
    /// Number of the first row of each batch.
    starts: Vec<usize>,
    length: usize,
}

impl Rows {
    pub fn take(&mut self, batch: Batch) {
        self.starts.push(self.length);
        self.length += batch.len();
        self.batches.push(Arc::new(batch));
    }

    pub fn len(&self) -> usize {
        self.length
    }

    /// The batch a row stands in, and where.
    pub fn at(&self, row: usize) -> Option<(&Batch, usize)> {
        if row >= self.length {
            return None;
        }
        let number = self.starts.partition_point(|start| *start <= row) - 1;
        Some((&self.batches[number], row - self.starts[number]))
    }

    /// The row of a name that may stand anywhere.
    pub fn search(&self, name: &[u8]) -> Option<usize> {
        self.each().position(|(other, _)| other == name)
    }

    /// The row of a name, where rows stand by name.
    pub fn find(&self, name: &[u8]) -> Option<usize> {
        let first = self.batches.partition_point(|batch| batch.name(batch.len() - 1) < name);
        let found = self.batches.get(first)?.find(name)?;
        Some(self.starts[first] + found)
    }

    pub fn each(&self) -> impl Iterator<Item = (&[u8], &RowFacts)> {
        self.batches
            .iter()
            .flat_map(|batch| (0..batch.len()).map(|row| (batch.name(row), batch.facts(row))))
    }
}

/// A name below a directory.
pub(crate) fn join(above: &[u8], name: &[u8]) -> Vec<u8> {
    let separator: &[u8] = if above.ends_with(b"/") { b"" } else { b"/" };
    [above, separator, name].concat()
}
