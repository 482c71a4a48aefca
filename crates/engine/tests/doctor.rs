//! A look at a whole set-up: each thing that is wrong is found, and nothing where all is well.

use crate::common;

use std::{
    fs,
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use common::{content, create_store, scratch, write};
use skellin_engine::{
    Beginning, Cancel, Configuration, Ending, Examination, Finding, Folders, Journal, Outcome,
    Weight, Work, gaps,
};

const NOW: i64 = 1_790_000_000_000;
const HOUR: i64 = 3_600_000;

fn path(folder: &Path, below: &str) -> PathBuf {
    folder.join(below)
}

/// A plan, a store beside it, and a run an hour ago.
fn sound() -> tempfile::TempDir {
    let folder = scratch();
    let at = |below: &str| path(folder.path(), below);
    let place = skellin_place::DirectoryPlace::prepare(at("oak"), skellin_store::FOLDERS).unwrap();
    create_store(&place);
    write(&at("srv/readings/notes.md"), "x");
    let stores = format!("[oak]\nplace = \"{}\"\n", at("oak").display());
    write(&at("config/stores.toml"), stores);
    let plan = format!(
        "sources = [\"{}\"]\nstore = \"oak\"\n[schedule]\nrun = \"every 4 days\"\n",
        at("srv/readings").display()
    );
    write(&at("config/plans/readings.toml"), plan);
    run(folder.path(), NOW - HOUR, Some(skellin_store::RunId([1; 16])), Outcome::Done);
    let journal = Journal::open(&path(folder.path(), "state")).unwrap();
    let (work, started) = (Work::Verify, NOW - HOUR / 2);
    let verifies =
        Beginning { work, plan: None, store: "oak", machine: "hut", unattended: true, started };
    let id = journal.begin(&verifies).unwrap();
    journal.finish(id, &Ending::at(started + 1, Outcome::Done)).unwrap();
    folder
}

fn run(folder: &Path, started: i64, snapshot: Option<skellin_store::RunId>, outcome: Outcome) {
    let journal = Journal::open(&path(folder, "state")).unwrap();
    let (work, plan) = (Work::Run, Some("readings"));
    let beginning =
        Beginning { work, plan, store: "oak", machine: "hut", unattended: false, started };
    let id = journal.begin(&beginning).unwrap();
    let words = (outcome == Outcome::Failed).then(|| "the place does not exist".to_owned());
    journal.finish(id, &Ending { snapshot, words, ..Ending::at(started + 1, outcome) }).unwrap();
}

/// All but what is said of the test's store, which lies beside its source as no real one should.
fn look(folder: &Path) -> Vec<Finding> {
    look_at_all(folder).into_iter().filter(|finding| !is_beside(finding)).collect()
}

fn is_beside(finding: &Finding) -> bool {
    finding.subject == "store oak" && finding.what.contains("the same file system as")
}

fn look_at_all(folder: &Path) -> Vec<Finding> {
    let at = |below: &str| path(folder, below);
    let look_in = vec![at("srv")];
    let folders = Folders {
        config: at("config"),
        state: at("state"),
        cache: at("cache"),
        look_in,
        drives: None,
    };
    let configuration = Configuration::load(folders).unwrap();
    let journal = Journal::open(&at("state")).unwrap();
    let cancel = Cancel::new();
    let examination = Examination {
        configuration: &configuration,
        journal: Some(&journal),
        now: NOW,
        most: 100_000,
        starter: None,
        cancel: &cancel,
    };
    let found = examination.findings().unwrap();
    assert!(found.is_sorted_by_key(|finding| finding.weight));
    assert!(found.iter().all(|finding| !finding.hint.is_empty()), "{found:?}");
    found
}

fn assert_one(folder: &Path, weight: Weight, subject: &str, what: &str) {
    let found = look(folder);
    let fits = |finding: &Finding| {
        finding.weight == weight && finding.subject.contains(subject) && finding.what.contains(what)
    };
    assert!(found.len() == 1 && fits(&found[0]), "{found:?}");
}

#[test]
fn nothing_is_found_where_all_is_well() {
    let folder = sound();
    assert_eq!(look(folder.path()), []);
    assert_eq!(look_at_all(folder.path()).iter().filter(|one| is_beside(one)).count(), 1);
}

#[test]
fn what_is_wrong_with_a_plan_is_found() {
    let folder = sound();
    let plan = path(folder.path(), "config/plans/readings.toml");
    let text = fs::read_to_string(&plan).unwrap();
    write(&plan, text.replace("[schedule]\nrun = \"every 4 days\"\n", ""));
    assert_one(folder.path(), Weight::Doubtful, "plan readings", "no schedule");
    write(&plan, text.replace("every 4 days", "every 20 minutes"));
    assert_one(folder.path(), Weight::Wrong, "plan readings", "late: scheduled 20 minutes after");
    write(&plan, &text);
    run(folder.path(), NOW - HOUR / 2, None, Outcome::Failed);
    assert_one(folder.path(), Weight::Wrong, "plan readings", "the place does not exist");
    run(folder.path(), NOW - HOUR / 3, Some(skellin_store::RunId([2; 16])), Outcome::Done);
    assert_eq!(look(folder.path()), [], "a good run mends it");
    write(&plan, text.replace("store =", "stoer ="));
    let found = look(folder.path());
    assert!(found[0].what.contains("mistake") && found[0].weight == Weight::Wrong, "{found:?}");
    write(&plan, &text);
    fs::remove_dir_all(path(folder.path(), "srv/readings")).unwrap();
    assert_one(folder.path(), Weight::Wrong, "plan readings", "cannot read source");
    fs::remove_file(&plan).unwrap();
    let found = look(folder.path());
    assert!(found.iter().any(|finding| finding.what.contains("there is no plan")), "{found:?}");
    assert!(found.iter().any(|finding| finding.what.contains("not used by any plan")), "{found:?}");
}

#[test]
fn what_is_wrong_with_a_store_is_found() {
    let folder = sound();
    let stores = path(folder.path(), "config/stores.toml");
    let text = fs::read_to_string(&stores).unwrap();
    let key = path(folder.path(), "key");
    write(&key, "secret");
    fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    write(&stores, format!("{text}passphrase = {{ file = \"{}\" }}\n", key.display()));
    assert_one(folder.path(), Weight::Wrong, "store oak", "others can read");
    write(&stores, &text);
    fs::rename(path(folder.path(), "oak"), path(folder.path(), "away")).unwrap();
    assert_one(folder.path(), Weight::Wrong, "store oak", "oak");
}

#[test]
fn what_no_plan_takes_is_found_if_it_matters() {
    let folder = sound();
    let at = |below: &str| path(folder.path(), below);
    let old = SystemTime::UNIX_EPOCH + Duration::from_secs(1_500_000_000);
    let date = |path: &Path| fs::File::open(path).unwrap().set_modified(old).unwrap();
    for number in 0..12 {
        write(&at(&format!("srv/letters/{number}.odt")), content(number, 2000));
        date(&at(&format!("srv/letters/{number}.odt")));
        write(&at(&format!("srv/letters/.cache/{number}.odt")), content(number, 2000));
        // Old things that can be made again, and a few new ones.
        write(&at(&format!("srv/builds/{number}.o")), content(number, 2000));
        date(&at(&format!("srv/builds/{number}.o")));
    }
    write(&at("srv/one/x.odt"), "x");
    date(&at("srv/one/x.odt"));
    fs::create_dir_all(at("srv/empty")).unwrap();
    assert_one(
        folder.path(),
        Weight::Doubtful,
        "srv/letters",
        "12 of them irreplaceable, documents",
    );
    let most = |most| {
        let sources = [at("srv/readings")];
        gaps(&sources, &[at("srv")], &[], most, NOW / 1000, &Cancel::new()).unwrap()
    };
    assert_eq!(
        (most(100_000).len(), most(100_000)[0].files, most(100_000)[0].is_more),
        (1, 12, false)
    );
    assert!(most(20).iter().all(|gap| gap.is_more && gap.files < 12), "{:?}", most(20));
    // New files count whatever they are.
    let recent = SystemTime::UNIX_EPOCH + Duration::from_millis(NOW as u64 - 5 * HOUR as u64);
    for number in 0..12 {
        let file = fs::File::open(at(&format!("srv/builds/{number}.o"))).unwrap();
        file.set_modified(recent).unwrap();
    }
    assert_eq!(look(folder.path()).len(), 2);
    // A plan inside leaves the rest of a directory open; one around covers it all.
    let sources = [at("srv/letters/.cache"), at("srv/readings")];
    let left = gaps(&sources, &[at("srv")], &[], 1000, NOW / 1000, &Cancel::new()).unwrap();
    assert!(left.iter().all(|gap| gap.path != at("srv/letters")), "taken apart: {left:?}");
    let all = gaps(&[at("srv")], &[at("srv")], &[], 1000, NOW / 1000, &Cancel::new()).unwrap();
    assert_eq!(all, []);
}
