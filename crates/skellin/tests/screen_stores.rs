//! Stores in a real terminal: the way to one, copies, and drives that take turns.

use crate::{sshd, terminal};

use std::fs;

use terminal::{
    Screen,
    common::{self, scratch, write},
    world,
};

fn program() -> &'static str {
    env!("CARGO_BIN_EXE_skellin")
}

#[test]
fn the_way_to_a_store_is_tried_and_a_new_host_accepted() {
    let folder = world(true);
    let server = sshd::Sshd::start();
    let stores = folder.path().join("config/stores.toml");
    let text = fs::read_to_string(&stores).unwrap();
    let pier = format!(
        "[pier]\nplace = \"sftp://{}@127.0.0.1:{}{}\"\nidentity = \"{}\"\nknown-hosts = \"{}\"\n",
        sshd::user(),
        server.port,
        server.path("data").display(),
        server.path("client").display(),
        folder.path().join("known").display()
    );
    write(&stores, format!("{text}{pier}"));
    let screen = Screen::start(120, 36, folder.path(), program());
    screen.wait(&["─ Is ─ readings", "✓ 2 plans safe"]);
    screen.keys(&["s"]);
    screen.wait(&["1 of 2 stores reachable", "✕ away"]);
    screen.keys(&["Down", "t"]);
    screen.wait(&[
        "Connection test of pier",
        "✓ name",
        "✓ port",
        "unknown host key, SHA256:",
        "k accept this host key",
    ]);
    screen.keys(&["k"]);
    screen.wait(&["accepted and saved", "✓ login", "✓ path", "All checks passed."]);
    assert!(fs::read_to_string(folder.path().join("known")).unwrap().contains("ssh-ed25519"));
    screen.keys(&["Escape", "q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_drive_that_is_due_is_told_of_with_what_to_do() {
    let folder = world(true);
    let path = |below: &str| folder.path().join(below);
    let stores = path("config/stores.toml");
    let text = fs::read_to_string(&stores).unwrap();
    // Whatever day it is, the swap was this morning.
    let day = jiff::Zoned::now().strftime("%A").to_string().to_lowercase();
    let ash = format!(
        "[ash]\nplace = \"drive:/skellin\"\ndrives = [\"ash-east\", \"ash-west\"]\nswap = \"{day}s\"\npassphrase = {{ file = \"{}\" }}\n",
        path("key").display()
    );
    write(&stores, format!("{text}{ash}"));
    for (drive, mount) in [("ash-east", "media/ASH1"), ("ash-west", "pocket/ASH2")] {
        let root = path(mount).join("skellin");
        let place = skellin_place::DirectoryPlace::prepare(&root, skellin_store::FOLDERS).unwrap();
        common::create_store(&place);
        write(&root.join("drive.txt"), format!("drive: {drive}\nstore: ash\n"));
    }
    let open = format!("SKELLIN_DRIVES={} {}", path("media").display(), program());
    let screen = Screen::start(120, 36, folder.path(), &open);
    screen.wait(&["─ Is ─ readings", "✓ 2 plans safe"]);
    screen.keys(&["s"]);
    // Nothing is known of any drive yet: the first has its turn, and it is here.
    screen.wait(&["2 of 2 stores reachable", "✓ ash-east", "   next", "next swap"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
    drop(screen);
    // Last week's snapshot is on it: today the other one is due.
    let journal = rusqlite::Connection::open(path("state/journal.sqlite")).unwrap();
    let week_ago = jiff::Timestamp::now().as_millisecond() - 7 * 86_400_000;
    journal.execute("UPDATE drive SET newest = ?1", [week_ago]).unwrap();
    drop(journal);
    let screen = Screen::start(120, 36, folder.path(), &open);
    screen.wait(&["─ Is ─ readings"]);
    screen.keys(&["s"]);
    screen.wait(&[
        "· ash-west",
        "never seen",
        "newest snapshot 7 d ago",
        "▲ ash-west is next since",
        "ash-east is here",
        "→ swap the drives",
    ]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn the_stations_copies_are_counted_while_its_servers_live() {
    let folder = scratch();
    let open = format!("{} demo --dir {}", program(), folder.path().join("ridge").display());
    let screen = Screen::start(120, 36, folder.path(), &open);
    screen.wait_for_the_station(&["─ Is ─ gateway", "✓ 3 plans safe"]);
    screen.keys(&["s"]);
    screen.wait(&["3 of 3 stores reachable", "s3://fennick-ridge/hut", "sftp://keeper@127"]);
    screen.keys(&["Down"]);
    screen.wait(&["ringing", "a copy"]);
    screen.keys(&["t"]);
    screen.wait(&["Connection test of offshore", "✓ login", "✓ clock", "All checks passed."]);
    screen.keys(&["Escape", "p"]);
    screen.wait(&["3, 2 off site", "oak-east, on site", "oak-west, off site"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_store_is_made_step_by_step_on_a_host_and_a_plan_offered() {
    let folder = world(true);
    let server = sshd::Sshd::start();
    let home = folder.path();
    // The key that the account lets in is where SSH keeps it.
    fs::create_dir_all(home.join(".ssh")).unwrap();
    fs::copy(server.path("client"), home.join(".ssh/id_ed25519")).unwrap();
    let screen = Screen::start(140, 36, home, program());
    screen.wait(&["✓ 2 plans safe"]);
    screen.keys(&["s"]);
    screen.wait(&["1 of 1 store reachable", "by dedup", "c create a store"]);
    screen.keys(&["h"]);
    screen.wait(&["Content of oak", "file data", "total"]);
    screen.keys(&["Escape", "c"]);
    screen.wait(&["▸ (•) directory", "object storage", "server by FTP"]);
    screen.keys(&["Down", "Down", "Enter"]);
    screen.wait(&["enter the name"]);
    screen.type_text("oak");
    screen.keys(&["Down"]);
    screen.type_text(&format!("127.0.0.1:{}", server.port));
    screen.wait(&["there is already a store `oak`"]);
    screen.keys(&["Up"]);
    screen.type_text("-pier");
    screen.keys(&["Down", "Down"]);
    screen.type_text(&sshd::user());
    screen.keys(&["Down", "Down"]);
    screen.type_text("gulls and terns");
    let text = screen.wait(&["keys/oak-pier.password, readable only by you", "step is complete"]);
    assert!(!text.contains("gulls and"), "{text}");
    screen.keys(&["Tab"]);
    screen.wait(&["unknown host key, SHA256:", "k accept this host key"]);
    let secret = home.join("config/keys/oak-pier.password");
    let mode = std::os::unix::fs::MetadataExt::mode(&fs::metadata(&secret).unwrap());
    assert_eq!(mode & 0o777, 0o600);
    screen.keys(&["k"]);
    screen.wait(&["in the home directory of the account", "step is complete"]);
    // Up to the whole host, into its first directory and out again; then a path is typed.
    screen.keys(&["Left"]);
    let text = screen.wait(&["in /", "etc/", "step is complete"]);
    let first = text.lines().nth(4).unwrap().trim().trim_end_matches('/').to_owned();
    screen.keys(&["Enter"]);
    screen.wait(&[&format!("in /{first}"), &format!("/{first}/skellin")]);
    screen.keys(&["Left"]);
    screen.wait(&["etc/", "step is complete"]);
    screen.keys(&["C-u"]);
    screen.type_text(&format!("{}/skellin", server.path("data").display()));
    screen.wait(&[&format!("{}{}/skellin", server.port, server.path("data").display())]);
    screen.keys(&["Tab"]);
    screen.wait(&["choose a passphrase"]);
    screen.type_text("terns over the pier");
    screen.wait(&["fair; a few more words make it strong"]);
    screen.keys(&["Down"]);
    screen.type_text("terns over the pie");
    screen.wait(&["the two passphrases differ"]);
    screen.type_text("r");
    screen.keys(&["Tab"]);
    screen.wait(&["[oak-pier]", "passphrase = { file", "Enter creates the directory"]);
    assert!(!server.path("data/skellin").exists(), "nothing is made before the last step");
    screen.keys(&["Enter"]);
    screen.wait(&["✓ read back", "✓ written", "Store oak-pier created."]);
    let stores = fs::read_to_string(home.join("config/stores.toml")).unwrap();
    assert!(stores.contains("[oak]") && stores.contains("[oak-pier]"), "{stores}");
    screen.keys(&["Enter"]);
    screen.wait(&["new plan; nothing is written", "sources"]);
    screen.keys(&["Escape"]);
    screen.wait(&["2 of 2 stores reachable", "oak-pier"]);
    // What is left again leaves nothing behind.
    screen.keys(&["c", "Down", "Down", "Enter"]);
    screen.type_text("elm");
    screen.keys(&["Down"]);
    screen.type_text(&format!("127.0.0.1:{}", server.port));
    screen.keys(&["Down", "Down", "Down"]);
    screen.type_text("gulls");
    screen.keys(&["Tab"]);
    screen.wait(&["in the home directory of the account", "step is complete"]);
    assert!(home.join("config/keys/elm.password").exists());
    screen.keys(&["Escape"]);
    screen.wait(&["2 of 2 stores reachable"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
    assert!(!home.join("config/keys/elm.password").exists());
    let said = fs::read_to_string(home.join("config/stores.toml")).unwrap();
    assert!(!said.contains("elm") && !said.contains("gulls"), "{said}");
}
