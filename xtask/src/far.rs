//! What a far place costs: a line of 50 ms each way and 40 Mbit/s, in front of the simulated
//! servers.

use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, ensure};
use skellin_engine::{
    Cancel, Destination, Event, Existing, RestoreRequest, RunReport, RunRequest, SystemClock,
    history, restore, run,
};
use skellin_place::{
    CountingPlace, DirectoryPlace, Hop, Place, Retries, RetryingPlace, S3Key, S3Login, S3Place,
    S3Style, S3Target, SftpPlace, SftpTarget, Throttles,
};
use skellin_plan::{Plan, SnapshotSpec, When, parse_plan};
use skellin_standins::{
    Pace, Wire, noise,
    s3::{Bucket, SimulatedS3},
    sftp::{Account, SimulatedSftp},
};
use skellin_store::{Cache, Creation, FOLDERS, Layout, PassphraseCost, Store};

use crate::say;

const LINE: Pace = Pace { delay: Duration::from_millis(50), rate: Some(5_000_000) };
const PASSPHRASE: &[u8] = b"a passphrase for measurements";
const FILES: usize = 50_000;
/// Content of the first run, in files of 8 MiB.
const CONTENT: usize = 40;
const CONTAINERS: u64 = 2_000;
/// The size of a container, in bytes.
const CONTAINER: u64 = 32 << 20;

/// A server, the line to it, and the world around it.
pub(crate) struct Far {
    pub folder: PathBuf,
    pub sftp: SimulatedSftp,
    pub s3: SimulatedS3,
    to_sftp: Wire,
    to_s3: Wire,
}

impl Far {
    pub fn start(folder: PathBuf) -> Result<Self> {
        fs::create_dir_all(&folder)?;
        let account =
            Account { user: "keeper".to_owned(), password: "terns".to_owned(), key: None };
        let sftp = SimulatedSftp::start(folder.join("sftp"), account, &folder.join("key"), None)?;
        let bucket = Bucket {
            name: "ridge".to_owned(),
            region: "north-1".to_owned(),
            id: "hut".to_owned(),
            secret: "terns".to_owned(),
        };
        let s3 = SimulatedS3::start(folder.join("s3"), bucket, None)?;
        let to_sftp = Wire::to(sftp.address().port(), LINE)?;
        let to_s3 = Wire::to(s3.address().port(), LINE)?;
        fs::write(folder.join("known_hosts"), sftp.known_as("127.0.0.1", to_sftp.port()))?;
        Ok(Self { folder, sftp, s3, to_sftp, to_s3 })
    }

    pub fn sftp_target(&self, path: &str) -> SftpTarget {
        SftpTarget {
            hop: Hop {
                identity_passphrase: None,
                name: "127.0.0.1".to_owned(),
                address: "127.0.0.1".to_owned(),
                port: self.to_sftp.port(),
                user: "keeper".to_owned(),
                identities: Vec::new(),
                agent: false,
                password: Some("terns".to_owned().into()),
                known_hosts: vec![self.folder.join("known_hosts")],
            },
            via: Vec::new(),
            path: path.to_owned(),
            connections: 4,
            patience: Duration::from_secs(60),
            throttles: Throttles::default(),
        }
    }

    fn s3_target(&self) -> S3Target {
        S3Target {
            endpoint: format!("http://127.0.0.1:{}", self.to_s3.port()),
            bucket: "ridge".to_owned(),
            prefix: "hut".to_owned(),
            region: "north-1".to_owned(),
            style: S3Style::Path,
            login: S3Login::Key(S3Key {
                id: "hut".to_owned(),
                secret: "terns".to_owned().into(),
                token: None,
            }),
            part_size: 16 << 20,
            class: None,
            thaw: None,
            lock: None,
            connections: 4,
            patience: Duration::from_secs(60),
            authority: None,
            throttles: Throttles::default(),
        }
    }
}

pub(crate) fn patient(place: impl Place + 'static) -> Arc<dyn Place> {
    Arc::new(RetryingPlace::new(Arc::new(place), Retries::default()))
}

pub(crate) fn create(place: &dyn Place, layout: Layout) -> Result<()> {
    let creation = Creation { layout, cost: PassphraseCost::TRIVIAL, now: 1_790_000_000 };
    Store::create(place, PASSPHRASE, creation)?;
    Ok(())
}

pub(crate) fn open(place: &Arc<dyn Place>, cache: Cache) -> Result<Arc<Store>> {
    Ok(Arc::new(Store::open(Arc::clone(place), PASSPHRASE, cache)?))
}

