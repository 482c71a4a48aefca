//! The full-screen application, driven in a real terminal.

use crate::terminal;

use std::{fs, process::Command, time::Duration};

use terminal::{
    Screen,
    common::{content, scratch, write},
    world,
};

fn program() -> &'static str {
    env!("CARGO_BIN_EXE_skellin")
}

/// The station with its six weeks, built by the program itself.
fn station() -> tempfile::TempDir {
    let folder = scratch();
    let built = Command::new(program())
        .args(["demo", "--build-only", "--quiet", "--dir"])
        .arg(folder.path())
        .status()
        .unwrap();
    assert!(built.success());
    folder
}

/// The number that stands before some words.
fn number_before(text: &str, words: &str) -> usize {
    let end = text.find(words).unwrap_or_else(|| panic!("no {words:?} in\n{text}"));
    let digits = text[..end].rsplit(|c: char| !c.is_ascii_digit()).next().unwrap();
    digits.parse().unwrap_or_else(|_| panic!("no number before {words:?} in\n{text}"))
}

/// Which of how many snapshots the line under the ribbon speaks of.
fn standing(text: &str) -> (usize, usize) {
    let line = text.lines().find(|line| line.contains("─ Was ─")).unwrap();
    let part = line.split(" ─ ").find(|part| part.contains(" of ")).unwrap();
    let (nth, all) = part.split_once(" of ").unwrap();
    (nth.trim().parse().unwrap(), all.trim().parse().unwrap())
}

/// From opening to the file that is there again: twelve keys at most, by somebody who knows part of its name
/// and nothing else.
#[test]
fn the_deleted_register_is_back_within_twelve_keys() {
    let folder = station();
    let register = folder.path().join("srv/ringing/register.csv");
    let screen = Screen::start(80, 24, folder.path(), program());
    screen.wait(&["of 3 plans safe", "─ Is ─ gateway"]);
    let keys = ["/", "r", "e", "g", "i", "Enter", "b", "Enter", "Enter"];
    assert!(keys.len() <= 12);
    screen.keys(&keys[..5]);
    screen.wait(&["ringing", "register.csv", "gone since", "1 path in"]);
    screen.keys(&keys[5..6]);
    screen.wait(&["─ Was ─ ringing", "▾", "register.csv"]);
    screen.keys(&keys[6..7]);
    screen.wait(&["Destination", "original location"]);
    screen.keys(&keys[7..8]);
    screen.wait(&["Dry run; nothing was written yet", "1 path"]);
    assert!(!register.exists());
    screen.keys(&keys[8..]);
    screen.wait(&["✓ Done."]);
    assert!(fs::read_to_string(&register).unwrap().lines().count() > 10);
    // What was deleted, of all plans; a whole directory is one line.
    screen.keys(&["Enter", "/", "Tab"]);
    screen.wait(&["Deleted, latest first", "sketches/", "gone since", "2 paths in"]);
    screen.keys(&["Escape"]);
}

/// Three versions of one file, gathered on the way and restored together; then what differs from now.
#[test]
fn three_moments_on_the_tray_and_a_comparison() {
    let folder = station();
    let ringing = folder.path().join("srv/ringing");
    let versions = || {
        let names = fs::read_dir(&ringing).unwrap().map(|entry| entry.unwrap().file_name());
        names.filter(|name| name.to_string_lossy().starts_with("register.2")).count()
    };
    let screen = Screen::start(80, 24, folder.path(), program());
    screen.wait(&["of 3 plans safe", "─ Is ─ gateway"]);
    screen.keys(&["T"]);
    screen.wait(&["Nothing lies on the tray", "t puts the selected path on it"]);
    screen.keys(&["Escape", "/", "r", "e", "g", "i"]);
    screen.wait(&["register.csv", "gone since"]);
    screen.keys(&["Enter"]);
    screen.wait(&["─ Was ─ ringing", "register.csv"]);
    screen.keys(&["t"]);
    screen.wait(&["1 path on the tray"]);
    for count in ["2 paths on the tray", "3 paths on the tray"] {
        screen.keys(&["v", "t"]);
        screen.wait(&[count]);
    }
    screen.keys(&["T"]);
    screen.wait(&["Tray: 3 paths from 3 snapshots", "original location"]);
    screen.keys(&["Enter"]);
    screen.wait(&["Dry run; nothing was written yet", "3 paths", "to restore"]);
    assert_eq!(versions(), 0);
    screen.keys(&["Enter"]);
    screen.wait(&["✓ Done."]);
    assert_eq!(versions(), 3, "each with its time in its name");
    screen.keys(&["Enter", "c"]);
    // The register itself is not there now: all of it is gone.
    screen.wait(&["Compare", "register.csv", "→ now", "not there"]);
    screen.keys(&["Escape"]);
    screen.wait(&["─ Was ─ ringing", "t tray"]);
    screen.keys(&["BSpace", "c"]);
    screen.wait(&["Compare", "srv/ringing", "→ now", "new", "register.2026"]);
    screen.keys(&["Tab"]);
    screen.wait(&["all of ringing"]);
    screen.press_until("Left", "changed, +");
    screen.keys(&["Home"]);
    screen.press_until("Down", "~ ");
    screen.keys(&["Escape"]);
}

