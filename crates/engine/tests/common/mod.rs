//! Shared by the tests of the engine and of the program: small worlds, and listings that are made
//! without any of the engine's code.
#![allow(dead_code, reason = "every test program uses its own part of this")]
#![allow(clippy::unwrap_used, missing_docs)]

use std::{
    collections::BTreeMap,
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt, symlink},
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
    time::{Duration, UNIX_EPOCH},
};

use skellin_engine::{
    Cancel, Destination, Event, Existing, MovedClock, PathChange, RestoreReport, RestoreRequest,
    RunReport, RunRequest, SourceHosts, history,
};
use skellin_place::{MemoryPlace, Place};
use skellin_plan::{Plan, SnapshotSpec, When, parse_plan};
use skellin_store::{
    Cache, Creation, DataShare, Layout, PassphraseCost, Snapshot, Store, VerifyProgress,
    VerifyReport, VerifyWatch,
};
use tempfile::TempDir;

pub const PASSPHRASE: &[u8] = b"terns over the pier";

/// A layout in which small inputs make many chunks, blocks and containers.
pub fn tiny_layout() -> Layout {
    Layout {
        chunk_min: 256,
        chunk_turn: 1024,
        chunk_max: 4096,
        strict_mask: 0xFC00_0000_0000_FFF0,
        loose_mask: 0xFFF0,
        data_block: 16 << 10,
        tree_block: 4 << 10,
        container: 64 << 10,
    }
}

/// Directories of a configuration below one of the test.
pub fn folders_below(root: &Path) -> skellin_engine::Folders {
    skellin_engine::Folders {
        config: root.join("config"),
        state: root.join("state"),
        cache: root.join("cache"),
        look_in: Vec::new(),
        drives: None,
    }
}

pub fn create_store(place: &dyn Place) {
    let creation =
        Creation { layout: tiny_layout(), cost: PassphraseCost::TRIVIAL, now: 1_790_000_000 };
    Store::create(place, PASSPHRASE, creation).expect("a store");
}

pub fn open_store(place: &Arc<dyn Place>) -> Arc<Store> {
    Arc::new(Store::open(Arc::clone(place), PASSPHRASE, Cache::None).expect("opens"))
}

pub fn memory_store() -> (MemoryPlace, Arc<dyn Place>) {
    let memory = MemoryPlace::new();
    create_store(&memory);
    let place: Arc<dyn Place> = Arc::new(memory.clone());
    (memory, place)
}

/// A plan over some sources, with rules.
pub fn plan_of(sources: &[&Path], rules: &str) -> Plan {
    let sources: Vec<String> =
        sources.iter().map(|path| format!("\"{}\"", path.display())).collect();
    let text =
        format!("sources = [{}]\nstore = \"oak\"\nrules = '''\n{rules}\n'''\n", sources.join(", "));
    let nothing = |_: &str| None;
    let (plan, problems) = parse_plan("readings", "readings.toml", &text, &nothing, ["oak"]);
    assert!(problems.is_empty(), "{problems:?}");
    plan.expect("a plan")
}

type Agree<'a> = dyn Fn(&skellin_engine::Shrinkage) -> bool + Sync + 'a;

/// Everything about a run that tests may want to set.
pub struct Running<'a> {
    pub plan: &'a Plan,
    pub now: i64,
    pub dry_run: bool,
    /// Every path, and what became of it, by path.
    pub paths: Mutex<Vec<PathChange>>,
    pub keep_out: Vec<PathBuf>,
    pub source_hosts: SourceHosts,
    pub cancel: Cancel,
    pub labels: Vec<String>,
    pub configuration: Vec<skellin_store::KeptFile>,
    pub notes: Mutex<Vec<String>>,
}

impl<'a> Running<'a> {
    pub fn of(plan: &'a Plan) -> Self {
        let (labels, notes) = (Vec::new(), Mutex::default());
        let cancel = Cancel::new();
        Self {
            plan,
            now: 1_790_000_000_000,
            dry_run: false,
            paths: Mutex::default(),
            keep_out: Vec::new(),
            source_hosts: SourceHosts::default(),
            cancel,
            labels,
            configuration: Vec::new(),
            notes,
        }
    }

