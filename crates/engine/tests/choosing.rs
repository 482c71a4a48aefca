//! What is included: conditions on real files, reasons, and the guard against sudden loss.

use crate::common;

use std::{
    collections::BTreeMap,
    fs,
    os::unix::fs::symlink,
    path::Path,
    sync::Mutex,
    time::{Duration, SystemTime},
};

use common::{Running, content, memory_store, open_store, plan_of, scratch, write};
use skellin_engine::{Cancel, Change, RunStatus, SourceHosts, explain};
use skellin_plan::{Action, Plan};

/// What a dry run makes of each path below a root.
fn verdicts(root: &Path, rules: &str) -> BTreeMap<String, Change> {
    let (_, place) = memory_store();
    let plan = plan_of(&[root], rules);
    let now = jiff::Timestamp::now().as_millisecond();
    let running = Running::of(&plan).at(now).dry();
    running.run(&open_store(&place));
    let below = |path: &[u8]| {
        let path = Path::new(std::str::from_utf8(path).unwrap());
        path.strip_prefix(root).unwrap().display().to_string()
    };
    running.paths().iter().map(|path| (below(&path.path), path.change)).collect()
}

fn age(path: &Path, days: u64) {
    let time = SystemTime::now() - Duration::from_secs(days * 86_400);
    fs::File::open(path).unwrap().set_modified(time).unwrap();
}

#[test]
fn conditions_hold_for_what_is_really_there() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    for (name, length) in [("large.png", 5000), ("small.png", 50), ("old.log", 10), ("new.log", 10)]
    {
        write(&root.join(name), content(1, length));
    }
    age(&root.join("old.log"), 40);
    write(&root.join("made/CACHEDIR.TAG"), "");
    write(&root.join("made/deep/again.o"), "x");
    write(&root.join("kept/x"), "x");
    symlink("save", root.join("link")).unwrap();
    let skipped = |rules: &str| -> Vec<String> {
        let all = verdicts(&root, rules);
        all.into_iter()
            .filter(|(_, change)| *change == Change::Skipped)
            .map(|(path, _)| path)
            .collect()
    };
    assert_eq!(skipped("skip *.png over 1 KiB"), ["large.png"]);
    assert_eq!(skipped("skip *.PNG under 1 KiB nocase"), ["small.png"]);
    assert_eq!(skipped("skip older than 30 days"), ["old.log"]);
    assert_eq!(skipped("skip *.log newer than 30 days"), ["new.log"]);
    assert_eq!(skipped("skip holding CACHEDIR.TAG"), ["made"], "and nothing in it is looked at");
    assert_eq!(skipped("skip kind link"), ["link"]);
    assert_eq!(skipped("skip other-filesystems"), [""; 0]);
    let own = rustix::process::geteuid().as_raw();
    assert_eq!(skipped(&format!("skip *.log owner {own}")), ["new.log", "old.log"]);
    assert_eq!(skipped("skip *.log owner 4711"), [""; 0]);
    assert_eq!(skipped("skip *.log owner root").len(), if own == 0 { 2 } else { 0 });
    // Entered only where something could be taken again.
    let all = verdicts(&root, "skip made/ kept/\ntake ./made/deep/*.o");
    assert_eq!(all.get("made/deep/again.o"), Some(&Change::New));
    assert_eq!(all.get("made/CACHEDIR.TAG"), Some(&Change::Skipped));
    assert!(!all.contains_key("kept/x"), "nothing could be taken there: {all:?}");
}

#[test]
fn another_file_system_is_told_apart() {
    let plan = plan_of(&[Path::new("/")], "skip other-filesystems");
    let reasons =
        explain(&plan, &SourceHosts::default(), Path::new("/proc/self"), 0, &Cancel::new())
            .unwrap();
    assert_eq!((reasons.verdict.action, reasons.verdict.rule), (Action::Skip, Some(0)));
    let reasons =
        explain(&plan, &SourceHosts::default(), Path::new("/etc"), 0, &Cancel::new()).unwrap();
    assert_eq!(reasons.verdict.action, Action::Take);
}

