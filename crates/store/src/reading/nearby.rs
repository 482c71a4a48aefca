//! What is kept of a far store on this machine, so that a slow line is asked little: sealed objects
//! as they lie at the place, in the cache's directory, and ranges that were just read, in memory.
//!
//! Nothing of it is believed without the proof that what comes from the place needs as well, and
//! all of it can be lost at any time.

use std::{
    collections::VecDeque,
    fs::{self, File},
    io,
    os::unix::fs::FileExt as _,
    path::{Path, PathBuf},
    sync::{Mutex, PoisonError},
    time::{Duration, SystemTime},
};

use crate::{
    containers::ContainerIx,
    format::ids::{Class, ContainerId, Lineage, RunId, StoreId, hex},
    index::Cache,
};

/// Tree containers of a store are kept up to so many bytes.
const MOST_TREES: u64 = 2 << 30;
/// Ranges are kept in memory up to so many bytes.
const MOST_RANGES: usize = 48 << 20;
/// That the line to a place carries little is believed for so long.
const NARROW_FOR: Duration = Duration::from_secs(24 * 3600);
/// What crashes have left at a place is looked for so often.
const SWEEP_EVERY: Duration = Duration::from_secs(24 * 3600);

/// The cache of one store.
#[derive(Debug)]
pub(crate) struct Nearby {
    /// None where there is no cache, or the place is no further away than it.
    folder: Option<PathBuf>,
    writes: bool,
    ranges: Mutex<Ranges>,
}

#[derive(Debug, Default)]
struct Ranges {
    kept: VecDeque<(ContainerIx, u64, Vec<u8>)>,
    bytes: usize,
}

/// How a store was opened last: its header, and the key slot the passphrase fitted.
pub(crate) struct Opened {
    pub slot: String,
    pub header: Vec<u8>,
}

fn folder_of(cache: &Cache) -> (Option<&Path>, bool) {
    match cache {
        Cache::None => (None, false),
        Cache::ReadOnly(folder) => (Some(folder), false),
        Cache::ReadWrite(folder) => (Some(folder), true),
    }
}

fn opened_file(cache: &Cache, place: &str) -> Option<PathBuf> {
    let name = hex(&blake3::hash(place.as_bytes()).as_bytes()[..16]);
    Some(folder_of(cache).0?.join(format!("opened-{name}")))
}

/// How the store at a place was opened last.
pub(crate) fn last_opened(cache: &Cache, place: &str) -> Option<Opened> {
    let bytes = fs::read(opened_file(cache, place)?).ok()?;
    let end = bytes.iter().position(|byte| *byte == b'\n')?;
    let slot = String::from_utf8(bytes[..end].to_vec()).ok()?;
    Some(Opened { slot, header: bytes[end + 1..].to_vec() })
}

/// Notes how the store at a place was opened.
pub(crate) fn note_opened(cache: &Cache, place: &str, opened: &Opened) {
    if let (Some(file), true) = (opened_file(cache, place), folder_of(cache).1) {
        // A cache that cannot be written costs time, no more.
        let _ = write_private(&file, &[opened.slot.as_bytes(), b"\n", &opened.header].concat());
    }
}

impl Nearby {
    /// For a store that is far away or not.
    pub fn new(cache: &Cache, store: StoreId, is_far: bool) -> Self {
        let (folder, writes) = folder_of(cache);
        let folder = folder.filter(|_| is_far).map(|folder| folder.join(store.to_string()));
        Self { folder, writes, ranges: Mutex::default() }
    }

    fn file(&self, kind: &str, leaf: &str) -> Option<PathBuf> {
        Some(self.folder.as_ref()?.join(kind).join(leaf))
    }

    fn writable(&self, kind: &str, leaf: &str) -> Option<PathBuf> {
        self.file(kind, leaf).filter(|_| self.writes)
    }

    fn keep(&self, kind: &str, leaf: &str, bytes: &[u8]) {
        if let Some(file) = self.writable(kind, leaf) {
            // A cache that cannot be written costs time, no more.
            let _ = write_private(&file, bytes);
        }
    }

    /// A snapshot as it lies at the place.
    pub fn snapshot(&self, leaf: &str) -> Option<Vec<u8>> {
        fs::read(self.file("snapshots", leaf)?).ok()
    }

    /// Whether a snapshot is kept.
    pub fn has_snapshot(&self, leaf: &str) -> bool {
        self.file("snapshots", leaf).is_some_and(|file| file.exists())
    }

    /// A bundle of snapshots as it lies at the place.
    pub fn bundle(&self, name: &str) -> Option<Vec<u8>> {
        fs::read(self.file("bundles", &name.replace('/', "-"))?).ok()
    }

    pub fn keep_bundle(&self, name: &str, bytes: &[u8]) {
        self.keep("bundles", &name.replace('/', "-"), bytes);
    }

