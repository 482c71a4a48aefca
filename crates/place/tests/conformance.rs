//! What every kind of place must do, tried on each.

mod common;

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
fn what_a_crash_left_unfinished_is_swept_by_age() {
    let folder = tempfile::tempdir().expect("a directory");
    let place = DirectoryPlace::prepare(folder.path(), &["data"]).expect("prepares");
    let left = folder.path().join("unfinished/0123");
    std::fs::write(&left, b"half").expect("writes");
    place.sweep(3600).expect("sweeps");
    assert!(left.exists(), "it may still be growing");
    place.sweep(0).expect("sweeps");
    assert!(!left.exists());
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
    let disk = Arc::new(FullDisk(SystemDisk));
    let place =
        DirectoryPlace::prepare_on(folder.path().into(), &["data"], disk).expect("prepares");
    let error = place.create(&name("data/a"), &[1; 100]).expect_err("no room");
    assert_eq!(error.kind, PlaceErrorKind::Full);
    assert!(error.to_string().contains("no room left"), "{error}");
    assert!(place.listing("data").expect("lists").is_empty());
    assert_eq!(std::fs::read_dir(folder.path().join("unfinished")).expect("is there").count(), 0);
}
