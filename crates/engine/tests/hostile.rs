//! Snapshots that somebody made who holds the keys and means harm: sizes that no disk has, content that is
//! not what its size says, names that lead elsewhere, links that lead out. What is good in them is restored,
//! compared and exported; what is not is told.

use crate::common;

use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
};

use common::{Restoring, content, memory_store, newest, open_store, scratch};
use skellin_engine::{
    Cancel, Cause, Comparing, Destination, Differing, Event, Existing, ExportRequest, Extra, Hears,
    Live, Packing, history,
};
use skellin_place::Place;
use skellin_store::{
    Below, Body, Compression, ContentWriter, Entry, Item, Moment, Owner, Recipe, Session,
    SessionStart, Snapshot, SnapshotDraft, SnapshotSource, TreeBuilder,
};

/// More than any file system holds.
const HUGE: u64 = 1 << 62;

fn entry(name: &str, body: Body) -> Entry {
    let moment = Moment { seconds: 1_790_000_000, nanos: 7 };
    Entry {
        name: name.as_bytes().to_vec(),
        mode: 0o644,
        owner: Owner { uid: 0, gid: 0, user: None, group: None },
        modified: moment,
        changed: moment,
        inode: 4,
        links: None,
        unsettled: false,
        xattrs: Vec::new(),
        body,
    }
}

/// A snapshot with one source `ridge` and, beside what is good, all that harms.
fn hostile(place: &Arc<dyn Place>, source: &Path, out: &Path) -> Snapshot {
    let start = SessionStart {
        plan: "readings",
        machine: "hut",
        started: 1_790_000_000_000,
        order: None,
        origin: None,
        compression: Compression::Default,
    };
    let session = Session::begin(&open_store(place), &start).unwrap();
    let mut writer = ContentWriter::new(&session).unwrap();
    writer.begin_file(());
    writer.chunk(&content(2, 3000)).unwrap();
    writer.end_file().unwrap();
    writer.close().unwrap();
    let ((), stored) = writer.take_done().remove(0);
    let file = |size, recipe| Body::File { size, recipe };
    let Recipe::Inline(items) = stored.recipe.clone() else { panic!("a few pieces") };
    let bomb = vec![Item::Hole(HUGE), items[0], Item::Hole(HUGE - 3000)];
    let overflow = vec![Item::Hole(u64::MAX), Item::Hole(u64::MAX), items[0]];
    let group = Some((7, 7));
    let entries = vec![
        entry("a-good", file(3000, stored.recipe.clone())),
        entry("bomb", file(2 * HUGE, Recipe::Inline(bomb))),
        entry("lie-long", file(HUGE, stored.recipe.clone())),
        entry("lie-short", file(1, stored.recipe.clone())),
        Entry { links: group, ..entry("one-is-a-pipe", Body::Pipe) },
        Entry { links: group, ..entry("other-is-a-file", file(3000, stored.recipe.clone())) },
        entry("out", Body::Link(out.as_os_str().as_encoded_bytes().to_vec())),
        entry("overflow", file(5, Recipe::Inline(overflow))),
        Entry { mode: 0o7777, ..entry("z-good", file(3000, stored.recipe)) },
    ];
    let mut builder = TreeBuilder::default();
    for entry in &entries {
        builder.push(&*session, entry).unwrap();
    }
    let (root, needs) = builder.finish(&*session).unwrap();
    let below = Below { files: u64::MAX, bytes: u64::MAX };
    let top = Entry { mode: 0o755, ..entry("ridge", Body::Directory { root, needs, below }) };
    let mut builder = TreeBuilder::default();
    builder.push(&*session, &top).unwrap();
    let (root, _) = builder.finish(&*session).unwrap();
    let path = source.as_os_str().as_encoded_bytes().to_vec();
    let draft = SnapshotDraft {
        sources: vec![SnapshotSource { name: b"ridge".to_vec().into(), path: path.into() }],
        root,
        labels: vec!["\u{1b}[31mred".to_owned()],
        plan_text: "sources = [\"/\"]\nstore = \"oak\"\n".to_owned(),
        configuration: vec![
            skellin_store::KeptFile { name: "../../etc/cron.d/evil".into(), text: "evil".into() },
            skellin_store::KeptFile { name: "/etc/evil".into(), text: "evil".into() },
            skellin_store::KeptFile { name: "stores.toml".into(), text: "[oak]\n".into() },
        ],
        files: u64::MAX,
        bytes: u64::MAX,
        ended: 0,
        exceptions: 0,
        exception_list: Vec::new(),
        sockets: 0,
    };
    session.finish(draft).unwrap();
    newest(&open_store(place))
}

