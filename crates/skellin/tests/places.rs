//! Stores on other hosts, by the commands: a real OpenSSH server.

use crate::{sshd, world};

use std::{fs, process::Output};

use serde_json::Value;
use sshd::{Sshd, user};
use world::World;
use world::common::{assert_same, make_odd_tree, settle, write};

/// A configuration with a store on a server, which knows it.
fn pier(server: &Sshd) -> World {
    let world = World::bare();
    write(&world.path("key"), world::common::PASSPHRASE);
    world::private(&world.path("key"));
    stores(&world, server, &format!("identity = \"{}\"", server.path("client").display()));
    let source = world.path("ridge").display().to_string();
    world.plan("readings", &format!("sources = [\"{source}\"]\nstore = \"pier\"\n"));
    world
}

fn stores(world: &World, server: &Sshd, login: &str) {
    world.stores(&format!(
        "[pier]\nplace = \"sftp://{}@127.0.0.1:{}{}\"\n{login}\nknown-hosts = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        user(),
        server.port,
        server.path("store").display(),
        server.path("known_hosts").display(),
        world.path("key").display()
    ));
}

fn run(world: &World, arguments: &[&str]) -> (i32, Value) {
    let output = world.command(arguments).arg("--json").env("HOME", world.path("home")).output();
    answer(&output.unwrap())
}

fn answer(output: &Output) -> (i32, Value) {
    let text = String::from_utf8(output.stdout.clone()).unwrap();
    let value = serde_json::from_str(&text).unwrap_or_else(|_| {
        panic!("no JSON: {text}{}", String::from_utf8_lossy(&output.stderr));
    });
    (output.status.code().unwrap(), value)
}

/// The steps a reach got through.
fn steps(value: &Value) -> Vec<&str> {
    let steps = value["steps"].as_array().unwrap();
    steps.iter().map(|step| step["step"].as_str().unwrap()).collect()
}

#[test]
fn a_store_on_a_host_from_reach_to_disaster() {
    let server = Sshd::start();
    let world = pier(&server);
    make_odd_tree(&world.path("ridge"));
    settle(&world.path("ridge"));
    let (status, error) = run(&world, &["store", "reach", "pier"]);
    let told = error["error"]["message"].as_str().unwrap();
    assert!(status == 5 && told.contains("does not exist"), "{error}");
    assert!(error["error"]["hint"].as_str().unwrap().contains("store create"));
    assert_eq!(run(&world, &["store", "create", "pier"]).0, 0);
    let (status, reached) = run(&world, &["store", "reach", "pier"]);
    let all = [
        "name",
        "port",
        "host key",
        "login",
        "path",
        "room",
        "write",
        "read back",
        "no overwrite",
        "delete",
        "store",
    ];
    assert_eq!((status, steps(&reached)), (0, all.to_vec()));
    let left = fs::read_dir(server.path("store/unfinished")).unwrap().count();
    assert_eq!(left, 0, "the trial is gone again");
    let (status, first) = run(&world, &["run", "readings"]);
    assert_eq!((status, first["runs"][0]["status"].as_str()), (0, Some("done")), "{first}");
    let (_, second) = run(&world, &["run", "readings"]);
    assert_eq!(second["runs"][0]["bytes"]["read"], 0);
    assert_eq!(run(&world, &["verify", "pier"]).0, 0);
    // Another machine, with nothing but an alias of its OpenSSH configuration and the passphrase.
    let bare = World::bare();
    let client = server.path("client");
    write(
        &bare.path("home/.ssh/config"),
        format!(
            "Host harbour\n  HostName 127.0.0.1\n  Port {}\n  User {}\n  IdentityFile {}\n",
            server.port,
            user(),
            client.display()
        ),
    );
    let host = fs::read_to_string(server.path("host.pub")).unwrap();
    write(&bare.path("home/.ssh/known_hosts"), format!("[harbour]:{} {host}", server.port));
    let place = format!("sftp://harbour{}", server.path("store").display());
    let (key, back) = (world.path("key"), bare.path("back"));
    let arguments = [
        "restore",
        "--place",
        &place,
        "--passphrase-file",
        key.to_str().unwrap(),
        "readings@newest",
        "--to",
        back.to_str().unwrap(),
    ];
    let (status, restored) = run(&bare, &arguments);
    assert_eq!(status, 0, "{restored}");
    assert_same(&world.path("ridge"), &bare.path("back/ridge"));
}

