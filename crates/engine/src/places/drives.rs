//! Drives: a store is found by what it is, on whatever is mounted.

use std::{
    fs, io,
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_place::{
    DirectoryPlace, Operation, Place, PlaceError, PlaceErrorKind,
    own::{open_folder, open_plain_at, read_up_to},
};
use skellin_plan::{PlaceSpec, StoreConfig};
use skellin_store::{FOLDERS, Store};

use super::mounts::unescaped;
use crate::{
    error::{EngineError, Result},
    folders::Folders,
    journal::{Journal, store_on_drive},
    refusal::Refusal,
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

/// Where drives are mounted now: file systems of block devices whose top belongs to root or to this
/// account. What somebody else has put together there is no drive.
#[must_use]
pub fn mount_points(folders: &Folders) -> Vec<PathBuf> {
    let found = match &folders.drives {
        Some(folder) => {
            let entries = fs::read_dir(folder).into_iter().flatten().flatten();
            let mut found: Vec<_> =
                entries.map(|entry| entry.path()).filter(|path| path.is_dir()).collect();
            found.sort();
            found
        }
        None => on_block_devices(&fs::read_to_string("/proc/self/mountinfo").unwrap_or_default()),
    };
    let own = rustix::process::geteuid().as_raw();
    let is_ours = |path: &PathBuf| {
        fs::metadata(path).is_ok_and(|facts| facts.uid() == 0 || facts.uid() == own)
    };
    found.into_iter().filter(is_ours).collect()
}

/// Where file systems of block devices are mounted, by the text of proc(5)'s `mountinfo`.
fn on_block_devices(text: &str) -> Vec<PathBuf> {
    let mut found: Vec<PathBuf> = Vec::new();
    for line in text.lines() {
        // The numbers of the device are the third field, the mount point is the fifth; type and
        // source follow after a dash.
        let Some((before, after)) = line.split_once(" - ") else { continue };
        let fields: Vec<&str> = before.split(' ').collect();
        let (Some(device), Some(point)) = (fields.get(2), fields.get(4)) else { continue };
        let mut after = after.split(' ');
        let (kind, source) = (after.next().unwrap_or_default(), after.next().unwrap_or_default());
        // Anybody may mount with FUSE and call the source what he likes; shares of the network are
        // named as directories, and one that hangs must stop nobody here. Some file systems span
        // devices and have a number of their own.
        let spans = matches!(kind, "btrfs" | "bcachefs");
        let is_device = !device.starts_with("0:") || spans;
        let by_users = kind == "fuse" || kind.starts_with("fuse.");
        if !is_device || by_users || !source.starts_with("/dev/") {
            continue;
        }
        let path = PathBuf::from(unescaped(point));
        if path != Path::new("/") && !found.contains(&path) {
            found.push(path);
        }
    }
    found
}

/// All mounted drives that carry a store at this path from their top.
#[must_use]
pub fn mounted_drives(path: &str, folders: &Folders) -> Vec<MountedDrive> {
    let look = |mount: PathBuf| {
        let root = mount.join(path);
        let place = DirectoryPlace::open(root.clone()).ok()?;
        let id = Store::header_at(&place).ok()?.store.to_string();
        let mark = read_mark(&root).unwrap_or_default();
        let name = mark.lines().find_map(|line| line.strip_prefix("drive: ")).map(str::to_owned);
        Some(MountedDrive { name, mount, root, id })
    };
    mount_points(folders).into_iter().filter_map(look).collect()
}

/// The file beside a store's folders, which is short and no link.
fn read_mark(root: &Path) -> io::Result<String> {
    let root = open_folder(rustix::fs::CWD, root, true)?;
    let bytes = read_up_to(open_plain_at(&root, Path::new(MARK))?, 4096)?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
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
    if let [drive] = found.as_slice()
        && let Some(known) = known_id(config, drive, folders)
        && known != drive.id
    {
        let name = drive.name.as_deref().unwrap_or(&config.name);
        return Err(missing(
            format!(
                "the drive at {} calls itself {name} and carries another store than {name} did",
                drive.mount.display()
            ),
            format!(
                "if it is a new drive of that name, create its store with skellin store create {} --on DIR{}; else take it out",
                config.name,
                drive.name.as_ref().map_or(String::new(), |name| format!(" --drive {name}"))
            ),
        ));
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

/// The store that a drive of this name carried when it was here last.
fn known_id(config: &StoreConfig, drive: &MountedDrive, folders: &Folders) -> Option<String> {
    store_on_drive(&folders.state, &config.name, drive.name.as_deref()?)
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
    let PlaceSpec::Drive(path) = &config.place else {
        return Err(
            Refusal::NotADrive { store: config.name.clone(), place: config.place.clone() }.into()
        );
    };
    let known = &config.rotation.drives;
    match drive {
        Some(drive) if !known.iter().any(|name| name == drive) => {
            let near = skellin_plan::nearest(drive, known.iter().map(String::as_str));
            return Err(Refusal::NoDrive {
                store: config.name.clone(),
                drive: drive.to_owned(),
                near: near.map(str::to_owned),
            }
            .into());
        }
        None if !known.is_empty() => {
            let (store, drives) = (config.name.clone(), known.clone());
            return Err(Refusal::WhichDrive { store, drives }.into());
        }
        _ => {}
    }
    let real = mount.canonicalize().map_err(|error| EngineError::local("find", mount, error))?;
    let points = mount_points(folders);
    if !points.iter().any(|point| point.canonicalize().is_ok_and(|point| point == real)) {
        return Err(Refusal::NothingMounted(mount.to_path_buf()).into());
    }
    let root = real.join(path);
    let place = DirectoryPlace::prepare(root.clone(), FOLDERS)?;
    if let Some(drive) = drive {
        // A drive of that name that was here before makes room for this one.
        if folders.state.join("journal.sqlite").exists() {
            Journal::open(&folders.state)?.forget_drive(&config.name, drive)?;
        }
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

    const HEADER: &str = "skellin-store";

    #[test]
    fn mount_points_are_read_with_their_blanks() {
        assert_eq!(unescaped(r"/media/keeper/OAK\040east\134x"), r"/media/keeper/OAK east\x");
        assert_eq!(unescaped(r"/odd\9"), "/odd9");
        let text = "\
22 1 8:1 / / rw - ext4 /dev/sda1 rw
36 22 0:31 / /dev/shm rw - tmpfs tmpfs rw
37 22 8:17 / /media/oak\\040east rw - ext4 /dev/sdb1 rw
38 22 0:40 / /media/btr rw - btrfs /dev/sdc1 rw
39 22 0:50 / /home/keeper/mnt rw - fuse.own /dev/sdd1 rw
40 22 8:33 / /media/ntfs rw - fuseblk /dev/sde1 rw
41 22 0:51 / /mnt/nfs rw - nfs pier:/srv rw
42 22 0:52 / /mnt/odd rw - ext4 /dev/sdf1 rw
";
        let found = on_block_devices(text);
        let shown: Vec<_> = found.iter().map(|path| path.to_str().expect("text")).collect();
        assert_eq!(shown, ["/media/oak east", "/media/btr", "/media/ntfs"]);
        let own = mount_points(&Folders::default());
        assert!(own.iter().all(|path| path.is_absolute() && path != Path::new("/")));
    }

    #[test]
    fn what_is_no_plain_file_is_waited_for_by_nobody_and_no_header() {
        use rustix::fs::{CWD, Mode, mkfifoat};
        let media = tempfile::tempdir().expect("a directory");
        for (drive, name) in [("piped", HEADER), ("endless", HEADER), ("marked", MARK)] {
            let root = media.path().join(drive).join("skellin");
            fs::create_dir_all(&root).expect("makes");
            let path = root.join(name);
            match drive {
                "endless" => std::os::unix::fs::symlink("/dev/zero", path).expect("links"),
                _ => mkfifoat(CWD, path, Mode::RUSR).expect("a pipe"),
            }
        }
        let drives = Some(media.path().to_path_buf());
        let folders = Folders { drives, ..Folders::default() };
        let (told, hears) = std::sync::mpsc::channel();
        let look = std::thread::spawn(move || told.send(mounted_drives("skellin", &folders)));
        let found = hears.recv_timeout(std::time::Duration::from_secs(20));
        assert_eq!(found.expect("an answer in time"), []);
        look.join().expect("no panic").expect("is heard");
        let mark = media.path().join("marked/skellin");
        assert!(read_mark(&mark).is_err(), "a pipe says nothing");
    }
}
