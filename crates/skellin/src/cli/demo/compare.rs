//! Two trees compared without the engine's help: content, kinds, modes, owners, times, links.

use std::{
    collections::BTreeMap,
    fs, io,
    os::unix::fs::{FileTypeExt, MetadataExt},
    path::{Path, PathBuf},
};

/// All that is to be the same of a path.
#[derive(Debug, PartialEq, Eq)]
struct Facts {
    kind: &'static str,
    mode: u32,
    owner: (u32, u32),
    modified: (i64, i64),
    content: Vec<u8>,
}

fn facts(path: &Path) -> io::Result<Facts> {
    use std::os::unix::ffi::OsStrExt;
    let metadata = fs::symlink_metadata(path)?;
    let kind = metadata.file_type();
    let (kind, content) = if kind.is_file() {
        ("file", fs::read(path)?)
    } else if kind.is_symlink() {
        ("link", fs::read_link(path)?.as_os_str().as_bytes().to_vec())
    } else if kind.is_dir() {
        ("dir", Vec::new())
    } else if kind.is_fifo() {
        ("pipe", Vec::new())
    } else {
        ("device", metadata.rdev().to_le_bytes().to_vec())
    };
    Ok(Facts {
        kind,
        mode: metadata.mode(),
        owner: (metadata.uid(), metadata.gid()),
        modified: (metadata.mtime(), metadata.mtime_nsec()),
        content,
    })
}

fn gather(root: &Path, skip: &[&str]) -> io::Result<BTreeMap<PathBuf, PathBuf>> {
    let (mut found, mut left) = (BTreeMap::new(), vec![root.to_path_buf()]);
    while let Some(path) = left.pop() {
        let below = path.strip_prefix(root).unwrap_or(&path).to_path_buf();
        if fs::symlink_metadata(&path)?.is_dir() {
            for entry in fs::read_dir(&path)? {
                let entry = entry?;
                if !skip.iter().any(|name| entry.file_name() == *name) {
                    left.push(entry.path());
                }
            }
        }
        found.insert(below, path);
    }
    Ok(found)
}

/// What two trees have in common.
pub(super) struct Common {
    pub paths: usize,
    pub bytes: u64,
}

/// Compares a tree with its copy; names in `skip` are not looked at.
///
/// # Errors
/// The first difference in words.
pub(super) fn same(original: &Path, copy: &Path, skip: &[&str]) -> Result<Common, String> {
    let said = |error: io::Error| error.to_string();
    let (ours, theirs) = (gather(original, skip).map_err(said)?, gather(copy, &[]).map_err(said)?);
    if let Some(extra) = theirs.keys().find(|path| !ours.contains_key(*path)) {
        return Err(format!("{} is only in the copy", extra.display()));
    }
    let mut bytes = 0;
    for (below, path) in &ours {
        let Some(copied) = theirs.get(below) else {
            return Err(format!("{} is not in the copy", below.display()));
        };
        let (here, there) = (facts(path).map_err(said)?, facts(copied).map_err(said)?);
        if here != there {
            return Err(format!("{} differs", below.display()));
        }
        bytes += here.content.len() as u64;
    }
    Ok(Common { paths: ours.len(), bytes })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_difference_is_found() {
        use std::os::unix::fs::PermissionsExt;
        let (a, b) = (tempfile::tempdir().expect("a"), tempfile::tempdir().expect("b"));
        let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_790_000_000);
        let settle =
            |path: &Path| fs::File::open(path).expect("opens").set_modified(time).expect("sets");
        let put = |path: &Path, text: &str| {
            fs::write(path, text).expect("writes");
            settle(path);
            settle(path.parent().expect("a directory"));
        };
        put(&a.path().join("x"), "terns");
        put(&b.path().join("x"), "terns");
        assert_eq!(
            same(a.path(), b.path(), &[]).map(|common| (common.paths, common.bytes)),
            Ok((2, 5))
        );
        put(&b.path().join("x"), "gulls");
        assert_eq!(same(a.path(), b.path(), &[]).map(|_| ()), Err("x differs".to_owned()));
        put(&b.path().join("x"), "terns");
        fs::set_permissions(b.path().join("x"), fs::Permissions::from_mode(0o600)).expect("sets");
        assert!(same(a.path(), b.path(), &[]).is_err());
        fs::set_permissions(
            b.path().join("x"),
            fs::metadata(a.path().join("x")).expect("there").permissions(),
        )
        .expect("sets");
        put(&b.path().join("y"), "");
        assert!(same(a.path(), b.path(), &[]).is_err_and(|why| why.contains("only in the copy")));
        assert!(same(b.path(), a.path(), &[]).is_err_and(|why| why.contains("not in the copy")));
        assert!(same(b.path(), a.path(), &["y"]).is_ok());
    }
}
