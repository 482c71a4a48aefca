//! A program run for a plan: in a process group of its own, for so long and no longer, with as much
//! of its words kept as somebody will read.

use std::{
    fs,
    io::{self, Read},
    os::unix::process::{CommandExt, ExitStatusExt},
    process::{Child, Command, ExitStatus, Stdio},
    sync::{Arc, Mutex, PoisonError, mpsc},
    thread,
    time::{Duration, Instant},
};

use rustix::process::{Pid, Signal, kill_process, kill_process_group, test_kill_process_group};

use super::{Ended, Fault};
use crate::{clock::Cancel, secrets::without_secrets};

/// After TERM a program has so long to end by itself.
const GRACE: Duration = Duration::from_secs(5);
/// How often a program is looked at, at most; one that has just begun more often.
const TICK: Duration = Duration::from_millis(20);
/// What a program leaves behind may hold its pipes; nobody waits for that longer than this.
const LAST_WORDS: Duration = Duration::from_millis(300);
/// So many bytes from the beginning and from the end of what it says are kept.
const FIRST: usize = 4 << 10;
const LAST: usize = 12 << 10;

/// The variable by which a command is known again after the run that started it was killed.
pub(super) const MARK: &str = "SKELLIN_ENTERING";

/// Ends the processes that have a mark in their environment, which a run that was killed has left
/// behind (proc_pid_environ(5)). How many there were.
pub(crate) fn end_marked(mark: &str) -> usize {
    let wanted = format!("{MARK}={mark}");
    let found = || -> Vec<Pid> {
        let listed = fs::read_dir("/proc").into_iter().flatten().flatten();
        let numbers = listed.filter_map(|entry| entry.file_name().to_str()?.parse::<i32>().ok());
        let own = std::process::id();
        numbers
            .filter(|number| number.unsigned_abs() != own)
            .filter(|number| {
                // Another account's is none of ours.
                let environment = fs::read(format!("/proc/{number}/environ")).unwrap_or_default();
                environment.split(|byte| *byte == 0).any(|one| one == wanted.as_bytes())
            })
            .filter_map(Pid::from_raw)
            .collect()
    };
    let all = found();
    let begun = Instant::now();
    for process in &all {
        let _ = kill_process(*process, Signal::TERM);
    }
    while begun.elapsed() < 2 * GRACE {
        let left = found();
        if left.is_empty() {
            break;
        }
        if begun.elapsed() >= GRACE {
            for process in left {
                let _ = kill_process(process, Signal::KILL);
            }
        }
        thread::park_timeout(TICK);
    }
    all.len()
}

/// The beginning and the end of what was said.
#[derive(Debug, Default)]
pub(super) struct Said {
    first: Vec<u8>,
    last: std::collections::VecDeque<u8>,
    left_out: u64,
}

impl Said {
    pub fn push(&mut self, bytes: &[u8]) {
        let head = bytes.len().min(FIRST - self.first.len());
        self.first.extend_from_slice(&bytes[..head]);
        for byte in &bytes[head..] {
            if self.last.len() == LAST {
                self.last.pop_front();
                self.left_out += 1;
            }
            self.last.push_back(*byte);
        }
    }

    pub fn text(&self) -> String {
        let last: Vec<u8> = self.last.iter().copied().collect();
        let (first, last) = (String::from_utf8_lossy(&self.first), String::from_utf8_lossy(&last));
        match self.left_out {
            0 => format!("{first}{last}"),
            left_out => format!("{first}\n… {left_out} bytes omitted …\n{last}"),
        }
    }
}

