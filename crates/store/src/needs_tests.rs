//! What a snapshot says it needs is what it needs.

use std::sync::Arc;

use skellin_place::Place as _;

use crate::{
    Body, Class, ContainerId, Entry, Fingerprint, Item, Recipe, Session, Snapshot, Store,
    protocol_tests::{begin, draft, memory, name, noise, open, put, run},
};

/// A file of the base as a run would take it over.
fn of_base(session: &Arc<Session>, name: &str) -> Entry {
    let store = &session.writing.store;
    let base = session.comparison().base().expect("a base");
    store.entry(base.root_page(store), name.as_bytes()).expect("reads").expect("is there")
}

/// The containers that the pages and chunks of a snapshot lie in, by walking all of it.
fn walked(store: &Store, snapshot: &Snapshot) -> Vec<ContainerId> {
    let lies = |fingerprint: &Fingerprint| {
        let found = store.index.find_where(&fingerprint.prefix(), |_| true).expect("is known");
        store.containers.get(found.container).id
    };
    let (mut stack, mut found) = (vec![snapshot.root_page(store)], Vec::new());
    while let Some(page) = stack.pop() {
        found.push(lies(&page.fingerprint));
        let content = store.page_children(&page).expect("reads");
        stack.extend(content.pages.into_iter().map(|(page, _)| page));
        let mut items = content.items;
        for entry in content.entries {
            match entry.body {
                Body::File { recipe: Recipe::Inline(few), .. } => items.extend(few),
                Body::File { recipe: Recipe::Paged(page, _), .. } => stack.push(page),
                _ => panic!("only files"),
            }
        }
        for item in items {
            if let Item::Chunk(chunk) = item {
                found.push(lies(&chunk.fingerprint));
            }
        }
    }
    found.sort_unstable();
    found.dedup();
    found
}

#[test]
fn a_snapshot_lists_what_it_needs_and_nothing_else() {
    let (memory, place) = memory();
    let first = run(&place, 1, &[("old", noise(1, 400_000)), ("few", noise(2, 3000))]);
    let second = {
        let store = open(&place);
        let session = begin(&store, 2);
        let mut entries = put(&session, &[("many", noise(3, 400_000))]);
        for name in ["old", "few"] {
            let mut entry = of_base(&session, name);
            let Body::File { recipe, .. } = &mut entry.body else { panic!("a file") };
            assert!(session.comparison().take_over(recipe).expect("looks"));
            entries.push(entry);
        }
        entries.sort_by(|a, b| a.name.cmp(&b.name));
        session.finish(draft(&session, &entries)).expect("finishes")
    };
    // Forty runs that change a small file and take a long one over.
    let mut last = second;
    let mut sizes = Vec::new();
    for night in 3..43 {
        let store = open(&place);
        let session = begin(&store, night);
        let mut many = of_base(&session, "many");
        let Body::File { recipe, .. } = &mut many.body else { panic!("a file") };
        let Recipe::Paged(_, needs) = &*recipe else { panic!("a long file") };
        assert!(needs.within().is_some_and(|within| within.len() > 3), "{needs:?}");
        assert!(session.comparison().take_over(recipe).expect("looks"));
        let mut entries = put(&session, &[("few", noise(night as u64, 3000))]);
        entries.push(many);
        last = session.finish(draft(&session, &entries)).expect("finishes");
        sizes.push(store.needed(&last.needed).expect("reads").len());
    }
    let store = open(&place);
    store.load_index_now(crate::index::Listing::After).expect("loads");
    let mut listed = store.needed(&last.needed).expect("reads");
    listed.sort_unstable();
    assert_eq!(listed, walked(&store, &last));
    assert!(listed.iter().all(|container| container.run != first.run), "{listed:?}");
    assert!(sizes.iter().all(|size| *size <= 12), "no more with every run: {sizes:?}");
    // Where one of the containers is gone, what is noted does not stand for it.
    let base = begin(&store, 50);
    let Body::File { recipe, .. } = of_base(&base, "many").body else { panic!("a file") };
    base.abandon();
    let gone = listed.iter().find(|id| id.class == Class::Data && id.run != last.run);
    memory.delete(&name(gone.expect("one of the long file").to_string())).expect("deletes");
    let store = open(&place);
    let session = begin(&store, 51);
    let mut again = of_base(&session, "many");
    let Body::File { recipe: mine, .. } = &mut again.body else { panic!("a file") };
    assert_eq!(std::mem::discriminant(mine), std::mem::discriminant(&recipe));
    assert!(!session.comparison().take_over(mine).expect("looks"));
}
