//! Beginning with nothing: what is asked so that runs can start by themselves, and whether there is
//! a disk and room for what they store.

use crate::{terminal, world};

use std::{fs, os::unix::fs::PermissionsExt, path::Path, process::Command};

use terminal::Screen;
use world::{
    World,
    common::{content, settle, write},
};

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o777
}

#[test]
fn a_new_plan_asks_for_what_its_runs_need_and_then_runs_unattended() {
    let world = World::bare();
    write(&world.path("ridge/gauge.csv"), content(1, 9000));
    let text = |below: &str| world.path(below).display().to_string();
    let (ridge, oak) = (text("ridge"), text("oak"));
    let skellin = env!("CARGO_BIN_EXE_skellin");
    let first = format!(
        "{skellin} plan new {ridge} --store oak --at {oak} --run 'every 4 days'; {skellin} plan new {ridge} --store oak --name second --run 'every 4 days'"
    );
    let screen = Screen::start(140, 60, world.folder.path(), &first);
    for _ in 0..2 {
        screen.wait_for_silence();
        screen.type_text("terns over the pier\n");
    }
    screen.wait(&["Scheduled runs cannot ask", "keys/oak.key, readable only by you?"]);
    assert!(!world.path("config/keys").exists() && !world.path("oak").exists());
    screen.type_text("y\n");
    screen.wait(&["Save it? [y/N]"]);
    screen.type_text("y\n");
    // The second plan finds the passphrase where the first one put it, and asks for none.
    screen.until("the second plan", |text| text.matches("Save it? [y/N]").count() == 2);
    screen.type_text("n\n");
    screen.wait(&["Nothing was written."]);
    assert_eq!(mode(&world.path("config/keys/oak.key")), 0o600);
    assert_eq!(fs::read(world.path("config/keys/oak.key")).unwrap(), b"terns over the pier\n");
    world.done(&["due", "--run"]);
    let (_, listed) = world.json(&["history", "ridge"]);
    assert_eq!(listed["snapshots"].as_array().unwrap().len(), 1, "{listed}");
    // A store whose passphrase is typed each time: only the right one is worth keeping.
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let without = stores.lines().filter(|line| !line.starts_with("passphrase"));
    world.stores(&without.collect::<Vec<_>>().join("\n"));
    fs::remove_dir_all(world.path("config/keys")).unwrap();
    let again = format!(
        "{skellin} plan new {ridge} --store oak --name third --run 'every 4 days' --keep-passphrase"
    );
    for (typed, said) in [("gannets", "wrong passphrase"), ("terns over the pier", "Saved as")] {
        let screen = Screen::start(140, 60, world.folder.path(), &again);
        screen.wait_for_silence();
        screen.type_text("terns over the pier\n");
        screen.wait(&["Save it? [y/N]"]);
        screen.type_text("y\n");
        screen.wait_for_silence();
        screen.type_text(&format!("{typed}\n"));
        screen.wait(&[said]);
        let is_kept = typed != "gannets";
        assert_eq!(world.path("config/keys/oak.key").exists(), is_kept);
        assert_eq!(world.path("config/plans/third.toml").exists(), is_kept);
    }
    world.done(&["run", "third"]);
}

/// What a script says in a name space of its own, where it may mount.
fn inside(world: &World, script: &str) -> String {
    let mut command = Command::new("unshare");
    command.args(["--mount", "sh", "-c", script]);
    for (name, value) in world.command(&[]).get_envs() {
        command.env(name, value.unwrap());
    }
    let output = command.output().unwrap();
    String::from_utf8([output.stdout, output.stderr].concat()).unwrap()
}

#[test]
fn a_dry_run_says_what_does_not_fit_and_a_missing_disk_gets_no_store() {
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let skellin = env!("CARGO_BIN_EXE_skellin");
    let world = World::new();
    for number in 0..12 {
        write(&world.path(&format!("ridge/{number}.raw")), content(number, 2 << 20));
    }
    settle(&world.path("ridge"));
    world.usual_plan("");
    let disk = world.path("disk");
    fs::create_dir(&disk).unwrap();
    let text = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let (oak, disk) = (world.path("oak").display().to_string(), disk.display());
    let moved = text.replace(&format!("\"{oak}\""), &format!("\"{disk}/oak\""));
    world.stores(&moved);
    let dry_run = |size: &str| {
        let script = format!(
            "mount -t tmpfs -o size={size} none {disk} && cp -r {oak} {disk}/oak && {skellin} run readings --dry-run && {skellin} run readings --dry-run --json"
        );
        inside(&world, &script)
    };
    let (tight, roomy) = (dry_run("16m"), dry_run("60m"));
    assert!(tight.contains("▲ does not fit: ") && tight.contains("MiB free in the store"));
    assert!(tight.contains("\"fits\":false"), "{tight}");
    assert!(!roomy.contains("does not fit") && roomy.contains("\"fits\":true"), "{roomy}");
    // Where the table of file systems has one that is not mounted, a store is not begun below it.
    let etc = world.path("etc").display().to_string();
    let create = format!("{skellin} store create oak; ls {disk}");
    let with_table = |mount: &str, more: &str| {
        let script = format!(
            "cp -a /etc {etc} && echo 'none {disk} tmpfs noauto 0 0' >>{etc}/fstab && mount --bind {etc} /etc && {mount} {create}{more}; rm -rf {etc}/*"
        );
        inside(&world, &script)
    };
    let refused = with_table("", "");
    assert!(refused.contains(&format!("nothing is mounted at {disk}")), "{refused}");
    assert!(!refused.contains("oak\n"), "nothing is made: {refused}");
    let mounted = with_table(&format!("mount -t tmpfs none {disk} &&"), "");
    assert!(mounted.ends_with("oak\n") && !mounted.contains("nothing is mounted"), "{mounted}");
    let here = with_table("", &format!("; {skellin} store create oak --here; ls {disk}"));
    assert!(here.contains("Store oak created at"), "it may be meant: {here}");
}
