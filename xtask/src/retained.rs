//! What it costs that snapshots expire and their room comes back.

use std::{
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, ensure};
use jiff::{Timestamp, tz::TimeZone};
use skellin_place::{DirectoryPlace, MemoryPlace, Place};
use skellin_plan::retention::{Past, Room, Sentence, decide};
use skellin_store::{Cache, Layout, Reclaim, ReclaimProgress, ReclaimWatch, RunId, Store};

use crate::{
    far::{self, row},
    made::{anonymous, begin, by_itself, chunk, finish, kept_entries, put},
    say,
};

const DAY: i64 = 86_400_000;
const BEGUN: i64 = 1_790_000_000_000;
/// Snapshots that are decided about.
const MANY: i64 = 100_000;
/// Nightly runs.
const NIGHTS: i64 = 1000;

struct Unwatched;

impl ReclaimWatch for Unwatched {
    fn is_cancelled(&self) -> bool {
        false
    }
    fn progress(&self, _: ReclaimProgress) {}
}

fn reclaim(now: i64) -> Reclaim<'static> {
    let (origin, patience) = (None, Duration::ZERO);
    Reclaim { machine: "hut", origin, now, waste: 10, most: u64::MAX, patience }
}

fn sentences(texts: &[&str]) -> Result<Vec<Sentence>> {
    let parse =
        |text: &&str| Sentence::parse(text).map_err(|(what, _)| anyhow::anyhow!("{text}: {what}"));
    texts.iter().map(parse).collect()
}

fn past(time: i64) -> Past {
    Past { time, is_whole: true, is_pinned: false, labels: Vec::new() }
}

/// Prints the rows that need little time.
pub(crate) fn rows() -> Result<()> {
    let all: Vec<Past> = (0..MANY).map(|hour| past(BEGUN + hour * DAY / 24)).collect();
    let said = sentences(&[
        "everything for 3 days",
        "one an hour for 2 weeks",
        "one a day for 10 weeks",
        "one a week for 20 months",
        "one a month for 10 years",
        "at least 4",
    ])?;
    let now = Timestamp::from_millisecond(BEGUN + MANY * DAY / 24)?;
    let now = now.to_zoned(TimeZone::get("Europe/Oslo")?);
    let begun = Instant::now();
    let (decided, _) = decide(&all, &said, &now, Room::default(), &mut |_| 0);
    let seconds = begun.elapsed().as_secs_f64();
    ensure!(decided.len() as i64 == MANY, "all are decided");
    row("retention of 100 000 snapshots", format!("{seconds:.2} s"), "1 s", seconds, "at most 1");
    nights()
}

/// Bytes and objects of a store after a thousand nights of which few are kept.
fn nights() -> Result<()> {
    let memory = MemoryPlace::new();
    far::create(&memory, Layout::default())?;
    let place: Arc<dyn Place> = Arc::new(memory.clone());
    let said = sentences(&["one a day for 2 weeks", "one a week for 10 weeks"])?;
    let mut own = Vec::new();
    for night in 0..NIGHTS {
        let now = BEGUN + night * DAY;
        let bytes = |place: &Arc<dyn Place>| -> Result<u64> {
            let mut sum = 0;
            for folder in skellin_store::FOLDERS {
                place.list(folder, &mut |object| sum += object.size)?;
            }
            Ok(sum)
        };
        let before = bytes(&place)?;
        one_night(&place, night, now)?;
        own.push(bytes(&place)?.saturating_sub(before));
        let store = far::open(&place, Cache::None)?;
        let listed = store.snapshots()?;
        let past: Vec<Past> = listed.iter().map(|one| past(one.started)).collect();
        let moment = Timestamp::from_millisecond(now)?.to_zoned(TimeZone::UTC);
        let (decided, _) = decide(&past, &said, &moment, Room::default(), &mut |_| 0);
        let gone = listed.iter().zip(decided).filter(|(_, decision)| !decision.stays());
        let gone: Vec<RunId> = gone.map(|(one, _)| one.run).collect();
        store.expire(&gone, "hut")?;
        if night % 7 == 6 || night + 1 == NIGHTS {
            store.reclaim(&reclaim(now), &Unwatched)?;
        }
    }
    let mean = |range: std::ops::Range<usize>| {
        let count = range.len() as f64;
        own[range].iter().sum::<u64>() as f64 / count
    };
    let (early, late) = (mean(16..24), mean(992..1000));
    row(
        "bytes of a nightly run, 1 000 to 20",
        format!("{late:.0} bytes"),
        format!("{early:.0} bytes"),
        late / early,
        "with expiry and reclaims; at most 1.3 wanted",
    );
    let fresh = MemoryPlace::new();
    far::create(&fresh, Layout::default())?;
    let there: Arc<dyn Place> = Arc::new(fresh.clone());
    for one in far::open(&place, Cache::None)?.snapshots()? {
        one_night(&there, (one.started - BEGUN) / DAY, one.started)?;
    }
    let objects = (memory.names().len(), fresh.names().len());
    row(
        "objects after it, to a fresh store",
        objects.0.to_string(),
        objects.1.to_string(),
        objects.0 as f64 / objects.1 as f64,
        "with the same snapshots; at most 3 wanted",
    );
    Ok(())
}

