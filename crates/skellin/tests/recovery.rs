//! docs/RECOVERY.md, followed to the letter on a machine that has nothing.

use crate::world;

use std::{
    fs,
    io::Write as _,
    path::{Path, PathBuf},
    process::{Command, Output, Stdio},
};

use world::{
    World,
    common::{self, assert_same, make_odd_tree, write},
    private,
};

const GUIDE: &str = include_str!("../../../docs/RECOVERY.md");

/// What the guide's shell blocks of a kind say, in order.
fn commands(kind: &str) -> String {
    let mut script = String::new();
    let mut lines = GUIDE.lines();
    while let Some(line) = lines.next() {
        if line == kind {
            let block = lines.by_ref().take_while(|line| *line != "```");
            block.for_each(|line| script.push_str(&format!("{line}\n")));
        }
    }
    script
}

/// Runs a script in a root of its own that has the programs of this machine and nothing else but
/// what the test put there, with the store at `/mnt/oak/skellin`.
fn within(world: &World, root: &Path, script: &str, input: &[u8]) -> Output {
    let skellin = PathBuf::from(env!("CARGO_BIN_EXE_skellin"));
    write(&root.join("script"), script);
    let enter = format!(
        "set -e; cd {root}; mkdir -p proc dev tmp root srv etc program mnt/oak/skellin
         for at in usr bin sbin lib lib64; do
           if [ -L /$at ]; then cp -a /$at .; elif [ -d /$at ]; then mkdir -p $at; mount --rbind /$at $at; fi
         done
         mount --rbind /dev dev; mount -t proc proc proc
         mount --bind {program} program; mount --bind {store} mnt/oak/skellin
         exec chroot . /usr/bin/env -i HOME=/root TZ=UTC PATH=/program:/usr/bin:/bin:/usr/sbin:/sbin bash -euo pipefail /script",
        root = root.display(),
        program = skellin.parent().unwrap().display(),
        store = world.path("oak").display(),
    );
    let mut child = Command::new("unshare")
        .args(["--mount", "--fork", "bash", "-c", &enter])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(input).unwrap();
    child.wait_with_output().unwrap()
}

#[test]
fn the_guide_brings_a_lost_machine_back() {
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let world = World::new();
    let (hut, empty) = (world.path("hut"), world.path("empty"));
    let config = hut.join("etc/skellin");
    write(&config.join("oak.key"), common::PASSPHRASE);
    private(&config.join("oak.key"));
    write(
        &config.join("stores.toml"),
        "# The drive in the cupboard\n[oak]\nplace = \"/mnt/oak/skellin\"\npassphrase = { file = \"/etc/skellin/oak.key\" }\n",
    );
    write(&config.join("channels.toml"), "[screen]\ndesktop = true\n");
    write(&config.join("plans/lists/quiet.rules"), "skip *.part\n");
    write(
        &config.join("plans/readings.toml"),
        "about = \"Series\"\nsources = [\"/srv/readings\"]\nstore = \"oak\"\nmachine = \"hut\"\nrules-from = [\"lists/quiet.rules\"]\n[tell]\nfailure = [\"screen\"]\n",
    );
    fs::create_dir_all(hut.join("srv/readings")).unwrap();
    make_odd_tree(&hut.join("srv/readings"));
    let ran = within(&world, &hut, "skellin run readings", b"");
    assert_eq!(ran.status.code(), Some(0), "{}", String::from_utf8_lossy(&ran.stderr));

    fs::create_dir(&empty).unwrap();
    let passphrase = [common::PASSPHRASE, b"\n"].concat();
    let script = commands("```sh");
    assert!(script.contains("--plans") && script.contains("--in-place"), "{script}");
    let done = within(&world, &empty, &script, &passphrase);
    let said = format!(
        "{}\n{}",
        String::from_utf8_lossy(&done.stdout),
        String::from_utf8_lossy(&done.stderr)
    );
    assert_eq!(done.status.code(), Some(0), "{said}");
    for file in ["stores.toml", "channels.toml", "plans/readings.toml", "plans/lists/quiet.rules"] {
        let read = |root: &Path| fs::read(root.join("etc/skellin").join(file)).unwrap_or_default();
        assert_eq!(read(&hut), read(&empty), "{file}: {said}");
    }
    assert_same(&hut.join("srv/readings"), &empty.join("srv/restored/readings"));
    assert_same(&hut.join("srv/readings"), &empty.join("srv/readings"));
    assert!(said.contains("no differences"), "{said}");
}

#[test]
fn plans_that_a_store_keeps_never_replace_any_and_need_a_machine_where_there_are_several() {
    let world = World::new();
    write(&world.path("ridge/a"), "a");
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let text = fs::read_to_string(world.path("config/plans/readings.toml")).unwrap();
    world.plan("readings", &text.replace("machine = \"hut\"", "machine = \"mast\""));
    world.done(&["run", "readings"]);
    let place = world.path("oak");
    let place = ["--place", place.to_str().unwrap(), "--passphrase-file"];
    let key = world.path("key");
    let all = [&["restore", "--plans"], &place[..], &[key.to_str().unwrap()]].concat();
    let (status, said) = world.fail(&all);
    assert!(status == 2 && said.contains("--machine: hut, mast"), "{status} {said}");
    let of_hut = [&all[..], &["--machine", "hut"]].concat();
    let (status, document) = world.json(&of_hut);
    assert_eq!((status, &document["files"][0]["fate"]), (0, &"kept".into()), "{document}");
    fs::remove_file(world.path("config/plans/readings.toml")).unwrap();
    let dry = [&of_hut[..], &["--dry-run"]].concat();
    assert_eq!(world.json(&dry).1["files"][0]["fate"], "written");
    assert!(!world.path("config/plans/readings.toml").exists(), "a dry run");
    world.done(&of_hut);
    assert_eq!(fs::read_to_string(world.path("config/plans/readings.toml")).unwrap(), text);
    assert_eq!(world.fail(&[&all[..], &["--machine", "pier"]].concat()).0, 2);
}

#[test]
fn extra_files_go_only_after_somebody_has_agreed() {
    let world = World::new();
    write(&world.path("ridge/a"), "a");
    write(&world.path("ridge/cache/x"), "excluded");
    world.usual_plan("skip cache/");
    world.done(&["run", "readings"]);
    write(&world.path("ridge/b/new"), "b");
    fs::remove_file(world.path("ridge/a")).unwrap();
    let exactly = ["restore", "readings@newest", "--in-place", "--extra", "remove"];
    let (status, said) = world.fail(&exactly);
    assert!(status == 7 && said.contains("would remove 2 paths"), "{status} {said}");
    assert!(world.path("ridge/b/new").exists() && !world.path("ridge/a").exists());
    let (status, foretold) = world.json(&[&exactly[..], &["--dry-run"]].concat());
    assert_eq!((status, &foretold["removed"], &foretold["restored"]), (0, &2.into(), &2.into()));
    let (status, done) = world.json(&[&exactly[..], &["--agree"]].concat());
    assert_eq!((status, &done["removed"]), (0, &2.into()));
    assert!(!world.path("ridge/b").exists() && world.path("ridge/a").exists());
    assert!(world.path("ridge/cache/x").exists(), "what the rules exclude is in no snapshot");
    assert_eq!(world.fail(&["restore", "readings@newest"]).0, 2);
    world.done(&[
        "restore",
        "readings@newest",
        world.path("ridge/a").to_str().unwrap(),
        "--beside",
    ]);
    let names = fs::read_dir(world.path("ridge")).unwrap().count();
    assert_eq!(names, 3, "a, the same with a time in its name, cache");
}
