//! All that a tree is, by a look that has nothing to do with the program.

use std::{
    collections::BTreeMap,
    fs,
    os::unix::{
        ffi::OsStrExt,
        fs::{FileTypeExt, MetadataExt},
    },
    path::{Path, PathBuf},
};

use anyhow::{Context as _, Result};
use rustix::fs::{lgetxattr, llistxattr};

/// What the rules for whole systems exclude: what lies below these.
const BELOW: [&str; 11] = [
    "proc",
    "sys",
    "run",
    "dev",
    "tmp",
    "var/tmp",
    "var/run",
    "var/lock",
    "mnt",
    "media",
    "var/cache",
];

/// On these the container mounts file systems of its own, and those are what the program sees there.
const MOUNTED: [&str; 5] = ["proc", "sys", "run", "dev", "tmp"];

/// A path of it.
#[derive(Debug, PartialEq, Eq)]
struct Facts {
    mode: u32,
    owner: (u32, u32),
    modified: (i64, i64),
    size: u64,
    names: u64,
    device: u64,
    xattrs: BTreeMap<Vec<u8>, Vec<u8>>,
    content: [u8; 32],
}

impl Facts {
    fn differing(&self, other: &Self) -> String {
        let parts = [
            ("mode", self.mode != other.mode),
            ("owner", self.owner != other.owner),
            ("time", self.modified != other.modified),
            ("size", self.size != other.size),
            ("names", self.names != other.names),
            ("device", self.device != other.device),
            ("attributes", self.xattrs != other.xattrs),
            ("content", self.content != other.content),
        ];
        let parts = parts.iter().filter(|(_, differs)| *differs).map(|(part, _)| *part);
        parts.collect::<Vec<_>>().join(", ")
    }
}

/// Every path with all that belongs to it.
pub(super) struct State(BTreeMap<PathBuf, Facts>);

impl State {
    pub fn of(tree: &Path) -> Result<Self> {
        let mut found = BTreeMap::new();
        let mut stack = vec![PathBuf::new()];
        while let Some(path) = stack.pop() {
            let full = tree.join(&path);
            let facts = fs::symlink_metadata(&full)?;
            let kind = facts.file_type();
            if kind.is_socket() || path == Path::new(super::OWN) {
                continue;
            }
            if kind.is_dir() && !BELOW.iter().any(|below| path == Path::new(below)) {
                for entry in fs::read_dir(&full)? {
                    stack.push(path.join(entry?.file_name()));
                }
            }
            let is_passed_over = MOUNTED.iter().any(|mounted| path == Path::new(mounted))
                || path.file_name().is_some_and(|name| name == "lost+found" && kind.is_dir());
            if !is_passed_over {
                found.insert(path, look(&full, &facts)?);
            }
        }
        Ok(Self(found))
    }

    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// In what another differs, a line for each path.
    pub fn differences(&self, other: &Self) -> Vec<String> {
        let paths = self.0.keys().chain(other.0.keys());
        let mut paths: Vec<&PathBuf> = paths.collect();
        paths.sort();
        paths.dedup();
        let differs = |path: &&PathBuf| match (self.0.get(*path), other.0.get(*path)) {
            (Some(a), Some(b)) if a == b => None,
            (Some(a), Some(b)) => Some(format!("/{}: {}", path.display(), a.differing(b))),
            (None, _) => Some(format!("/{}: too much", path.display())),
            (_, None) => Some(format!("/{}: missing", path.display())),
        };
        paths.iter().filter_map(differs).collect()
    }
}

fn look(path: &Path, facts: &fs::Metadata) -> Result<Facts> {
    let kind = facts.file_type();
    let content = if kind.is_file() {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(fs::File::open(path)?)?;
        hasher.finalize()
    } else if kind.is_symlink() {
        blake3::hash(fs::read_link(path)?.as_os_str().as_bytes())
    } else {
        blake3::hash(b"")
    };
    Ok(Facts {
        mode: facts.mode(),
        owner: (facts.uid(), facts.gid()),
        modified: (facts.mtime(), facts.mtime_nsec()),
        size: if kind.is_dir() { 0 } else { facts.size() },
        names: if kind.is_dir() { 0 } else { facts.nlink() },
        device: facts.rdev(),
        xattrs: xattrs(path).with_context(|| format!("attributes of {}", path.display()))?,
        content: *content.as_bytes(),
    })
}

fn xattrs(path: &Path) -> Result<BTreeMap<Vec<u8>, Vec<u8>>> {
    let mut names = vec![0; 64 << 10];
    let length = llistxattr(path, names.as_mut_slice())?;
    let mut found = BTreeMap::new();
    for name in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let mut value = vec![0; 64 << 10];
        let length = lgetxattr(path, name, value.as_mut_slice())?;
        value.truncate(length);
        found.insert(name.to_vec(), value);
    }
    Ok(found)
}