/// A register that changes each night, and a page that is there for a month.
fn one_night(place: &Arc<dyn Place>, night: i64, now: i64) -> Result<()> {
    let store = far::open(place, Cache::None)?;
    let session = begin(&store, now)?;
    let page = format!("page-{}", night / 30);
    let mut entries = kept_entries(&store, &session)?;
    entries.retain(|entry| entry.name == page.as_bytes());
    let mut files = vec![("register".to_owned(), vec![chunk(night as u64)])];
    if entries.is_empty() {
        files.push((page, vec![chunk(1 << 40 | (night / 30) as u64)]));
    }
    entries.extend(put(&session, &files)?);
    finish(&session, entries).map(drop)
}

/// Time and memory of a reclaim of a large store of which half has expired.
pub(crate) fn reclaimed(store: &Path, cache: &Path) -> Result<()> {
    let figures = by_itself("reclaim", &[store, cache])?;
    let [seconds, peak, before, waste, freed, needed, read, stored] = figures.as_slice() else {
        anyhow::bail!("eight figures wanted");
    };
    let mib = |bytes: &f64| format!("{:.0} MiB", bytes / f64::from(1 << 20));
    row(
        "reclaim of 20 million chunks, memory",
        mib(peak),
        "400 MiB",
        peak / (400 << 20) as f64,
        "anonymous, at most 1 wanted",
    );
    say(format!(
        "  in {seconds:.1} s: of {} there were {} waste; {} deleted, {} of them needed; {} read and {} stored for that",
        mib(before),
        mib(waste),
        mib(freed),
        mib(needed),
        mib(read),
        mib(stored)
    ));
    Ok(())
}

/// Lets half of the snapshots of a store expire, reclaims, and tells seconds, the largest anonymous memory
/// and what came of it.
pub(crate) fn measure(store: Option<String>, cache: Option<String>) -> Result<()> {
    let (store, cache) = store.zip(cache).context("a store and a cache")?;
    let place: Arc<dyn Place> = Arc::new(DirectoryPlace::open(PathBuf::from(store))?);
    let store: Arc<Store> = far::open(&place, Cache::ReadWrite(PathBuf::from(cache)))?;
    let listed = store.snapshots()?;
    let gone: Vec<RunId> = listed.iter().step_by(2).map(|one| one.run).collect();
    store.expire(&gone, "hut")?;
    let (peak, ended) = (AtomicU64::new(0), AtomicBool::new(false));
    let begun = Instant::now();
    let report = std::thread::scope(|scope| {
        scope.spawn(|| {
            while !ended.load(Ordering::SeqCst) {
                peak.fetch_max(anonymous().unwrap_or(0), Ordering::SeqCst);
                std::thread::sleep(Duration::from_millis(5));
            }
        });
        let report = store.reclaim(&reclaim(BEGUN), &Unwatched);
        ended.store(true, Ordering::SeqCst);
        report
    })?;
    say(format!(
        "{} {} {} {} {} {} {} {}",
        begun.elapsed().as_secs_f64(),
        peak.load(Ordering::SeqCst),
        report.bytes,
        report.waste,
        report.freed,
        report.needed,
        report.read,
        report.stored
    ));
    Ok(())
}
