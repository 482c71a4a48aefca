//! What others change while the application is open: plan files, and the journal by their runs.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use skellin_engine::Folders;

/// So often it is looked.
const LOOK: Duration = Duration::from_secs(2);

/// What has changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Changed {
    /// Files of the configuration.
    Configuration,
    /// The journal: something was begun or has ended.
    Journal,
}

/// Sizes and times of files.
type Seen = BTreeMap<PathBuf, (u64, Option<SystemTime>)>;

fn look(paths: impl Iterator<Item = PathBuf>) -> Seen {
    let facts = |path: PathBuf| {
        let facts = fs::metadata(&path).ok()?;
        Some((path, (facts.len(), facts.modified().ok())))
    };
    paths.filter_map(facts).collect()
}

fn configuration(config: &Path) -> Seen {
    let files = ["stores.toml", "hosts.toml", "channels.toml"].map(|name| config.join(name));
    let plans = fs::read_dir(config.join("plans")).into_iter().flatten().flatten();
    let is_plan =
        |path: &PathBuf| path.extension().is_some_and(|end| end == "toml" || end == "rules");
    look(files.into_iter().chain(plans.map(|entry| entry.path()).filter(is_plan)))
}

/// Looks again and again, on a thread of its own, until nobody listens.
pub(super) fn start(folders: &Folders, told: impl Fn(Changed) -> bool + Send + 'static) {
    let config = folders.config.clone();
    // The database itself changes with every look at it; the log beside it only with what is noted.
    let log = folders.state.join("journal.log");
    let journal = move || look(std::iter::once(log.clone()));
    let (mut files, mut noted) = (configuration(&config), journal());
    std::thread::spawn(move || {
        loop {
            std::thread::sleep(LOOK);
            let (files_now, noted_now) = (configuration(&config), journal());
            if files_now != files && !told(Changed::Configuration) {
                return;
            }
            if noted_now != noted && !told(Changed::Journal) {
                return;
            }
            (files, noted) = (files_now, noted_now);
        }
    });
}
