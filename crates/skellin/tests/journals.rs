//! Journals that are damaged or cannot be used at all: what is due runs all the same, and it is said.

use crate::world;

use std::{
    fs,
    os::unix::fs::FileExt,
    time::{Duration, SystemTime},
};

use skellin_engine::{Beginning, Ending, Journal, Outcome, Work};
use world::{World, common::write};

const PAGE: u64 = 4096;

/// A plan that is due each time, and a channel that is a file.
fn station() -> World {
    let world = World::new();
    write(&world.path("ridge/gauge.csv"), b"1.8");
    let told = world.path("told").display().to_string();
    write(
        &world.path("config/channels.toml"),
        format!("[own]\ncommand = [\"sh\", \"-c\", \"echo \\\"$SKELLIN_SUBJECT\\\" >> {told}\"]\n"),
    );
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\"]\nstore = \"oak\"\n[schedule]\nrun = \"every 90 minutes\"\n[tell]\nfailure = [\"own\"]\n",
            world.path("ridge").display()
        ),
    );
    let file = world.path("config/plans/readings.toml");
    let then = SystemTime::now() - Duration::from_secs(86_400);
    fs::File::options().write(true).open(file).unwrap().set_modified(then).unwrap();
    world
}

/// Some months of runs every hour and a half.
fn months(world: &World) -> u64 {
    let journal = Journal::open(&world.path("state")).unwrap();
    let now = jiff::Timestamp::now().as_millisecond();
    for number in (2..200).rev() {
        let started = now - number * 90 * 60_000;
        let begun = journal.begin(&Beginning {
            work: Work::Run,
            plan: Some("readings"),
            store: "oak",
            machine: "hut",
            unattended: true,
            started,
        });
        let words =
            Some("as it was: nothing new, nothing gone, and all of it said here".to_owned());
        let ending = Ending {
            snapshot: Some(skellin_store::RunId([7; 16])),
            words,
            ..Ending::at(started + 900, Outcome::Done)
        };
        journal.finish(begun.unwrap(), &ending).unwrap();
    }
    drop(journal);
    fs::metadata(world.path("state/journal.sqlite")).unwrap().len() / PAGE
}

#[test]
fn a_damaged_page_stops_no_unattended_run_and_is_told() {
    let world = station();
    let pages = months(&world);
    assert!(pages >= 12, "{pages}");
    let journal = world.path("state/journal.sqlite");
    let whole = fs::read(&journal).unwrap();
    let mut mended = 0;
    for page in 0..pages {
        fs::remove_dir_all(world.path("state")).unwrap();
        write(&journal, &whole);
        let file = fs::File::options().write(true).open(&journal).unwrap();
        file.write_all_at(&[0; PAGE as usize], page * PAGE).unwrap();
        let output = world.output(&["due", "--run", "--json"]);
        let text = String::from_utf8(output.stdout).unwrap();
        assert_eq!(output.status.code(), Some(0), "page {page}: {text}");
        let report: serde_json::Value = serde_json::from_str(&text).unwrap();
        assert_eq!(report["runs"].as_array().unwrap().len(), 1, "page {page}: {text}");
        // Recorded: it is not due again, and can be looked at.
        let (status, again) = world.json(&["due", "--run"]);
        assert_eq!((status, again["runs"].as_array().unwrap().len()), (0, 0), "page {page}");
        let (status, entries) = world.json(&["journal", "readings", "--limit", "300"]);
        assert_eq!(status, 0, "page {page}");
        assert!(!entries["entries"].as_array().unwrap().is_empty(), "page {page}");
        if fs::exists(world.path("state/journal.damaged-1")).unwrap() {
            mended += 1;
            assert!(
                [&text, &entries.to_string()].iter().any(|text| text.contains("was damaged")),
                "page {page}: it is said"
            );
            world.done(&["due", "--run"]);
            let told = fs::read_to_string(world.path("told")).unwrap_or_default();
            assert_eq!(told.matches("was damaged").count(), 1, "page {page}: told once: {told}");
            let look = world.path("ridge").display().to_string();
            let (_, doctor) = world.run(&["doctor", "--look-in", &look]);
            assert!(doctor.contains("journal.damaged-1"), "{doctor}");
            fs::remove_file(world.path("told")).unwrap();
        }
    }
    assert!(mended >= pages / 2, "{mended} of {pages} pages are in use");
}

#[test]
fn a_journal_that_cannot_be_used_stops_no_run_and_json_says_so() {
    let world = station();
    fs::create_dir_all(world.path("state/journal.sqlite")).unwrap();
    let (status, report) = world.json(&["due", "--run"]);
    assert_eq!(status, 0, "{report}");
    assert_eq!(report["runs"].as_array().unwrap().len(), 1, "{report}");
    assert!(report["notes"][0].as_str().unwrap().contains("nothing is recorded"), "{report}");
    // The lock knows that it ran.
    let (_, again) = world.json(&["due", "--run"]);
    assert!(again["runs"].as_array().unwrap().is_empty(), "{again}");
    let (status, report) = world.json(&["run", "readings"]);
    assert_eq!(status, 0);
    assert!(report["notes"].to_string().contains("journal"), "{report}");
    // Who asks for the journal itself hears why there is none, and of no work.
    let (status, said) = world.fail(&["journal"]);
    assert_eq!(status, 1);
    assert!(said.contains("journal.sqlite") && !said.contains("the work goes on"), "{said}");
}
