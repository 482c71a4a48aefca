//! Trees of any size, held a page at a time.

use std::{
    cell::{Cell, RefCell},
    collections::BTreeMap,
};

use proptest::prelude::*;

use super::*;
use crate::{
    format::ids::Fingerprint,
    tree::{
        annex::{Hints, Refs},
        entry::{Body, ChunkRef, Moment},
        page::Page,
        spot::Spot,
    },
};

/// Keeps pages in memory, by fingerprint.
#[derive(Default)]
struct Shelf {
    pages: RefCell<BTreeMap<[u8; 32], Vec<u8>>>,
    puts: Cell<usize>,
    longest: Cell<usize>,
}

impl PageSink for Shelf {
    fn put_page(&self, body: &[u8], _: &Refs) -> Result<PageRef> {
        let print = *blake3::hash(body).as_bytes();
        self.puts.set(self.puts.get() + 1);
        self.longest.set(self.longest.get().max(body.len()));
        self.pages.borrow_mut().insert(print, body.to_vec());
        Ok(PageRef { fingerprint: Fingerprint(print), spot: Spot::Unknown })
    }
}

impl Shelf {
    fn page(&self, page: &PageRef) -> Page {
        Page::decode(&self.pages.borrow()[&page.fingerprint.0], &Hints::NONE, "page")
            .expect("decodes")
    }

    fn leaves(&self, root: &PageRef) -> Vec<Page> {
        match self.page(root) {
            Page::Inner(children) => {
                children.iter().flat_map(|(_, child, _)| self.leaves(child)).collect()
            }
            leaf => vec![leaf],
        }
    }

    fn names(&self, root: &PageRef) -> Vec<Vec<u8>> {
        let leaves = self.leaves(root).into_iter();
        leaves
            .flat_map(|leaf| match leaf {
                Page::Entries(entries) => {
                    entries.into_iter().map(|entry| entry.name).collect::<Vec<_>>()
                }
                other => panic!("{other:?}"),
            })
            .collect()
    }

    fn items(&self, root: &PageRef) -> Vec<Item> {
        let leaves = self.leaves(root).into_iter();
        leaves
            .flat_map(|leaf| match leaf {
                Page::Items(items) => items,
                other => panic!("{other:?}"),
            })
            .collect()
    }

    fn depth(&self, root: &PageRef) -> usize {
        match self.page(root) {
            Page::Inner(children) => 1 + self.depth(&children[0].1),
            _ => 1,
        }
    }
}

fn entry(name: Vec<u8>, inode: u64) -> Entry {
    Entry {
        name,
        mode: 0o644,
        owner: Owner { uid: inode as u32 % 3, ..Owner::default() },
        modified: Moment { seconds: inode as i64, nanos: 1 },
        changed: Moment::default(),
        inode,
        links: None,
        unsettled: false,
        xattrs: Vec::new(),
        body: Body::File { size: 0, recipe: Recipe::Inline(Vec::new()) },
    }
}

fn build(shelf: &Shelf, names: impl IntoIterator<Item = Vec<u8>>) -> PageRef {
    let mut builder = TreeBuilder::default();
    for name in names {
        let inode = u64::from(blake3::hash(&name).as_bytes()[0]);
        builder.push(shelf, &entry(name, inode)).expect("pushes");
    }
    builder.finish(shelf).expect("finishes").0
}

fn numbered(count: usize) -> impl Iterator<Item = Vec<u8>> {
    (0..count).map(|number| format!("tide-gauge-{number:08}.csv").into_bytes())
}

#[test]
fn a_huge_directory_is_built_a_page_at_a_time() {
    let shelf = Shelf::default();
    let root = build(&shelf, numbered(200_000));
    assert_eq!(shelf.names(&root).len(), 200_000);
    assert!(shelf.names(&root).into_iter().eq(numbered(200_000)));
    assert!(shelf.longest.get() <= LONG + 1024, "{}", shelf.longest.get());
    let mean = 200_000 / shelf.leaves(&root).len();
    assert!((150..600).contains(&mean), "{mean} entries a page");
    assert_eq!(shelf.depth(&root), 3);
}

