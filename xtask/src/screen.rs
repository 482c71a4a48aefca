//! The application measured as somebody at a terminal has it: from the start of the process to the
//! end of its first frame, and from a key to the end of the frame that answers it, through a real
//! pseudo terminal. Frames end where the program says so (synchronized updates, mode 2026).

use std::{
    fs::{self, File},
    io::{Read, Write},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::Arc,
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, ensure};
use rustix::{
    pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt},
    termios::{Winsize, tcsetwinsize},
};
use skellin_engine::{Cancel, Event, MovedClock, RunRequest};
use skellin_place::{DirectoryPlace, Place};
use skellin_plan::parse_plan;
use skellin_store::{Cache, Creation, PassphraseCost, Store};

use crate::say;

const PLANS: usize = 20;
const SNAPSHOTS: i64 = 5000;
const ENTRIES: usize = 1_000_000;
const PASSPHRASE: &str = "a passphrase for measurements";
/// The end of a synchronized update.
const END: &[u8] = b"\x1b[?2026l";
/// The screen counts as at rest when no frame has come for so long.
const QUIET: Duration = Duration::from_millis(700);

/// Twenty plans with five thousand snapshots, one of them with a directory of a million entries.
pub(crate) fn world(medium: &Path) -> Result<PathBuf> {
    let folder = medium.join("screen");
    let huge = folder.join("huge/entries");
    fs::create_dir_all(&huge)?;
    for number in 0..ENTRIES {
        File::create(huge.join(format!("record-{number:07}")))?;
    }
    fs::create_dir_all(folder.join("small"))?;
    fs::write(folder.join("small/notes.md"), "two terns\n")?;
    let place = DirectoryPlace::prepare(folder.join("oak"), skellin_store::FOLDERS)?;
    let creation = Creation { cost: PassphraseCost::TRIVIAL, now: 0, ..Creation::default() };
    Store::create(&place, PASSPHRASE.as_bytes(), creation)?;
    let place: Arc<dyn Place> = Arc::new(place);
    let store = Arc::new(Store::open(place, PASSPHRASE.as_bytes(), Cache::None)?);
    fs::create_dir_all(folder.join("config/plans"))?;
    fs::write(folder.join("key"), PASSPHRASE)?;
    let private = std::os::unix::fs::PermissionsExt::from_mode(0o600);
    fs::set_permissions(folder.join("key"), private)?;
    fs::write(
        folder.join("config/stores.toml"),
        format!(
            "[oak]\nplace = \"{0}/oak\"\npassphrase = {{ file = \"{0}/key\" }}\n",
            folder.display()
        ),
    )?;
    let now = jiff::Timestamp::now().as_millisecond();
    let each = SNAPSHOTS / (PLANS as i64 - 1);
    for number in 0..PLANS {
        let (name, source, runs) = match number {
            0 => ("aa-huge".to_owned(), "huge", 2),
            _ => (
                format!("plan-{number:02}"),
                "small",
                each + i64::from(number == 1) * (SNAPSHOTS % each),
            ),
        };
        let text = format!(
            "sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\n[schedule]\nrun = \"daily at 21:40\"\n",
            folder.join(source).display()
        );
        fs::write(folder.join(format!("config/plans/{name}.toml")), &text)?;
        let nothing = |_: &str| None;
        let (plan, problems) = parse_plan(&name, "plan", &text, &nothing, ["oak"]);
        let plan = plan.with_context(|| format!("{problems:?}"))?;
        for run in 0..runs {
            let clock = MovedClock::at(now - (runs - run) * 86_400_000);
            let request = RunRequest {
                plan: &plan,
                configuration: &[],
                origin: None,
                source_hosts: &skellin_engine::SourceHosts::default(),
                machine: "hut",
                labels: &[],
                dry_run: false,
                paths: None,
                keep_out: &[],
                agree: &|_| true,
                around: &(),
                gentle: false,
                clock: &clock,
                cancel: &Cancel::new(),
                events: &|_: Event| {},
            };
            skellin_engine::run(&store, &request)?;
        }
    }
    Ok(folder)
}

