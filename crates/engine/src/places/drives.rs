//! Drives: a store is found by what it is, on whatever is mounted.

use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_place::{DirectoryPlace, Operation, Place, PlaceError, PlaceErrorKind};
use skellin_plan::{PlaceSpec, StoreConfig};
use skellin_store::{FOLDERS, Store};

use crate::{
    error::{EngineError, Result},
    folders::Folders,
};

/// The file beside a store's folders that says which drive of a rotation it is. It is not secret,
/// and nothing is believed because of it: the store's id and its passphrase are what counts.
const MARK: &str = "drive.txt";

/// A mounted drive with a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MountedDrive {
    /// Its name in the rotation; none if it carries none.
    pub name: Option<String>,
    /// Where it is mounted.
    pub mount: PathBuf,
    /// The store's directory on it.
    pub root: PathBuf,
    /// The store's id.
    pub id: String,
}

/// Where drives may be mounted now: file systems of devices, and those in memory.
#[must_use]
pub fn mount_points(folders: &Folders) -> Vec<PathBuf> {
    if let Some(folder) = &folders.drives {
        let entries = fs::read_dir(folder).into_iter().flatten().flatten();
        let mut found: Vec<_> =
            entries.map(|entry| entry.path()).filter(|path| path.is_dir()).collect();
        found.sort();
        return found;
    }
    let text = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let mut found: Vec<PathBuf> = Vec::new();
    for line in text.lines() {
        // proc(5): the mount point is the fifth field; type and source follow after a dash.
        let Some((before, after)) = line.split_once(" - ") else { continue };
        let mut after = after.split(' ');
        let (kind, source) = (after.next().unwrap_or_default(), after.next().unwrap_or_default());
        // Shares of the network are named as directories: one that hangs must stop nobody here.
        if !source.starts_with("/dev/") && kind != "tmpfs" {
            continue;
        }
        if let Some(point) = before.split(' ').nth(4) {
            let path = PathBuf::from(unescaped(point));
            if path != Path::new("/") && !found.contains(&path) {
                found.push(path);
            }
        }
    }
    found
}

/// Blanks and the like stand there as octal numbers.
fn unescaped(text: &str) -> String {
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

/// All mounted drives that carry a store at this path from their top.
#[must_use]
pub fn mounted_drives(path: &str, folders: &Folders) -> Vec<MountedDrive> {
    let look = |mount: PathBuf| {
        let root = mount.join(path);
        let place = DirectoryPlace::open(root.clone()).ok()?;
        let id = Store::header_at(&place).ok()?.store.to_string();
        let mark = fs::read_to_string(root.join(MARK)).unwrap_or_default();
        let name = mark.lines().find_map(|line| line.strip_prefix("drive: ")).map(str::to_owned);
        Some(MountedDrive { name, mount, root, id })
    };
    mount_points(folders).into_iter().filter_map(look).collect()
}

/// The drive of a store that is here: the only one, or of several the one named first.
pub(crate) fn find(config: &StoreConfig, path: &str, folders: &Folders) -> Result<MountedDrive> {
    let drives = &config.rotation.drives;
    let mut found = mounted_drives(path, folders);
    let missing = |why: String, hint: String| -> EngineError {
        let place = config.place.to_string();
        PlaceError::because(Operation::Reach, place, PlaceErrorKind::Missing, why)
            .with_hint(hint)
            .into()
    };
    if !drives.is_empty() {
        let turn =
            |drive: &MountedDrive| drives.iter().position(|name| Some(name) == drive.name.as_ref());
        found.retain(|drive| turn(drive).is_some());
        found.sort_by_key(turn);
        found.truncate(1);
    }
    match found.len() {
        1 => Ok(found.remove(0)),
        0 if drives.is_empty() => Err(missing(
            format!("no mounted drive has a store at {path}"),
            format!(
                "plug the drive in and mount it; or create the store: skellin store create {} --on DIR",
                config.name
            ),
        )),
        0 => Err(missing(
            format!("no drive of it is here: {}", drives.join(", ")),
            format!(
                "plug one in and mount it; a new one joins by: skellin store create {} --on DIR --drive NAME",
                config.name
            ),
        )),
        _ => Err(missing(
            format!(
                "several mounted drives have a store at {path}: {}",
                found
                    .iter()
                    .map(|drive| drive.mount.display().to_string())
                    .collect::<Vec<_>>()
                    .join(", ")
            ),
            "take the others out, or name the drives of the store: drives = [\"…\", \"…\"]"
                .to_owned(),
        )),
    }
}

/// Makes a drive ready for a new store. `mount`: where it is mounted; `drive`: its name in the
/// rotation.
///
/// # Errors
/// If that is no drive, or it cannot be written.
pub fn prepare_drive(
    config: &StoreConfig,
    mount: &Path,
    drive: Option<&str>,
    folders: &Folders,
) -> Result<Arc<dyn Place>> {
    let refuse = |what: String, hint: String| Err(EngineError::Unknown { what, hint });
    let PlaceSpec::Drive(path) = &config.place else {
        return refuse(
            format!("the place of {} is no drive, but {}", config.name, config.place),
            "leave --on out".to_owned(),
        );
    };
    let known = &config.rotation.drives;
    match drive {
        Some(drive) if !known.iter().any(|name| name == drive) => {
            return refuse(
                format!("{} has no drive `{drive}`", config.name),
                match skellin_plan::nearest(drive, known.iter().map(String::as_str)) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("name it in stores.toml: drives = [\"{drive}\", …]"),
                },
            );
        }
        None if !known.is_empty() => {
            return refuse(
                format!("{} has several drives, and which one this is is not said", config.name),
                format!("add --drive {}", known.join(" or --drive ")),
            );
        }
        _ => {}
    }
    let real = mount.canonicalize().map_err(|error| EngineError::local("find", mount, error))?;
    let points = mount_points(folders);
    if !points.iter().any(|point| point.canonicalize().is_ok_and(|point| point == real)) {
        return refuse(
            format!("nothing is mounted at {}", mount.display()),
            "mount the drive, and name the directory it is mounted at".to_owned(),
        );
    }
    let root = real.join(path);
    let place = DirectoryPlace::prepare(root.clone(), FOLDERS)?;
    if let Some(drive) = drive {
        let mark = root.join(MARK);
        let text = format!("drive: {drive}\nstore: {}\n", config.name);
        match fs::OpenOptions::new().write(true).create_new(true).open(&mark) {
            Ok(mut file) => io::Write::write_all(&mut file, text.as_bytes())
                .and_then(|()| file.sync_all())
                .map_err(|error| EngineError::local("write", &mark, error))?,
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(EngineError::local("write", &mark, error)),
        }
    }
    Ok(Arc::new(place))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mount_points_are_read_with_their_blanks() {
        assert_eq!(unescaped(r"/media/keeper/OAK\040east\134x"), r"/media/keeper/OAK east\x");
        assert_eq!(unescaped(r"/odd\9"), "/odd9");
        let own = mount_points(&Folders::default());
        assert!(own.iter().all(|path| path.is_absolute() && path != Path::new("/")));
    }
}