    pub fn at(mut self, now: i64) -> Self {
        self.now = now;
        self
    }

    pub fn dry(mut self) -> Self {
        self.dry_run = true;
        self
    }

    pub fn try_run(&self, store: &Arc<Store>) -> skellin_engine::Result<RunReport> {
        self.try_guarded(store, &|_| true)
    }

    /// A run that asks whether to go on if much is suddenly gone.
    pub fn guarded(&self, store: &Arc<Store>, agree: &Agree<'_>) -> RunReport {
        self.try_guarded(store, agree).expect("runs")
    }

    fn try_guarded(
        &self,
        store: &Arc<Store>,
        agree: &Agree<'_>,
    ) -> skellin_engine::Result<RunReport> {
        let events = |event: Event| {
            if let Event::Note(note) = event {
                self.notes.lock().unwrap().push(note);
            }
        };
        skellin_engine::run(
            store,
            &RunRequest {
                plan: self.plan,
                configuration: &self.configuration,
                origin: None,
                source_hosts: &self.source_hosts,
                machine: "hut",
                labels: &self.labels,
                dry_run: self.dry_run,
                paths: Some(&|path| self.paths.lock().unwrap().push(path)),
                keep_out: &self.keep_out,
                agree,
                around: &(),
                gentle: false,
                clock: &MovedClock::at(self.now),
                cancel: &self.cancel,
                events: &events,
            },
        )
    }

    pub fn run(&self, store: &Arc<Store>) -> RunReport {
        self.try_run(store).expect("runs")
    }

    /// Every path and what became of it, by path.
    pub fn paths(&self) -> Vec<PathChange> {
        let mut paths = self.paths.lock().unwrap().clone();
        paths.sort_by(|a, b| a.path.cmp(&b.path));
        paths
    }

    pub fn notes(&self) -> String {
        self.notes.lock().unwrap().join("\n")
    }
}

/// Runs a plan on a store that is opened for it.
pub fn run_at(place: &Arc<dyn Place>, plan: &Plan, now: i64) -> RunReport {
    Running::of(plan).at(now).run(&open_store(place))
}

pub fn newest(store: &Store) -> Snapshot {
    let spec = SnapshotSpec::Of { plan: "readings".to_owned(), when: When::Newest };
    let whose = history::Whose { own: "hut", named: None, now: i64::MAX };
    history::find_snapshot(store, &spec, whose).expect("snapshot").snapshot
}

/// A restore with its settings.
pub struct Restoring<'a> {
    pub snapshot: &'a Snapshot,
    pub paths: Vec<PathBuf>,
    pub destination: Destination,
    pub existing: Existing,
    pub dry_run: bool,
    pub through: Vec<skellin_engine::LinkAbove>,
    pub extra: skellin_engine::Extra<'a>,
    pub dated: bool,
    pub keep: Vec<PathBuf>,
}

impl<'a> Restoring<'a> {
    pub fn all(snapshot: &'a Snapshot, to: &Path) -> Self {
        let destination = Destination::Directory(to.to_path_buf());
        let (paths, existing, through) = (Vec::new(), Existing::Leave, Vec::new());
        Self {
            snapshot,
            paths,
            destination,
            existing,
            dry_run: false,
            through,
            extra: skellin_engine::Extra::Leave,
            dated: false,
            keep: Vec::new(),
        }
    }

    pub fn try_run(&self, store: &Store) -> skellin_engine::Result<RestoreReport> {
        use std::os::unix::ffi::OsStrExt;
        let mut located = Vec::new();
        for path in &self.paths {
            located.push(history::must_locate(store, self.snapshot, path.as_os_str().as_bytes())?);
        }
        if self.paths.is_empty() {
            located = history::roots(store, self.snapshot)?;
        }
        let silent = |_: Event| {};
        skellin_engine::restore(
            store,
            &RestoreRequest {
                through: &self.through,
                keep_set_id: false,
                snapshot: self.snapshot,
                paths: &located,
                destination: &self.destination,
                existing: self.existing,
                extra: self.extra,
                dated: self.dated,
                keep: &self.keep,
                host: None,
                dry_run: self.dry_run,
                stamp: "20261112-2114",
                cancel: &Cancel::new(),
                events: &silent,
            },
        )
    }

