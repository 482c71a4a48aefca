//! How long a search takes through many snapshots of many paths.

use std::{
    fs,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Instant,
};

use anyhow::{Result, ensure};
use skellin_engine::history::{self, Asked};
use skellin_place::{DirectoryPlace, Place};
use skellin_plan::Query;
use skellin_store::{Cache, FOLDERS, Layout};

use crate::{
    far::{self, row},
    say,
};

const PATHS: usize = 100_000;
const FOLDERS_OF_PATHS: usize = 1_000;
const SNAPSHOTS: usize = 500;
/// Files that change each night, in so many directories.
const CHANGED: usize = 20;

/// Prints the row.
pub(crate) fn rows(folder: &Path) -> Result<()> {
    let root = folder.join("searched");
    let _ = fs::remove_dir_all(&root);
    let source = root.join("source");
    let path = |number: usize| {
        source.join(format!("{:03}/record-{number:06}.csv", number % FOLDERS_OF_PATHS))
    };
    for number in 0..PATHS {
        if number < FOLDERS_OF_PATHS {
            fs::create_dir_all(path(number).parent().unwrap_or(&source))?;
        }
        fs::write(path(number), "")?;
    }
    fs::create_dir_all(root.join("store"))?;
    let place: Arc<dyn Place> = Arc::new(DirectoryPlace::prepare(root.join("store"), FOLDERS)?);
    far::create(&*place, Layout::default())?;
    let cache = Cache::ReadWrite(root.join("cache"));
    let plan = far::plan(&source)?;
    let begun = Instant::now();
    for night in 0..SNAPSHOTS {
        for number in 0..CHANGED {
            let number = (night * 7919 + number * FOLDERS_OF_PATHS / 4) % PATHS;
            fs::write(path(number), night.to_string())?;
        }
        far::one_run(&far::open(&place, cache.clone())?, &plan)?;
    }
    say(format!("{SNAPSHOTS} snapshots made in {:.0} s", begun.elapsed().as_secs_f64()));
    let query = Query::new(Some("record-09999"), &[], 0).map_err(anyhow::Error::msg)?;
    let mut best = f64::INFINITY;
    for _ in 0..3 {
        let begun = Instant::now();
        let store = far::open(&place, cache.clone())?;
        let snapshots = history::snapshots(&store, None, |_, _| {})?;
        ensure!(snapshots.len() == SNAPSHOTS, "all are read");
        let count = AtomicUsize::new(0);
        let asked = Asked {
            snapshots: snapshots.as_slice(),
            query: &query,
            only_gone: false,
            is_cancelled: &|| false,
        };
        let each = |_| {
            count.fetch_add(1, Ordering::Relaxed);
        };
        history::find(&store, &asked, &each, &|_, _| {})?;
        ensure!(count.into_inner() == 10, "ten paths are called so");
        best = best.min(begun.elapsed().as_secs_f64());
    }
    row(
        "search, 500 snapshots of 100 000 paths",
        format!("{best:.2} s"),
        "2 s",
        best / 2.0,
        "warm, the store opened with it; at most 1 wanted",
    );
    Ok(fs::remove_dir_all(&root)?)
}
