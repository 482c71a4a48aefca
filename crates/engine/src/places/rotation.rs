//! Which drive of a store is here, whose turn it is, and how old the others are.

use jiff::{Timestamp, tz::TimeZone};
use skellin_plan::{PlaceSpec, StoreConfig, Turn};

use super::drives::mounted_drives;
use crate::{folders::Folders, journal::Journal};

/// A drive of a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DriveState {
    /// Its name.
    pub name: String,
    /// Where it is mounted; none if it is away.
    pub mount: Option<String>,
    /// When it was here last, in milliseconds since 1970.
    pub seen: Option<i64>,
    /// When the newest snapshot on it was made, in milliseconds since 1970.
    pub newest: Option<i64>,
    /// Whether it is its turn.
    pub has_turn: bool,
}

/// The drives of a store.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DriveStates {
    /// In the order of their turns.
    pub drives: Vec<DriveState>,
    /// Whose turn it is, where they take turns by the calendar.
    pub turn: Option<Turn>,
}

impl DriveStates {
    /// What to say if the drive whose turn it is, is not here.
    #[must_use]
    pub fn due(&self) -> Option<String> {
        let turn = self.turn.as_ref()?;
        let drive = self.drives.iter().find(|drive| drive.has_turn && drive.mount.is_none())?;
        let here = self.drives.iter().find(|drive| drive.mount.is_some());
        let since = turn.since.map(|since| {
            format!(" since {}", since.to_zoned(TimeZone::system()).strftime("%A, %-d %b"))
        });
        Some(format!(
            "{} is next{}{}",
            drive.name,
            since.unwrap_or_default(),
            here.map(|here| format!(", and {} is here", here.name)).unwrap_or_default()
        ))
    }
}

/// Looks which drives of a store are here; what is found is remembered. `now` in milliseconds since
/// 1970.
#[must_use]
pub fn drive_states(
    config: &StoreConfig,
    folders: &Folders,
    journal: Option<&Journal>,
    now: i64,
) -> DriveStates {
    let PlaceSpec::Drive(path) = &config.place else { return DriveStates::default() };
    let found = mounted_drives(path, folders);
    for drive in &found {
        if let (Some(name), Some(journal)) = (&drive.name, journal) {
            // A journal that cannot be written is told of elsewhere.
            let _ = journal.note_drive(&config.name, (name, &drive.id), now, None);
        }
    }
    let records = journal.and_then(|journal| journal.drives(&config.name).ok()).unwrap_or_default();
    let record = |name: &str| records.iter().find(|record| record.drive == name);
    let time = |milliseconds| Timestamp::from_millisecond(milliseconds).ok();
    let newest = |name: &str| record(name)?.newest.and_then(time);
    let turn = time(now).and_then(|now| config.rotation.turn(&newest, now, &TimeZone::system()));
    let drives = config.rotation.drives.iter().map(|name| {
        let here = found.iter().find(|drive| drive.name.as_ref() == Some(name));
        DriveState {
            name: name.clone(),
            mount: here.map(|drive| drive.mount.display().to_string()),
            seen: record(name).map(|record| record.seen),
            newest: record(name).and_then(|record| record.newest),
            has_turn: turn.as_ref().is_some_and(|turn| turn.drive == *name),
        }
    });
    DriveStates { drives: drives.collect(), turn }
}