/// Runs a program to its end. `cancel` asks it to end early; a program that must not be
/// interrupted is given none.
pub(super) fn run(
    words: &[String],
    variables: &[(&str, String)],
    timeout: Duration,
    cancel: Option<&Cancel>,
) -> Ended {
    let Some((program, arguments)) = words.split_first() else {
        return Ended::unable(Fault::Unknown("no program".to_owned()));
    };
    let mut command = Command::new(program);
    without_secrets(&mut command);
    command.args(arguments).envs(variables.iter().map(|(name, value)| (name, value)));
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0);
    let mut child = match command.spawn() {
        Ok(child) => child,
        Err(error) => return Ended::unable(unable(program, &error)),
    };
    let said = Arc::new(Mutex::new(Said::default()));
    let (sender, readers_done) = mpsc::channel::<()>();
    let pipes: [Option<Box<dyn Read + Send>>; 2] = [
        child.stdout.take().map(|pipe| Box::new(pipe) as _),
        child.stderr.take().map(|pipe| Box::new(pipe) as _),
    ];
    for mut pipe in pipes.into_iter().flatten() {
        let (said, sender) = (Arc::clone(&said), sender.clone());
        thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(length @ 1..) = pipe.read(&mut buffer) {
                said.lock().unwrap_or_else(PoisonError::into_inner).push(&buffer[..length]);
            }
            drop(sender);
        });
    }
    drop(sender);
    let group = Pid::from_child(&child);
    let (status, why) = wait(&mut child, group, timeout, cancel);
    // The channel closes when the last pipe has been read to its end.
    let is_held = readers_done.recv_timeout(LAST_WORDS) == Err(mpsc::RecvTimeoutError::Timeout);
    let leaves = is_held || test_kill_process_group(group).is_ok();
    let output = said.lock().unwrap_or_else(PoisonError::into_inner).text();
    let code = status.as_ref().ok().map(|status| status.code().unwrap_or(-1));
    let fault = match (why, status) {
        (Some(why), _) => Some(why),
        (None, Err(error)) => Some(Fault::Unknown(format!("cannot tell how it ended: {error}"))),
        (None, Ok(status)) => of_status(status),
    };
    let note = leaves.then(|| "it left processes behind".to_owned());
    Ended { fault, code, output, note }
}

/// Why a status is no success.
fn of_status(status: ExitStatus) -> Option<Fault> {
    match (status.success(), status.code()) {
        (true, _) => None,
        (false, Some(code)) => Some(Fault::Status(code)),
        (false, None) => Some(Fault::Signal(status.signal())),
    }
}

fn unable(program: &str, error: &io::Error) -> Fault {
    Fault::Unknown(match error.kind() {
        io::ErrorKind::NotFound => format!("no program {program}"),
        io::ErrorKind::PermissionDenied => format!("this account may not run {program}"),
        _ => format!("cannot start {program}: {error}"),
    })
}

