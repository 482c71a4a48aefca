//! The full-screen application, driven in a real terminal.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "../../engine/tests/common/mod.rs"]
mod common;

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::atomic::{AtomicU32, Ordering},
    time::{Duration, Instant},
};

use common::{content, create_store, scratch, write};

/// A tmux server of our own, with one window; ended when dropped.
struct Screen {
    socket: String,
}

static NUMBER: AtomicU32 = AtomicU32::new(0);

impl Screen {
    fn start(columns: u16, rows: u16, folder: &Path, command: &str) -> Self {
        let number = NUMBER.fetch_add(1, Ordering::SeqCst);
        let socket = format!("skellin-test-{}-{number}", std::process::id());
        let screen = Self { socket };
        let script = format!(
            "export SKELLIN_CONFIG={0}/config SKELLIN_STATE={0}/state SKELLIN_CACHE={0}/cache HOME={0} PS1='shell> ' TERM=tmux-256color; {1}; echo status $?; stty -a | grep -o -- '-\\?echo ' ; exec cat",
            folder.display(),
            command
        );
        let (columns, rows) = (columns.to_string(), rows.to_string());
        screen.tmux(&[
            "-f",
            "/dev/null",
            "new-session",
            "-d",
            "-x",
            &columns,
            "-y",
            &rows,
            "sh",
            "-c",
            &script,
        ]);
        screen
    }

    fn tmux(&self, arguments: &[&str]) -> String {
        let output = Command::new("tmux")
            .args(["-L", &self.socket])
            .args(arguments)
            .output()
            .expect("tmux is installed");
        assert!(
            output.status.success(),
            "tmux {arguments:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
        String::from_utf8(output.stdout).unwrap()
    }

    fn text(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen shows all these texts.
    fn wait(&self, wanted: &[&str]) -> String {
        let deadline = Instant::now() + Duration::from_secs(20);
        loop {
            let text = self.text();
            if wanted.iter().all(|wanted| text.contains(wanted)) {
                return text;
            }
            assert!(Instant::now() < deadline, "waited for {wanted:?}, and the screen is\n{text}");
            std::thread::sleep(Duration::from_millis(15));
        }
    }

    fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
        }
    }

    fn type_text(&self, text: &str) {
        self.tmux(&["send-keys", "-l", text]);
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let _ = Command::new("tmux").args(["-L", &self.socket, "kill-server"]).output();
    }
}

/// A store, two plans, three nights.
fn world(passphrase_in_config: bool) -> tempfile::TempDir {
    let folder = scratch();
    let path = |below: &str| -> PathBuf { folder.path().join(below) };
    let place =
        skellin_place::DirectoryPlace::prepare(path("oak"), skellin_store::FOLDERS).unwrap();
    create_store(&place);
    write(&path("key"), common::PASSPHRASE);
    fs::set_permissions(path("key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let secret = if passphrase_in_config {
        format!("passphrase = {{ file = \"{}\" }}\n", path("key").display())
    } else {
        String::new()
    };
    write(
        &path("config/stores.toml"),
        format!("[oak]\nplace = \"{}\"\n{secret}", path("oak").display()),
    );
    for plan in ["readings", "ringing"] {
        write(
            &path(&format!("config/plans/{plan}.toml")),
            format!("sources = [\"{}\"]\nstore = \"oak\"\n", path(plan).display()),
        );
    }
    let store: std::sync::Arc<dyn skellin_place::Place> = std::sync::Arc::new(place);
    let now = jiff::Timestamp::now().as_millisecond();
    for night in 0..3 {
        write(&path("readings/2026/gauge.csv"), content(1, 4000 * (night + 1)));
        write(&path("readings/notes.md"), format!("night {night}\n"));
        write(&path("ringing/register.csv"), format!("ring {night}\n"));
        for name in ["readings", "ringing"] {
            let text = fs::read_to_string(path(&format!("config/plans/{name}.toml"))).unwrap();
            let nothing = |_: &str| None;
            let (plan, _) = skellin_plan::parse_plan(name, "plan", &text, &nothing, ["oak"]);
            let plan = plan.unwrap();
            common::Running::of(&plan)
                .at(now - (3 - night as i64) * 86_400_000)
                .run(&common::open_store(&store));
        }
    }
    folder
}

fn program() -> &'static str {
    env!("CARGO_BIN_EXE_skellin")
}

