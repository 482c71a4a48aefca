//! What every kind of place must do, tried on each.

use crate::common;

use std::sync::Arc;

use common::{conforms, name};
use skellin_place::{
    DirectoryPlace, Disk, DiskFile, Extent, MemoryPlace, Place, PlaceErrorKind, SystemDisk,
};

#[test]
fn a_directory_conforms() {
    let folder = tempfile::tempdir().expect("a directory");
    let root = folder.path().join("deep/store");
    let place = DirectoryPlace::prepare(&root, &["data", "index"]).expect("prepares");
    conforms(&(Arc::new(place) as Arc<dyn Place>));
    assert_eq!(std::fs::read_dir(root.join("unfinished")).expect("is there").count(), 0);
}

#[test]
fn memory_conforms() {
    conforms(&(Arc::new(MemoryPlace::new()) as Arc<dyn Place>));
}

#[test]
fn a_missing_mount_is_never_filled() {
    let folder = tempfile::tempdir().expect("a directory");
    let root = folder.path().join("mount");
    assert_eq!(DirectoryPlace::open(&root).expect_err("is missing").kind, PlaceErrorKind::Missing);
    let place = DirectoryPlace::prepare(&root, &["data"]).expect("prepares");
    std::fs::rename(&root, folder.path().join("away")).expect("unmounts");
    assert_eq!(
        place.create(&name("data/a"), b"x").expect_err("is away").kind,
        PlaceErrorKind::Missing
    );
    assert_eq!(place.listing("data").expect_err("is away").kind, PlaceErrorKind::Missing);
    assert_eq!(place.delete(&name("data/a")).expect_err("is away").kind, PlaceErrorKind::Missing);
    assert!(!root.exists());
}

#[test]
fn what_a_crash_left_unfinished_is_swept() {
    let folder = tempfile::tempdir().expect("a directory");
    let place = DirectoryPlace::prepare(folder.path(), &["data"]).expect("prepares");
    let left = folder.path().join("unfinished/0123456789abcdef01234567");
    std::fs::write(&left, b"half").expect("writes");
    place.sweep(3600).expect("sweeps");
    assert!(left.exists(), "it may still be growing");
    place.sweep(0).expect("sweeps");
    assert!(!left.exists());
    // What its writer held goes as soon as that is dead, and not before.
    let held = folder.path().join("unfinished/0123456789abcdef01234567-held");
    let file = std::fs::File::create(&held).expect("begins");
    let mine = folder.path().join("unfinished/mine-held");
    std::fs::write(&mine, b"nobody's draft").expect("writes");
    rustix::fs::flock(&file, rustix::fs::FlockOperation::LockExclusive).expect("locks");
    place.sweep(3600).expect("sweeps");
    assert!(held.exists(), "somebody writes it");
    drop(file);
    place.sweep(3600).expect("sweeps");
    assert!(!held.exists() && mine.exists());
    place.create(&name("data/a"), b"whole").expect("creates");
    let left = std::fs::read_dir(folder.path().join("unfinished")).expect("lists");
    assert_eq!(left.count(), 1, "nothing of it stays");
}

