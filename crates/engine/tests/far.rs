//! How little is asked of a far place: runs with and without a cache, and one file out of a store
//! of many containers.

use crate::common;

use std::{fs, path::Path, sync::Arc};

use common::{PASSPHRASE, Restoring, Running, content, plan_of, scratch, settle, write};
use skellin_engine::history;
use skellin_place::{CountingPlace, MemoryPlace, Place};
use skellin_plan::{SnapshotSpec, When};
use skellin_store::{Cache, Creation, PassphraseCost, Store};

/// What the step's limits allow, and one look whether the snapshot that was written reads back.
const WARM: usize = 14;
const COLD: usize = 60;

fn files_below(path: &Path) -> Vec<std::path::PathBuf> {
    let entries = fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path());
    entries.flat_map(|path| if path.is_dir() { files_below(&path) } else { vec![path] }).collect()
}

fn far_store() -> Arc<CountingPlace> {
    let memory = MemoryPlace::new();
    let creation =
        Creation { cost: PassphraseCost::TRIVIAL, now: 1_790_000_000, ..Creation::default() };
    Store::create(&memory, PASSPHRASE, creation).unwrap();
    Arc::new(CountingPlace::new(Arc::new(memory)))
}

fn open(place: &Arc<CountingPlace>, cache: &Path) -> Arc<Store> {
    let place: Arc<dyn Place> = Arc::clone(place) as Arc<dyn Place>;
    Arc::new(Store::open(place, PASSPHRASE, Cache::ReadWrite(cache.to_path_buf())).unwrap())
}

fn night(store: &Arc<Store>, plan: &skellin_plan::Plan, now: i64) -> skellin_engine::RunReport {
    Running::of(plan).at(now).try_run(store).unwrap()
}

#[test]
fn an_unchanged_run_asks_little_and_less_with_a_cache() {
    let folder = scratch();
    let source = folder.path().join("readings");
    for directory in 0..60 {
        for file in 0..50 {
            write(&source.join(format!("{directory}/{file}")), content(directory * 50 + file, 40));
        }
    }
    settle(&source);
    let (plan, place) = (plan_of(&[&source], ""), far_store());
    let cache = |name: &str| folder.path().join(name);
    let first = night(&open(&place, &cache("own")), &plan, 1_790_000_000_000);
    assert_eq!(first.files.new, 3000);
    place.take();
    let second = night(&open(&place, &cache("own")), &plan, 1_790_086_400_000);
    let asked = place.take();
    assert_eq!((second.files.same, second.bytes.read), (3000, 0));
    assert!(asked.len() <= WARM, "{} requests: {asked:#?}", asked.len());
    let third = night(&open(&place, &cache("new")), &plan, 1_790_172_800_000);
    let asked = place.take();
    assert_eq!((third.files.same, third.bytes.read), (3000, 0));
    assert!(asked.len() <= COLD, "{} requests: {asked:#?}", asked.len());
    // An interrupted run in between is noticed with the cache as well, and what it had stored is
    // taken up.
    for file in 0..50 {
        write(&source.join(format!("new/{file}")), content(90_000 + file, 60_000));
    }
    settle(&source);
    let running = Running::of(&plan).at(1_790_259_200_000);
    running.cancel.cancel();
    running.try_run(&open(&place, &cache("own"))).unwrap();
    place.take();
    night(&open(&place, &cache("own")), &plan, 1_790_345_600_000);
    assert!(place.take().iter().any(|asked| asked == "list runs"));
}

#[test]
fn damage_in_the_cache_is_noticed_and_costs_a_request_only() {
    let folder = scratch();
    let source = folder.path().join("readings");
    for file in 0..500 {
        write(&source.join(format!("{file}")), content(file, 40));
    }
    settle(&source);
    let (plan, place) = (plan_of(&[&source], ""), far_store());
    let cache = folder.path().join("cache");
    night(&open(&place, &cache), &plan, 1_790_000_000_000);
    let mut spoilt = 0;
    for file in files_below(&cache) {
        let mut bytes = fs::read(&file).unwrap();
        bytes.iter_mut().for_each(|byte| *byte ^= 0x55);
        fs::write(&file, bytes).unwrap();
        spoilt += 1;
    }
    assert!(spoilt > 3, "{spoilt}");
    let again = night(&open(&place, &cache), &plan, 1_790_086_400_000);
    assert_eq!((again.files.same + again.files.changed, again.files.new), (500, 0));
    common::assert_clean(&(Arc::clone(&place) as Arc<dyn Place>));
}

#[test]
fn one_file_out_of_many_containers_takes_few_requests() {
    let folder = scratch();
    let source = folder.path().join("readings");
    let wanted = content(7, 1 << 20);
    write(&source.join("2026/11/gauge.csv"), wanted.clone());
    for file in 0..400 {
        write(&source.join(format!("2026/{}/{file}", file % 12)), content(1000 + file, 60_000));
    }
    let (plan, place) = (plan_of(&[&source], ""), far_store());
    night(&open(&place, &folder.path().join("cache")), &plan, 1_790_000_000_000);
    place.take();
    // An empty machine.
    let opened: Arc<dyn Place> = Arc::clone(&place) as Arc<dyn Place>;
    let store = Arc::new(Store::open(opened, PASSPHRASE, Cache::None).unwrap());
    let spec = SnapshotSpec::Of { plan: "readings".to_owned(), when: When::Newest };
    let whose = history::Whose { own: "hut", named: None, now: i64::MAX };
    let snapshot = history::find_snapshot(&store, &spec, whose).unwrap().snapshot;
    let out = folder.path().join("out");
    let mut restoring = Restoring::all(&snapshot, &out);
    restoring.paths = vec![source.join("2026/11/gauge.csv")];
    let report = restoring.run(&store);
    assert_eq!(report.restored, 1);
    let asked = place.take();
    assert!(asked.len() <= WARM, "{} requests: {asked:#?}", asked.len());
    let back = files_below(&out);
    assert_eq!(fs::read(&back[0]).unwrap(), wanted);
}
