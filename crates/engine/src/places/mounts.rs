//! Where a file system belongs and none is mounted: whoever writes there writes to the disk below.

use std::{
    fs,
    path::{Path, PathBuf},
};

/// Directories in which each entry is there for something mounted (hier(7)), and how many names below
/// them make a mount point.
const BASES: [(&str, usize); 3] = [("/run/media", 2), ("/media", 1), ("/mnt", 1)];

/// The directory at or above a path at which a file system belongs and none is mounted: fstab(5) says
/// so, or the place is one that is there for nothing else.
#[must_use]
pub fn missing_mount(path: &Path) -> Option<PathBuf> {
    let read = |file: &str| fs::read_to_string(file).unwrap_or_default();
    missing(path, &read("/etc/fstab"), &read("/proc/self/mountinfo"))
}

fn missing(path: &Path, fstab: &str, mountinfo: &str) -> Option<PathBuf> {
    let mounted: Vec<PathBuf> = mountinfo
        .lines()
        .filter_map(|line| line.split(' ').nth(4))
        .map(|point| PathBuf::from(unescaped(point)))
        .filter(|point| point != Path::new("/") && path.starts_with(point))
        .collect();
    let wanted = fstab
        .lines()
        .filter(|line| !line.trim_start().starts_with('#'))
        .filter_map(|line| line.split_whitespace().nth(1))
        .map(|point| PathBuf::from(unescaped(point)))
        .filter(|point| point != Path::new("/") && point.is_absolute() && path.starts_with(point))
        .max_by_key(|point| point.components().count());
    if let Some(wanted) = wanted {
        return (!mounted.iter().any(|point| point.starts_with(&wanted))).then_some(wanted);
    }
    let (base, names) = BASES.iter().find(|(base, _)| path.starts_with(base))?;
    if mounted.iter().any(|point| point.starts_with(base)) {
        return None;
    }
    let depth = Path::new(base).components().count() + names;
    Some(path.components().take(depth).collect())
}

/// Blanks and the like stand there as octal numbers.
pub(super) fn unescaped(text: &str) -> String {
    let mut parts = text.split('\\');
    let mut out = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        match part.get(..3).and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => {
                out.push(char::from(byte));
                out.push_str(&part[3..]);
            }
            None => out.push_str(part),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_system_that_is_not_mounted_is_missed_where_it_belongs() {
        let fstab = "# /dev/sdz1 /srv/old ext4\nUUID=1 / ext4 defaults 0 1\nUUID=2 /srv/oak\\040east ext4 noauto 0 2\nUUID=3 none swap\n";
        let line = |point: &str| format!("36 35 98:0 / {point} rw,noatime - ext4 /dev/sdb1 rw\n");
        let root = line("/");
        for (path, mounts, missed) in [
            ("/srv/oak east/skellin", String::new(), Some("/srv/oak east")),
            ("/srv/oak east/skellin", line("/srv/oak\\040east"), None),
            ("/srv/oak east/skellin", line("/srv"), Some("/srv/oak east")),
            ("/srv/old", String::new(), None),
            ("/backup", String::new(), None),
            ("/mnt/oak", String::new(), Some("/mnt/oak")),
            ("/mnt/oak/skellin", line("/mnt"), None),
            ("/mnt/oak/skellin", line("/mnt/oak"), None),
            ("/mnt/oak/skellin", line("/mnt/pier"), Some("/mnt/oak")),
            ("/mnt", String::new(), Some("/mnt")),
            ("/mntx/oak", String::new(), None),
            ("/run/media/keeper/OAK1/a/b", String::new(), Some("/run/media/keeper/OAK1")),
            ("/media/OAK1/a", line("/media/OAK1"), None),
        ] {
            let found = missing(Path::new(path), fstab, &format!("{root}{mounts}"));
            assert_eq!(found.as_deref(), missed.map(Path::new), "{path} with {mounts}");
        }
    }
}