    pub fn forget_bundle(&self, name: &str) {
        if let Some(file) = self.writable("bundles", &name.replace('/', "-")) {
            // A file that stays costs room, no more.
            let _ = fs::remove_file(file);
        }
    }

    pub fn keep_snapshot(&self, leaf: &str, sealed: &[u8]) {
        self.keep("snapshots", leaf, sealed);
    }

    /// A part of a tree container.
    pub fn tree_part(&self, id: ContainerId, offset: u64, length: usize) -> Option<Vec<u8>> {
        let file = File::open(self.tree_file(id)?).ok()?;
        let mut part = vec![0; length];
        file.read_exact_at(&mut part, offset).ok()?;
        // What is used lately stays.
        if self.writes {
            let _ = file.set_modified(SystemTime::now());
        }
        Some(part)
    }

    fn tree_file(&self, id: ContainerId) -> Option<PathBuf> {
        self.file("trees", &id.to_string().replace('/', "-")).filter(|_| id.class == Class::Tree)
    }

    /// Whether tree containers are kept.
    pub fn keeps_trees(&self) -> bool {
        self.folder.is_some() && self.writes
    }

    pub fn keep_tree(&self, id: ContainerId, bytes: &[u8]) {
        if let Some(file) = self.tree_file(id).filter(|_| self.writes) {
            let _ = write_private(&file, bytes);
        }
    }

    /// Lets go of the tree containers that were not used for longest.
    pub fn prune(&self) {
        let Some(folder) = self.folder.as_ref().filter(|_| self.writes) else { return };
        let look = |entry: io::Result<fs::DirEntry>| {
            let entry = entry.ok()?;
            let facts = entry.metadata().ok()?;
            Some((facts.modified().ok()?, facts.len(), entry.path()))
        };
        let entries = fs::read_dir(folder.join("trees")).into_iter().flatten();
        let mut files: Vec<_> = entries.filter_map(look).collect();
        files.sort();
        let mut held: u64 = files.iter().map(|(_, size, _)| size).sum();
        for (_, size, path) in files {
            if held <= MOST_TREES {
                return;
            }
            if fs::remove_file(path).is_ok() {
                held -= size;
            }
        }
    }

    /// The run of a plan on a machine that ended last, if none has begun since.
    pub fn last_clean(&self, lineage: Lineage) -> Option<RunId> {
        let text = fs::read_to_string(self.file("clean", &hex(&lineage.0))?).ok()?;
        RunId::parse(text.trim())
    }

    /// A run of a plan on a machine begins: until it ends, nothing is known of it.
    pub fn begin(&self, lineage: Lineage) {
        if let Some(file) = self.writable("clean", &hex(&lineage.0)) {
            let _ = fs::remove_file(file);
        }
    }

    /// A run of a plan on a machine has ended well.
    pub fn end(&self, lineage: Lineage, run: RunId) {
        self.keep("clean", &hex(&lineage.0), run.to_string().as_bytes());
    }

    /// How large containers may be so that the line to the place carries them, in bytes; none if
    /// nothing is known that would limit them.
    pub fn narrow(&self) -> Option<u32> {
        let file = self.file("line", "narrow")?;
        let age = fs::metadata(&file).and_then(|facts| facts.modified()).ok()?.elapsed().ok()?;
        let text = fs::read_to_string(file).ok().filter(|_| age < NARROW_FOR)?;
        text.trim().parse().ok()
    }

    /// Remembers how large they may be.
    pub fn keep_narrow(&self, most: u32) {
        self.keep("line", "narrow", most.to_string().as_bytes());
    }

    /// Whether it is time to look for what crashes have left at the place.
    pub fn is_sweep_due(&self) -> bool {
        let Some(file) = self.file("swept", "last") else { return true };
        let age = fs::metadata(&file).and_then(|facts| facts.modified()).ok();
        let age = age.and_then(|swept| swept.elapsed().ok());
        if age.is_some_and(|age| age < SWEEP_EVERY) {
            return false;
        }
        self.keep("swept", "last", b"");
        true
    }

    /// A part of a container that was read with what is around it.
    pub fn range(&self, container: ContainerIx, offset: u64, length: usize) -> Option<Vec<u8>> {
        let ranges = self.ranges.lock().unwrap_or_else(PoisonError::into_inner);
        ranges.kept.iter().rev().find_map(|(of, from, bytes)| {
            let at = usize::try_from(offset.checked_sub(*from)?).ok()?;
            (*of == container).then_some(())?;
            Some(bytes.get(at..at.checked_add(length)?)?.to_vec())
        })
    }

    pub fn keep_range(&self, container: ContainerIx, offset: u64, bytes: Vec<u8>) {
        let mut ranges = self.ranges.lock().unwrap_or_else(PoisonError::into_inner);
        ranges.bytes += bytes.len();
        ranges.kept.push_back((container, offset, bytes));
        while ranges.bytes > MOST_RANGES
            && let Some((.., dropped)) = ranges.kept.pop_front()
        {
            ranges.bytes -= dropped.len();
        }
    }
}