#[test]
fn a_file_is_found_in_an_older_snapshot_and_brought_back() {
    let folder = world(true);
    let screen = Screen::start(160, 44, folder.path(), program());
    screen.wait(&["Skellin", "readings", "ringing", "3 of 3 snapshots", "/readings/", "2 plans"]);
    screen.keys(&["Left"]);
    screen.wait(&["2 of 3 snapshots"]);
    screen.keys(&["Enter"]);
    screen.wait(&["notes.md", "2026/"]);
    screen.keys(&["Down", "Down"]);
    // The selected path stays while time moves.
    screen.keys(&["Left"]);
    screen.wait(&["1 of 3 snapshots", "notes.md"]);
    screen.keys(&["b"]);
    screen.wait(&["Bring back", "/readings/notes.md", "Where to"]);
    screen.keys(&["Enter"]);
    screen.wait(&["Rehearsed; nothing was written yet", "1 path, 8 B"]);
    assert!(!folder.path().join("restored").exists());
    screen.keys(&["Enter"]);
    screen.wait(&["✓ Done."]);
    let restored = folder.path().join("restored/readings/notes.md");
    assert_eq!(fs::read_to_string(restored).unwrap(), "night 0\n");
    // Back to the tree, and over the file that is there now, in place.
    screen.keys(&["Enter", "b"]);
    screen.wait(&["Where to"]);
    screen.keys(&["Space", "Tab", "Tab", "Space"]);
    screen.wait(&["where it was", "replace it"]);
    screen.keys(&["Enter"]);
    screen.wait(&["1 path replaced"]);
    assert_eq!(fs::read_to_string(folder.path().join("readings/notes.md")).unwrap(), "night 2\n");
    screen.keys(&["Enter"]);
    screen.wait(&["✓ Done."]);
    assert_eq!(fs::read_to_string(folder.path().join("readings/notes.md")).unwrap(), "night 0\n");
    screen.keys(&["Enter", "Tab"]);
    screen.wait(&["Was ─ ringing", "/ringing/"]);
    screen.keys(&["?"]);
    screen.wait(&["a snapshot earlier", "bring the path back", "any key"]);
    screen.keys(&["x", "q"]);
    let text = screen.wait(&["status 0"]);
    assert!(!text.contains("Skellin  "), "the screen is given back:\n{text}");
    assert!(!text.contains("-echo"), "the terminal echoes again:\n{text}");
}

