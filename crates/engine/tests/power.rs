//! A power cut: the disk forgets what was not synced, and everything that was acknowledged stays.

use crate::common;

use std::{
    collections::{BTreeMap, BTreeSet},
    io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard},
};

use common::{
    Restoring, Running, assert_clean, assert_same, content, create_store, newest, open_store,
    plan_of, scratch, settle, write,
};
use skellin_place::{DirectoryPlace, Disk, DiskFile, Extent, MemoryPlace, Place};

const NIGHT: i64 = 1_790_000_000_000;

#[derive(Clone, Debug, Default)]
struct Node {
    content: Vec<u8>,
    synced: Vec<u8>,
}

#[derive(Debug, Default)]
struct Files {
    nodes: Vec<Node>,
    /// Names as programs see them.
    names: BTreeMap<PathBuf, usize>,
    /// Names as they are on the medium.
    synced_names: BTreeMap<PathBuf, usize>,
    folders: BTreeSet<PathBuf>,
    /// Operations until the power fails.
    left: Option<u64>,
    operations: u64,
}

/// A disk that keeps in mind what would survive.
#[derive(Clone, Debug, Default)]
struct ForgetfulDisk(Arc<Mutex<Files>>);

impl ForgetfulDisk {
    fn files(&self) -> MutexGuard<'_, Files> {
        self.0.lock().unwrap()
    }

    /// An operation; after the power has failed none works.
    fn step(&self) -> io::Result<MutexGuard<'_, Files>> {
        let mut files = self.files();
        files.operations += 1;
        match &mut files.left {
            Some(0) => return Err(io::Error::other("the power is out")),
            Some(left) => *left -= 1,
            None => {}
        }
        Ok(files)
    }

    /// What the medium holds after the cut. Of what was not synced some may have landed: `keep`
    /// decides which names and how much of a file.
    fn after_cut(&self, keep: u64) -> Self {
        let files = self.files();
        let mut state = keep | 1;
        let mut chance = || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.is_multiple_of(3)
        };
        let mut after = Files { folders: files.folders.clone(), ..Files::default() };
        let mut names = files.synced_names.clone();
        for (name, node) in &files.names {
            if !names.contains_key(name) && chance() {
                names.insert(name.clone(), *node);
            }
        }
        names.retain(|name, _| files.names.contains_key(name) || !chance());
        for (name, node) in names {
            let Node { content, synced } = &files.nodes[node];
            let mut bytes = synced.clone();
            if chance() && content.len() > bytes.len() {
                let upto = bytes.len() + (content.len() - bytes.len()) / 2;
                bytes.extend_from_slice(&content[bytes.len()..upto]);
            }
            after.nodes.push(Node { content: bytes.clone(), synced: bytes });
            let number = after.nodes.len() - 1;
            after.names.insert(name.clone(), number);
            after.synced_names.insert(name, number);
        }
        Self(Arc::new(Mutex::new(after)))
    }
}

struct OpenFile {
    disk: ForgetfulDisk,
    node: usize,
}

impl DiskFile for OpenFile {
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.disk.step()?.nodes[self.node].content.extend_from_slice(bytes);
        Ok(())
    }

    fn sync(&mut self) -> io::Result<()> {
        let mut files = self.disk.step()?;
        let node = &mut files.nodes[self.node];
        node.synced.clone_from(&node.content);
        Ok(())
    }
}

impl Disk for ForgetfulDisk {
    fn begin(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        let mut files = self.step()?;
        if files.names.contains_key(path) {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        files.nodes.push(Node::default());
        let node = files.nodes.len() - 1;
        files.names.insert(path.to_path_buf(), node);
        Ok(Box::new(OpenFile { disk: self.clone(), node }))
    }

    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        let mut files = self.step()?;
        if files.names.contains_key(to) {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        let node = files.names.remove(from).ok_or(io::ErrorKind::NotFound)?;
        files.names.insert(to.to_path_buf(), node);
        Ok(())
    }

    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        let mut files = self.step()?;
        let here: Vec<_> = files
            .names
            .iter()
            .filter(|(name, _)| name.parent() == Some(path))
            .map(|(name, node)| (name.clone(), *node))
            .collect();
        files.synced_names.retain(|name, _| name.parent() != Some(path));
        files.synced_names.extend(here);
        Ok(())
    }

    fn make_folder(&self, path: &Path) -> io::Result<()> {
        self.step()?.folders.insert(path.to_path_buf());
        Ok(())
    }

    fn has_folder(&self, path: &Path) -> bool {
        self.files().folders.contains(path)
    }

    fn read(&self, path: &Path, extent: Extent, into: &mut Vec<u8>) -> io::Result<()> {
        let files = self.step()?;
        let node = files.names.get(path).ok_or(io::ErrorKind::NotFound)?;
        let memory = MemoryPlace::new();
        let name = skellin_place::ObjectName::new("object").unwrap();
        memory.overwrite(&name, files.nodes[*node].content.clone());
        memory.read(&name, extent, into).map_err(|_| io::ErrorKind::UnexpectedEof.into())
    }

