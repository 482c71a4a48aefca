//! Exports: read back by the tar and the Python of the machine, and held against what was there.

use crate::common;

use std::{fs, path::Path, process::Command};

use common::{
    assert_same, content, make_odd_tree, memory_store, newest, open_store, plan_of, run_at,
    scratch, settle, write,
};
use skellin_engine::{Cancel, EngineError, Event, ExportReport, ExportRequest, Packing, history};
use skellin_store::Store;

const DAY: i64 = 86_400_000;

fn exported(store: &Store, packing: Packing, out: &mut Vec<u8>) -> ExportReport {
    let snapshot = newest(store);
    let paths = history::roots(store, &snapshot).unwrap();
    let request = ExportRequest {
        snapshot: &snapshot,
        paths: &paths,
        packing,
        cancel: &Cancel::new(),
        events: &|_: Event| {},
    };
    skellin_engine::export(store, &request, out).unwrap()
}

/// A line for each member, by Python: kind, mode, size, time, name, what it points to, owner, and what of
/// the attributes and the content is known.
const LIST: &str = r#"
import hashlib, os, sys, tarfile
with tarfile.open(sys.argv[1]) as archive:
    for member in archive:
        name = os.fsencode(member.name).hex()
        content = archive.extractfile(member).read() if member.isreg() else b""
        xattrs = sorted(key for key in member.pax_headers if key.startswith("SCHILY.xattr."))
        print(member.type.decode(), oct(member.mode), member.size, member.mtime, name, member.linkname,
            member.uid, member.gid, ",".join(xattrs), hashlib.sha256(content).hexdigest(), member.issparse())
"#;

#[test]
fn an_archive_holds_all_that_was_there() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    make_odd_tree(&root);
    let long = root.join("n".repeat(120)).join("m".repeat(200));
    write(&long, "long names");
    write(&root.join("möwe/Küstenseeschwalbe.md"), "not ASCII");
    write(&root.join("old"), "before 1970");
    fs::File::options()
        .write(true)
        .open(root.join("old"))
        .unwrap()
        .set_modified(std::time::UNIX_EPOCH - std::time::Duration::from_millis(1_250))
        .unwrap();
    let holes = fs::File::create(root.join("only-a-hole")).unwrap();
    holes.set_len(5 << 20).unwrap();
    drop(holes);
    settle(&root);
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&root], ""), DAY);
    let store = open_store(&place);
    for (packing, name) in
        [(Packing::Plain, "a.tar"), (Packing::Gzip, "a.tar.gz"), (Packing::Zstd, "a.tar.zst")]
    {
        let mut archive = Vec::new();
        let report = exported(&store, packing, &mut archive);
        assert_eq!(report.exception_count, 0);
        let file = folder.path().join(name);
        fs::write(&file, &archive).unwrap();
        let back = folder.path().join(format!("back-{name}"));
        fs::create_dir(&back).unwrap();
        let done = Command::new("tar")
            .args(["--xattrs", "--xattrs-include=*", "--numeric-owner", "-xpf"])
            .arg(&file)
            .current_dir(&back)
            .output()
            .unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        assert_same(&root, &back.join("ridge"));
        let blocks =
            |path: &Path| std::os::unix::fs::MetadataExt::blocks(&fs::metadata(path).unwrap());
        assert!(blocks(&back.join("ridge/only-a-hole")) < 64, "holes stay holes");
    }
    let python =
        Command::new("python3").args(["-c", LIST]).arg(folder.path().join("a.tar")).output();
    let python = python.unwrap();
    assert!(python.status.success(), "{}", String::from_utf8_lossy(&python.stderr));
    let listed = String::from_utf8(python.stdout).unwrap();
    let line = |name: &str| {
        let hex: String = name.bytes().map(|byte| format!("{byte:02x}")).collect();
        let found = listed.lines().find(|line| line.split(' ').nth(4) == Some(&hex));
        found.unwrap_or_else(|| panic!("{name} in {listed}")).to_owned()
    };
    assert_eq!(listed.lines().count(), common::listing(&root).len());
    assert!(
        line("ridge/sparse.img").ends_with("True")
            && line("ridge/only-a-hole").contains(" 5242880 ")
    );
    assert!(line("ridge/old").contains(" -1.25 "), "{}", line("ridge/old"));
    assert!(line("ridge/empty").contains("1700000000.1234"), "{}", line("ridge/empty"));
    assert!(line("ridge/notes.md").starts_with("0 0o4711 "));
    assert!(line("ridge/link").starts_with('2') && line("ridge/link").contains(" notes.md "));
    assert_eq!(listed.lines().filter(|line| line.starts_with("1 ")).count(), 2, "hard links");
}

#[test]
fn what_is_lost_is_zeros_and_said() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("a.bin"), content(2, 200_000));
    write(&root.join("b.md"), "short and well");
    let (memory, place) = memory_store();
    run_at(&place, &plan_of(&[&root], ""), DAY);
    for name in memory.names().into_iter().filter(|name| name.folder() == "data") {
        let mut bytes = memory_bytes(&place, &name);
        let middle = bytes.len() / 2;
        bytes[middle..middle + 64].iter_mut().for_each(|byte| *byte ^= 0x55);
        memory.overwrite(&name, bytes);
    }
    let store = open_store(&place);
    let mut archive = Vec::new();
    let report = exported(&store, Packing::Plain, &mut archive);
    assert!(report.exception_count >= 1, "{report:?}");
    // It is an archive all the same.
    fs::write(folder.path().join("a.tar"), &archive).unwrap();
    let listed = Command::new("tar").arg("-tf").arg(folder.path().join("a.tar")).output().unwrap();
    let text = String::from_utf8(listed.stdout).unwrap();
    assert!(listed.status.success() && text.contains("ridge/b.md"), "{text}");
}

fn memory_bytes(
    place: &std::sync::Arc<dyn skellin_place::Place>,
    name: &skellin_place::ObjectName,
) -> Vec<u8> {
    place.fetch(name, 1 << 30).unwrap()
}

#[test]
fn an_export_that_is_interrupted_fails() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("a.bin"), content(2, 200_000));
    let (_, place) = memory_store();
    run_at(&place, &plan_of(&[&root], ""), DAY);
    let store = open_store(&place);
    let snapshot = newest(&store);
    let paths = history::roots(&store, &snapshot).unwrap();
    let cancel = Cancel::new();
    cancel.cancel();
    let request = ExportRequest {
        snapshot: &snapshot,
        paths: &paths,
        packing: Packing::Plain,
        cancel: &cancel,
        events: &|_: Event| {},
    };
    let cut = skellin_engine::export(&store, &request, &mut Vec::new());
    assert!(matches!(cut, Err(EngineError::Cancelled)));
}