#[test]
fn a_change_touches_one_page_of_each_level() {
    let shelf = Shelf::default();
    build(&shelf, numbered(50_000));
    let before = shelf.pages.borrow().len();
    // One name more, in the middle.
    let mut names: Vec<_> = numbered(50_000).collect();
    names.insert(25_000, b"tide-gauge-00024999.csv.bak".to_vec());
    build(&shelf, names);
    let new = shelf.pages.borrow().len() - before;
    assert!(new <= 6, "{new} new pages");
    // One name less, at the front.
    build(&shelf, numbered(50_000).skip(1));
    let newer = shelf.pages.borrow().len() - before - new;
    assert!(newer <= 6, "{newer} new pages");
}

#[test]
fn an_empty_directory_is_one_page_and_always_the_same() {
    let shelf = Shelf::default();
    let (one, two) = (build(&shelf, []), build(&shelf, []));
    assert_eq!(one, two);
    assert_eq!(shelf.names(&one), Vec::<Vec<u8>>::new());
}

fn chunk(seed: u64) -> Item {
    let fingerprint = Fingerprint(*blake3::hash(&seed.to_le_bytes()).as_bytes());
    Item::Chunk(ChunkRef {
        fingerprint,
        length: 40_000 + (seed % 1000) as u32,
        spot: Spot::Unknown,
    })
}

fn recipe(shelf: &Shelf, items: impl IntoIterator<Item = Item>) -> Recipe {
    let mut builder = RecipeBuilder::default();
    for item in items {
        builder.push(shelf, item).expect("pushes");
    }
    builder.finish(shelf).expect("finishes")
}

#[test]
fn few_pieces_stay_in_the_entry_and_many_go_into_pages() {
    let shelf = Shelf::default();
    assert_eq!(recipe(&shelf, []), Recipe::Inline(Vec::new()));
    let eight: Vec<Item> = (0..8).map(chunk).collect();
    assert_eq!(recipe(&shelf, eight.clone()), Recipe::Inline(eight));
    assert_eq!(shelf.puts.get(), 0);
    let many: Vec<Item> = (0..100_000).map(chunk).chain([Item::Hole(1 << 40)]).collect();
    let Recipe::Paged(root, _) = recipe(&shelf, many.clone()) else { panic!("pages") };
    assert_eq!(shelf.items(&root), many);
    assert!(shelf.depth(&root) >= 2);
    // An insertion at the front rewrites the first page and what is above it.
    let before = shelf.pages.borrow().len();
    recipe(&shelf, [chunk(u64::MAX)].into_iter().chain(many));
    let new = shelf.pages.borrow().len() - before;
    assert!(new <= 6, "{new} new pages");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn every_set_of_names_comes_back_in_order(
        names in prop::collection::btree_set(prop::collection::vec(1u8..=255, 1..60).prop_map(|mut name| {
            name.iter_mut().filter(|byte| **byte == b'/').for_each(|byte| *byte = b'_');
            name.push(b'x');
            name
        }), 0..400),
    ) {
        let shelf = Shelf::default();
        let root = build(&shelf, names.iter().cloned());
        prop_assert_eq!(shelf.names(&root), names.into_iter().collect::<Vec<_>>());
    }

    #[test]
    fn the_tree_depends_on_the_entries_alone(count in 0usize..3000, drop_every in 2usize..50) {
        let shelf = Shelf::default();
        let some: Vec<_> = numbered(count).enumerate().filter(|(number, _)| number % drop_every != 0).map(|(_, name)| name).collect();
        prop_assert_eq!(build(&shelf, some.clone()), build(&shelf, some));
    }

    #[test]
    fn every_recipe_comes_back(seeds in prop::collection::vec((any::<u16>(), any::<bool>()), 0..3000)) {
        let shelf = Shelf::default();
        let items: Vec<Item> = seeds.iter().map(|(seed, hole)| if *hole { Item::Hole(u64::from(*seed)) } else { chunk(u64::from(*seed)) }).collect();
        match recipe(&shelf, items.clone()) {
            Recipe::Inline(few) => prop_assert_eq!(few, items),
            Recipe::Paged(root, _) => prop_assert_eq!(shelf.items(&root), items),
        }
    }
}