/// The program in a pseudo terminal.
struct Screen {
    child: Child,
    keyboard: File,
    frames: std::sync::mpsc::Receiver<(Instant, Vec<u8>)>,
    begun: Instant,
}

impl Screen {
    fn start(program: &Path, folder: &Path) -> Result<Self> {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY)?;
        grantpt(&master)?;
        unlockpt(&master)?;
        let name = ptsname(&master, Vec::new())?;
        let slave = File::options().read(true).write(true).open(name.to_str()?)?;
        tcsetwinsize(&slave, Winsize { ws_row: 44, ws_col: 160, ws_xpixel: 0, ws_ypixel: 0 })?;
        let mut command = Command::new("setsid");
        command
            .args(["--ctty", "--wait"])
            .arg(program)
            .env("SKELLIN_CONFIG", folder.join("config"))
            .env("SKELLIN_STATE", folder.join("state"))
            .env("SKELLIN_CACHE", folder.join("cache"))
            .env("TERM", "xterm-256color")
            .stdin(Stdio::from(slave.try_clone()?))
            .stdout(Stdio::from(slave.try_clone()?))
            .stderr(Stdio::from(slave));
        let begun = Instant::now();
        let child = command.spawn()?;
        let mut output = File::from(master.try_clone()?);
        let (sender, frames) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let (mut frame, mut buffer) = (Vec::new(), [0; 65536]);
            while let Ok(length @ 1..) = output.read(&mut buffer) {
                let now = Instant::now();
                frame.extend_from_slice(&buffer[..length]);
                while let Some(at) = frame.windows(END.len()).position(|part| part == END) {
                    let rest = frame.split_off(at + END.len());
                    if sender.send((now, std::mem::replace(&mut frame, rest))).is_err() {
                        return;
                    }
                }
            }
        });
        Ok(Self { child, keyboard: File::from(master), frames, begun })
    }

    fn frame(&self) -> Result<(Instant, Vec<u8>)> {
        self.frames.recv_timeout(Duration::from_secs(60)).context("no frame came")
    }

    /// Waits until the screen is at rest; all that was drawn until then.
    fn rest(&self) -> Vec<u8> {
        let mut drawn = Vec::new();
        while let Ok((_, frame)) = self.frames.recv_timeout(QUIET) {
            drawn.extend(frame);
        }
        drawn
    }

    /// Time from a key to the end of the next frame.
    fn key(&mut self, key: &str) -> Result<Duration> {
        // Frames on their way belong to what came before.
        while self.frames.try_recv().is_ok() {}
        let pressed = Instant::now();
        self.keyboard.write_all(key.as_bytes())?;
        let (drawn, _) = self.frame()?;
        Ok(drawn.saturating_duration_since(pressed))
    }

    fn close(mut self) -> Result<()> {
        self.keyboard.write_all(b"q")?;
        ensure!(self.child.wait()?.success(), "the program did not close well");
        Ok(())
    }
}

fn milliseconds(time: Duration) -> String {
    format!("{:.1} ms", time.as_secs_f64() * 1e3)
}

/// The live source with a million entries: how it comes to the screen, and how keys are answered
/// while it is counted.
struct Live {
    first: Duration,
    keys: Vec<Duration>,
    counted: Duration,
}

