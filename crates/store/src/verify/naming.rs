//! Which files damage touches.

use std::collections::{BTreeSet, HashMap, HashSet};

use super::report::{Findings, TouchedFile, VerifyWatch};
use crate::{
    error::{Result, StoreError},
    format::ids::{Fingerprint, Prefix},
    records::snapshot::{ListedSnapshot, Snapshot},
    store::Store,
    tree::{Body, Item, Met, Recipe, TreeWalk},
};

impl Store {
    /// Finds the files that damaged contents touch.
    pub(super) fn name_files(
        &self,
        snapshots: &[(ListedSnapshot, Snapshot)],
        found: &mut Findings,
        watch: &dyn VerifyWatch,
    ) -> Result<()> {
        if found.bad.is_empty() {
            return Ok(());
        }
        let Findings { damage, bad } = found;
        let mut clean: HashSet<Fingerprint> = HashSet::new();
        for (_, snapshot) in snapshots {
            let mut report = |cause: usize, path: Vec<u8>| {
                let file = TouchedFile { snapshot: snapshot.run, path };
                damage[cause].files.push(file);
            };
            for source in &snapshot.sources {
                let root = match self.entry(snapshot.root_page(self), &source.name) {
                    Ok(Some(entry)) => entry,
                    Ok(None) => continue,
                    Err(error) if error.is_unreadable() => {
                        let cause =
                            bad.get(&snapshot.root.prefix()).or_else(|| bad.values().next());
                        if let Some(cause) = cause {
                            report(*cause, source.path.to_vec());
                        }
                        continue;
                    }
                    Err(error) => return Err(error),
                };
                let path = source.path.to_vec();
                self.name_below(root.body, path, bad, &mut clean, &mut report, watch)?;
            }
        }
        Ok(())
    }

    pub(super) fn name_below(
        &self,
        body: Body,
        path: Vec<u8>,
        bad: &HashMap<Prefix, usize>,
        clean: &mut HashSet<Fingerprint>,
        report: &mut dyn FnMut(usize, Vec<u8>),
        watch: &dyn VerifyWatch,
    ) -> Result<()> {
        // With each directory: whether anything below it is touched.
        let mut walk: TreeWalk<'_, bool> = TreeWalk::new(self);
        let mut next = Some((body, path));
        loop {
            if watch.is_cancelled() {
                return Err(StoreError::Cancelled);
            }
            match next.take() {
                Some((Body::Directory { root, .. }, path))
                    if !clean.contains(&root.fingerprint) =>
                {
                    walk.enter(root, path, false);
                }
                Some((Body::File { recipe, .. }, path)) => {
                    let causes = self.bad_items(&recipe, bad)?;
                    if !causes.is_empty() {
                        causes.iter().for_each(|cause| report(*cause, path.clone()));
                        walk.on_the_way().for_each(|open| open.with = true);
                    }
                }
                _ => {}
            }
            match walk.advance()? {
                None => return Ok(()),
                Some(Met::Entry(entry)) => {
                    let path = walk.path_of(&entry.name);
                    next = Some((entry.body, path));
                }
                Some(Met::Left(node)) => {
                    if !node.with {
                        clean.insert(node.root);
                    }
                }
                Some(Met::Lost(node, _)) => {
                    // Everything in the unreadable page: named by the directory.
                    let cause = bad.get(&node.root.prefix()).or_else(|| bad.values().next());
                    if let Some(cause) = cause {
                        report(*cause, node.path);
                    }
                    walk.on_the_way().for_each(|open| open.with = true);
                }
            }
        }
    }

    /// All that is to blame for what is lost of a file.
    fn bad_items(&self, recipe: &Recipe, bad: &HashMap<Prefix, usize>) -> Result<BTreeSet<usize>> {
        let mut causes = BTreeSet::new();
        if let Recipe::Paged(page, _) = recipe
            && let Some(cause) = bad.get(&page.fingerprint.prefix())
        {
            causes.insert(*cause);
            return Ok(causes);
        }
        for item in self.items(recipe) {
            match item {
                Ok(Item::Chunk(chunk)) => {
                    causes.extend(bad.get(&chunk.fingerprint.prefix()));
                }
                Ok(Item::Hole(_)) => {}
                // A page in between, which the walk has noted.
                Err(error) if error.is_unreadable() => {
                    causes.extend(bad.values().next());
                    break;
                }
                Err(error) => return Err(error),
            }
        }
        Ok(causes)
    }
}
