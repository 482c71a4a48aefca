//! The tree of the snapshot under the cursor. What is open and what is selected are paths, so
//! that both stay when the cursor moves in time.

use std::collections::{BTreeSet, HashMap};

use skellin_store::Kind;

use super::worker::{Row, Trouble};

/// The tree as it is shown.
#[derive(Default)]
pub(super) struct Tree {
    listed: HashMap<Option<Vec<u8>>, Result<Vec<Row>, Trouble>>,
    open: BTreeSet<Vec<u8>>,
    pub selected: Option<Vec<u8>>,
    /// Visible rows: depth and row.
    rows: Vec<(usize, Row)>,
    pub trouble: Option<Trouble>,
    /// First row on the screen.
    pub offset: usize,
}

impl Tree {
    /// Forgets what is listed, since it belongs to another snapshot; the paths to list.
    pub fn turn(&mut self) -> Vec<Option<Vec<u8>>> {
        self.listed.clear();
        self.rows.clear();
        self.trouble = None;
        std::iter::once(None).chain(self.open.iter().cloned().map(Some)).collect()
    }

    /// Takes what is in a directory.
    pub fn take(&mut self, path: Option<Vec<u8>>, rows: Result<Vec<Row>, Trouble>) {
        if let (Err(trouble), None) = (&rows, &path) {
            self.trouble = Some(trouble.clone());
        }
        self.listed.insert(path, rows);
        self.rebuild();
    }

    /// Whether anything has been listed yet.
    pub fn is_loaded(&self) -> bool {
        self.listed.contains_key(&None)
    }

    pub fn rows(&self) -> &[(usize, Row)] {
        &self.rows
    }

    pub fn is_open(&self, path: &[u8]) -> bool {
        self.open.contains(path)
    }

    /// Number of the selected row.
    pub fn position(&self) -> usize {
        let selected = self.selected.as_deref();
        self.rows.iter().position(|(_, row)| Some(row.path.as_slice()) == selected).unwrap_or(0)
    }

    pub fn selected_row(&self) -> Option<&Row> {
        let selected = self.selected.as_deref();
        self.rows.iter().map(|(_, row)| row).find(|row| Some(row.path.as_slice()) == selected)
    }

    /// Moves the selection by rows.
    pub fn step(&mut self, by: isize) {
        let to = self.position().saturating_add_signed(by).min(self.rows.len().saturating_sub(1));
        self.selected = self.rows.get(to).map(|(_, row)| row.path.clone()).or(self.selected.take());
    }

    /// Opens or closes the selected directory; a path that has to be listed.
    pub fn toggle(&mut self) -> Option<Vec<u8>> {
        let row = self.selected_row().filter(|row| row.kind == Kind::Directory)?;
        let path = row.path.clone();
        if self.open.remove(&path) {
            self.rebuild();
            return None;
        }
        self.open.insert(path.clone());
        self.rebuild();
        (!self.listed.contains_key(&Some(path.clone()))).then_some(path)
    }

    /// Selects the directory above.
    pub fn up(&mut self) {
        let at = self.position();
        let Some((depth, _)) = self.rows.get(at) else { return };
        let above = self.rows[..at].iter().rev().find(|(other, _)| other < depth);
        if let Some((_, row)) = above {
            self.selected = Some(row.path.clone());
        }
    }

    /// Rows of all open directories, in order.
    fn rebuild(&mut self) {
        let mut rows = Vec::new();
        let mut stack: Vec<(usize, &Row)> = match self.listed.get(&None) {
            Some(Ok(roots)) => roots.iter().rev().map(|row| (0, row)).collect(),
            _ => Vec::new(),
        };
        while let Some((depth, row)) = stack.pop() {
            rows.push((depth, row.clone()));
            if self.open.contains(&row.path)
                && let Some(Ok(below)) = self.listed.get(&Some(row.path.clone()))
            {
                stack.extend(below.iter().rev().map(|row| (depth + 1, row)));
            }
        }
        self.rows = rows;
        if self.selected.is_none() {
            self.selected = self.rows.first().map(|(_, row)| row.path.clone());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(path: &str, kind: Kind) -> Row {
        let name = path.rsplit('/').next().unwrap_or_default().as_bytes().to_vec();
        Row {
            name,
            path: path.as_bytes().to_vec(),
            kind,
            size: 1,
            files: 1,
            modified: 0,
            target: None,
        }
    }

    fn shown(tree: &Tree) -> Vec<(usize, String)> {
        tree.rows()
            .iter()
            .map(|(depth, row)| (*depth, String::from_utf8_lossy(&row.path).into_owned()))
            .collect()
    }

    #[test]
    fn the_selected_path_stays_when_time_moves() {
        let mut tree = Tree::default();
        tree.take(None, Ok(vec![row("/a", Kind::Directory), row("/b", Kind::File)]));
        assert_eq!(tree.toggle(), Some(b"/a".to_vec()));
        tree.take(Some(b"/a".to_vec()), Ok(vec![row("/a/x", Kind::File), row("/a/y", Kind::File)]));
        tree.step(2);
        assert_eq!(tree.selected.as_deref(), Some(b"/a/y".as_slice()));
        // Another snapshot, where the path is missing at first, then a third that has it again.
        assert_eq!(tree.turn(), vec![None, Some(b"/a".to_vec())]);
        tree.take(None, Ok(vec![row("/a", Kind::Directory)]));
        tree.take(Some(b"/a".to_vec()), Ok(vec![row("/a/x", Kind::File)]));
        assert_eq!(shown(&tree), [(0, "/a".to_owned()), (1, "/a/x".to_owned())]);
        assert_eq!(tree.selected_row(), None);
        tree.turn();
        tree.take(None, Ok(vec![row("/a", Kind::Directory)]));
        tree.take(Some(b"/a".to_vec()), Ok(vec![row("/a/y", Kind::File)]));
        assert_eq!(tree.selected_row().map(|row| row.path.clone()), Some(b"/a/y".to_vec()));
        tree.up();
        assert_eq!(tree.selected.as_deref(), Some(b"/a".as_slice()));
        assert_eq!(tree.toggle(), None);
        assert_eq!(shown(&tree), [(0, "/a".to_owned())]);
    }
}