#[test]
fn a_small_terminal_shows_the_same() {
    let folder = world(true);
    let screen = Screen::start(80, 24, folder.path(), program());
    let text = screen.wait(&["Skellin", "readings", "3 of 3 snapshots", "/readings/"]);
    assert!(text.lines().all(|line| line.chars().count() <= 80));
    assert_eq!(text.lines().filter(|line| line.contains('┃')).count(), 2, "{text}");
    screen.tmux(&["resize-window", "-x", "160", "-y", "44"]);
    let deadline = Instant::now() + Duration::from_secs(20);
    while !screen.text().lines().any(|line| line.chars().count() > 100) {
        assert!(Instant::now() < deadline, "{}", screen.text());
    }
    screen.tmux(&["resize-window", "-x", "80", "-y", "24"]);
    let deadline = Instant::now() + Duration::from_secs(20);
    while screen.text().lines().any(|line| line.chars().count() > 80)
        || !screen.text().contains("q close")
    {
        assert!(Instant::now() < deadline, "{}", screen.text());
    }
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_passphrase_is_asked_for_and_a_wrong_one_changes_nothing() {
    let folder = world(false);
    let screen = Screen::start(120, 30, folder.path(), program());
    screen.wait(&["needs its passphrase"]);
    screen.type_text("gannets");
    let text = screen.wait(&["•••••••"]);
    assert!(!text.contains("gannets"));
    screen.keys(&["Enter"]);
    screen.wait(&["opens no slot of this store"]);
    screen.type_text("terns over the pier");
    screen.keys(&["Enter"]);
    screen.wait(&["3 of 3 snapshots", "/readings/"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn nothing_configured_and_a_store_that_is_away_say_what_to_do() {
    let empty = scratch();
    let screen = Screen::start(100, 30, empty.path(), program());
    screen.wait(&["There is no plan yet", "stores.toml", "skellin plan check"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
    let folder = world(true);
    fs::rename(folder.path().join("oak"), folder.path().join("unplugged")).unwrap();
    let screen = Screen::start(120, 30, folder.path(), program());
    screen.wait(&["✗", "the place is not there", "is the drive mounted?"]);
    fs::rename(folder.path().join("unplugged"), folder.path().join("oak")).unwrap();
    screen.keys(&["u"]);
    screen.wait(&["3 of 3 snapshots"]);
    screen.keys(&["C-c"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_signal_leaves_a_clean_terminal() {
    let folder = world(true);

    let command = format!("sh -c 'echo $$ > {}/pid; exec {}'", folder.path().display(), program());
    let screen = Screen::start(100, 30, folder.path(), &command);
    screen.wait(&["3 of 3 snapshots"]);
    let pid: i32 = fs::read_to_string(folder.path().join("pid")).unwrap().trim().parse().unwrap();
    rustix::process::kill_process(
        rustix::process::Pid::from_raw(pid).unwrap(),
        rustix::process::Signal::TERM,
    )
    .unwrap();
    let text = screen.wait(&["status 143"]);
    assert!(!text.contains("-echo") && !text.contains("Was ─"), "{text}");
}

#[test]
fn a_panic_leaves_a_clean_terminal() {
    let folder = world(true);
    let command = format!("SKELLIN_TEST_PANIC=1 {}", program());
    let screen = Screen::start(100, 30, folder.path(), &command);
    screen.wait(&["3 of 3 snapshots"]);
    screen.keys(&["F12"]);
    let text = screen.wait(&["status 101", "a panic asked for by a test"]);
    assert!(!text.contains("-echo") && !text.contains("Was ─"), "{text}");
}

#[test]
fn a_new_store_asks_for_its_passphrase_twice_without_echo() {
    let folder = scratch();
    write(
        &folder.path().join("config/stores.toml"),
        format!("[oak]\nplace = \"{}/oak\"\n", folder.path().display()),
    );
    let screen = Screen::start(100, 30, folder.path(), &format!("{} store create oak", program()));
    screen.wait(&["Passphrase for the new store oak"]);
    screen.type_text("kittiwakes");
    screen.keys(&["Enter"]);
    screen.wait(&["Once more"]);
    screen.type_text("kittiwake");
    screen.keys(&["Enter"]);
    let text = screen.wait(&["the two passphrases differ", "status 2"]);
    assert!(!text.contains("kittiwake"), "{text}");
    assert!(!folder.path().join("oak").exists());
    drop(screen);
    let screen = Screen::start(100, 30, folder.path(), &format!("{} store create oak", program()));
    for prompt in ["Passphrase for the new store oak", "Once more"] {
        screen.wait(&[prompt]);
        screen.type_text("kittiwakes");
        screen.keys(&["Enter"]);
    }
    let text = screen.wait(&["The store oak was created", "status 0"]);
    assert!(!text.contains("kittiwakes"));
    assert!(folder.path().join("oak/skellin-store").exists());
}
