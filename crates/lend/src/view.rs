//! A snapshot, or a part of it, as a tree of names in which nobody gets above the root.

use std::sync::Arc;

use skellin_engine::FileCursor;
use skellin_store::{Body, EntriesOf, Entry, Moment, PageRef, Recipe, Store};

/// So many links are followed one after the other.
const LINKS: usize = 16;

/// What is lent.
pub struct View {
    store: Arc<Store>,
    root: Root,
    /// When the snapshot was begun: the time of the root.
    began: Moment,
}

enum Root {
    /// A directory, or the sources of a snapshot.
    Page(PageRef),
    /// One file, the only one of the root.
    File(Box<Entry>),
}

/// Something in the view.
#[derive(Clone)]
pub(crate) enum Node {
    Root,
    Entry(Box<Entry>),
}

/// Why something is not to be had.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Missing {
    /// There is no such thing.
    NotThere,
    /// It is something else.
    WrongKind,
    /// The store cannot read it.
    Lost,
}

pub(crate) type Found<T> = Result<T, Missing>;

impl View {
    /// Everything in a snapshot: each source under its name there. `began` in milliseconds since 1970.
    #[must_use]
    pub fn of_snapshot(store: Arc<Store>, root: PageRef, began: i64) -> Self {
        Self { store, root: Root::Page(root), began: moment(began) }
    }

    /// What lies in a directory; or one file, by itself.
    #[must_use]
    pub fn of_entry(store: Arc<Store>, entry: Entry, began: i64) -> Self {
        let root = match &entry.body {
            Body::Directory { root, .. } => Root::Page(*root),
            _ => Root::File(Box::new(entry)),
        };
        Self { store, root, began: moment(began) }
    }

    /// The parts of a path as a client names it; `..` ends at the root.
    pub(crate) fn parts(path: &str) -> Vec<&str> {
        let mut parts = Vec::new();
        for part in path.split('/') {
            match part {
                "" | "." => {}
                ".." => drop(parts.pop()),
                part => parts.push(part),
            }
        }
        parts
    }

    /// What a path names; a link is not followed.
    pub(crate) fn find(&self, parts: &[&str]) -> Found<Node> {
        let mut node = Node::Root;
        for part in parts {
            node = Node::Entry(Box::new(self.child(&node, part)?));
        }
        Ok(node)
    }

    /// As [`find`](Self::find), where a link leads to what it names, as long as that is in the view.
    pub(crate) fn follow(&self, path: &str) -> Found<Node> {
        let mut parts: Vec<String> = Self::parts(path).into_iter().map(str::to_owned).collect();
        for _ in 0..LINKS {
            let mut node = Node::Root;
            let mut led = None;
            for (number, part) in parts.iter().enumerate() {
                let entry = self.child(&node, part)?;
                if let Body::Link(target) = &entry.body {
                    led = Some((number, String::from_utf8(target.clone()).ok()));
                    break;
                }
                node = Node::Entry(Box::new(entry));
            }
            let Some((number, target)) = led else { return Ok(node) };
            // An absolute one means a place on the machine, which is none here.
            let target = target.filter(|target| !target.starts_with('/'));
            let target = target.ok_or(Missing::NotThere)?;
            let before = parts[..number].join("/");
            let after = parts[number + 1..].join("/");
            let path = format!("{before}/{target}/{after}");
            parts = Self::parts(&path).into_iter().map(str::to_owned).collect();
        }
        Err(Missing::NotThere)
    }

    fn child(&self, node: &Node, name: &str) -> Found<Entry> {
        let page = match (node, &self.root) {
            (Node::Root, Root::File(entry)) => {
                return match shown(&entry.name) == name {
                    true => Ok((**entry).clone()),
                    false => Err(Missing::NotThere),
                };
            }
            (Node::Root, Root::Page(page)) => *page,
            (Node::Entry(entry), _) => match &entry.body {
                Body::Directory { root, .. } => *root,
                _ => return Err(Missing::WrongKind),
            },
        };
        if let Some(entry) = self.store.entry(page, name.as_bytes()).map_err(|_| Missing::Lost)? {
            return Ok(entry);
        }
        // A name that is no UTF-8 is shown in a way of our own.
        if !name.contains("\\x") {
            return Err(Missing::NotThere);
        }
        for entry in self.store.entries(page) {
            let entry = entry.map_err(|_| Missing::Lost)?;
            if shown(&entry.name) == name {
                return Ok(entry);
            }
        }
        Err(Missing::NotThere)
    }

    /// What lies in a directory.
    pub(crate) fn list(&self, node: &Node) -> Found<Listing> {
        let page = match (node, &self.root) {
            (Node::Root, Root::File(entry)) => {
                return Ok(Listing { one: Some(entry.clone()), rest: None });
            }
            (Node::Root, Root::Page(page)) => *page,
            (Node::Entry(entry), _) => match &entry.body {
                Body::Directory { root, .. } => *root,
                _ => return Err(Missing::WrongKind),
            },
        };
        let rest = Some(EntriesOf::new(Arc::clone(&self.store), page));
        Ok(Listing { one: None, rest })
    }

    /// Reads a file.
    pub(crate) fn open(&self, recipe: &Recipe) -> FileCursor<Arc<Store>> {
        FileCursor::new(Arc::clone(&self.store), recipe)
    }

    /// When something last changed.
    pub(crate) fn modified(&self, node: &Node) -> Moment {
        match node {
            Node::Root => self.began,
            Node::Entry(entry) => entry.modified,
        }
    }
}

fn moment(milliseconds: i64) -> Moment {
    let nanos = milliseconds.rem_euclid(1000) as u32 * 1_000_000;
    Moment { seconds: milliseconds.div_euclid(1000), nanos }
}

/// The entries of a directory, one after the other.
pub(crate) struct Listing {
    one: Option<Box<Entry>>,
    rest: Option<EntriesOf<Arc<Store>>>,
}

impl Iterator for Listing {
    type Item = Found<Entry>;

    fn next(&mut self) -> Option<Found<Entry>> {
        if let Some(one) = self.one.take() {
            return Some(Ok(*one));
        }
        match self.rest.as_mut()?.next_entry() {
            Ok(entry) => entry.map(Ok),
            Err(_) => {
                self.rest = None;
                Some(Err(Missing::Lost))
            }
        }
    }
}

/// A name as clients see it: text, and bytes that are none as `\xE9`.
pub(crate) fn shown(name: &[u8]) -> String {
    let mut text = String::new();
    for part in name.utf8_chunks() {
        text.push_str(part.valid());
        part.invalid().iter().for_each(|byte| text.push_str(&format!("\\x{byte:02X}")));
    }
    text
}
