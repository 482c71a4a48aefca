//! What a store costs when it has grown: one of twenty million chunks, and ones of a thousand and more
//! small runs. All are made through the store's own writer.

use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, ensure};
use skellin_engine::history;
use skellin_place::{DirectoryPlace, MemoryPlace, Place, SftpPlace};
use skellin_store::{Cache, Comparison, ContentWriter, Entry, FOLDERS, Layout, Session, Store};

use crate::{
    far::{self, Far, row},
    made::{anonymous, begin, by_itself, chunk, file, finish, kept_entries, put},
    retained, say,
};

/// Chunks of the large store; each run stores a million of them.
const RUNS: u64 = 20;
const CHUNKS_A_RUN: u64 = 1_000_000;
const CONTAINERS: usize = 10_000;
/// Files of more chunks than an entry holds, for unchanged runs.
const LONG_FILES: usize = 100_000;
/// Snapshots that are looked back at over a line of 50 ms.
const SNAPSHOTS: i64 = 1_500;

/// Small containers, so that there are many.
fn layout() -> Layout {
    Layout {
        chunk_min: 256,
        chunk_turn: 512,
        chunk_max: 1024,
        data_block: 16 << 10,
        tree_block: 16 << 10,
        container: 120 << 10,
        ..Layout::default()
    }
}

/// Prints the rows.
pub(crate) fn rows(folder: &Path, medium: &Path) -> Result<()> {
    say("");
    own_bytes()?;
    retained::rows()?;
    looking_back(medium)?;
    large(folder)
}

/// Bytes of a run's own objects after a thousand of them, and after twenty.
fn own_bytes() -> Result<()> {
    let memory = MemoryPlace::new();
    far::create(&memory, Layout::default())?;
    let place: Arc<dyn Place> = Arc::new(memory.clone());
    let mut own = Vec::new();
    for night in 0..1000 {
        let store = far::open(&place, Cache::None)?;
        let session = begin(&store, 1_790_000_000_000 + night * 86_400_000)?;
        // A register that changes each night, a page that stays from every fourth.
        let mut files = vec![("register".to_owned(), vec![chunk(night as u64)])];
        let mut kept = kept_entries(&store, &session)?;
        kept.retain(|entry| entry.name != b"register");
        if night % 4 == 0 {
            files.push((format!("page-{night:05}"), vec![chunk(1 << 40 | night as u64)]));
        }
        let mut entries = put(&session, &files)?;
        entries.extend(kept);
        let run = finish(&session, entries)?.to_string();
        let snapshots = place.listing("snapshots")?;
        let newest = store.snapshots()?.pop().context("a snapshot")?;
        let sealed = snapshots.iter().find(|object| object.name == newest.object);
        let mut bytes = 2 * sealed.context("its object")?.size;
        for object in place.listing("index")? {
            if object.name.leaf() == format!("{run}-00000000") {
                bytes += object.size;
            }
        }
        own.push(bytes);
    }
    let mean = |range: std::ops::Range<usize>| {
        let count = range.len() as f64;
        own[range].iter().sum::<u64>() as f64 / count
    };
    let (early, late) = (mean(12..28), mean(984..1000));
    row(
        "own snapshot and segment, 1 000 runs",
        format!("{late:.0} bytes"),
        format!("{early:.0} bytes"),
        late / early,
        "after 20; at most 1.3 wanted",
    );
    Ok(())
}

/// History and versions of many snapshots over a line of 50 ms, by a machine that knows nothing of them.
fn looking_back(medium: &Path) -> Result<()> {
    let far = Far::start(medium.join("growth"))?;
    let near = DirectoryPlace::prepare(far.folder.join("sftp/history"), FOLDERS)?;
    let near: Arc<dyn Place> = Arc::new(near);
    far::create(&*near, Layout::default())?;
    for night in 0..SNAPSHOTS {
        let store = far::open(&near, Cache::None)?;
        let session = begin(&store, 1_780_000_000_000 + night * 3_600_000)?;
        let register = ("register".to_owned(), vec![chunk(night as u64 / 3)]);
        let entries = put(&session, &[register])?;
        finish(&session, entries)?;
    }
    let open = || -> Result<Arc<Store>> {
        let place = SftpPlace::open(far.sftp_target("/history"))?;
        far::open(&far::patient(place), Cache::None)
    };
    let begun = Instant::now();
    let found = history::snapshots(&*open()?, Some("readings"), |_, _| {})?;
    let seconds = begun.elapsed().as_secs_f64();
    ensure!(found.len() as i64 == SNAPSHOTS, "all are read");
    row(
        "history of 1 500 snapshots, 50 ms",
        format!("{seconds:.1} s"),
        "10 s",
        seconds / 10.0,
        "at most 1 wanted",
    );
    let begun = Instant::now();
    let followed = history::follow(&*open()?, "readings", b"/srv/register", "/".as_ref())?;
    let seconds = begun.elapsed().as_secs_f64();
    let versions = followed.context("it is found")?.versions.len();
    ensure!(versions as i64 == SNAPSHOTS / 3, "{versions} versions");
    row(
        "versions of a path in them",
        format!("{seconds:.1} s"),
        "30 s",
        seconds / 30.0,
        "at most 1 wanted",
    );
    drop(far.sftp);
    drop(far.s3);
    Ok(fs::remove_dir_all(&far.folder)?)
}