    pub fn run(&self, store: &Store) -> RestoreReport {
        self.try_run(store).expect("restores")
    }
}

pub struct Unwatched;

impl VerifyWatch for Unwatched {
    fn is_cancelled(&self) -> bool {
        false
    }
    fn progress(&self, _: VerifyProgress) {}
}

pub fn verify(place: &Arc<dyn Place>) -> VerifyReport {
    open_store(place).verify(DataShare::All, &Unwatched).expect("verifies")
}

/// Verifies, and insists that nothing is wrong.
pub fn assert_clean(place: &Arc<dyn Place>) {
    let report = verify(place);
    assert!(report.damage.is_empty(), "{:?}", report.damage);
}

/// Content by a seed: noise, or text-like if the seed is odd.
pub fn content(seed: u64, length: usize) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut bytes = vec![0; length];
    for part in bytes.chunks_mut(8) {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        part.copy_from_slice(&state.to_le_bytes()[..part.len()]);
    }
    if seed % 2 == 1 {
        bytes.iter_mut().for_each(|byte| *byte = b'a' + *byte % 16);
    }
    bytes
}

pub fn write(path: &Path, bytes: impl AsRef<[u8]>) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, bytes).unwrap();
}

/// Dates a tree back, so that the next run may believe its times: the change time of an inode
/// cannot be set, so this waits until the newest is old enough.
pub fn settle(path: &Path) {
    let newest = || -> i64 {
        let mut newest = 0;
        let mut stack = vec![path.to_path_buf()];
        while let Some(path) = stack.pop() {
            let metadata = fs::symlink_metadata(&path).unwrap();
            newest = newest.max(metadata.ctime());
            if metadata.is_dir() {
                stack.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
            }
        }
        newest
    };
    let newest = newest();
    loop {
        let now = std::time::SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() as i64;
        if newest < now - 2 {
            return;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// A tree with every kind of thing a file system holds.
pub fn make_odd_tree(root: &Path) {
    write(&root.join("notes.md"), "wind from the north\n");
    write(&root.join("empty"), "");
    write(&root.join("series/gauge-04.csv"), content(1, 40_000));
    write(&root.join("series/noise.bin"), content(2, 90_000));
    fs::create_dir_all(root.join("nothing/in/here")).unwrap();
    symlink("notes.md", root.join("link")).unwrap();
    symlink("/nowhere/at/all", root.join("dangling")).unwrap();
    fs::hard_link(root.join("series/gauge-04.csv"), root.join("other-name.csv")).unwrap();
    fs::hard_link(root.join("series/gauge-04.csv"), root.join("series/third.csv")).unwrap();
    let odd = std::ffi::OsStr::new("line\nbreak \u{1b}[31m");
    write(&root.join(odd), "odd");
    use std::os::unix::ffi::OsStrExt;
    write(&root.join(std::ffi::OsStr::from_bytes(b"not-utf8-\xff\xfe")), "bytes");
    fs::set_permissions(root.join("notes.md"), fs::Permissions::from_mode(0o4711)).unwrap();
    fs::set_permissions(root.join("nothing"), fs::Permissions::from_mode(0o1750)).unwrap();
    let sparse = fs::File::create(root.join("sparse.img")).unwrap();
    sparse.set_len(3 << 20).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, &content(3, 30_000), 1 << 20).unwrap();
    drop(sparse);
    rustix::fs::mknodat(
        rustix::fs::CWD,
        root.join("pipe"),
        rustix::fs::FileType::Fifo,
        0o640.into(),
        0,
    )
    .unwrap();
    // Not every file system has user attributes; where they are missing, none are compared.
    let _ = rustix::fs::setxattr(
        root.join("notes.md"),
        "user.origin",
        b"ridge",
        rustix::fs::XattrFlags::empty(),
    );
    let _ = rustix::fs::setxattr(
        root.join("series"),
        "user.kind",
        b"csv",
        rustix::fs::XattrFlags::empty(),
    );
    if rustix::process::geteuid().is_root() {
        std::os::unix::fs::chown(root.join("empty"), Some(1234), Some(4321)).unwrap();
        std::os::unix::fs::lchown(root.join("link"), Some(77), Some(78)).unwrap();
        let device = rustix::fs::makedev(1, 3);
        rustix::fs::mknodat(
            rustix::fs::CWD,
            root.join("null"),
            rustix::fs::FileType::CharacterDevice,
            0o666.into(),
            device,
        )
        .unwrap();
    }
    for (number, path) in
        [root.join("empty"), root.join("series"), root.to_path_buf()].iter().enumerate()
    {
        let file = fs::File::open(path).unwrap();
        let moment = UNIX_EPOCH + Duration::new(1_700_000_000 + number as u64, 123_456_789);
        file.set_modified(moment).unwrap();
    }
}

/// Everything an independent look finds out about a path.
#[derive(Debug, PartialEq, Eq)]
pub struct Facts {
    pub kind: u32,
    pub mode: u32,
    pub owner: (u32, u32),
    pub modified: (i64, i64),
    pub size: u64,
    pub names: u64,
    pub device: u64,
    pub xattrs: Vec<(String, Vec<u8>)>,
    pub content: Vec<u8>,
}

fn xattrs(path: &Path) -> Vec<(String, Vec<u8>)> {
    let mut buffer = vec![0; 4096];
    let Ok(length) = rustix::fs::llistxattr(path, &mut buffer[..]) else { return Vec::new() };
    let names = String::from_utf8_lossy(&buffer[..length]).into_owned();
    let mut found: Vec<_> = names
        .split('\0')
        .filter(|name| !name.is_empty())
        .map(|name| {
            let mut value = vec![0; 4096];
            let length = rustix::fs::lgetxattr(path, name, &mut value[..]).unwrap();
            value.truncate(length);
            (name.to_owned(), value)
        })
        .collect();
    found.sort();
    found
}

/// Everything below a path, by relative path.
pub fn listing(root: &Path) -> BTreeMap<PathBuf, Facts> {
    let mut found = BTreeMap::new();
    let mut stack = vec![root.to_path_buf()];
    while let Some(path) = stack.pop() {
        let metadata = fs::symlink_metadata(&path).unwrap();
        let kind = metadata.mode() & 0o170_000;
        let content = match kind {
            0o100_000 => fs::read(&path).unwrap(),
            0o120_000 => fs::read_link(&path).unwrap().into_os_string().into_encoded_bytes(),
            _ => Vec::new(),
        };
        let is_directory = metadata.is_dir();
        if is_directory {
            stack.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        }
        let facts = Facts {
            kind,
            mode: metadata.mode() & 0o7777,
            owner: (metadata.uid(), metadata.gid()),
            modified: (metadata.mtime(), metadata.mtime_nsec()),
            size: if is_directory { 0 } else { metadata.size() },
            names: if is_directory { 0 } else { metadata.nlink() },
            device: metadata.rdev(),
            xattrs: xattrs(&path),
            content,
        };
        found.insert(path.strip_prefix(root).unwrap().to_path_buf(), facts);
    }
    found
}

/// Insists that two trees are the same in everything.
pub fn assert_same(a: &Path, b: &Path) {
    let (a, b) = (listing(a), listing(b));
    assert_eq!(a.keys().collect::<Vec<_>>(), b.keys().collect::<Vec<_>>());
    for (path, facts) in &a {
        assert_eq!(facts, &b[path], "{}", path.display());
    }
}

pub fn scratch() -> TempDir {
    tempfile::tempdir().expect("a directory")
}
