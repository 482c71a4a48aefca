//! Signals: the first asks long work to stop, the second ends the process at once.

use std::{
    sync::atomic::{AtomicBool, AtomicU8, Ordering},
    time::Duration,
};

use serde_json::json;
use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
};
use skellin_engine::Cancel;

use super::output;

static CAUGHT: AtomicU8 = AtomicU8::new(0);
/// Whether only the first signal counts.
static PATIENT: AtomicBool = AtomicBool::new(false);

/// Raises `cancel` when the process is asked to end. `json`: whether a document is expected, also from a
/// process that is made to end.
pub(crate) fn watch(cancel: &Cancel, json: bool) {
    let cancel = cancel.clone();
    // Without handlers signals still end the process, only less gently.
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    std::thread::spawn(move || {
        for signal in &mut signals {
            let number = u8::try_from(signal).unwrap_or(2);
            if cancel.is_cancelled() && !PATIENT.load(Ordering::SeqCst) {
                std::process::exit(128 + i32::from(number));
            }
            CAUGHT.store(number, Ordering::SeqCst);
            cancel.cancel();
            end_at_last(&cancel, number, json);
        }
    });
}

/// So long interrupted work may take to end by itself. What waits for something that cannot be
/// ended (a file system that hangs, a line that is frozen) is left where it is: a store is correct
/// whenever a process ends.
const LAST: Duration = Duration::from_secs(4);

/// Ends the process some time after it was asked to, when what has to be done before is done.
fn end_at_last(cancel: &Cancel, number: u8, json: bool) {
    let cancel = cancel.clone();
    std::thread::spawn(move || {
        std::thread::sleep(LAST);
        while cancel.is_held() {
            std::thread::sleep(Duration::from_millis(20));
        }
        if json {
            output::last_json(&json!({"error": {"kind": "interrupted", "message":
                "interrupted while waiting for an answer", "hint": null}}));
        }
        std::process::exit(128 + i32::from(number));
    });
}

/// The signal that was caught, if any.
pub(crate) fn caught() -> Option<u8> {
    Some(CAUGHT.load(Ordering::SeqCst)).filter(|signal| *signal > 0)
}

/// Ends this process gently when its parent ends, which is a process of this number.
pub(crate) fn end_with(parent: u32) {
    use rustix::process::{Signal, getppid, set_parent_process_death_signal};
    // The kernel tells of the end of each thread of the parent, and so may a service manager and the
    // parent itself: nobody is in a hurry, and what was entered is to be left.
    PATIENT.store(true, Ordering::SeqCst);
    // Where this cannot be had the work goes on to its end, and is found in the journal.
    let _ = set_parent_process_death_signal(Some(Signal::TERM));
    let is_there = getppid().is_some_and(|now| now.as_raw_nonzero().get().unsigned_abs() == parent);
    if !is_there {
        std::process::exit(143);
    }
}
