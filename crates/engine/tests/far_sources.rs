//! Sources on another host, reached by SFTP: stored like those of this machine, and only what
//! changed is asked for again.

use crate::common;

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use common::{
    Restoring, Running, assert_clean, content, memory_store, newest, open_store, plan_of, write,
};
use skellin_engine::{
    Cancel, Census, Change, EngineError, Looking, PreviewEntry, SourceHosts, explain, list_preview,
};
use skellin_place::PlaceErrorKind;
use skellin_plan::{Action, parse_hosts};
use skellin_standins::{
    Pace, Wire,
    sftp::{Account, SimulatedSftp},
};
use skellin_store::Kind;
use tempfile::TempDir;

/// The host `mast`, its files below a directory, reached over a line.
struct Mast {
    folder: TempDir,
    _server: SimulatedSftp,
    wire: Wire,
}

impl Mast {
    fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let (user, password) = ("keeper".to_owned(), "two terns".to_owned());
        let account = Account { user, password, key: None };
        let files = folder.path().join("files");
        let server =
            SimulatedSftp::start(files, account, &folder.path().join("key"), None).unwrap();
        let wire = Wire::to(server.address().port(), Pace::default()).unwrap();
        let known = server.known_as("mast", wire.port());
        fs::write(folder.path().join("known"), known).unwrap();
        fs::write(folder.path().join("password"), "two terns\n").unwrap();
        let only_own = std::os::unix::fs::PermissionsExt::from_mode(0o600);
        fs::set_permissions(folder.path().join("password"), only_own).unwrap();
        Self { folder, _server: server, wire }
    }

    fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join("files").join(path)
    }

    fn source_hosts(&self) -> SourceHosts {
        let shown = self.folder.path().display();
        let text = format!(
            "[mast]\naddress = \"127.0.0.1\"\nuser = \"keeper\"\nport = {}\npassword = {{ file = \"{shown}/password\" }}\nknown-hosts = \"{shown}/known\"\n",
            self.wire.port()
        );
        let hosts = parse_hosts("hosts.toml", &text, &|_: &str| None);
        assert_eq!(hosts.problems, []);
        SourceHosts::new(hosts.fine)
    }
}

/// Dates a file back, as one that was not written just now.
fn date_back(path: &Path, seconds: u64) {
    let time = SystemTime::now() - Duration::from_secs(seconds);
    fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
}

fn lay_down(root: &Path) {
    for number in 0..40u64 {
        let path = root.join(format!("{}/{number:02}.csv", number % 5));
        write(&path, content(number, 900 + 700 * number as usize));
        date_back(&path, 86_400);
    }
    write(&root.join("large.bin"), content(99, (9 << 20) + 7));
    date_back(&root.join("large.bin"), 86_400);
    write(&root.join("0/part.part"), "half");
    write(&root.join("empty"), "");
    date_back(&root.join("empty"), 86_400);
    fs::create_dir(root.join("hollow")).unwrap();
    std::os::unix::fs::symlink("large.bin", root.join("newest")).unwrap();
}

/// All files and links below a directory with what is in them.
fn everything(root: &Path, below: &Path, found: &mut BTreeMap<PathBuf, Vec<u8>>) {
    for entry in fs::read_dir(below).unwrap() {
        let path = entry.unwrap().path();
        let facts = path.symlink_metadata().unwrap();
        let held = match facts.is_symlink() {
            true => fs::read_link(&path).unwrap().display().to_string().into_bytes(),
            false if facts.is_dir() => {
                everything(root, &path, found);
                Vec::new()
            }
            false => fs::read(&path).unwrap(),
        };
        found.insert(path.strip_prefix(root).unwrap().to_path_buf(), held);
    }
}

fn tree(root: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    everything(root, root, &mut found);
    found
}

#[test]
fn a_source_of_another_host_is_stored_and_only_what_changed_is_read_again() {
    let (mast, scratch) = (Mast::start(), common::scratch());
    lay_down(&mast.path("var/records"));
    let source = Path::new("sftp://mast/var/records");
    let plan = plan_of(&[source], "skip *.part\nskip /var/records/1/\nskip ./2/");
    let (_, place) = memory_store();
    let night = |now: i64| {
        let mut running = Running::of(&plan).at(1_790_000_000_000 + now * 86_400_000);
        running.source_hosts = mast.source_hosts();
        running.run(&open_store(&place))
    };
    let first = night(0);
    assert_eq!(first.exceptions, []);
    // Patterns with a full path and such from the source on hold there as they do here.
    assert_eq!((first.files.new, first.files.skipped), (24 + 3, 3));
    let store = open_store(&place);
    let to = scratch.path().join("first");
    Restoring::all(&newest(&store), &to).run(&store);
    let mut wanted = tree(&mast.path("var/records"));
    let is_taken = |path: &Path| {
        !path.starts_with("1")
            && !path.starts_with("2")
            && path.extension() != Some("part".as_ref())
    };
    wanted.retain(|path, _| is_taken(path));
    assert!(tree(&to.join("records")) == wanted);
    let (there, here) = (mast.path("var/records/0/05.csv"), to.join("records/0/05.csv"));
    let modified = |path: &Path| path.metadata().unwrap().modified().unwrap();
    let whole = |time: SystemTime| time.duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs();
    assert_eq!(whole(modified(&there)), whole(modified(&here)));
    // Where it was is on another host: it is not written there.
    let snapshot = newest(&store);
    let mut in_place = Restoring::all(&snapshot, &to);
    in_place.destination = skellin_engine::Destination::InPlace;
    let refused = in_place.try_run(&store).unwrap_err();
    assert!(refused.to_string().contains("cannot be restored in place"), "{refused}");

    let second = night(1);
    assert_eq!((second.files.same, second.bytes.read, second.bytes.new), (27, 0, 0));

    write(&mast.path("var/records/0/05.csv"), "shorter");
    write(&mast.path("var/records/3/new.csv"), "new");
    fs::remove_file(mast.path("var/records/4/04.csv")).unwrap();
    let third = night(2);
    let files = third.files;
    assert_eq!((files.new, files.changed, files.gone, files.same), (1, 1, 1, 25));
    assert_eq!(third.bytes.read, 10);
    assert_clean(&place);
}

