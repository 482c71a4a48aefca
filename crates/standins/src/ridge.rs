//! Six weeks at the station: what the people and the instruments write from day to day.

use std::{
    fs::{self, File, OpenOptions},
    io::{self, Write},
    path::{Path, PathBuf},
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use crate::noise;

/// Nights that are played.
pub const NIGHTS: i64 = 42;

/// Something out of the ordinary on a night.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Happening {
    /// The machine is off.
    MachineOff,
    /// Somebody stops the run: a panorama has been rendered, and it takes its time.
    Interrupted,
    /// The logger's memory card is not in the reader.
    CardMissing,
    /// The drive of the store is not there.
    DriveMissing,
}

/// A day's records of one gauge, each every ten minutes.
const TICKS: i64 = 144;
const GAUGES: i64 = 6;
const PANORAMA: i64 = 12;
const RENAMED: i64 = 24;
const DELETED: i64 = 36;
const DRAFT: &str = "readings/2026/draft-table.csv";

/// The data of the station, below a directory.
#[derive(Clone, Debug)]
pub struct Ridge {
    root: PathBuf,
}

impl Ridge {
    /// Below this directory.
    #[must_use]
    pub fn new(root: PathBuf) -> Self {
        Self { root }
    }

    /// Where the instruments write.
    #[must_use]
    pub fn readings(&self) -> PathBuf {
        self.root.join("readings")
    }

    /// Where the ringers write.
    #[must_use]
    pub fn ringing(&self) -> PathBuf {
        self.root.join("ringing")
    }

    /// Where the logger's memory card appears.
    #[must_use]
    pub fn card(&self) -> PathBuf {
        self.root.join("mast-card")
    }

    /// What is out of the ordinary on a night.
    #[must_use]
    pub fn happening(night: i64) -> Option<Happening> {
        match night {
            9 => Some(Happening::MachineOff),
            PANORAMA => Some(Happening::Interrupted),
            20 => Some(Happening::CardMissing),
            29 => Some(Happening::DriveMissing),
            _ => None,
        }
    }

    /// A day passes; all that is written is dated to its end, in milliseconds since 1970.
    ///
    /// # Errors
    /// If a file cannot be written.
    pub fn live(&self, night: i64, moment: i64) -> io::Result<()> {
        let modified = UNIX_EPOCH + Duration::from_millis(u64::try_from(moment).unwrap_or(0));
        let day = Day { root: &self.root, modified };
        self.measure(&day, night)?;
        self.keep_the_register(&day, night)?;
        // Directories are dated by what happened in them: sketches were drawn on the first day.
        let sketches = match night {
            0 => Some("ringing/sketches"),
            RENAMED => Some("ringing/drawings"),
            _ => None,
        };
        let often = [
            "readings",
            "readings/2026",
            "readings/.cache",
            "mast-card",
            "ringing",
            "ringing/scans",
        ];
        for folder in often.into_iter().chain(sketches) {
            if self.root.join(folder).is_dir() {
                File::open(self.root.join(folder))?.set_modified(modified)?;
            }
        }
        Ok(())
    }

    /// A day passes at the mast, whose files lie below another directory; dated as a day is.
    ///
    /// # Errors
    /// If a file cannot be written.
    pub fn live_at_the_mast(files: &Path, night: i64, moment: i64) -> io::Result<()> {
        // SFTP tells whole seconds.
        let modified = UNIX_EPOCH + Duration::from_secs(u64::try_from(moment / 1000).unwrap_or(0));
        let day = Day { root: files, modified };
        if night == 0 {
            day.put("etc/network.conf", b"address = 10.4.0.7\ngateway = 10.4.0.1\n")?;
            day.put("etc/logger/channels.conf", &noise("channels", 3_000))?;
        }
        if night % 11 == 0 {
            let every = 5 + night % 4;
            day.put("etc/logger/logger.conf", format!("every = \"{every} min\"\n").as_bytes())?;
        }
        day.put("var/records/queue.spool", &noise(&format!("queue {night}"), 300_000))?;
        for hour in [0, 6, 12, 18] {
            let name = format!("var/records/day-{night:03}/{hour:02}00.rec");
            day.put(&name, &noise(&name, 48_000 + night as usize * 100))?;
        }
        day.append("var/records/battery.csv", &format!("day {night:03}, 12.{} V\n", night % 10))?;
        for folder in ["etc", "etc/logger", "var/records"] {
            File::open(files.join(folder))?.set_modified(modified)?;
        }
        File::open(files.join(format!("var/records/day-{night:03}")))?.set_modified(modified)
    }