#[test]
fn the_deleted_register_is_found_and_brought_back() {
    let folder = station();
    let register = folder.path().join("srv/ringing/register.csv");
    assert!(!register.exists(), "it was deleted by mistake");
    let screen = Screen::start(160, 44, folder.path(), program());
    // Every kind of mark stands on the ribbon.
    screen.wait(&[
        "of 3 plans safe",
        "nothing starts",
        "readings",
        "ringing",
        "─ Is ─ gateway",
        "now",
    ]);
    screen.wait(&["●", "▲", "✕", "◐", "◇", "○", "┃"]);
    screen.keys(&["Tab", "Tab", "Left"]);
    // How many snapshots there are goes by the day of the week the station was left on.
    let (last, all) = standing(&screen.wait(&["─ Was ─ ringing", "srv/ringing/"]));
    assert!(last == all && all > 20, "{last} of {all}");
    screen.keys(&["Enter"]);
    screen.wait(&["scans/", "drawings/"]);
    // Back in time until it is there; at first as a path that is gone.
    screen.press_until("Left", "register.csv");
    screen.wait(&["gone", "register.csv"]);
    screen.press_until("Down", "ringing/register.csv");
    let text = screen.wait(&["versions; gone since", "◆"]);
    assert!(number_before(&text, " versions; gone since") > 15, "{text}");
    // With the mouse to the last mark before the cursor that has it.
    let text = screen.text();
    let row = text.lines().position(|line| line.contains("▌ ringing")).unwrap();
    let strip = text.lines().nth(row + 1).unwrap().chars().collect::<Vec<_>>();
    let column = strip.iter().rposition(|c| *c == '◆').unwrap();
    screen.click(column, row);
    let had = |nth: usize| format!("─ {nth} of {all}");
    let (gone, _) = standing(&text);
    let text = screen.wait(&[&had(gone - 1), "▸ "]);
    assert!(
        text.lines().any(|line| line.contains("register.csv") && line.contains("changed")),
        "{text}"
    );
    screen.keys(&["v"]);
    screen.wait(&[&had(gone - 2)]);
    // Typed in one go, while the tree of the later version is still to come.
    screen.keys(&["V", "l"]);
    screen.wait(&["register.csv  as of", "ring 41000", "adult", "lines"]);
    screen.keys(&["End"]);
    let text = screen.until("the last line", |text| {
        text.contains(" lines") && {
            let lines = number_before(text, " lines");
            text.contains(&format!("{lines} of {lines} lines"))
        }
    });
    let lines = number_before(&text, " lines");
    let last = text.lines().rfind(|line| line.contains("adult")).unwrap().to_owned();
    screen.keys(&["Escape", "b"]);
    screen.wait(&["Restore", "Destination", "original location"]);
    screen.keys(&["Enter"]);
    screen.wait(&["Dry run; nothing was written yet", "1 path"]);
    assert!(!register.exists());
    screen.keys(&["Enter"]);
    screen.wait(&["✓ Done."]);
    let back = fs::read_to_string(&register).unwrap();
    assert_eq!(back.lines().count(), lines);
    // A table is shown with its cells aligned.
    for cell in back.lines().last().unwrap().split(", ") {
        assert!(last.contains(cell), "{cell}: {last}");
    }
    let age = fs::metadata(&register).unwrap().modified().unwrap().elapsed().unwrap();
    assert!(age > Duration::from_secs(3 * 86_400), "it has its time again");
    // Over a file that somebody has begun anew, which is kept under another name.
    fs::write(&register, "begun anew\n").unwrap();
    screen.keys(&["Enter", "b"]);
    screen.wait(&["Destination"]);
    screen.keys(&["Tab", "Space", "Space", "Enter"]);
    screen.wait(&["1 path would be renamed", "exists, ", " newer: renamed"]);
    screen.keys(&["Enter"]);
    screen.wait(&["✓ Done.", "1 path renamed"]);
    let names = fs::read_dir(register.parent().unwrap()).unwrap();
    let kept = names.filter(|entry| {
        entry.as_ref().unwrap().file_name().to_string_lossy().starts_with("register.csv.kept-")
    });
    assert_eq!(kept.count(), 1);
    screen.keys(&["Enter", "j"]);
    screen.wait(&["─ Journal ─", "restore", "1 path restored"]);
    screen.press_until("PageDown", "✕ failed");
    screen.press_until("PageDown", "▲ exceptions");
    screen.press_until("PageDown", "◐ interrupted");
    screen.keys(&["p"]);
    screen.wait(&["─ Proof ─", "restored"]);
    screen.keys(&["s"]);
    screen.wait(&["─ Stores ─ 1 of 3 stores reachable", "✓ here"]);
    screen.keys(&["Escape", "?"]);
    screen.wait(&["previous snapshot or run", "restore this path", "interrupted run"]);
    screen.keys(&["Escape", "q"]);
    let text = screen.wait(&["status 0"]);
    assert!(!text.contains("Skellin  "), "the screen is given back:\n{text}");
    assert!(!text.contains("-echo"), "the terminal echoes again:\n{text}");
}