#[test]
fn a_line_that_breaks_costs_no_file_and_a_host_that_is_away_ends_the_run() {
    let mast = Mast::start();
    lay_down(&mast.path("var/records"));
    let far = Path::new("sftp://mast/var/records");
    let (_, place) = memory_store();
    let plan = plan_of(&[far], "");
    let mut running = Running::of(&plan);
    running.source_hosts = mast.source_hosts();
    let (store, done) = (open_store(&place), std::sync::atomic::AtomicBool::new(false));
    let report = std::thread::scope(|scope| {
        let cutting = scope.spawn(|| {
            while !done.load(std::sync::atomic::Ordering::SeqCst) {
                if mast.wire.carried().1 > 2 << 20 {
                    mast.wire.cut();
                    return true;
                }
                std::thread::yield_now();
            }
            false
        });
        let report = running.run(&store);
        done.store(true, std::sync::atomic::Ordering::SeqCst);
        assert!(cutting.join().unwrap(), "the line was cut while the run went on");
        report
    });
    assert_eq!((report.files.new, report.exceptions), (44, Vec::new()));
    assert_clean(&place);

    // Nobody listens there.
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let text = format!("[mast]\naddress = \"127.0.0.1\"\nport = {closed}\n");
    let source_hosts = || SourceHosts::new(parse_hosts("hosts.toml", &text, &|_: &str| None).fine);
    running.source_hosts = source_hosts();
    let error = running.try_run(&store).unwrap_err();
    let EngineError::Place(error) = error else { panic!("{error}") };
    assert_eq!(error.kind, PlaceErrorKind::Unreachable);
    // Another source is stored all the same, and what is missing is asked about before it counts.
    let own = common::scratch();
    write(&own.path().join("note"), "of the hut");
    let plan = plan_of(&[far, own.path()], "");
    let mut both = Running::of(&plan);
    both.source_hosts = source_hosts();
    let asked = std::sync::Mutex::new(Vec::new());
    let report = both.guarded(&store, &|shrinkage| {
        asked.lock().unwrap().extend(shrinkage.empty.clone());
        true
    });
    assert_eq!(asked.into_inner().unwrap(), [far]);
    assert_eq!((report.files.new, report.exceptions.len()), (1, 1));
    assert!(
        report.exceptions[0].cause.words.contains("nothing listens"),
        "{:?}",
        report.exceptions
    );
}

#[test]
fn another_host_is_looked_at_like_this_one() {
    let mast = Mast::start();
    lay_down(&mast.path("var/records"));
    let source = Path::new("sftp://mast/var/records");
    let plan = plan_of(&[source], "skip *.part\nskip holding 01.csv");
    let source_hosts = mast.source_hosts();
    let looking =
        Looking { plan: &plan, source_hosts: &source_hosts, before: None, keep_out: &[], now: 0 };
    let census = Census::default();
    census.count(&looking, &Cancel::new(), &|| {}).unwrap();
    let sum = |share| census.total().of(share);
    assert_eq!((sum(Change::New).files, sum(Change::Skipped).files), (32 + 3, 9));
    let list = |path: Option<&Path>| {
        let mut found: Vec<PreviewEntry> = Vec::new();
        list_preview(&looking, path, &mut |entry| {
            found.push(entry);
            true
        })
        .unwrap();
        found
    };
    assert_eq!(list(None)[0].name, b"sftp://mast/var/records");
    let below = list(Some(source));
    let shown: Vec<_> = below
        .iter()
        .map(|entry| (std::str::from_utf8(&entry.name).unwrap(), entry.kind, entry.change))
        .collect();
    assert_eq!(shown[0], ("0", Kind::Directory, Change::New));
    assert_eq!(shown[1], ("1", Kind::Directory, Change::Skipped));
    assert_eq!(shown.last(), Some(&("newest", Kind::Link, Change::New)));
    let part = Path::new("sftp://mast/var/records/0/part.part");
    let reasons = explain(&plan, &source_hosts, part, 0, &Cancel::new()).unwrap();
    assert_eq!((reasons.exists, reasons.verdict.action), (true, Action::Skip));
    let plain = Path::new("sftp://mast/var/records/0");
    let reasons = explain(&plan, &source_hosts, plain, 0, &Cancel::new()).unwrap();
    assert_eq!((reasons.verdict.action, reasons.below.unwrap().files), (Action::Take, 8));
    // A dry run tells the same, and leaves the host alone but for looking.
    let (_, place) = memory_store();
    let mut dry = Running::of(&plan).dry();
    dry.source_hosts = mast.source_hosts();
    let report = dry.run(&open_store(&place));
    assert_eq!((report.files.new, report.bytes.read), (35, sum(Change::New).bytes));
    let stored = report.outlook.unwrap().stored;
    assert!(stored.low <= stored.stored && stored.stored > 0, "{stored:?}");
}