/// A store of twenty million chunks.
fn large(folder: &Path) -> Result<()> {
    let root = folder.join("large");
    let _ = fs::remove_dir_all(&root);
    let place = directory(&root.join("store"))?;
    far::create(&*place, layout())?;
    let cache = Cache::ReadWrite(root.join("cache"));
    let begun = Instant::now();
    for run in 0..RUNS {
        let store = far::open(&place, cache.clone())?;
        let session = begin(&store, 1_780_000_000_000 + run as i64)?;
        let session_ref = &session;
        let halves: Vec<Result<Vec<Entry>>> = std::thread::scope(|scope| {
            let work = |half| scope.spawn(move || half_a_million(session_ref, run, half));
            let workers: Vec<_> = (0..2).map(work).collect();
            let joined = workers.into_iter().map(|worker| worker.join());
            joined.map(|halves| halves.unwrap_or_else(|_| Ok(Vec::new()))).collect()
        });
        let mut entries = Vec::new();
        for half in halves {
            entries.extend(half?);
        }
        ensure!(entries.len() == 2, "both halves are stored");
        finish(&session, entries)?;
    }
    let containers = place.listing("data")?.len() + place.listing("trees")?.len();
    ensure!(containers >= CONTAINERS, "only {containers} containers");
    say(format!(
        "20 000 000 chunks in {containers} containers, made in {:.0} s",
        begun.elapsed().as_secs_f64()
    ));
    let told = |arguments: &[&Path]| -> Result<(f64, f64)> {
        let figures = by_itself("open", arguments)?;
        Ok((*figures.first().context("seconds")?, *figures.get(1).context("bytes")?))
    };
    let (store_folder, cache_folder) = (root.join("store"), root.join("cache"));
    told(&[&store_folder, &cache_folder])?;
    let (seconds, bytes) = told(&[&store_folder, &cache_folder])?;
    row("opening it, warm", format!("{seconds:.2} s"), "1 s", seconds, "at most 1 wanted");
    let each = bytes / (RUNS * CHUNKS_A_RUN) as f64;
    row(
        "memory, anonymous",
        format!("{each:.2} B/chunk"),
        "4 B/chunk",
        each / 4.0,
        "at most 1 wanted",
    );
    let index = place.listing("index")?;
    let is_segment = |leaf: &str| leaf.matches('-').count() == 1 && !leaf.contains('.');
    let segments = index.iter().filter(|object| is_segment(object.name.leaf())).count();
    row("index segments", segments.to_string(), "12", segments as f64 / 12.0, "at most 1 wanted");
    unchanged(&root, &place, cache)?;
    retained::reclaimed(&store_folder, &cache_folder)?;
    Ok(fs::remove_dir_all(&root)?)
}

fn half_a_million(session: &Arc<Session>, run: u64, half: u64) -> Result<Vec<Entry>> {
    let mut writer = ContentWriter::new(session)?;
    let name = format!("run-{run}-{half}");
    writer.begin_file(name);
    for number in 0..CHUNKS_A_RUN / 2 {
        writer.chunk(&chunk(run << 40 | half << 32 | number))?;
    }
    writer.end_file()?;
    writer.close()?;
    let done = writer.take_done().into_iter();
    Ok(done.map(|(name, content)| file(&name, content.size, content.recipe)).collect())
}

fn directory(path: &Path) -> Result<Arc<dyn Place>> {
    fs::create_dir_all(path)?;
    Ok(Arc::new(DirectoryPlace::prepare(path.to_path_buf(), FOLDERS)?))
}

/// An unchanged run over many long files in the large store and in an empty one.
fn unchanged(root: &Path, large: &Arc<dyn Place>, cache: Cache) -> Result<()> {
    let source = root.join("long");
    for number in 0..LONG_FILES {
        let path = source.join(format!("{:03}/{number}", number % 500));
        if number < 500 {
            fs::create_dir_all(path.parent().context("a parent")?)?;
        }
        fs::write(path, skellin_standins::noise(&format!("long {number}"), 10 << 10))?;
    }
    let newest = fs::metadata(source.join("499"))?.modified()?;
    while newest.elapsed().unwrap_or_default() < Duration::from_secs(4) {
        std::thread::sleep(Duration::from_millis(100));
    }
    let empty = directory(&root.join("empty"))?;
    far::create(&*empty, layout())?;
    let plan = far::plan(&source)?;
    let stores = [(large, cache), (&empty, Cache::ReadWrite(root.join("cache-empty")))];
    for (place, cache) in &stores {
        far::one_run(&far::open(place, cache.clone())?, &plan)?;
    }
    let mut best = [f64::INFINITY; 2];
    for _ in 0..3 {
        for ((place, cache), best) in stores.iter().zip(&mut best) {
            let begun = Instant::now();
            let report = far::one_run(&far::open(place, cache.clone())?, &plan)?;
            ensure!(report.files.same == LONG_FILES as u64, "it is unchanged");
            *best = best.min(begun.elapsed().as_secs_f64());
        }
    }
    let [large, empty] = best;
    row(
        "unchanged, 100 000 long files in it",
        format!("{large:.2} s"),
        format!("{empty:.2} s"),
        large / empty,
        "in an empty store; at most 1.3 wanted",
    );
    Ok(())
}

/// Opens a store as a dry run does, and tells seconds and anonymous bytes.
pub(crate) fn measure_opening(store: Option<String>, cache: Option<String>) -> Result<()> {
    let (store, cache) = store.zip(cache).context("a store and a cache")?;
    let place: Arc<dyn Place> = Arc::new(DirectoryPlace::open(PathBuf::from(store))?);
    let before = anonymous()?;
    let begun = Instant::now();
    let store = far::open(&place, Cache::ReadWrite(PathBuf::from(cache)))?;
    Comparison::dry_run(&store, "readings", "hut")?;
    let seconds = begun.elapsed().as_secs_f64();
    say(format!("{seconds} {}", anonymous()?.saturating_sub(before)));
    Ok(())
}