    /// The morning after the last night, which no run has seen yet; dated as a day is.
    ///
    /// # Errors
    /// If a file cannot be written.
    pub fn morning(&self, moment: i64) -> io::Result<()> {
        let modified = UNIX_EPOCH + Duration::from_millis(u64::try_from(moment).unwrap_or(0));
        let day = Day { root: &self.root, modified };
        for gauge in 1..=GAUGES {
            append_records(&day, gauge, NIGHTS, TICKS / 3)?;
        }
        day.append("readings/notes.md", "Morning: the camera on the ridge works again.\n")?;
        for hour in 5..11 {
            let picture = noise(&format!("picture {hour}"), 400_000 + hour * 60_000);
            day.put(&format!("readings/2026/camera/ridge-{hour:02}00.jpg"), &picture)?;
        }
        fs::remove_file(self.root.join(DRAFT))?;
        day.put("readings/.cache/tiles.bin", &noise("tiles", 9 << 20))?;
        for hour in 5..11 {
            let preview = noise(&format!("preview {hour}"), 250_000);
            day.put(&format!("readings/.cache/previews/ridge-{hour:02}00.png"), &preview)?;
        }
        // What somebody began to write down, and has put into no plan.
        for letter in 1..=14 {
            let text = format!("Letter {letter} to the harbour office.\n").repeat(letter * 400);
            day.put(&format!("letters/letter-{letter:02}.txt"), text.as_bytes())?;
        }
        Ok(())
    }

    fn measure(&self, day: &Day<'_>, night: i64) -> io::Result<()> {
        for gauge in 1..=GAUGES {
            append_records(day, gauge, night, TICKS)?;
        }
        if night == NIGHTS - 1 {
            day.put(DRAFT, &noise("draft", 90_000))?;
        }
        let mut dump = noise("gauges", 2 << 20);
        for edit in 0..=night {
            // Rows are written over here and there, as a database does.
            let at = (edit as usize * 392_821) % (dump.len() - 64);
            dump[at..at + 64].copy_from_slice(&noise(&format!("edit {edit}"), 64));
        }
        day.put("readings/gauges.dump", &dump)?;
        let note = match night % 5 {
            0 => "Wind from the north, two terns seen.",
            1 => "Calm. The gauge at the pier was cleaned.",
            2 => "Fog until noon, nothing counted.",
            3 => "Forty-one gulls over the ridge.",
            _ => "Rain. The logger's battery was changed.",
        };
        day.append("readings/notes.md", &format!("Day {night}: {note}\n"))?;
        day.put("readings/.cache/tiles.bin", &noise(&format!("tiles {night}"), 200_000))?;
        if night == PANORAMA {
            day.put("readings/panorama-render.tif", &noise("panorama", 40 << 20))?;
        }
        if Self::happening(night) == Some(Happening::CardMissing) {
            return fs::rename(self.card(), self.root.join(".card-in-a-pocket"));
        }
        if !self.card().exists() && night > 0 {
            fs::rename(self.root.join(".card-in-a-pocket"), self.card())?;
        }
        day.append("mast-card/logger.log", &format!("day {night:03} battery 12.{} V\n", night % 10))
    }