    fn list(&self, path: &Path, each: &mut dyn FnMut(&str, u64, u64)) -> io::Result<()> {
        let files = self.step()?;
        for (name, node) in files.names.iter().filter(|(name, _)| name.parent() == Some(path)) {
            each(
                name.file_name().unwrap().to_str().unwrap(),
                files.nodes[*node].content.len() as u64,
                0,
            );
        }
        Ok(())
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        self.step()?.names.remove(path).map(drop).ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

fn place_on(disk: &ForgetfulDisk) -> Arc<dyn Place> {
    Arc::new(DirectoryPlace::open_on("/oak".into(), Arc::new(disk.clone())).unwrap())
}

#[test]
fn a_power_cut_at_any_operation_loses_nothing_that_was_acknowledged() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..8 {
        write(&source.join(format!("{number}")), content(number, 20_000));
    }
    settle(&source);
    let plan = plan_of(&[&source], "");
    let disk = ForgetfulDisk::default();
    let prepared =
        DirectoryPlace::prepare_on("/oak".into(), skellin_store::FOLDERS, Arc::new(disk.clone()))
            .unwrap();
    create_store(&prepared);
    // A store just created survives a cut at once.
    let disk = disk.after_cut(0);
    let first = Running::of(&plan).at(NIGHT).run(&open_store(&place_on(&disk)));
    assert!(first.snapshot.is_some());
    let disk = disk.after_cut(0);
    assert_clean(&place_on(&disk));
    fs_edit(&source);
    settle(&source);
    // How many operations a second run takes.
    let whole = disk.after_cut(0);
    Running::of(&plan).at(NIGHT + 1).run(&open_store(&place_on(&whole)));
    let total = whole.files().operations;
    assert!(total > 30, "{total}");
    let (mut succeeded, mut listed_twice) = (0, 0);
    // How many operations a run takes differs a little, by how its threads meet: the cuts go on
    // until a run is not reached any more.
    for cut in 0.. {
        if cut > total && succeeded > 0 {
            break;
        }
        assert!(cut < 2 * total, "no run ever succeeds");
        let disk = disk.after_cut(0);
        let store = open_store(&place_on(&disk));
        let opening = disk.files().operations;
        disk.files().left = Some(cut.saturating_sub(opening));
        let outcome = Running::of(&plan).at(NIGHT + 1).try_run(&store);
        for keep in [0, 1 + cut, 1_000_003 * (cut + 1)] {
            let after = disk.after_cut(keep);
            let place = place_on(&after);
            let store = open_store(&place);
            let snapshots = store.snapshots().unwrap();
            assert!(!snapshots.is_empty(), "cut at {cut}: the first snapshot is gone");
            if outcome.is_ok() {
                assert_eq!(snapshots.len(), 2, "cut at {cut}: an acknowledged snapshot is gone");
            }
            listed_twice += usize::from(snapshots.len() == 2);
            assert_clean(&place);
            let report = Running::of(&plan).at(NIGHT + 2).run(&open_store(&place));
            assert!(report.snapshot.is_some());
            let store = open_store(&place);
            let back = folder.path().join("back");
            let _ = std::fs::remove_dir_all(&back);
            assert_eq!(Restoring::all(&newest(&store), &back).run(&store).exceptions, Vec::new());
            assert_same(&source, &back.join("ridge"));
        }
        succeeded += usize::from(outcome.is_ok());
    }
    assert!(listed_twice > 0);
}

fn fs_edit(source: &Path) {
    write(&source.join("3"), content(103, 25_000));
    write(&source.join("deep/new"), content(104, 45_000));
}

/// The harness can fail: a place that does not sync is found out.
#[test]
fn a_place_that_does_not_sync_is_found_out() {
    #[derive(Debug)]
    struct Careless(ForgetfulDisk);
    struct CarelessFile(Box<dyn DiskFile>);
    impl DiskFile for CarelessFile {
        fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
            self.0.append(bytes)
        }
        fn sync(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    impl Disk for Careless {
        fn begin(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
            Ok(Box::new(CarelessFile(self.0.begin(path)?)))
        }
        fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
            self.0.rename_new(from, to)
        }
        fn sync_folder(&self, path: &Path) -> io::Result<()> {
            self.0.sync_folder(path)
        }
        fn make_folder(&self, path: &Path) -> io::Result<()> {
            self.0.make_folder(path)
        }
        fn has_folder(&self, path: &Path) -> bool {
            self.0.has_folder(path)
        }
        fn read(&self, path: &Path, extent: Extent, into: &mut Vec<u8>) -> io::Result<()> {
            self.0.read(path, extent, into)
        }
        fn list(&self, path: &Path, each: &mut dyn FnMut(&str, u64, u64)) -> io::Result<()> {
            self.0.list(path, each)
        }
        fn remove(&self, path: &Path) -> io::Result<()> {
            self.0.remove(path)
        }
    }
    let disk = ForgetfulDisk::default();
    let careless = Arc::new(Careless(disk.clone()));
    let prepared =
        DirectoryPlace::prepare_on("/oak".into(), skellin_store::FOLDERS, careless).unwrap();
    create_store(&prepared);
    let after = place_on(&disk.after_cut(0));
    assert!(
        skellin_store::Store::open(after, common::PASSPHRASE, skellin_store::Cache::None).is_err()
    );
}