pub(crate) fn plan(source: &Path) -> Result<Plan> {
    let text = format!("sources = [\"{}\"]\nstore = \"far\"\n", source.display());
    let (plan, problems) = parse_plan("far", "far.toml", &text, &|_: &str| None, ["far"]);
    ensure!(problems.is_empty(), "{problems:?}");
    plan.context("a plan")
}

pub(crate) fn one_run(store: &Arc<Store>, plan: &Plan) -> Result<RunReport> {
    let request = RunRequest {
        plan,
        configuration: &[],
        origin: None,
        source_hosts: &skellin_engine::SourceHosts::default(),
        machine: "hut",
        labels: &[],
        dry_run: false,
        paths: None,
        keep_out: &[],
        agree: &|_| true,
        around: &(),
        gentle: false,
        clock: &SystemClock,
        cancel: &Cancel::new(),
        events: &|_: Event| {},
    };
    Ok(run(store, &request)?)
}

fn make_content(folder: &Path) -> Result<u64> {
    fs::create_dir_all(folder)?;
    for number in 0..CONTENT {
        fs::write(
            folder.join(format!("render-{number}.raw")),
            noise(&format!("render {number}"), 8 << 20),
        )?;
    }
    Ok((CONTENT * (8 << 20)) as u64)
}

/// Prints the rows.
pub(crate) fn rows(medium: &Path) -> Result<()> {
    let far = Far::start(medium.join("far"))?;
    say("");
    say("a line of 50 ms each way and 40 Mbit/s");
    let content = far.folder.join("content");
    make_content(&content)?;
    fill(&far, &content)?;
    unchanged(&far)?;
    one_file(&far)?;
    cut(&far, &content)?;
    drop(far.sftp);
    drop(far.s3);
    Ok(fs::remove_dir_all(&far.folder)?)
}

/// How full a first run keeps the line.
fn fill(far: &Far, content: &Path) -> Result<()> {
    let sftp = patient(SftpPlace::prepare(far.sftp_target("/fill"), FOLDERS)?);
    let s3 = patient(S3Place::new(far.s3_target())?);
    for (name, place, wire) in [("SFTP", sftp, &far.to_sftp), ("S3", s3, &far.to_s3)] {
        create(&*place, Layout::default())?;
        let cache = Cache::ReadWrite(far.folder.join(format!("cache-{name}")));
        let store = open(&place, cache)?;
        let (begun, before) = (Instant::now(), wire.carried().0);
        one_run(&store, &plan(content)?)?;
        let (seconds, carried) = (begun.elapsed().as_secs_f64(), wire.carried().0 - before);
        let rate = carried as f64 / seconds;
        let limit = LINE.rate.unwrap_or(1) as f64;
        row(
            &format!("first run over {name}"),
            format!("{:.2} MB/s", rate / 1e6),
            format!("{:.2} MB/s", limit / 1e6),
            rate / limit,
            "at least 0.85 wanted",
        );
    }
    Ok(())
}

/// How much an unchanged run asks.
fn unchanged(far: &Far) -> Result<()> {
    let source = far.folder.join("many");
    for number in 0..FILES {
        let path = source.join(format!("{:03}/{number}", number % 500));
        if number < 500 {
            fs::create_dir_all(path.parent().context("a parent")?)?;
        }
        fs::write(path, number.to_string())?;
    }
    let newest = fs::metadata(source.join("499"))?.modified()?;
    while newest.elapsed().unwrap_or_default() < Duration::from_secs(4) {
        std::thread::sleep(Duration::from_millis(100));
    }
    let place = SftpPlace::prepare(far.sftp_target("/many"), FOLDERS)?;
    let counting = Arc::new(CountingPlace::new(patient(place)));
    let place: Arc<dyn Place> = Arc::clone(&counting) as Arc<dyn Place>;
    create(&*place, Layout::default())?;
    let plan = plan(&source)?;
    let cache = |name: &str| Cache::ReadWrite(far.folder.join(name));
    one_run(&open(&place, cache("own"))?, &plan)?;
    for (name, folder, most) in [("with its cache", "own", 14), ("without a cache", "none", 60)] {
        counting.take();
        let begun = Instant::now();
        let report = one_run(&open(&place, cache(folder))?, &plan)?;
        let (asked, seconds) = (counting.take().len(), begun.elapsed().as_secs_f64());
        ensure!(report.files.same == FILES as u64 && report.bytes.read == 0, "it is unchanged");
        row(
            &format!("unchanged, 50 000 files, {name}"),
            format!("{asked} requests"),
            format!("{most} requests"),
            asked as f64 / f64::from(most),
            &format!("at most 1 wanted; {seconds:.1} s"),
        );
    }
    Ok(())
}

