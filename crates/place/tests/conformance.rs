//! What every kind of place must do, tried on each.

use std::sync::{Arc, Barrier};

use skellin_place::{
    DirectoryPlace, Disk, DiskFile, Extent, MemoryPlace, ObjectName, Place, PlaceErrorKind,
    SystemDisk,
};

fn name(text: &str) -> ObjectName {
    ObjectName::new(text).expect("a name")
}

/// The suite.
fn conforms(place: &Arc<dyn Place>) {
    let a = name("data/a");
    assert!(place.listing("data").expect("lists").is_empty());
    assert_eq!(place.fetch(&a).expect_err("is not there").kind, PlaceErrorKind::NotFound);
    place.create(&a, b"0123456789").expect("creates");
    assert_eq!(place.create(&a, b"other").expect_err("is there").kind, PlaceErrorKind::Exists);
    assert_eq!(place.fetch(&a).expect("reads"), b"0123456789");
    let part = |extent| {
        let mut bytes = Vec::new();
        place.read(&a, extent, &mut bytes).map(|()| bytes)
    };
    assert_eq!(part(Extent::Range { offset: 2, length: 3 }).expect("reads"), b"234");
    assert_eq!(part(Extent::Range { offset: 10, length: 0 }).expect("reads"), b"");
    assert_eq!(part(Extent::Tail(4)).expect("reads"), b"6789");
    assert_eq!(part(Extent::Tail(99)).expect("reads"), b"0123456789");
    for (offset, length) in [(8, 3), (11, 1), (u64::MAX, 2), (0, u64::MAX)] {
        let error = part(Extent::Range { offset, length }).expect_err("reaches past the end");
        assert_eq!(error.kind, PlaceErrorKind::Short, "{offset} {length}");
    }
    for number in 0..1200 {
        place.create(&name(&format!("index/{number:04}")), &[0; 3]).expect("creates");
    }
    let mut listed = place.listing("index").expect("lists");
    listed.sort_by(|a, b| a.name.cmp(&b.name));
    assert_eq!(listed.len(), 1200);
    assert!(
        listed.iter().enumerate().all(|(number, object)| object.size == 3
            && object.name == name(&format!("index/{number:04}")))
    );
    place.delete(&a).expect("deletes");
    place.delete(&a).expect("deletes what is gone");
    assert!(place.listing("data").expect("lists").is_empty());
    // Many at once, all for one name: one wins, and its bytes are whole.
    let (barrier, contested) = (Barrier::new(8), name("data/contested"));
    let winners = std::thread::scope(|scope| {
        let writers: Vec<_> = (0..8u8)
            .map(|number| {
                let (barrier, contested) = (&barrier, &contested);
                scope.spawn(move || {
                    barrier.wait();
                    place.create(contested, &vec![number; 100_000]).is_ok()
                })
            })
            .collect();
        writers
            .into_iter()
            .map(|writer| writer.join().expect("no panic"))
            .filter(|won| *won)
            .count()
    });
    assert_eq!(winners, 1);
    let bytes = place.fetch(&contested).expect("reads");
    assert!(bytes.len() == 100_000 && bytes.iter().all(|byte| *byte == bytes[0]));
    place.sweep(0).expect("sweeps");
    assert_eq!(place.listing("data").expect("lists").len(), 1);
}

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