#[test]
fn no_link_leads_out_of_a_place() {
    use std::os::unix::fs::symlink;
    let folder = tempfile::tempdir().expect("a directory");
    let (root, elsewhere) = (folder.path().join("oak"), folder.path().join("elsewhere"));
    let place = DirectoryPlace::prepare(&root, &["data", "index"]).expect("prepares");
    std::fs::create_dir(&elsewhere).expect("makes");
    let victim = elsewhere.join("0123456789abcdef01234567");
    std::fs::write(&victim, b"somebody's only copy").expect("writes");
    for swapped in ["unfinished", "data"] {
        std::fs::remove_dir(root.join(swapped)).expect("removes");
        symlink(&elsewhere, root.join(swapped)).expect("links");
    }
    assert!(place.sweep(0).is_err(), "what is no folder of ours is not swept");
    let object = name("data/0123456789abcdef01234567");
    assert!(place.read(&object, Extent::Within(99), &mut Vec::new()).is_err());
    assert!(place.delete(&object).is_err() && place.listing("data").is_err());
    assert!(place.create(&name("data/b"), b"x").is_err());
    assert_eq!(std::fs::read_dir(&elsewhere).expect("lists").count(), 1);
    assert_eq!(std::fs::read(&victim).expect("reads"), b"somebody's only copy");
    // Nor does a link, pipe or device in an object's place.
    symlink(&victim, root.join("index/a")).expect("links");
    symlink("/dev/zero", root.join("index/b")).expect("links");
    rustix::fs::mkfifoat(rustix::fs::CWD, root.join("index/c"), rustix::fs::Mode::RUSR)
        .expect("a pipe");
    for leaf in ["a", "b", "c"] {
        let read = place.read(&name(&format!("index/{leaf}")), Extent::Within(9), &mut Vec::new());
        assert_eq!(read.expect_err("is no object").kind, PlaceErrorKind::NotFound, "{leaf}");
    }
    assert!(place.listing("index").expect("lists").is_empty());
    // Another directory in the place of the root is not it.
    std::fs::rename(&root, folder.path().join("moved")).expect("moves");
    DirectoryPlace::prepare(&root, &["data"]).expect("prepares");
    let kind = place.create(&name("data/a"), b"x").expect_err("another one").kind;
    assert_eq!(kind, PlaceErrorKind::Missing);
}

#[test]
fn objects_and_folders_are_for_their_owner_alone() {
    use std::os::unix::fs::PermissionsExt as _;
    let folder = tempfile::tempdir().expect("a directory");
    let root = folder.path().join("oak");
    let place = DirectoryPlace::prepare(&root, &["data"]).expect("prepares");
    place.create(&name("data/a"), b"x").expect("creates");
    for (path, mode) in [("", 0o700), ("data", 0o700), ("unfinished", 0o700), ("data/a", 0o600)] {
        let facts = std::fs::metadata(root.join(path)).expect("is there");
        assert_eq!(facts.permissions().mode() & 0o777, mode, "{path}");
    }
}

/// A disk without room after some bytes.
#[derive(Debug)]
struct FullDisk(SystemDisk);

struct FullFile(Box<dyn DiskFile>);

impl DiskFile for FullFile {
    fn append(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.0.append(&bytes[..bytes.len().min(10)])?;
        Err(std::io::ErrorKind::StorageFull.into())
    }
    fn sync(&mut self) -> std::io::Result<()> {
        self.0.sync()
    }
}

impl Disk for FullDisk {
    fn begin(&self, path: &std::path::Path) -> std::io::Result<Box<dyn DiskFile>> {
        Ok(Box::new(FullFile(self.0.begin(path)?)))
    }
    fn rename_new(&self, from: &std::path::Path, to: &std::path::Path) -> std::io::Result<()> {
        self.0.rename_new(from, to)
    }
    fn sync_folder(&self, path: &std::path::Path) -> std::io::Result<()> {
        self.0.sync_folder(path)
    }
    fn make_folder(&self, path: &std::path::Path) -> std::io::Result<()> {
        self.0.make_folder(path)
    }
    fn has_folder(&self, path: &std::path::Path) -> bool {
        self.0.has_folder(path)
    }
    fn read(
        &self,
        path: &std::path::Path,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> std::io::Result<()> {
        self.0.read(path, extent, into)
    }
    fn list(
        &self,
        path: &std::path::Path,
        each: &mut dyn FnMut(&str, u64, u64),
    ) -> std::io::Result<()> {
        self.0.list(path, each)
    }
    fn remove(&self, path: &std::path::Path) -> std::io::Result<()> {
        self.0.remove(path)
    }
}

#[test]
fn a_full_disk_leaves_nothing_behind() {
    let folder = tempfile::tempdir().expect("a directory");
    let disk = Arc::new(FullDisk(SystemDisk::new(folder.path())));
    let place =
        DirectoryPlace::prepare_on(folder.path().into(), &["data"], disk).expect("prepares");
    let error = place.create(&name("data/a"), &[1; 100]).expect_err("no room");
    assert_eq!(error.kind, PlaceErrorKind::Full);
    assert!(error.to_string().contains("no space left"), "{error}");
    assert!(place.listing("data").expect("lists").is_empty());
    assert_eq!(std::fs::read_dir(folder.path().join("unfinished")).expect("is there").count(), 0);
}
