//! The full-screen application: state, messages, update, view. Everything slow happens on the
//! worker's thread and comes back as a message.

mod dialog;
mod draw;
mod keys;
mod ribbon;
mod scale;
mod state;
mod terminal;
mod theme;
mod tree;
mod worker;

use crossbeam_channel::{Receiver, Sender, unbounded};
use ratatui::crossterm::event::{self, Event, KeyEventKind};
use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
};
use skellin_engine::{Configuration, EngineError};

use crate::exit::Exit;
use state::{App, Step};
use terminal::Terminal;

/// What the application hears of.
pub(crate) enum Message {
    /// Keys, size, pasted text.
    Input(Event),
    /// Something the worker has done.
    Work(worker::Report),
    /// The process is asked to end.
    Signal(i32),
}

/// Opens the application, and returns when it is closed.
pub(crate) fn open(configuration: Configuration) -> Result<Exit, EngineError> {
    let failed =
        |source| EngineError::Local { what: "use the terminal", path: "/dev/tty".into(), source };
    let (sender, messages) = unbounded();
    let reports = sender.clone();
    let worker = worker::start(configuration.clone(), move |report| {
        reports.send(Message::Work(report)).is_ok()
    });
    let mut terminal = Terminal::open().map_err(failed)?;
    watch_input(sender.clone());
    watch_signals(sender);
    let mut app = App::new(&configuration, worker);
    let signal = run(&mut terminal, &mut app, &messages).map_err(failed)?;
    drop(terminal);
    Ok(match signal {
        Some(number) => Exit::Signal(u8::try_from(number).unwrap_or(15)),
        None => Exit::Done,
    })
}

/// Draws, then takes all messages that wait, then draws again.
fn run(
    terminal: &mut Terminal,
    app: &mut App,
    messages: &Receiver<Message>,
) -> std::io::Result<Option<i32>> {
    loop {
        terminal.draw(|frame| draw::frame(frame, app))?;
        let Ok(first) = messages.recv() else { return Ok(None) };
        for message in std::iter::once(first).chain(messages.try_iter()) {
            let step = match message {
                Message::Signal(number) => return Ok(Some(number)),
                Message::Input(Event::Key(key)) if key.kind != KeyEventKind::Release => {
                    app.key(key)
                }
                Message::Input(Event::Paste(text)) => app.paste(&text),
                Message::Input(_) => Step::GoOn,
                Message::Work(report) => app.report(report),
            };
            if step == Step::Close {
                return Ok(None);
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
