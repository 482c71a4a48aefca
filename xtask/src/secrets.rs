//! Whether secrets of the tests show where they must not: among the arguments of the program's
//! processes, or in what the tests print.

use std::{
    collections::BTreeSet,
    fs,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use anyhow::{Result, ensure};

use crate::{programs::Print, say};

/// What guards the stores, hosts and buckets of the tests and of the demo.
const SECRETS: &[&str] = &[
    "k9-sandpiper-Secret-f3a1",
    "sandpipers and knots",
    "gulls over the ridge",
    "gull and tern",
    "gulls and terns",
    "knots and dunlins",
    "terns over the pier",
    "two terns",
];
/// How often the processes are looked at.
const PAUSE: Duration = Duration::from_millis(50);

/// Does work that prints through what it is given, and looks for secrets all the while.
///
/// # Errors
/// If it fails, or a secret shows.
pub(crate) fn watched(work: impl FnOnce(&Print<'_>) -> Result<()>) -> Result<()> {
    let (done, printed) = (AtomicBool::new(false), Mutex::new(BTreeSet::new()));
    let print = |line: &str, is_shown: bool| {
        let mut printed = printed.lock().unwrap_or_else(PoisonError::into_inner);
        printed.extend(shows(line).map(|secret| format!("printed: {secret}")));
        if is_shown {
            say(line);
        }
    };
    let (ended, mut found, looks) = std::thread::scope(|scope| {
        let watching = scope.spawn(|| {
            let (mut found, mut looks) = (BTreeSet::new(), 0u64);
            while !done.load(Ordering::SeqCst) {
                looks += look(&mut found);
                std::thread::park_timeout(PAUSE);
            }
            (found, looks)
        });
        let ended = work(&print);
        done.store(true, Ordering::SeqCst);
        watching.thread().unpark();
        let (found, looks) = watching.join().unwrap_or_default();
        (ended, found, looks)
    });
    ended?;
    found.extend(printed.into_inner().unwrap_or_else(PoisonError::into_inner));
    ensure!(found.is_empty(), "secrets show: {found:#?}");
    ensure!(looks > 0, "no process of the program was seen at all");
    say(format!(
        "no secret shows: {looks} looks at processes of the program, and all that was printed"
    ));
    Ok(())
}

fn shows(text: &str) -> impl Iterator<Item = &'static str> {
    SECRETS.iter().copied().filter(move |secret| text.contains(secret))
}

/// Looks at the arguments of all processes of the program; how many there were.
fn look(found: &mut BTreeSet<String>) -> u64 {
    let mut looked_at = 0;
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let path = entry.path();
        let own = fs::read_link(path.join("exe"));
        if !own.is_ok_and(|program| program.file_name().is_some_and(|name| name == "skellin")) {
            continue;
        }
        // One that has ended meanwhile has none.
        let Ok(arguments) = fs::read(path.join("cmdline")) else { continue };
        let arguments = String::from_utf8_lossy(&arguments).replace('\0', " ");
        looked_at += 1;
        found.extend(shows(&arguments).map(|secret| format!("{secret} in: {arguments}")));
    }
    looked_at
}