/// Waits for the end; when the time is over or somebody interrupts, the whole group is asked to
/// end, and then made to. The fault says why it had to.
fn wait(
    child: &mut Child,
    group: Pid,
    timeout: Duration,
    cancel: Option<&Cancel>,
) -> (io::Result<ExitStatus>, Option<Fault>) {
    let begun = Instant::now();
    let mut ending: Option<(Instant, Fault)> = None;
    loop {
        match child.try_wait() {
            Ok(Some(status)) => {
                if let Some((_, why)) = ending {
                    // What did not listen to TERM with it is ended too.
                    let _ = kill_process_group(group, Signal::KILL);
                    return (Ok(status), Some(why));
                }
                return (Ok(status), None);
            }
            Ok(None) => {}
            Err(error) => return (Err(error), None),
        }
        match &ending {
            None => {
                let why = match cancel.is_some_and(Cancel::is_cancelled) {
                    true => Some(Fault::Interrupted),
                    false if begun.elapsed() >= timeout => Some(Fault::TimedOut(timeout)),
                    false => None,
                };
                if let Some(why) = why {
                    let _ = kill_process_group(group, Signal::TERM);
                    ending = Some((Instant::now(), why));
                }
            }
            Some((since, _)) if since.elapsed() >= GRACE => {
                let _ = kill_process_group(group, Signal::KILL);
            }
            Some(_) => {}
        }
        thread::park_timeout((begun.elapsed() / 4).clamp(Duration::from_millis(1), TICK));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(words: &[&str]) -> Vec<String> {
        words.iter().map(|word| (*word).to_owned()).collect()
    }

    fn shell(script: &str, timeout: Duration) -> Ended {
        run(
            &words(&["sh", "-c", script]),
            &[("SKELLIN_PLAN", "readings".to_owned())],
            timeout,
            None,
        )
    }

    const LONG: Duration = Duration::from_secs(30);

    #[test]
    fn what_a_program_says_and_how_it_ends_is_told() {
        let ended = shell("echo $SKELLIN_PLAN; echo oh >&2", LONG);
        assert_eq!((&ended.fault, ended.code), (&None, Some(0)));
        assert!(ended.output.contains("readings") && ended.output.contains("oh"), "{ended:?}");
        let ended = shell("exit 7", LONG);
        assert_eq!((ended.fault, ended.code), (Some(Fault::Status(7)), Some(7)));
        let ended = shell("kill -9 $$", LONG);
        assert_eq!(ended.fault, Some(Fault::Signal(Some(9))));
        let ended = run(&words(&["/no/such/program"]), &[], LONG, None);
        assert!(ended.fault.is_some_and(|why| why.to_string().contains("no program")));
        let ended = run(&words(&["/etc/passwd"]), &[], LONG, None);
        assert!(ended.fault.is_some_and(|why| why.to_string().contains("may not run")));
    }

    #[test]
    fn a_flood_is_kept_to_its_beginning_and_its_end() {
        let ended = shell("echo first; seq 1 400000; echo last", LONG);
        assert_eq!(ended.fault, None);
        assert!(ended.output.len() < FIRST + LAST + 100, "{}", ended.output.len());
        assert!(ended.output.starts_with("first\n1\n") && ended.output.ends_with("last\n"));
        assert!(ended.output.contains("bytes omitted"));
    }

    #[test]
    fn what_hangs_is_ended_with_all_its_children() {
        let folder = tempfile::tempdir().expect("a directory");
        let file = folder.path().join("child");
        // Neither the shell nor its child listens to TERM.
        let script = format!(
            "trap '' TERM; sh -c \"trap '' TERM; echo \\$\\$ >{}; sleep 60\" & wait; sleep 60",
            file.display()
        );
        let begun = Instant::now();
        let ended = shell(&script, Duration::from_secs(1));
        assert_eq!(ended.fault, Some(Fault::TimedOut(Duration::from_secs(1))));
        assert!(begun.elapsed() < GRACE + Duration::from_secs(10), "{:?}", begun.elapsed());
        let child: i32 = fs::read_to_string(file).expect("a number").trim().parse().expect("one");
        let child = Pid::from_raw(child).expect("a process");
        let deadline = Instant::now() + Duration::from_secs(10);
        while rustix::process::test_kill_process(child).is_ok() {
            let state = fs::read_to_string(format!("/proc/{}/stat", child.as_raw_nonzero()));
            // Nobody may be there to take its status.
            if state.is_ok_and(|state| state.contains(") Z ")) {
                break;
            }
            assert!(Instant::now() < deadline, "the child lives");
            thread::park_timeout(TICK);
        }
    }

    #[test]
    fn an_interruption_ends_it_early_and_what_stays_behind_is_noted_and_left_alone() {
        let cancel = Cancel::new();
        cancel.cancel();
        let ended = run(&words(&["sleep", "60"]), &[], LONG, Some(&cancel));
        assert_eq!(ended.fault, Some(Fault::Interrupted));
        let ended = shell("sleep 60 & echo $!", LONG);
        assert_eq!(ended.fault, None);
        assert_eq!(ended.note.as_deref(), Some("it left processes behind"));
        let left: i32 = ended.output.trim().parse().expect("a number");
        let left = Pid::from_raw(left).expect("a process");
        kill_process(left, Signal::KILL).expect("it was left alone");
    }
}