/// Writes a file only the user can read, whole or not at all.
pub(crate) fn write_private(path: &Path, bytes: &[u8]) -> io::Result<()> {
    use std::{
        io::Write as _,
        os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _},
    };
    let folder = path.parent().ok_or(io::ErrorKind::InvalidInput)?;
    fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    let draft = path.with_extension(format!("part-{}", std::process::id()));
    let mut file =
        fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&draft)?;
    file.write_all(bytes)?;
    drop(file);
    fs::rename(&draft, path)
}

#[cfg(test)]
mod tests {
    use super::*;

    const STORE: StoreId = StoreId([7; 16]);

    fn tree(sequence: u32) -> ContainerId {
        ContainerId { class: Class::Tree, run: RunId([3; 16]), sequence }
    }

    #[test]
    fn what_is_kept_comes_back_and_only_where_it_may_be_kept() {
        let folder = tempfile::tempdir().expect("a directory");
        let cache = Cache::ReadWrite(folder.path().to_path_buf());
        let nearby = Nearby::new(&cache, STORE, true);
        nearby.keep_tree(tree(1), b"0123456789");
        nearby.keep_snapshot("leaf", b"sealed");
        let data = ContainerId { class: Class::Data, ..tree(2) };
        nearby.keep_tree(data, b"content");
        let again = Nearby::new(&Cache::ReadOnly(folder.path().to_path_buf()), STORE, true);
        assert_eq!(again.tree_part(tree(1), 3, 4).as_deref(), Some(&b"3456"[..]));
        assert_eq!(again.tree_part(tree(1), 8, 4), None, "it is shorter");
        assert_eq!(again.tree_part(data, 0, 1), None, "content is not kept");
        assert_eq!(again.snapshot("leaf").as_deref(), Some(&b"sealed"[..]));
        again.keep_snapshot("other", b"x");
        assert_eq!(nearby.snapshot("other"), None, "nothing is written by those who only read");
        for (cache, is_far) in [(cache.clone(), false), (Cache::None, true)] {
            let none = Nearby::new(&cache, STORE, is_far);
            assert!(none.snapshot("leaf").is_none() && !none.keeps_trees());
            assert!(none.is_sweep_due() && none.is_sweep_due(), "each time");
        }
        let other = Nearby::new(&cache, StoreId([8; 16]), true);
        assert_eq!(other.snapshot("leaf"), None, "another store's is not ours");
        assert!(nearby.is_sweep_due() && !nearby.is_sweep_due(), "once a day");
    }

    #[test]
    fn a_run_that_ended_well_is_known_until_the_next_begins() {
        let folder = tempfile::tempdir().expect("a directory");
        let cache = Cache::ReadWrite(folder.path().to_path_buf());
        let (nearby, lineage, run) =
            (Nearby::new(&cache, STORE, true), Lineage([1; 16]), RunId([9; 16]));
        assert_eq!(nearby.last_clean(lineage), None);
        nearby.end(lineage, run);
        assert_eq!(nearby.last_clean(lineage), Some(run));
        assert_eq!(nearby.last_clean(Lineage([2; 16])), None);
        nearby.begin(lineage);
        assert_eq!(nearby.last_clean(lineage), None);
    }

    #[test]
    fn ranges_are_let_go_of_by_their_age() {
        let nearby = Nearby::new(&Cache::None, STORE, true);
        nearby.keep_range(1, 100, vec![5; 50]);
        assert_eq!(nearby.range(1, 120, 30), Some(vec![5; 30]));
        for (container, offset, length) in [(2, 120, 30), (1, 99, 2), (1, 120, 31)] {
            assert_eq!(nearby.range(container, offset, length), None, "{container} {offset}");
        }
        for number in 0..4 {
            nearby.keep_range(10 + number, 0, vec![0; MOST_RANGES / 3]);
        }
        assert_eq!(nearby.range(1, 120, 30), None);
        assert!(nearby.range(13, 0, 10).is_some());
    }

    #[test]
    fn how_a_store_was_opened_goes_by_its_place() {
        let folder = tempfile::tempdir().expect("a directory");
        let cache = Cache::ReadWrite(folder.path().to_path_buf());
        let opened = Opened { slot: "keys/a.a".to_owned(), header: b"head\ner".to_vec() };
        note_opened(&cache, "sftp://pier/oak", &opened);
        let found = last_opened(&cache, "sftp://pier/oak").expect("is known");
        assert_eq!((found.slot.as_str(), found.header.as_slice()), ("keys/a.a", &b"head\ner"[..]));
        assert!(last_opened(&cache, "sftp://pier/elm").is_none());
        assert!(last_opened(&Cache::None, "sftp://pier/oak").is_none());
    }
}