    fn keep_the_register(&self, day: &Day<'_>, night: i64) -> io::Result<()> {
        if night == 0 {
            for plate in 1..=8 {
                let drawing = noise(&format!("plate {plate}"), 60_000);
                day.put(&format!("ringing/sketches/plate-{plate:02}.png"), &drawing)?;
            }
        }
        if night == RENAMED {
            let (sketches, drawings) =
                (self.ringing().join("sketches"), self.ringing().join("drawings"));
            fs::rename(sketches, &drawings)?;
        }
        if night % 3 != 1 {
            let sheet = noise(&format!("sheet {night}"), 150_000);
            day.put(&format!("ringing/scans/sheet-{night:03}.png"), &sheet)?;
        }
        match night {
            DELETED => fs::remove_file(self.ringing().join("register.csv")),
            // Nobody has noticed yet.
            night if night > DELETED => Ok(()),
            _ => day.append(
                "ringing/register.csv",
                &format!("ring {:05}, tern, adult, day {night}\n", 41_000 + night),
            ),
        }
    }
}

/// What a gauge records in so many ticks of a day.
fn append_records(day: &Day<'_>, gauge: i64, night: i64, ticks: i64) -> io::Result<()> {
    let mut lines = String::new();
    for tick in 0..ticks {
        // A tide of about twelve and a half hours, and some weather.
        let hours = (night * TICKS + tick) as f64 / 6.0;
        let tide = (hours * std::f64::consts::TAU / 12.42 + gauge as f64).sin();
        let weather = (hours / 31.0 + gauge as f64 * 0.7).sin() * 0.3;
        lines.push_str(&format!(
            "day {night:03}, {:02}:{:02}, {:.3} m\n",
            tick / 6,
            tick % 6 * 10,
            1.8 + tide + weather
        ));
    }
    day.append(&format!("readings/2026/tide-gauge-{gauge:02}.csv"), &lines)
}

struct Day<'a> {
    root: &'a Path,
    modified: SystemTime,
}

impl Day<'_> {
    fn put(&self, path: &str, bytes: &[u8]) -> io::Result<()> {
        self.write(path, bytes, false)
    }

    fn append(&self, path: &str, text: &str) -> io::Result<()> {
        self.write(path, text.as_bytes(), true)
    }

    fn write(&self, path: &str, bytes: &[u8], append: bool) -> io::Result<()> {
        let path = self.root.join(path);
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        let mut options = OpenOptions::new();
        let options = options.create(true).write(true).append(append).truncate(!append);
        let mut file = options.open(path)?;
        file.write_all(bytes)?;
        file.set_modified(self.modified)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;

    fn contents(root: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
        let (mut found, mut left) = (BTreeMap::new(), vec![root.to_path_buf()]);
        while let Some(folder) = left.pop() {
            for entry in fs::read_dir(&folder).expect("a directory") {
                let path = entry.expect("an entry").path();
                if path.is_dir() {
                    left.push(path);
                } else {
                    let below = path.strip_prefix(root).expect("below").to_path_buf();
                    found.insert(below, fs::read(&path).expect("reads"));
                }
            }
        }
        found
    }

    #[test]
    fn six_weeks_are_the_same_each_time_and_hold_what_is_told_of_them() {
        let folders = [(); 2].map(|()| {
            std::env::temp_dir().join(format!(
                "skellin-ridge-{}-{:?}",
                std::process::id(),
                std::time::Instant::now()
            ))
        });
        let worlds = folders.clone().map(|folder| {
            let ridge = Ridge::new(folder.clone());
            for night in 0..NIGHTS {
                ridge.live(night, 1_790_000_000_000 + night * 86_400_000).expect("a day passes");
                let has_card = Ridge::happening(night) != Some(Happening::CardMissing);
                assert_eq!(ridge.card().exists(), has_card, "night {night}");
                assert_eq!(
                    ridge.ringing().join("register.csv").exists(),
                    night < DELETED,
                    "night {night}"
                );
                assert_eq!(
                    ridge.ringing().join("drawings").exists(),
                    night >= RENAMED,
                    "night {night}"
                );
            }
            contents(&folder)
        });
        assert_eq!(worlds[0], worlds[1]);
        let gauge = &worlds[0][Path::new("readings/2026/tide-gauge-01.csv")];
        assert_eq!(gauge.iter().filter(|b| **b == b'\n').count() as i64, NIGHTS * TICKS);
        assert_eq!(worlds[0][Path::new("readings/panorama-render.tif")].len(), 40 << 20);
        folders.iter().for_each(|folder| fs::remove_dir_all(folder).expect("removes"));
    }
}
