//! The application in a real terminal, and a small world to open it in.

pub(crate) use crate::common;

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::atomic::{AtomicU32, Ordering},
    time::{Duration, Instant},
};

use common::{content, create_store, scratch, write};

/// A tmux server of our own, with one window; ended when dropped.
pub struct Screen {
    socket: String,
}

static NUMBER: AtomicU32 = AtomicU32::new(0);

impl Screen {
    pub fn start(columns: u16, rows: u16, folder: &Path, command: &str) -> Self {
        let number = NUMBER.fetch_add(1, Ordering::SeqCst);
        let socket = format!("skellin-test-{}-{number}", std::process::id());
        let screen = Self { socket };
        let script = format!(
            "export SKELLIN_CONFIG={0}/config SKELLIN_STATE={0}/state SKELLIN_CACHE={0}/cache SKELLIN_DRIVES={0}/drives HOME={0} PS1='shell> ' TERM=tmux-256color; {1}; echo status $?; stty -a | grep -o -- '-\\?echo ' ; exec cat",
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

    pub fn tmux(&self, arguments: &[&str]) -> String {
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

    pub fn text(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen is as it should be; `what` says so if it never is.
    pub fn until(&self, what: &str, is_right: impl Fn(&str) -> bool) -> String {
        self.until_within(Duration::from_secs(60), what, is_right)
    }

    fn until_within(
        &self,
        patience: Duration,
        what: &str,
        is_right: impl Fn(&str) -> bool,
    ) -> String {
        let deadline = Instant::now() + patience;
        let mut before = String::new();
        let mut right = 0;
        loop {
            let text = self.text();
            // A frame reaches the terminal in pieces, so that half of one may look right: it is
            // taken once it stands still, or has stayed right while something else moves.
            right = if is_right(&text) { right + 1 } else { 0 };
            if right > 0 && (text == before || right > 10) {
                return text;
            }
            before = text.clone();
            assert!(Instant::now() < deadline, "waited for {what}, and the screen is\n{text}");
            std::thread::sleep(Duration::from_millis(15));
        }
    }

    /// Waits until the screen shows all these texts.
    pub fn wait(&self, wanted: &[&str]) -> String {
        self.until(&format!("{wanted:?}"), |text| wanted.iter().all(|wanted| text.contains(wanted)))
    }

    /// As [`wait`](Self::wait), while six weeks of the station are made first, beside other tests.
    pub fn wait_for_the_station(&self, wanted: &[&str]) -> String {
        self.until_within(Duration::from_secs(300), &format!("{wanted:?}"), |text| {
            wanted.iter().all(|wanted| text.contains(wanted))
        })
    }

    pub fn keys(&self, keys: &[&str]) {
        for key in keys {
            let before = self.text();
            self.tmux(&["send-keys", key]);
            if *key == "Escape" {
                // What follows it at once would be taken for one key together with it.
                self.until("an answer to Escape", |text| text != before);
            }
        }
    }

    /// A click with the left button, counted from the left upper corner.
    pub fn click(&self, column: usize, row: usize) {
        let (column, row) = (column + 1, row + 1);
        self.type_text(&format!("\u{1b}[<0;{column};{row}M"));
        self.type_text(&format!("\u{1b}[<0;{column};{row}m"));
    }

    /// Presses a key until the screen shows something, waiting for an answer to each.
    pub fn press_until(&self, key: &str, wanted: &str) -> String {
        for _ in 0..60 {
            let before = self.text();
            if before.contains(wanted) {
                return before;
            }
            self.keys(&[key]);
            self.until("an answer to the key", |text| {
                text != before && !text.contains("reading …")
            });
        }
        panic!("{key} never led to {wanted}:\n{}", self.text());
    }

    /// Waits until what is typed is not shown; a prompt stands there a moment before that.
    pub fn wait_for_silence(&self) {
        let terminal = self.tmux(&["display-message", "-p", "#{pane_tty}"]);
        let deadline = Instant::now() + Duration::from_secs(20);
        loop {
            let told = Command::new("stty").args(["-a", "-F", terminal.trim()]).output().unwrap();
            if String::from_utf8_lossy(&told.stdout).contains(" -echo ") {
                return;
            }
            assert!(Instant::now() < deadline, "what is typed is shown");
            std::thread::sleep(Duration::from_millis(15));
        }
    }

    pub fn type_text(&self, text: &str) {
        self.tmux(&["send-keys", "-l", "--", text]);
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let _ = Command::new("tmux").args(["-L", &self.socket, "kill-server"]).output();
    }
}

/// A store, two plans, three nights.
pub fn world(passphrase_in_config: bool) -> tempfile::TempDir {
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
            format!(
                "sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\n[schedule]\nrun = \"every 4 days\"\n",
                path(plan).display()
            ),
        );
    }
    let store: std::sync::Arc<dyn skellin_place::Place> = std::sync::Arc::new(place);
    let now = jiff::Timestamp::now().as_millisecond();
    // Something looks for what is due, as cron would.
    skellin_engine::Journal::open(&path("state")).unwrap().note_look(now).unwrap();
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