#[test]
fn reasons_are_given_for_paths_that_are_there_and_for_those_that_are_not() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("notes/a.csv"), content(1, 3000));
    write(&root.join("notes/b.part"), "x");
    write(&root.join("notes/c.md"), "12345");
    let plan = plan_of(&[&root], "skip *.part\nskip notes/\ntake notes/**\nskip *.csv over 1 KiB");
    let ask =
        |path: &Path| explain(&plan, &SourceHosts::default(), path, 0, &Cancel::new()).unwrap();
    let csv = ask(&root.join("notes/a.csv"));
    assert_eq!((csv.verdict.action, csv.verdict.rule, csv.exists), (Action::Skip, Some(3), true));
    assert_eq!(csv.held, [1, 2, 3]);
    let absent = ask(&root.join("notes/later.csv"));
    assert_eq!(
        (absent.verdict.action, absent.exists),
        (Action::Take, false),
        "its size is not known"
    );
    let directory = ask(&root).below.unwrap();
    assert_eq!((directory.files, directory.bytes, directory.skipped), (2, 6, 1));
    let elsewhere = ask(Path::new("/nowhere"));
    assert_eq!((elsewhere.source, elsewhere.verdict.action), (None, Action::Skip));
    let stopped = Cancel::new();
    stopped.cancel();
    assert!(
        explain(&plan, &SourceHosts::default(), &root, 0, &stopped)
            .is_err_and(|error| error.is_cancelled())
    );
}

/// A world of so many files, with a snapshot.
fn world(files: usize) -> (tempfile::TempDir, std::sync::Arc<dyn skellin_place::Place>, Plan) {
    let folder = scratch();
    let root = folder.path().join("ridge");
    for number in 0..files {
        write(&root.join(format!("record-{number:03}")), format!("{number}"));
    }
    let (_, place) = memory_store();
    let plan = plan_of(&[&root], "");
    common::run_at(&place, &plan, 1_790_000_000_000);
    (folder, place, plan)
}

fn run(
    place: &std::sync::Arc<dyn skellin_place::Place>,
    plan: &Plan,
    agree: bool,
) -> (RunStatus, Option<String>, bool) {
    let asked = Mutex::new(false);
    let running = Running::of(plan).at(1_790_000_100_000);
    let report = running.guarded(&open_store(place), &|_| {
        *asked.lock().unwrap() = true;
        agree
    });
    let words = report.shrinkage.map(|noticed| noticed.words());
    assert_eq!(report.snapshot.is_none(), report.status == RunStatus::Guarded);
    (report.status, words, asked.into_inner().unwrap())
}

#[test]
fn a_run_stops_and_asks_before_it_records_a_sudden_loss() {
    let (folder, place, plan) = world(30);
    let root = folder.path().join("ridge");
    let rehearse = || Running::of(&plan).dry().run(&open_store(&place)).shrinkage;
    assert_eq!(rehearse(), None, "as it was");
    for number in 0..13 {
        fs::remove_file(root.join(format!("record-{number:03}"))).unwrap();
    }
    assert_eq!(rehearse().map(|noticed| (noticed.gone, noticed.before)), Some((13, 30)));
    let (status, words, asked) = run(&place, &plan, false);
    assert_eq!((status, asked), (RunStatus::Guarded, true));
    assert!(words.unwrap().contains("13 of 30 files are gone (43%)"));
    assert_eq!(open_store(&place).snapshots().unwrap().len(), 1, "no snapshot");
    assert_eq!(run(&place, &plan, true).0, RunStatus::Done, "somebody agreed");
    assert_eq!(
        run(&place, &plan, false),
        (RunStatus::Done, None, false),
        "it is the usual state now"
    );
    // An empty source is told whatever the numbers.
    for entry in fs::read_dir(&root).unwrap() {
        fs::remove_file(entry.unwrap().path()).unwrap();
    }
    let (status, words, _) = run(&place, &plan, false);
    assert_eq!(status, RunStatus::Guarded);
    assert!(words.unwrap().contains("is suddenly empty or missing"));
    common::assert_clean(&place);
}