fn live(program: &Path, folder: &Path) -> Result<Live> {
    let mut screen = Screen::start(program, folder)?;
    let holds = |frame: &[u8], text: &[u8]| frame.windows(text.len()).any(|part| part == text);
    // The source is listed, and counting has begun.
    while !holds(&screen.frame()?.1, b"/huge/") {}
    screen.key("\r")?;
    while !holds(&screen.frame()?.1, b"entries/") {}
    screen.key("\x1b[B")?;
    let opened = Instant::now();
    screen.keyboard.write_all(b"\r")?;
    let first = loop {
        let (drawn, frame) = screen.frame()?;
        if holds(&frame, b"record-") {
            break drawn.saturating_duration_since(opened);
        }
    };
    let mut keys = Vec::new();
    for _ in 0..40 {
        for key in ["\x1b[B", "\x1b[6~", "\x1b[A", "o", "c", "\x1b[5~", "\x1b[B", "m"] {
            keys.push(screen.key(key)?);
        }
    }
    screen.rest();
    let counted = screen.begun.elapsed().saturating_sub(QUIET);
    screen.close()?;
    keys.sort_unstable();
    Ok(Live { first, keys, counted })
}

/// Prints the rows.
pub(crate) fn rows(program: &Path, medium: &Path) -> Result<()> {
    say("making twenty plans, five thousand snapshots and a million entries");
    let folder = world(medium)?;
    let mut first = Vec::new();
    for _ in 0..7 {
        let screen = Screen::start(program, &folder)?;
        first.push(screen.frame()?.0.saturating_duration_since(screen.begun));
        screen.rest();
        screen.close()?;
    }
    first.sort_unstable();
    let mut screen = Screen::start(program, &folder)?;
    screen.rest();
    // The newest snapshot of the plan with the huge directory, which is opened.
    let mut times = Vec::new();
    for key in ["\x1b[D", "\r", "\x1b[B", "\r"] {
        times.push(screen.key(key)?);
        let drawn = screen.rest();
        if key == "\r" {
            ensure!(
                drawn.windows(7).any(|part| part == b"record-" || part == b"entries"),
                "the tree is shown"
            );
        }
    }
    // Through the tree, through time while it is being read, along the lanes, and by zoom.
    let round = [
        "\x1b[B",
        "\x1b[6~",
        "\x1b[6~",
        "\x1b[A",
        "\x1b[5~",
        "\x1b[D",
        "\x1b[B",
        "\x1b[6~",
        "\x1b[C",
        "\x1b[B",
        "+",
        "-",
        "\t",
        "\x1b[D",
        "\x1b[D",
        "\x1b[C",
        "\x1b[Z",
        "\x1b[B",
        "\x1b[6~",
        "-",
        "+",
        "\x1b[1;2D",
        "\x1b[C",
    ];
    for _ in 0..40 {
        for key in round {
            times.push(screen.key(key)?);
        }
    }
    screen.rest();
    screen.close()?;
    let live = live(program, &folder)?;
    times.sort_unstable();
    let at = |share: f64| times[((times.len() - 1) as f64 * share) as usize];
    say(format!(
        "{:<34}{:>16}{:>16}{:>8.2}",
        "first frame, median of 7",
        milliseconds(first[3]),
        "100.0 ms",
        first[3].as_secs_f64() / 0.1
    ));
    say(format!(
        "{:<34}{:>16}{:>16}{:>8.2}    median {}, largest {}, {} keys",
        "key to frame, 99th percentile",
        milliseconds(at(0.99)),
        "16.0 ms",
        at(0.99).as_secs_f64() / 0.016,
        milliseconds(at(0.5)),
        milliseconds(at(1.0)),
        times.len()
    ));
    let at = |share: f64| live.keys[((live.keys.len() - 1) as f64 * share) as usize];
    say(format!(
        "{:<34}{:>16}{:>16}{:>8.2}",
        "first of a million live entries",
        milliseconds(live.first),
        "500.0 ms",
        live.first.as_secs_f64() / 0.5
    ));
    say(format!(
        "{:<34}{:>16}{:>16}{:>8.2}    median {}, largest {}, {} keys; counted in {}",
        "key to frame while they are counted",
        milliseconds(at(0.99)),
        "16.0 ms",
        at(0.99).as_secs_f64() / 0.016,
        milliseconds(at(0.5)),
        milliseconds(at(1.0)),
        live.keys.len(),
        milliseconds(live.counted)
    ));
    fs::remove_dir_all(folder)?;
    Ok(())
}
