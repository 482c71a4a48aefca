//! What files on other hosts must be read as.

use std::{
    collections::BTreeMap,
    fs,
    path::Path,
    time::{Duration, SystemTime},
};

use skellin_place::{FarFacts, FarFiles, FarKind, PlaceErrorKind};

/// When all files of [`laid_down`] were modified, in seconds since 1970.
pub const MODIFIED: u64 = 1_790_000_000;

/// What lies where: paths, and what is in them.
pub type Tree = BTreeMap<String, Vec<u8>>;

/// Lays a tree down.
pub fn laid_down(root: &Path) -> Tree {
    let long = |length: usize| (0..length).map(|at| (at * 7 + at / 251) as u8).collect();
    let mut tree = Tree::new();
    tree.insert("plain.csv".to_owned(), b"gauge,metres\n4,1.2\n".to_vec());
    tree.insert("empty".to_owned(), Vec::new());
    tree.insert("in dex/50% & more#1.csv".to_owned(), long(70_000));
    tree.insert("deep/er/\u{e5}rsrapport.txt".to_owned(), long(9));
    tree.insert("large.bin".to_owned(), long((9 << 20) + 3));
    for number in 0..1100 {
        tree.insert(format!("many/{number:04}"), vec![number as u8; 3]);
    }
    for (path, bytes) in &tree {
        let path = root.join(path);
        fs::create_dir_all(path.parent().expect("has one")).expect("makes");
        let time = SystemTime::UNIX_EPOCH + Duration::from_secs(MODIFIED);
        fs::write(&path, bytes).expect("writes");
        fs::File::options()
            .write(true)
            .open(&path)
            .expect("opens")
            .set_modified(time)
            .expect("sets");
    }
    tree
}

fn walk(files: &dyn FarFiles, path: &str, found: &mut BTreeMap<String, FarFacts>) {
    for entry in files.names(path).expect("lists") {
        let below = match path {
            "" => entry.name,
            path => format!("{path}/{}", entry.name),
        };
        if entry.facts.kind == FarKind::Directory {
            walk(files, &below, found);
        } else {
            assert!(found.insert(below.clone(), entry.facts).is_none(), "{below} is told twice");
        }
    }
}

/// Reads all of it, in parts of an odd size.
fn read(files: &dyn FarFiles, path: &str, stride: u64) -> Vec<u8> {
    let mut bytes = Vec::new();
    loop {
        let part = files.part(path, bytes.len() as u64, stride).expect("reads");
        bytes.extend_from_slice(&part.bytes);
        if (part.bytes.len() as u64) < stride {
            return bytes;
        }
    }
}

/// Whether all of a tree is read as it lies there; what was told of each file.
pub fn reads_as_it_lies(files: &dyn FarFiles, tree: &Tree) -> BTreeMap<String, FarFacts> {
    assert_eq!(files.facts("").expect("is there").kind, FarKind::Directory);
    let mut found = BTreeMap::new();
    walk(files, "", &mut found);
    let lost = tree.keys().filter(|path| !found.contains_key(*path)).take(3);
    assert_eq!(lost.collect::<Vec<_>>(), [""; 0]);
    assert_eq!(found.len(), tree.len(), "nothing else is told of");
    for (path, bytes) in tree.iter().filter(|(path, _)| !path.starts_with("many/")) {
        let facts = &found[path];
        assert_eq!((facts.kind, facts.size), (FarKind::File, bytes.len() as u64), "{path}");
        let looked = files.facts(path).expect("is there");
        assert_eq!((looked.kind, looked.size), (facts.kind, facts.size), "{path}");
        assert!(read(files, path, 4 << 20) == *bytes, "{path}");
        // What is told with the content is what listings tell, or an unchanged file would be read.
        let part = files.part(path, 0, 10).expect("reads");
        for told in [part.before, part.after].into_iter().flatten() {
            assert_eq!((told.size, told.modified), (facts.size, facts.modified), "{path}");
            assert_eq!(told.tag, facts.tag, "{path}");
        }
    }
    let path = tree.keys().find(|path| tree[*path].len() > 20).expect("one");
    assert_eq!(files.part(path, 5, 3).expect("reads").bytes, tree[path][5..8]);
    assert_eq!(files.part(path, tree[path].len() as u64, 3).expect("reads").bytes, b"");
    assert_eq!(files.part(path, 1 << 40, 3).expect("reads").bytes, b"");
    for missing in ["none", "none/at/all"] {
        let error = files.facts(missing).expect_err("is not there");
        assert_eq!(error.kind, PlaceErrorKind::NotFound, "{missing}");
        assert_eq!(files.part(missing, 0, 3).expect_err("is none").kind, PlaceErrorKind::NotFound);
    }
    found
}
