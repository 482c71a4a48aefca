//! The full-screen application: state, messages, update, view. Everything slow happens on the
//! worker's threads and comes back as a message.

mod acts;
mod ahead;
mod app;
mod arrange;
mod counting;
mod draw;
#[cfg(test)]
mod draw_world;
mod drawn;
mod filling;
mod health;
mod hits;
mod keys;
mod lanes;
mod lines;
mod model;
mod outlook;
mod overlay;
mod panels;
mod picture;
mod present;
mod prospect;
mod reports;
mod ribbon;
mod rows;
mod screens;
mod standing;
mod terminal;
mod theme;
mod tray;
mod tree;
mod treemap;
mod watch;
mod widgets;
mod window;
mod worker;

use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Select, Sender, TryRecvError, bounded, unbounded};
use ratatui::crossterm::event::{self, Event};
use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
};
use skellin_engine::{Configuration, EngineError};

use crate::exit::Exit;
use app::{App, Step};
use drawn::Drawn;
use terminal::Terminal;

/// The clock on the screen goes on after this time, also if nothing happens.
const MINUTE: Duration = Duration::from_secs(20);
/// While something is under way it goes on more often.
const SECOND: Duration = Duration::from_secs(1);
/// So many reports of the worker wait at most; whoever has more to tell waits too.
const REPORTS: usize = 64;
/// Messages are taken for this long before the next frame.
const FRAME: Duration = Duration::from_millis(8);

/// What the application hears of.
pub(crate) enum Message {
    /// Keys, mouse, size, pasted text.
    Input(Event),
    /// Others have changed something.
    Changed(watch::Changed),
    /// The process is asked to end.
    Signal(i32),
}

/// Opens the application on a machine of this name, and returns when it is closed.
pub(crate) fn open(configuration: &Configuration, machine: String) -> Result<Exit, EngineError> {
    let failed =
        |source| EngineError::Local { what: "use the terminal", path: "/dev/tty".into(), source };
    let (sender, messages) = unbounded();
    let (teller, reports) = bounded(REPORTS);
    let worker = worker::start(configuration.clone(), machine.clone(), move |report| {
        teller.send(report).is_ok()
    });
    let mut terminal = Terminal::open().map_err(failed)?;
    watch_input(sender.clone());
    let changes = sender.clone();
    watch::start(&configuration.folders, move |changed| {
        changes.send(Message::Changed(changed)).is_ok()
    });
    watch_signals(sender);
    let now = jiff::Timestamp::now().as_millisecond();
    let mut app = App::new(configuration, machine, now, worker);
    let signal = run(&mut terminal, &mut app, &messages, &reports).map_err(failed)?;
    drop(terminal);
    Ok(match signal {
        Some(number) => Exit::Signal(u8::try_from(number).unwrap_or(15)),
        None => Exit::Done,
    })
}

/// Draws, then takes the messages that wait, then draws again.
fn run(
    terminal: &mut Terminal,
    app: &mut App,
    messages: &Receiver<Message>,
    reports: &Receiver<worker::Report>,
) -> std::io::Result<Option<i32>> {
    let (mut signal, mut ticked) = (None, Instant::now());
    loop {
        let mut drawn = Drawn::default();
        terminal.draw(|frame| drawn = draw::frame(frame, app))?;
        app.model.was_drawn(drawn);
        let pause = if app.under_way().is_empty() { MINUTE } else { SECOND };
        let mut ready = Select::new();
        ready.recv(messages);
        ready.recv(reports);
        // Whether something came or the time is over shows below.
        let _ = ready.ready_timeout(pause.saturating_sub(ticked.elapsed()));
        let begun = Instant::now();
        if ticked.elapsed() >= pause {
            ticked = begun;
            app.tick(jiff::Timestamp::now().as_millisecond());
        }
        while begun.elapsed() < FRAME {
            // What a person does comes before what was found.
            let step = match messages.try_recv() {
                Ok(Message::Signal(number)) => {
                    signal = Some(number);
                    app.close_down()
                }
                Ok(Message::Input(event)) => app.input(event),
                Ok(Message::Changed(changed)) => {
                    app.changed(changed);
                    Step::GoOn
                }
                Err(TryRecvError::Disconnected) => return Ok(signal),
                Err(TryRecvError::Empty) => match reports.try_recv() {
                    Ok(report) => app.report(report),
                    Err(TryRecvError::Disconnected) => return Ok(signal),
                    Err(TryRecvError::Empty) => break,
                },
            };
            if step == Step::Close {
                return Ok(signal);
            }
        }
    }
}

fn watch_input(sender: Sender<Message>) {
    std::thread::spawn(move || {
        while let Ok(event) = event::read() {
            if sender.send(Message::Input(event)).is_err() {
                return;
            }
        }
    });
}

fn watch_signals(sender: Sender<Message>) {
    // Without handlers signals still end the process; the panic hook cleans up for those it can.
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    std::thread::spawn(move || {
        for signal in &mut signals {
            if sender.send(Message::Signal(signal)).is_err() {
                return;
            }
        }
    });
}
