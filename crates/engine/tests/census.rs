//! Counting the sources as they are: the sums must be those of a dry run, directory by directory.

use crate::common;

use std::{
    collections::BTreeMap,
    fs,
    os::unix::{
        ffi::OsStrExt,
        fs::{MetadataExt, PermissionsExt, symlink},
    },
    path::Path,
    sync::Arc,
};

use common::{Running, content, memory_store, open_store, plan_of, scratch, write};
use skellin_engine::{Cancel, Census, Change, FileCounts, Looking, Share, Shares, SourceHosts};
use skellin_plan::Plan;
use skellin_store::Store;

fn census(plan: &Plan, store: Option<&Store>, keep_out: &[std::path::PathBuf]) -> Census {
    let snapshot = store.map(common::newest);
    let before = store.zip(snapshot.as_ref());
    let looking = Looking {
        plan,
        source_hosts: &SourceHosts::default(),
        before,
        keep_out,
        now: 1_790_000_100_000,
    };
    let census = Census::default();
    census.count(&looking, &Cancel::new(), &|| {}).unwrap();
    assert!(census.is_complete());
    census
}

fn shares(census: &Census, path: &Path) -> Shares {
    census.shares(path.as_os_str().as_bytes()).unwrap()
}

/// What a dry run finds, and how much of it below each directory.
fn rehearsed(store: &Arc<Store>, plan: &Plan) -> (FileCounts, BTreeMap<Vec<u8>, Shares>) {
    let running = Running::of(plan).at(1_790_000_100_000).dry();
    let report = running.run(store);
    let mut sums: BTreeMap<Vec<u8>, Shares> = BTreeMap::new();
    for path in running.paths() {
        for (at, _) in path.path.iter().enumerate().filter(|(_, byte)| **byte == b'/') {
            let above = sums.entry(path.path[..at].to_vec()).or_default();
            above.count(path.change, 1, 0);
        }
    }
    (report.files, sums)
}

#[test]
fn the_sums_are_those_of_a_dry_run() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    common::make_odd_tree(&root);
    for number in 0..40 {
        let name = format!("years/{}/{}/gauge-{number}.csv", number % 3, number % 7);
        write(&root.join(name), content(number, 1000 + number as usize));
    }
    write(&root.join("becomes-directory"), "x");
    write(&root.join("becomes-file/inside"), "x");
    write(&root.join("left-later/old.csv"), "12345");
    let (_, place) = memory_store();
    common::settle(&root);
    common::run_at(&place, &plan_of(&[&root], ""), 1_790_000_000_000);
    fs::remove_dir_all(root.join("years/1")).unwrap();
    fs::remove_file(root.join("years/2/2/gauge-2.csv")).unwrap();
    write(&root.join("years/0/0/gauge-0.csv"), "shorter");
    write(&root.join("years/0/new/deep/er.csv"), content(3, 500));
    fs::remove_file(root.join("becomes-directory")).unwrap();
    write(&root.join("becomes-directory/inside"), "x");
    fs::remove_dir_all(root.join("becomes-file")).unwrap();
    write(&root.join("becomes-file"), "x");
    let plan = plan_of(&[&root], "skip left-later/ series/\ntake ./series/*.bin\nskip *.part");
    let store = open_store(&place);
    let census = census(&plan, Some(&store), &[]);
    let (files, expected) = rehearsed(&store, &plan);
    // A directory that is gone stands in a dry run's list once, whatever was in it.
    let counted = |shares: &Shares| {
        [Change::New, Change::Changed, Change::Same].map(|change| shares.of(change).files)
    };
    assert_eq!(census.total().gone.files, files.gone);
    assert_eq!(counted(&census.total()), [files.new, files.changed, files.same]);
    let directories =
        ["", "years", "years/0", "years/0/0", "years/2", "series", "becomes-directory"];
    for name in directories {
        let path = if name.is_empty() { root.clone() } else { root.join(name) };
        let expected = &expected[path.as_os_str().as_bytes()];
        assert_eq!(counted(&shares(&census, &path)), counted(expected), "{name}");
    }
    assert_eq!(census.total(), shares(&census, &root));
    assert!(census.total().gone.files > 10 && census.total().same.files > 10);
    // What is left out is measured too.
    let left = shares(&census, &root.join("left-later"));
    assert_eq!(left.skipped, Share { files: 1, bytes: 5 });
    assert_eq!(shares(&census, &root.join("series")).skipped.files, 2);
    assert_eq!(shares(&census, &root.join("series")).taken(), Share { files: 1, bytes: 90_000 });
    // The parts of a directory, and the files right in it, are the whole.
    let parts = census.parts(root.as_os_str().as_bytes());
    assert!(parts.is_sorted_by(|a, b| a.name < b.name));
    let below: u64 = parts.iter().map(|part| part.shares.taken().files).sum();
    let beside = fs::read_dir(&root)
        .unwrap()
        .filter(|entry| entry.as_ref().is_ok_and(|entry| !entry.file_type().unwrap().is_dir()));
    assert_eq!(below + beside.count() as u64, census.total().taken().files);
    assert_eq!(census.shares(b"/nowhere"), None);
    assert_eq!(census.shares(root.join("years/none").as_os_str().as_bytes()), None);
}