#[test]
fn a_run_is_started_and_its_mark_appears() {
    let folder = world(true);
    let screen = Screen::start(120, 30, folder.path(), program());
    screen.wait(&["─ Is ─ readings", "d dry run", "✓ 2 plans safe"]);
    write(&folder.path().join("readings/notes.md"), "a new night\n");
    // The source as it is: the edited path shows, and why it is included.
    screen.keys(&["Enter"]);
    screen.wait(&["2026/", "notes.md"]);
    screen.keys(&["Down", "Down", "y"]);
    screen.wait(&["Why: ", "notes.md: included", "no rule matches"]);
    // The review: what would move, and what it would take; everything else is hidden.
    screen.keys(&["Escape", "d"]);
    let review = screen.wait(&[
        "Dry run",
        "nothing was written",
        "1 changed, 12 B",
        "0 gone",
        "to store",
        "changes only",
        " ~     notes.md",
    ]);
    assert!(!review.contains("2026/"), "{review}");
    screen.keys(&["c", "c", "c"]);
    screen.wait(&["changed only", " ~     notes.md"]);
    screen.keys(&["r"]);
    screen.wait(&["✓ Done in"]);
    screen.keys(&["Left"]);
    screen.wait(&["─ Was ─ readings", "4 of 4"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn names_that_speak_to_terminals_are_shown_harmlessly() {
    use std::os::unix::ffi::OsStrExt;
    let folder = world(true);
    let names: [&[u8]; 3] =
        [b"evil\x1b]0;taken over\x07\x1b[2J\x1b[31mname", b"two\nlines", b"no-utf8-\xff\x9b2J"];
    for name in names {
        write(&folder.path().join("readings").join(std::ffi::OsStr::from_bytes(name)), "x");
    }
    let screen = Screen::start(160, 40, folder.path(), program());
    screen.wait(&["─ Is ─ readings", "✓ 2 plans safe"]);
    screen.keys(&["Enter"]);
    screen.wait(&["evil\\u{1b}]0;taken over\\u{7}", "two\\nlines", "no-utf8-"]);
    // The map draws them too, then the review and the run's exceptions.
    screen.keys(&["m", "m", "d"]);
    screen.wait(&["nothing was written", "3 new", "evil", "two\\nlines"]);
    let title = screen.tmux(&["display-message", "-p", "#{pane_title}"]);
    assert!(!title.contains("taken over"), "{title}");
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_rule_is_written_where_its_effect_is_seen_and_taken_back() {
    let folder = world(true);
    write(&folder.path().join("readings/tiles/a.bin"), content(2, 300_000));
    let plan = folder.path().join("config/plans/readings.toml");
    let before = format!(
        "# the ridge\nrules = '''\nskip *~   # of editors\n'''\n{}",
        fs::read_to_string(&plan).unwrap()
    );
    write(&plan, &before);
    let screen = Screen::start(120, 36, folder.path(), program());
    screen.wait(&["─ Is ─ readings", "/readings/", "✓ 2 plans safe"]);
    screen.keys(&["Enter"]);
    screen.wait(&["notes.md", "tiles/", "3 files, 305 KiB included"]);
    // The largest first.
    screen.keys(&["o"]);
    let sorted = screen.wait(&["largest first"]);
    assert!(sorted.find("tiles/") < sorted.find("notes.md"), "{sorted}");
    screen.keys(&["o", "o"]);
    screen.keys(&["Down", "Down", "Down", "w"]);
    screen.wait(&[
        "‹ exclude ›",
        "this path only",
        "skip ./tiles/",
        "3 files, 305 KiB  →  2 files, 12 KiB",
        "−293 KiB",
    ]);
    screen.keys(&["Down"]);
    screen.wait(&["every tiles", "skip tiles/", "−293 KiB"]);
    assert_eq!(fs::read_to_string(&plan).unwrap(), before, "nothing is written yet");
    screen.keys(&["Enter"]);
    // The total falls, and the verdict stands beside the directory.
    screen.wait(&["2 files, 12 KiB included", "1 excluded, 293 KiB", "excluded: line", "z undo"]);
    let after = fs::read_to_string(&plan).unwrap();
    assert_eq!(after, before.replace("of editors\n", "of editors\nskip tiles/\n"));
    screen.keys(&["y"]);
    screen.wait(&["tiles: excluded", "decided by  skip tiles/"]);
    screen.keys(&["Escape", "z"]);
    screen.wait(&["3 files, 305 KiB included"]);
    assert_eq!(fs::read_to_string(&plan).unwrap(), before);
    // What somebody else has changed meanwhile is not written over.
    screen.keys(&["w"]);
    screen.wait(&["−293 KiB"]);
    write(&plan, format!("{before}# mine\n"));
    screen.keys(&["Enter"]);
    screen.wait(&["was changed by somebody else in the meantime"]);
    assert_eq!(fs::read_to_string(&plan).unwrap(), format!("{before}# mine\n"));
    screen.keys(&["Escape", "q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_run_is_cancelled_and_closing_asks_first() {
    let folder = world(true);
    // Enough to compress hard for a while.
    write(&folder.path().join("readings/huge.csv"), content(1, 400 << 20));
    let plan = folder.path().join("config/plans/readings.toml");
    let text = fs::read_to_string(&plan).unwrap();
    write(&plan, format!("compress = \"high\"\n{text}"));
    let screen = Screen::start(120, 30, folder.path(), program());
    screen.wait(&["─ Is ─ readings", "r run", "✓ 2 plans safe"]);
    screen.keys(&["r"]);
    screen.wait(&["Run running", "huge.csv", "MiB/s"]);
    screen.keys(&["q"]);
    screen.wait(&["Run of readings is still running", "s stop and close"]);
    screen.keys(&["Escape", "x"]);
    screen.wait(&["Stopped, no snapshot", "◐", "the last run was interrupted"]);
    screen.keys(&["r"]);
    screen.wait(&["Run running", "huge.csv"]);
    screen.keys(&["q"]);
    screen.wait(&["s stop and close"]);
    screen.keys(&["s"]);
    screen.wait(&["status 0"]);
    let mut journal = Command::new(program());
    for (variable, below) in
        [("SKELLIN_CONFIG", "config"), ("SKELLIN_STATE", "state"), ("SKELLIN_CACHE", "cache")]
    {
        journal.env(variable, folder.path().join(below));
    }
    let output = journal.args(["journal", "readings"]).output().unwrap();
    let said = String::from_utf8(output.stdout).unwrap();
    assert_eq!(said.matches("interrupted").count(), 2, "{said}");
}

#[test]
fn a_plan_is_made_from_nothing_and_run() {
    let folder = scratch();
    write(&folder.path().join("records/2026/gauge.csv"), content(1, 9000));
    write(&folder.path().join("records/notes.md"), "two terns\n");
    let screen = Screen::start(120, 40, folder.path(), program());
    screen.wait(&["There is no plan yet", "a makes one, step by step"]);
    screen.keys(&["a"]);
    screen.wait(&["sources", "records/"]);
    screen.keys(&["/"]);
    screen.type_text("rec");
    screen.wait(&["/rec▏   → records/"]);
    screen.keys(&["Right", "Enter"]);
    screen.wait(&["[x] records/", "Selected: 1 path"]);
    screen.keys(&["Tab"]);
    screen.wait(&["a new store", "enter a name for the store"]);
    screen.keys(&["Down"]);
    screen.type_text("oak");
    screen.keys(&["Down"]);
    screen.type_text(&format!("{}/oak", folder.path().display()));
    screen.keys(&["Down"]);
    screen.type_text("terns over the pier");
    screen.keys(&["Down"]);
    screen.type_text("terns over the pier");
    let text = screen.wait(&["this step is complete"]);
    assert!(!text.contains("terns over"), "{text}");
    screen.keys(&["Tab"]);
    screen.wait(&["[ ] caches, temporary", "nothing here", "Selected paths    2 files"]);
    screen.keys(&["Up", "Up", "Up", "Up"]);
    screen.keys(&["Down", "Down", "Down", "Down"]);
    screen.type_text("skip *.md");
    screen.keys(&["Enter"]);
    screen.wait(&["[x] your rule", "1 file, 10 B", "With these rules  1 file"]);
    screen.keys(&["Tab"]);
    screen.wait(&["daily at 21:40", "every day at 21:40", "snapshots", "mirror"]);
    screen.keys(&["Tab"]);
    screen.wait(&["no mistakes", "stores.toml, appended", "plans/records.toml", "keys/oak.key"]);
    assert!(!folder.path().join("config").exists() && !folder.path().join("oak").exists());
    screen.keys(&["d"]);
    screen.wait(&["skip *.md", "dry run: 1 file would be stored"]);
    screen.keys(&["Enter"]);
    screen.wait(&["─ Is ─ records", "has no snapshot yet", "r run", "/records/"]);
    screen.keys(&["r"]);
    screen.wait(&["✓ Done in", "0 of 1 plan safe"]);
    let key = fs::metadata(folder.path().join("config/keys/oak.key")).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&key) & 0o777, 0o600);
    screen.keys(&["Left"]);
    screen.wait(&["─ Was ─ records", "1 of 1", "/records/"]);
    let text = screen.press_until("Enter", "2026/");
    assert!(!text.contains("notes.md"), "{text}");
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_terminal_may_shrink_and_grow() {
    let folder = world(true);
    let screen = Screen::start(160, 44, folder.path(), program());
    screen.wait(&["✓ 2 plans safe", "Stores  Journal  Proof"]);
    screen.keys(&["Left"]);
    screen.wait(&["3 of 3", "/readings/"]);
    for (columns, rows) in [("80", "24"), ("160", "44"), ("20", "6"), ("80", "24")] {
        screen.tmux(&["resize-window", "-x", columns, "-y", rows]);
        let (width, height): (usize, usize) = (columns.parse().unwrap(), rows.parse().unwrap());
        screen.until(&format!("{columns}x{rows}"), |text| {
            let fits = text.lines().all(|line| line.chars().count() <= width);
            let hints = text.lines().nth(height - 1);
            let hints = hints.is_some_and(|line| line.contains("quit") || width < 30);
            fits && hints && text.contains("Skellin")
        });
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
    screen.wait(&["Wrong passphrase"]);
    screen.type_text("terns over the pier");
    screen.keys(&["Enter"]);
    screen.wait(&["✓ 2 plans safe"]);
    screen.keys(&["Left"]);
    screen.wait(&["3 of 3", "/readings/"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn what_others_change_appears_by_itself() {
    let folder = world(true);
    let screen = Screen::start(140, 40, folder.path(), program());
    screen.wait(&["─ Is ─ readings", "✓ 2 plans safe"]);
    // A plan file that somebody writes, and a run that something else starts.
    let plan = fs::read_to_string(folder.path().join("config/plans/readings.toml")).unwrap();
    write(&folder.path().join("config/plans/levels.toml"), plan.replace("readings\"", "ringing\""));
    screen.wait(&["levels", "2 of 3 plans safe", "levels has no snapshot yet"]);
    let ran = Command::new(program())
        .args(["run", "levels", "--quiet"])
        .env("SKELLIN_CONFIG", folder.path().join("config"))
        .env("SKELLIN_STATE", folder.path().join("state"))
        .env("SKELLIN_CACHE", folder.path().join("cache"))
        .status()
        .unwrap();
    assert!(ran.success());
    screen.wait(&["✓ 3 plans safe", "─ Is ─ readings"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_store_that_is_away_says_what_to_do() {
    let folder = world(true);
    fs::rename(folder.path().join("oak"), folder.path().join("unplugged")).unwrap();
    let screen = Screen::start(120, 30, folder.path(), program());
    screen.wait(&[
        "✕",
        "the place does not exist",
        "whether its drive is mounted",
        "0 of 2 plans safe",
    ]);
    fs::rename(folder.path().join("unplugged"), folder.path().join("oak")).unwrap();
    screen.keys(&["u"]);
    screen.wait(&["✓ 2 plans safe"]);
    screen.keys(&["C-c"]);
    screen.wait(&["status 0"]);
}

#[test]
fn a_signal_leaves_a_clean_terminal() {
    let folder = world(true);
    let command = format!("sh -c 'echo $$ > {}/pid; exec {}'", folder.path().display(), program());
    let screen = Screen::start(100, 30, folder.path(), &command);
    screen.wait(&["✓ 2 plans safe"]);
    let pid: i32 = fs::read_to_string(folder.path().join("pid")).unwrap().trim().parse().unwrap();
    rustix::process::kill_process(
        rustix::process::Pid::from_raw(pid).unwrap(),
        rustix::process::Signal::TERM,
    )
    .unwrap();
    let text = screen.wait(&["status 143"]);
    assert!(!text.contains("-echo") && !text.contains("Is ─"), "{text}");
}

#[test]
fn a_panic_leaves_a_clean_terminal() {
    let folder = world(true);
    // Rows for the whole of what a panic says: nothing may lie over its beginning.
    let command = format!("SKELLIN_TEST_PANIC=1 {}", program());
    let screen = Screen::start(100, 70, folder.path(), &command);
    screen.wait(&["✓ 2 plans safe"]);
    screen.keys(&["F12"]);
    let text = screen.wait(&["status 101", "panicked at", "a panic asked for by a test"]);
    assert!(!text.contains("-echo") && !text.contains("Is ─"), "{text}");
}

#[test]
fn a_new_store_asks_for_its_passphrase_twice_without_echo() {
    let folder = scratch();
    write(
        &folder.path().join("config/stores.toml"),
        format!("[oak]\nplace = \"{}/oak\"\n", folder.path().display()),
    );
    let screen = Screen::start(100, 30, folder.path(), &format!("{} store create oak", program()));
    screen.wait(&["Passphrase for new store oak"]);
    screen.wait_for_silence();
    screen.type_text("kittiwakes");
    screen.keys(&["Enter"]);
    screen.wait(&["Repeat"]);
    screen.wait_for_silence();
    screen.type_text("kittiwake");
    screen.keys(&["Enter"]);
    let text = screen.wait(&["the two passphrases differ", "status 2"]);
    assert!(!text.contains("kittiwake"), "{text}");
    assert!(!folder.path().join("oak").exists());
    drop(screen);
    let screen = Screen::start(100, 30, folder.path(), &format!("{} store create oak", program()));
    for prompt in ["Passphrase for new store oak", "Repeat"] {
        screen.wait(&[prompt]);
        screen.wait_for_silence();
        screen.type_text("kittiwakes");
        screen.keys(&["Enter"]);
    }
    let text = screen.wait(&["Store oak created", "status 0"]);
    assert!(!text.contains("kittiwakes"));
    assert!(folder.path().join("oak/skellin-store").exists());
}

#[test]
fn retention_is_tried_saved_and_undone_beside_the_fill_of_the_stores() {
    let folder = station();
    let plan = folder.path().join("config/plans/ringing.toml");
    let text = fs::read_to_string(&plan).unwrap();
    let noted = text.replace("retain  =", "# as agreed in the hut\nretain  =");
    fs::write(&plan, &noted).unwrap();
    let demo = format!("{} demo --dir {}", program(), folder.path().display());
    let screen = Screen::start(160, 44, folder.path(), &demo);
    screen.wait_for_the_station(&["3 plans safe", "─ Is ─ gateway"]);
    screen.keys(&["Tab", "Tab", "Right", ".", ".", ".", ".", ".", ".", "."]);
    // The day to come: what stays, how full, what it costs, what brings the bytes.
    let text = screen.wait(&[
        "─ Will ─ ringing",
        "of today's",
        "one a month for 20 months",
        "measured",
        "not within 3 years",
        "Costs, EUR",
        "standard",
        "cold",
        "New bytes of the last 15 runs",
        "srv/ringing",
    ]);
    assert!(text.contains(" days)") && text.contains("(8 of 10 cases)"), "{text}");
    assert!(ribbon(&text).contains('◌'), "{text}");
    // Less is retained: the ribbon and the numbers move, and what would go is named.
    screen.keys(&["w"]);
    screen.wait(&["Retention of ringing in oak", "as in the plan"]);
    let before = ribbon(&screen.text());
    screen.keys(&["x"]);
    let text = screen.wait(&["tried, not saved", "now would expire:", "→"]);
    assert_ne!(ribbon(&text), before);
    assert_eq!(fs::read_to_string(&plan).unwrap(), noted, "nothing is saved yet");
    screen.keys(&["s"]);
    screen.wait(&["─ Will ─ ringing", "one a month for 20 months  ·  at least 4", "undo"]);
    let saved = noted.replace("\"one a day for 3 weeks\", ", "");
    assert_eq!(fs::read_to_string(&plan).unwrap(), saved, "all else stays, comments too");
    screen.keys(&["z"]);
    screen.wait(&["one a day for 3 weeks"]);
    assert_eq!(fs::read_to_string(&plan).unwrap(), noted);
    // Each snapshot with its reasons.
    screen.keys(&["y"]);
    screen.wait(&["Why snapshots stay until", "the newest snapshot never expires", "it is older"]);
    // A pin of the oldest one, and what that changes.
    screen.keys(&["Escape", "Home", "k"]);
    screen.wait(&["─ Was ─ ringing", "─ pinned"]);
    screen.keys(&["n", "Right", ".", ".", "y", "PageDown", "PageDown", "PageDown", "PageDown"]);
    screen.wait(&["stays    pinned"]);
    screen.keys(&["Escape", "q"]);
    screen.wait(&["status 0"]);
}

/// The lanes of the ribbon.
fn ribbon(text: &str) -> String {
    text.lines().skip(2).take(3).collect::<Vec<_>>().join("\n")
}

#[test]
fn on_a_small_terminal_the_stores_stand_in_the_plans_place() {
    let folder = station();
    let command = format!("COLORFGBG='0;15' {}", program());
    let screen = Screen::start(80, 24, folder.path(), &command);
    screen.wait(&["─ Is ─ gateway"]);
    screen.keys(&["Tab", "Tab", "Right"]);
    screen.wait(&["─ Will ─ ringing", "Next 14 days"]);
    screen.keys(&["m"]);
    let text = screen.wait(&[
        "Growth",
        "not within 3 years",
        "✕",
        "New bytes of the last 15 runs",
        "srv/ringing",
    ]);
    assert!(!text.contains("Schedule"), "{text}");
    screen.keys(&["w"]);
    screen.wait(&["Retention of ringing in oak", "s save", "Esc leave"]);
    screen.keys(&["Escape", "m"]);
    screen.wait(&["Schedule"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}
