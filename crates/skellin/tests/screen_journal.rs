//! The journal, what was missed and who is told, in a real terminal.

use crate::terminal;

use std::fs;

use terminal::{Screen, common::write, world};

fn program() -> &'static str {
    env!("CARGO_BIN_EXE_skellin")
}

#[test]
fn a_run_is_opened_step_by_step_and_leads_to_its_snapshot() {
    let folder = world(true);
    let path = |below: &str| folder.path().join(below);
    let plan = path("config/plans/readings.toml");
    let text = fs::read_to_string(&plan).unwrap();
    let around = "\n[[around]]\nenter = [\"sh\", \"-c\", \"echo six gauges flushed\"]\nleave = [\"sh\", \"-c\", \"echo started again; exit 3\"]\n[tell]\nfailure = [\"board\"]\n";
    write(&plan, format!("{text}{around}"));
    let board = path("board");
    let channel = format!(
        "[board]\ncommand = [\"sh\", \"-c\", \"echo $SKELLIN_SUBJECT >>{}\"]\n",
        board.display()
    );
    write(&path("config/channels.toml"), channel);
    write(&path("readings/notes.md"), "a fourth night\n");
    let screen = Screen::start(140, 40, folder.path(), program());
    screen.wait(&["─ Is ─ readings", "✓ 2 plans safe"]);
    screen.keys(&["r"]);
    screen.wait(&["exceptions"]);
    screen.keys(&["j"]);
    screen.wait(&["▲ exceptions", "run", "`leave` failed", "Enter open"]);
    screen.keys(&["Enter"]);
    // Who is told is carried beside it.
    screen.wait(&[
        "Steps",
        "reach     oak",
        "enter     sh -c echo six gauges flushed",
        "│ six gauges flushed",
        "read      the sources",
        "exit status 3",
        "store     oak",
        "━━",
        "something may still be stopped",
        "Enter show snapshot",
    ]);
    screen.keys(&["Enter"]);
    let text = screen.wait(&["─ Was ─ readings", "4 of 4"]);
    assert!(!text.contains("Steps"), "{text}");
    screen.keys(&["j"]);
    screen.wait(&["▲ exceptions"]);
    screen.keys(&["Enter"]);
    screen.wait(&["Notifications", "board", "failure", "sent "]);
    assert_eq!(fs::read_to_string(&board).unwrap(), "readings failed on hut\n");
    screen.keys(&["Escape", "f"]);
    screen.type_text("channel");
    screen.wait(&["channel board"]);
    screen.keys(&["Enter"]);
    screen.wait(&["Test of board", "✓ sent"]);
    screen.keys(&["Escape", "q"]);
    screen.wait(&["status 0"]);
    assert!(fs::read_to_string(&board).unwrap().contains("A trial from Skellin"));
}

#[test]
fn a_late_plan_stands_in_the_top_line_and_its_gap_on_the_ribbon() {
    let folder = world(true);
    let plan = folder.path().join("config/plans/readings.toml");
    let text = fs::read_to_string(&plan).unwrap();
    write(&plan, text.replace("every 4 days\"", "every 5 hours\"\nwindow = \"00:00-23:59\""));
    let screen = Screen::start(140, 40, folder.path(), program());
    screen.wait(&["1 of 2 plans safe", "◇ readings is late: run of", "missed", "◇┄"]);
    // What is to come, by whom it is started, and who is told.
    screen.keys(&["Right"]);
    screen.wait(&[
        "─ Will ─ readings",
        "Started by",
        "skellin due --run",
        "Window",
        "nobody; add [tell]",
    ]);
    screen.keys(&["n", "r"]);
    screen.wait(&["✓ 2 plans safe"]);
    screen.keys(&["q"]);
    screen.wait(&["status 0"]);
}