/// One file out of a store of many containers, on a machine that knows nothing of it.
fn one_file(far: &Far) -> Result<()> {
    let source = far.folder.join("archive");
    fs::create_dir_all(source.join("2026/11"))?;
    let wanted = source.join("2026/11/gauge.csv");
    fs::write(&wanted, noise("gauge", 1 << 20))?;
    // Small containers, so that there are many; the file lies in more of them than it would in
    // larger ones.
    let layout = Layout { container: 512 << 10, data_block: 128 << 10, ..Layout::default() };
    let each = u64::from(layout.container);
    // A container is a little larger than it should be when it is closed.
    for number in 0..CONTAINERS * each * 4 / 3 / (1 << 20) {
        let path = source.join(format!("2026/{:02}/sheet-{number}.raw", number % 10 + 1));
        fs::create_dir_all(path.parent().context("a parent")?)?;
        fs::write(path, noise(&format!("sheet {number}"), 1 << 20))?;
    }
    let near = DirectoryPlace::prepare(far.folder.join("sftp/archive"), FOLDERS)?;
    let near: Arc<dyn Place> = Arc::new(near);
    create(&*near, layout)?;
    let plan = plan(&source)?;
    one_run(&open(&near, Cache::None)?, &plan)?;
    let containers = near.listing("data")?.len();
    ensure!(containers as u64 >= CONTAINERS, "only {containers} containers");
    let place = SftpPlace::open(far.sftp_target("/archive"))?;
    let counting = Arc::new(CountingPlace::new(patient(place)));
    let place: Arc<dyn Place> = Arc::clone(&counting) as Arc<dyn Place>;
    let begun = Instant::now();
    let store = open(&place, Cache::None)?;
    let spec = SnapshotSpec::Of { plan: "far".to_owned(), when: When::Newest };
    let whose = history::Whose { own: "hut", named: None, now: i64::MAX };
    let snapshot = history::find_snapshot(&store, &spec, whose)?.snapshot;
    let path = std::os::unix::ffi::OsStrExt::as_bytes(wanted.as_os_str());
    let located = history::must_locate(&store, &snapshot, path)?;
    let out = far.folder.join("out");
    let request = RestoreRequest {
        through: &[],
        keep_set_id: false,
        snapshot: &snapshot,
        paths: &[located],
        destination: &Destination::Directory(out),
        existing: Existing::Leave,
        extra: skellin_engine::Extra::Leave,
        dated: false,
        keep: &[],
        host: None,
        dry_run: false,
        stamp: "0",
        cancel: &Cancel::new(),
        events: &|_: Event| {},
    };
    let report = restore(&store, &request)?;
    ensure!(report.bytes == 1 << 20, "the file is restored");
    let asked = counting.take().len();
    row(
        &format!("1 MiB out of {containers} containers"),
        format!("{asked} requests"),
        "12 requests",
        asked as f64 / 12.0,
        &format!("at most 1 wanted; {:.1} s", begun.elapsed().as_secs_f64()),
    );
    Ok(())
}

/// How much is sent twice when the line is cut in the middle.
fn cut(far: &Far, content: &Path) -> Result<()> {
    let place = patient(SftpPlace::prepare(far.sftp_target("/cut"), FOLDERS)?);
    create(&*place, Layout::default())?;
    let store = open(&place, Cache::None)?;
    let before = far.to_sftp.carried().0;
    let plan = plan(content)?;
    let report = std::thread::scope(|scope| {
        let running = scope.spawn(|| one_run(&store, &plan));
        while far.to_sftp.carried().0 - before < 80 << 20 && !running.is_finished() {
            std::thread::sleep(Duration::from_millis(20));
        }
        far.to_sftp.cut();
        running.join().map_err(|_| anyhow::anyhow!("the run panicked"))?
    })?;
    let carried = far.to_sftp.carried().0 - before;
    let twice = carried.saturating_sub(report.bytes.stored);
    let most = 4 * CONTAINER;
    row(
        "sent twice after a cut",
        format!("{} MiB", twice >> 20),
        format!("{} MiB", most >> 20),
        twice as f64 / most as f64,
        "at most 1 wanted: a container for each of 4 connections",
    );
    Ok(())
}

pub(crate) fn row(
    name: &str,
    ours: impl AsRef<str>,
    limit: impl AsRef<str>,
    ratio: f64,
    wanted: &str,
) {
    let (ours, limit) = (ours.as_ref(), limit.as_ref());
    say(format!("{name:<44}{ours:>16}{limit:>16}{ratio:>8.2}   {wanted}"));
}