#[test]
fn each_refusal_ends_with_status_5_and_what_to_do() {
    let server = Sshd::start();
    let world = pier(&server);
    write(&world.path("ridge/notes.md"), "x");
    assert_eq!(run(&world, &["store", "create", "pier"]).0, 0);
    let refused = |arguments: &[&str], reason: &str, hint: &str| {
        let (status, value) = run(&world, arguments);
        let error = &value["error"];
        let (told, how) = (error["message"].as_str().unwrap(), error["hint"].as_str().unwrap());
        assert!(
            status == 5 && told.contains(reason) && how.contains(hint),
            "{status} {value}, wanted {reason} and {hint}"
        );
        assert!(!value.to_string().contains("open sesame"), "{value}");
    };
    let known = fs::read_to_string(server.path("known_hosts")).unwrap();
    write(&server.path("known_hosts"), "");
    for arguments in [&["run", "readings"][..], &["store", "reach", "pier"]] {
        refused(arguments, "unknown host key, SHA256:", "--accept-host-key");
    }
    let (status, reached) = run(&world, &["store", "reach", "pier", "--accept-host-key"]);
    let key = &reached["steps"][2];
    assert!(status == 0 && key["found"].as_str().unwrap().contains("accepted"), "{reached}");
    assert_eq!(run(&world, &["run", "readings"]).0, 0, "and is remembered");
    let other = fs::read_to_string(server.path("stranger.pub")).unwrap();
    let host = known.split(' ').next().unwrap();
    write(&server.path("known_hosts"), format!("{host} {other}"));
    refused(&["run", "readings"], "the host key has changed", "this may be an attack");
    write(&server.path("known_hosts"), known);

    let stranger = format!("identity = \"{}\"", server.path("stranger").display());
    stores(&world, &server, &stranger);
    refused(&["run", "readings"], "the server accepts publickey, password", "authorized_keys");
    write(&world.path("password"), "open sesame");
    world::private(&world.path("password"));
    let wrong = format!("password = {{ file = \"{}\" }}", world.path("password").display());
    stores(&world, &server, &wrong);
    refused(&["run", "readings"], "tried: the password", "the right account");
    // Nothing of all that has hurt the store, and the journal keeps no secret.
    let right = format!("identity = \"{}\"", server.path("client").display());
    stores(&world, &server, &right);
    assert_eq!(run(&world, &["verify", "pier"]).0, 0);
    let journal = fs::read(world.path("state/journal.sqlite")).unwrap();
    assert!(!journal.windows(11).any(|part| part == b"open sesame"));
    drop(server);
    refused(&["run", "readings"], "nothing listens on port", "SSH service running");
}

#[test]
fn files_are_restored_to_another_host() {
    use std::os::unix::fs::MetadataExt;
    let server = Sshd::start();
    let world = World::new();
    let key = fs::read_to_string(server.path("host.pub")).unwrap();
    write(&world.path("known"), format!("[pier]:{} {key}", server.port));
    write(
        &world.path("config/hosts.toml"),
        format!(
            "[pier]\naddress = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\nidentity = \"{}\"\nknown-hosts = \"{}\"\n",
            server.port,
            user(),
            server.path("client").display(),
            world.path("known").display()
        ),
    );
    let ridge = world.path("ridge");
    make_odd_tree(&ridge);
    write(&ridge.join("large"), world::common::content(9, 9 << 20));
    settle(&ridge);
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let back = server.path("data/new/back");
    let to = format!("sftp://pier{}", back.display());
    let restore =
        |more: &[&str]| run(&world, &[&["restore", "readings@newest", "--to", &to], more].concat());
    let (_, foretold) = restore(&["--dry-run"]);
    assert!(!back.exists(), "a dry run writes nothing");
    let (status, done) = restore(&[]);
    assert_eq!(status, 4, "{done}");
    let reasons: Vec<&str> = done["exceptions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["reason"].as_str().unwrap())
        .collect();
    let untold = if rustix::process::geteuid().is_root() { 3 } else { 2 };
    assert_eq!(reasons.len(), untold, "a pipe, a device, a name that is no text: {reasons:?}");
    assert_eq!((&foretold["restored"], &foretold["bytes"]), (&done["restored"], &done["bytes"]));
    let (there, here) =
        (world::common::listing(&back.join("ridge")), world::common::listing(&ridge));
    let mut compared = 0;
    for (path, facts) in &here {
        let Some(laid) = there.get(path) else { continue };
        let is_link = facts.kind == 0o120_000;
        assert_eq!((laid.kind, &laid.content), (facts.kind, &facts.content), "{}", path.display());
        if !is_link {
            assert_eq!(laid.mode, facts.mode, "{}", path.display());
            assert_eq!(laid.modified.0, facts.modified.0, "{}", path.display());
            assert_eq!(laid.owner, facts.owner, "{}", path.display());
        }
        compared += 1;
    }
    assert_eq!((compared, there.len()), (here.len() - untold, here.len() - untold));
    // What is right already is not sent again; what differs is, whole and under its name at once.
    let large = back.join("ridge/large");
    let inode = fs::metadata(&large).unwrap().ino();
    fs::write(back.join("ridge/empty"), "not empty").unwrap();
    let (_, again) = restore(&["--existing", "replace"]);
    assert_eq!(fs::metadata(&large).unwrap().ino(), inode);
    assert_eq!(fs::read(back.join("ridge/empty")).unwrap(), b"");
    assert!(again["same"].as_u64().unwrap() > 5, "{again}");
    fs::write(back.join("ridge/empty"), "mine").unwrap();
    fs::write(back.join("ridge/pipe"), "mine").unwrap();
    restore(&["--existing", "rename"]);
    let pipe = fs::read(back.join("ridge/pipe")).unwrap();
    assert_eq!(pipe, b"mine", "nothing gives way to what cannot be made");
    let names = fs::read_dir(back.join("ridge")).unwrap();
    let names: Vec<_> =
        names.map(|entry| entry.unwrap().file_name().into_string().unwrap_or_default()).collect();
    assert!(names.iter().any(|name| name.starts_with("empty.kept-")), "{names:?}");
    assert!(!names.iter().any(|name| name.starts_with(".skellin-")), "{names:?}");
    let (status, refused) = restore(&["--extra", "remove"]);
    assert_eq!((status, &refused["error"]["kind"]), (2, &"usage".into()), "{refused}");
}
