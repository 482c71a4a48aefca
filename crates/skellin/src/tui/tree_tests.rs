//! The tree against a plain list of rows.

use std::collections::BTreeMap;

use proptest::prelude::*;
use skellin_engine::Change;
use skellin_store::Kind;

use super::*;
use crate::tui::rows::Row;

fn row(name: &str, kind: Kind) -> Row {
    let facts = RowFacts { size: 1, files: 1, modified: 0, kind, change: Change::Same, rule: None };
    Row { name: name.as_bytes().to_vec(), facts, target: None }
}

fn batch(rows: &[(&str, Kind)]) -> Batch {
    rows.iter().map(|(name, kind)| row(name, *kind)).collect()
}

fn shown(tree: &Tree) -> Vec<(usize, String)> {
    (0..tree.length())
        .map(|number| {
            let row = tree.row(number).expect("a row");
            (row.depth, String::from_utf8_lossy(&row.path).into_owned())
        })
        .collect()
}

#[test]
fn the_selected_path_stays_when_time_moves() {
    let (file, directory) = (Kind::File, Kind::Directory);
    let mut tree = Tree::default();
    tree.take(None, batch(&[("/a", directory), ("/b", file)]), true);
    assert_eq!(tree.toggle(), Some(b"/a".to_vec()));
    tree.take(Some(b"/a".to_vec()), batch(&[("x", file), ("y", file)]), true);
    tree.step(2);
    assert_eq!(tree.selected.as_deref(), Some(b"/a/y".as_slice()));
    // Another snapshot, where the path is missing, then a third that has it again.
    assert_eq!(tree.turn(), vec![None, Some(b"/a".to_vec())]);
    tree.take(None, batch(&[("/a", directory)]), true);
    tree.take(Some(b"/a".to_vec()), batch(&[("x", file)]), true);
    assert_eq!(shown(&tree), [(0, "/a".to_owned()), (1, "/a/x".to_owned())]);
    assert!(!tree.is_present() && tree.selected_row().is_none());
    assert_eq!(tree.position(), 0, "the directory it would be in");
    tree.turn();
    tree.take(Some(b"/a".to_vec()), batch(&[("y", file)]), true);
    tree.take(None, batch(&[("/a", directory)]), true);
    assert!(tree.is_present());
    tree.up();
    assert_eq!(tree.selected.as_deref(), Some(b"/a".as_slice()));
    assert_eq!(tree.toggle(), None);
    assert_eq!(shown(&tree), [(0, "/a".to_owned())]);
}

#[test]
fn sources_stay_open_whatever_their_order() {
    let (file, directory) = (Kind::File, Kind::Directory);
    let mut tree = Tree::default();
    let roots = || batch(&[("/z", directory), ("/a", directory)]);
    tree.take(None, roots(), true);
    tree.open_sources();
    assert_eq!(tree.turn().len(), 3);
    tree.take(None, roots(), true);
    tree.take(Some(b"/z".to_vec()), batch(&[("x", file)]), true);
    tree.take(Some(b"/a".to_vec()), batch(&[("y", file)]), true);
    let paths: Vec<String> = shown(&tree).into_iter().map(|(_, path)| path).collect();
    assert_eq!(paths, ["/z", "/z/x", "/a", "/a/y"]);
}

/// Directories of a small world: what is in each, by its path.
type World = BTreeMap<String, Vec<(String, Kind)>>;

fn worlds() -> impl Strategy<Value = World> {
    let names = proptest::collection::btree_set("[a-c]{1,2}", 0..6);
    proptest::collection::vec((names, any::<u8>()), 7).prop_map(|parts| {
        let mut world = World::new();
        world.insert(String::new(), vec![("/s".to_owned(), Kind::Directory)]);
        let mut waiting = vec!["/s".to_owned()];
        for (names, bits) in parts {
            let Some(path) = waiting.pop() else { break };
            let mut rows = Vec::new();
            for (number, name) in names.into_iter().enumerate() {
                let is_directory = bits >> (number % 8) & 1 == 1;
                if is_directory {
                    waiting.push(format!("{path}/{name}"));
                }
                rows.push((name, if is_directory { Kind::Directory } else { Kind::File }));
            }
            world.insert(path, rows);
        }
        world
    })
}

/// All visible rows, the plain way.
fn plainly(
    world: &World,
    open: &BTreeSet<String>,
    path: &str,
    depth: usize,
    out: &mut Vec<(usize, String)>,
) {
    for (name, _) in world.get(path).into_iter().flatten() {
        let full = if path.is_empty() { name.clone() } else { format!("{path}/{name}") };
        out.push((depth, full.clone()));
        if open.contains(&full) {
            plainly(world, open, &full, depth + 1, out);
        }
    }
}

proptest! {
    #[test]
    fn counting_agrees_with_going_through_all_rows(
        world in worlds(), moves in proptest::collection::vec((0usize..40, any::<bool>()), 0..30), size in 1usize..4,
    ) {
        let mut tree = Tree::default();
        let mut open = BTreeSet::new();
        let give = |tree: &mut Tree, path: &str| {
            let key = (!path.is_empty()).then(|| path.as_bytes().to_vec());
            let rows: Vec<_> = world.get(path).into_iter().flatten().collect();
            for part in rows.chunks(size) {
                let part: Vec<_> = part.iter().map(|(name, kind)| (name.as_str(), *kind)).collect();
                tree.take(key.clone(), batch(&part), false);
            }
            tree.take(key, Batch::default(), true);
        };
        give(&mut tree, "");
        for (to, toggle) in moves {
            tree.select(to);
            let path = String::from_utf8(tree.selected.clone().expect("a path")).expect("text");
            if toggle && tree.selected_row().is_some_and(|row| row.facts.kind == Kind::Directory) {
                if !open.remove(&path) {
                    open.insert(path.clone());
                }
                if let Some(wanted) = tree.toggle() {
                    give(&mut tree, &String::from_utf8(wanted).expect("text"));
                }
            }
            let mut expected = Vec::new();
            plainly(&world, &open, "", 0, &mut expected);
            prop_assert_eq!(shown(&tree), expected.clone());
            let position = expected.iter().position(|(_, shown)| *shown == path);
            prop_assert_eq!(position, tree.is_present().then(|| tree.position()));
        }
    }
}