#[derive(Default)]
struct Heard(Vec<PathBuf>);

impl Hears for Heard {
    fn differs(&mut self, differing: Differing) {
        use std::os::unix::ffi::OsStrExt;
        let path = Path::new(std::ffi::OsStr::from_bytes(&differing.path));
        self.0.push(path.file_name().unwrap().into());
    }

    fn lost(&mut self, _: &[u8], _: Cause) {}
}

#[test]
fn what_is_good_comes_back_and_what_harms_is_told() {
    let folder = scratch();
    let (source, out) = (folder.path().join("ridge"), folder.path().join("out"));
    common::write(&out.join("mine"), "mine");
    let (_, place) = memory_store();
    let snapshot = hostile(&place, &source, &out);
    let store = open_store(&place);
    let silent = |_: Event| {};
    for (destination, base) in [
        (Destination::InPlace, source.clone()),
        (Destination::Directory(folder.path().join("back")), folder.path().join("back/ridge")),
    ] {
        for existing in [Existing::Leave, Existing::Replace] {
            let extra = match existing {
                Existing::Replace => Extra::Remove { by: None },
                _ => Extra::Leave,
            };
            let restoring = Restoring {
                destination: destination.clone(),
                existing,
                extra,
                ..Restoring::all(&snapshot, folder.path())
            };
            let foretold = Restoring { dry_run: true, ..restoring }.try_run(&store);
            assert!(foretold.is_ok());
            let restoring = Restoring {
                destination: destination.clone(),
                existing,
                extra,
                ..Restoring::all(&snapshot, folder.path())
            };
            let report = restoring.run(&store);
            let told: Vec<String> = report
                .exceptions
                .iter()
                .map(|one| {
                    String::from_utf8_lossy(&one.path).rsplit('/').next().unwrap().to_owned()
                })
                .collect();
            for wanted in ["bomb", "lie-long", "lie-short", "overflow"] {
                assert!(told.iter().any(|name| name == wanted), "{wanted} in {told:?}");
                assert!(!base.join(wanted).exists(), "{wanted} is not there by halves");
            }
            for good in ["a-good", "z-good", "other-is-a-file"] {
                assert_eq!(fs::read(base.join(good)).unwrap(), content(2, 3000), "{good}");
            }
            assert_eq!(fs::read_link(base.join("out")).unwrap(), out);
            assert_eq!(fs::read_dir(&out).unwrap().count(), 1, "nothing leads out");
        }
    }
    // Compared with what came back, and exported, without an end to come to.
    let cancel = Cancel::new();
    let comparing = Comparing { store: &store, whole: true, read_all: true, cancel: &cancel };
    let located = history::roots(&store, &snapshot).unwrap();
    let mut heard = Heard::default();
    comparing
        .live(&located[0].path, &located[0].entry, Live { path: &source, by: None }, &mut heard)
        .unwrap();
    assert!(!heard.0.iter().any(|name| name == Path::new("a-good")), "{:?}", heard.0);
    struct Counted(u64);
    impl std::io::Write for Counted {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0 += bytes.len() as u64;
            Ok(bytes.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let mut archive = Counted(0);
    let request = ExportRequest {
        snapshot: &snapshot,
        paths: &located,
        packing: Packing::Plain,
        cancel: &cancel,
        events: &silent,
    };
    let report = skellin_engine::export(&store, &request, &mut archive).unwrap();
    assert!(report.exception_count >= 2 && archive.0 < 1 << 20, "{report:?} {}", archive.0);
    // The configuration it offers leads nowhere else either.
    let lost = skellin_engine::lost_configuration(&store, None, "other").unwrap();
    let names: Vec<&str> = lost.files.iter().map(|file| file.name.as_str()).collect();
    assert_eq!(names, ["plans/readings.toml", "stores.toml"]);
}