#[test]
fn odd_sources_are_counted_as_what_they_are() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("a/notes.md"), "12345");
    write(&root.join("b/notes.md"), "123");
    let (file, link) = (folder.path().join("notes.md"), folder.path().join("link"));
    write(&file, "123");
    symlink("ridge/a", &link).unwrap();
    symlink("a", root.join("inner")).unwrap();
    let absent = folder.path().join("never");
    let plan = plan_of(&[&root, &file, &link, &absent], "");
    let census = census(&plan, None, &[]);
    assert_eq!(shares(&census, &file).new, Share { files: 1, bytes: 3 }, "a single file");
    assert_eq!(shares(&census, &link).new, Share { files: 1, bytes: 5 }, "what it points to");
    assert_eq!(shares(&census, &root).new, Share { files: 3, bytes: 8 }, "a link stays a link");
    assert_eq!(census.total().new, Share { files: 5, bytes: 16 });
    assert_eq!(shares(&census, &absent).troubles, 1);
    let troubles = census.troubles();
    assert!(
        troubles[0].path.ends_with(b"never") && troubles[0].cause.words.contains("does not exist")
    );
}

#[test]
fn our_own_and_other_file_systems_are_not_gone_through() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("store/container"), content(2, 5000));
    write(&root.join("notes.md"), "12345");
    let plan = plan_of(&[&root], "");
    let own = [root.join("store")];
    let total = census(&plan, None, &own).total();
    assert_eq!((total.taken().files, total.skipped.files), (1, 0));
    let looking = Looking {
        plan: &plan,
        source_hosts: &SourceHosts::default(),
        before: None,
        keep_out: &own,
        now: 0,
    };
    let amounts = skellin_engine::measure(&looking, &Cancel::new()).unwrap();
    assert_eq!((amounts.files, amounts.bytes), (1, 5), "the effect of a rule counts alike");
    // What is left out is measured, but not where it may be endless: /dev has others mounted in it.
    let device = |path: &str| fs::metadata(path).map(|found| found.dev()).ok();
    let mounted = ["/dev/shm", "/dev/pts", "/dev/mqueue"]
        .into_iter()
        .find(|path| device(path).is_some_and(|other| Some(other) != device("/dev")))
        .expect("something is mounted in /dev");
    let rule = format!("skip {mounted}/");
    let left_out = census(&plan_of(&[Path::new("/dev")], &rule), None, &[]);
    assert_eq!(left_out.shares(mounted.as_bytes()), None);
    // What is included is gone through wherever it lies.
    let taken = census(&plan_of(&[Path::new("/dev")], ""), None, &[]);
    assert!(taken.shares(mounted.as_bytes()).is_some());
}

/// The soft limit of open files, for this process alone.
fn allow_files(most: u64) {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let maximum = getrlimit(Resource::Nofile).maximum;
    setrlimit(Resource::Nofile, Rlimit { current: Some(most), maximum }).unwrap();
}

#[test]
fn wide_directories_need_no_more_open_files_than_narrow_ones() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    for number in 0..600 {
        write(&root.join(format!("wide/{number:03}/x")), "x");
    }
    allow_files(256);
    let plan = plan_of(&[&root], "");
    let census = census(&plan, None, &[]);
    let looking = Looking {
        plan: &plan,
        source_hosts: &SourceHosts::default(),
        before: None,
        keep_out: &[],
        now: 0,
    };
    let amounts = skellin_engine::measure(&looking, &Cancel::new()).unwrap();
    assert_eq!((census.total().taken().files, census.total().troubles), (600, 0));
    assert_eq!((amounts.files, amounts.bytes), (600, 600));
}

#[test]
fn what_cannot_be_read_is_named_where_it_lies() {
    if rustix::process::geteuid().is_root() {
        // Nothing is closed to root: a child of no rights does the looking.
        let own = std::env::current_exe().unwrap();
        let folder = scratch();
        let copy = folder.path().join("looker");
        fs::copy(own, &copy).unwrap();
        fs::set_permissions(&copy, fs::Permissions::from_mode(0o755)).unwrap();
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        use std::os::unix::process::CommandExt;
        let status = std::process::Command::new(copy)
            .args(["--exact", "census::what_cannot_be_read_is_named_where_it_lies"])
            .current_dir("/")
            .env("TMPDIR", "/tmp")
            .uid(65_534)
            .gid(65_534)
            .output()
            .unwrap();
        let words = String::from_utf8_lossy(&status.stdout);
        assert!(status.status.success() && words.contains("1 passed"), "{words}");
        return;
    }
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("closed/inside"), "x");
    write(&root.join("open/sealed.csv"), "x");
    write(&root.join("open/fine.csv"), "x");
    let mode = |path: &str, mode| {
        fs::set_permissions(root.join(path), fs::Permissions::from_mode(mode)).unwrap();
    };
    mode("closed", 0);
    mode("open/sealed.csv", 0);
    let plan = plan_of(&[&root], "");
    let census = census(&plan, None, &[]);
    mode("closed", 0o700);
    assert_eq!(census.total().troubles, 2);
    assert_eq!(shares(&census, &root.join("closed")).troubles, 1);
    assert_eq!(shares(&census, &root.join("open")).troubles, 1);
    let mut paths: Vec<_> = census.troubles().into_iter().map(|trouble| trouble.path).collect();
    paths.sort();
    let expected = ["closed", "open/sealed.csv"].map(|path| root.join(path));
    assert_eq!(paths, expected.map(|path| path.as_os_str().as_bytes().to_vec()));
}