#[test]
fn changes_count_only_where_there_are_many_files_and_a_plan_may_do_without() {
    let (folder, place, plan) = world(120);
    let root = folder.path().join("ridge");
    for number in 0..60 {
        write(&root.join(format!("record-{number:03}")), "overwritten");
    }
    let (status, words, _) = run(&place, &plan, false);
    assert_eq!(status, RunStatus::Guarded);
    assert!(words.unwrap().contains("60 of 120 files are changed (50%)"));
    let without = Plan { shrink: None, ..plan.clone() };
    assert_eq!(run(&place, &without, false).0, RunStatus::Done);
    let (folder, place, plan) = world(12);
    for number in 0..11 {
        write(&folder.path().join(format!("ridge/record-{number:03}")), "overwritten");
    }
    assert_eq!(run(&place, &plan, false).0, RunStatus::Done, "a small set changes as a whole");
}

#[test]
fn the_live_source_shows_the_verdict_and_the_change_of_every_name() {
    use skellin_engine::{Looking, list_preview};
    let folder = scratch();
    let root = folder.path().join("ridge");
    for name in ["kept.csv", "edited.csv", "deleted.csv", "x.part", "made/tile", "deep/er/z"] {
        write(&root.join(name), content(1, 100));
    }
    let plan = plan_of(&[&root], "skip *.part made/");
    let (_, place) = memory_store();
    common::run_at(&place, &plan, 1_790_000_000_000);
    fs::remove_file(root.join("deleted.csv")).unwrap();
    write(&root.join("edited.csv"), content(1, 200));
    write(&root.join("later.csv"), "x");
    fs::remove_dir_all(root.join("deep")).unwrap();
    let store = open_store(&place);
    let snapshot = common::newest(&store);
    let list = |path: Option<&Path>, before: bool| {
        let mut found = Vec::new();
        let before = before.then_some((&*store, &snapshot));
        let looking = Looking {
            plan: &plan,
            source_hosts: &SourceHosts::default(),
            before,
            keep_out: &[],
            now: 0,
        };
        list_preview(&looking, path, &mut |entry| {
            found.push((String::from_utf8(entry.name).unwrap(), entry.change, entry.rule));
            true
        })
        .unwrap();
        found
    };
    let name = root.display().to_string();
    assert_eq!(list(None, true), [(name.clone(), Change::Same, None)]);
    let expected = [
        ("deep", Change::Gone, None),
        ("deleted.csv", Change::Gone, None),
        ("edited.csv", Change::Changed, None),
        ("kept.csv", Change::Same, None),
        ("later.csv", Change::New, None),
        ("made", Change::Skipped, Some(0)),
        ("x.part", Change::Skipped, Some(0)),
    ];
    let expected: Vec<_> =
        expected.iter().map(|(name, change, rule)| ((*name).to_owned(), *change, *rule)).collect();
    assert_eq!(list(Some(&root), true), expected);
    assert!(
        list(Some(&root), false)
            .iter()
            .all(|(_, change, _)| matches!(change, Change::New | Change::Skipped))
    );
    assert_eq!(
        list(Some(&root.join("made")), true),
        [("tile".to_owned(), Change::Skipped, Some(0))]
    );
    assert_eq!(list(Some(&root.join("deep")), true), [("er".to_owned(), Change::Gone, None)]);
    // Some names first, where there are more than so many.
    let first = |most| {
        let mut found = Vec::new();
        let looking = Looking {
            plan: &plan,
            source_hosts: &SourceHosts::default(),
            before: Some((&store, &snapshot)),
            keep_out: &[],
            now: 0,
        };
        let is_large = skellin_engine::list_first(&looking, &root, most, &mut |entry| {
            found.push((String::from_utf8(entry.name).unwrap(), entry.change, entry.rule));
            true
        });
        (is_large.unwrap(), found)
    };
    let (is_large, found) = first(3);
    assert!(is_large && found.len() == 3 && found.iter().all(|one| expected.contains(one)));
    assert!(found.is_sorted_by(|a, b| a.0 < b.0), "{found:?}");
    assert_eq!(first(100), (false, Vec::new()));
    fs::remove_dir_all(&root).unwrap();
    assert_eq!(list(None, true), [(name, Change::Gone, None)], "a source that is not there");
}
