//! What messages say: what happened, since when, and what to do, in plain text.

use std::fmt::Write;

use jiff::{Timestamp, tz::TimeZone};
use serde_json::{Value, json};
use skellin_plan::{Telling, Topic};

use super::About;
use crate::journal::Journal;

/// What happened with a plan, as far as it is told.
#[derive(Clone, Debug, Default)]
pub struct Happening<'a> {
    /// The machine.
    pub machine: &'a str,
    /// When, in milliseconds since 1970.
    pub now: i64,
    /// The entry of the journal.
    pub work: Option<i64>,
    /// What was said of it.
    pub words: Option<String>,
    /// What to do.
    pub hint: Option<String>,
    /// What was done, in a line.
    pub did: Option<String>,
    /// When the newest good run began, in milliseconds since 1970.
    pub last_good: Option<i64>,
    /// By when there should have been a good run, in milliseconds since 1970.
    pub late: Option<i64>,
}

fn shown(milliseconds: i64) -> String {
    let when = Timestamp::from_millisecond(milliseconds).unwrap_or(Timestamp::UNIX_EPOCH);
    when.to_zoned(TimeZone::system()).strftime("%a %d %b %Y %H:%M (%:z)").to_string()
}

fn rfc3339(milliseconds: i64) -> String {
    let when = Timestamp::from_millisecond(milliseconds).unwrap_or(Timestamp::UNIX_EPOCH);
    when.to_zoned(TimeZone::system()).strftime("%Y-%m-%dT%H:%M:%S%.3f%:z").to_string()
}

/// The subject and the text of a message.
pub(super) fn message(
    about: &About<'_>,
    telling: &Telling,
    what: &Happening<'_>,
) -> (String, String) {
    let (name, machine) = (about.plan, what.machine);
    let (subject, first) = match (telling.topic, telling.is_over) {
        (Topic::Failure, false) => (
            format!("{name} failed on {machine}"),
            format!("The run of {name} on {machine} failed."),
        ),
        (Topic::Exceptions, false) => (
            format!("{name} has exceptions on {machine}"),
            format!("{name} on {machine} has a new snapshot, but some paths are missing from it."),
        ),
        (Topic::Late, false) => (
            format!("{name} is late on {machine}"),
            format!(
                "{name} on {machine} has had no successful run for longer than its schedule allows."
            ),
        ),
        (Topic::Success, _) => (
            format!("{name} is done on {machine}"),
            format!("{name} on {machine} has a new snapshot."),
        ),
        (Topic::Damage, false) => (
            format!("damage in a store of {name} on {machine}"),
            format!("A verification on {machine} found damage in a store of {name}."),
        ),
        (Topic::Drill, false) => (
            format!("a drill of {name} did not match on {machine}"),
            format!("A drill of {name} on {machine} restored files that did not match."),
        ),
        (Topic::Damage, true) => (
            format!("no more damage in the stores of {name} on {machine}"),
            format!("All data was verified on {machine}, and nothing is damaged."),
        ),
        (Topic::Drill, true) => (
            format!("a drill of {name} matched on {machine}"),
            format!("A drill of {name} on {machine} restored what was backed up."),
        ),
        (Topic::Failure, true) => (
            format!("{name} recovered on {machine}"),
            format!("{name} on {machine} failed before and has a new snapshot now."),
        ),
        (Topic::Exceptions, true) => (
            format!("{name} has no more exceptions on {machine}"),
            format!("{name} on {machine} has a new snapshot with all paths."),
        ),
        (Topic::Late, true) => (
            format!("{name} is on schedule again on {machine}"),
            format!("{name} on {machine} was late and has a new snapshot now."),
        ),
    };
    let mut body = format!("{first}\n\n");
    let mut fact = |label: &str, text: &str| {
        // Writing to a string does not fail.
        let _ = writeln!(body, "{label:<16}{text}");
    };
    let is_over = telling.is_over;
    if let Some(words) = what.words.as_ref().filter(|_| !is_over) {
        fact("problem", words);
    }
    if let Some(did) = &what.did {
        fact("result", did);
    }
    fact("when", &shown(what.now));
    let since = shown(telling.since.as_millisecond());
    match (telling.topic, is_over, telling.times) {
        (Topic::Success, ..) | (_, false, 1) => {}
        (_, false, times) => fact("since", &format!("{since}, {times} times")),
        (_, true, times) => fact("since", &format!("{since}, {times} times")),
    }
    if let Some(late) = what.late.filter(|_| !is_over && telling.topic == Topic::Late) {
        fact("expected by", &shown(late));
    }
    if !about.store.is_empty() {
        fact("store", about.store);
    }
    if !is_over && telling.topic != Topic::Success {
        fact("last good run", &what.last_good.map_or("none yet".to_owned(), shown));
        if let Some(hint) = &what.hint {
            fact("to do", hint);
        }
    }
    if let Some(work) = what.work {
        let _ = writeln!(body, "\nskellin journal --run {work} lists its steps.");
    }
    if !is_over && matches!(telling.topic, Topic::Failure | Topic::Exceptions | Topic::Late) {
        body.push_str(
            "This message is repeated daily while the problem lasts, and once when it is over.\n",
        );
    }
    if !is_over && matches!(telling.topic, Topic::Damage | Topic::Drill) {
        body.push_str("Another message follows when it is over.\n");
    }
    (subject, body)
}

/// The message that a damaged journal was put aside: subject, text, and the facts for programs.
pub(super) fn mended(journal: &Journal, machine: &str, since: i64) -> (String, String, String) {
    let aside: Vec<String> =
        journal.put_aside().iter().map(|path| path.display().to_string()).collect();
    let (subject, aside) = (format!("the journal of {machine} was damaged"), aside.join(", "));
    let hint = "check the disk of the state directory; the stores are not affected";
    let body = format!(
        "The journal of {machine} was damaged and has been moved away. Readable entries were recovered, and runs continue.\n\n{:<16}{}\n{:<16}{aside}\n{:<16}{hint}\n",
        "when",
        shown(since),
        "put aside",
        "to do"
    );
    let facts = json!({
        "event": "failure", "over": false, "plan": "", "store": "", "machine": machine,
        "time": rfc3339(since), "since": rfc3339(since), "times": 1, "run": null,
        "message": format!("the journal was damaged; it was moved to {aside}"), "hint": hint,
        "did": null, "last-good": null, "version": env!("CARGO_PKG_VERSION"),
    });
    (subject, body, facts.to_string())
}

/// The same for programs.
pub(super) fn facts(about: &About<'_>, telling: &Telling, what: &Happening<'_>) -> Value {
    json!({
        "event": telling.topic.word(), "over": telling.is_over, "plan": about.plan, "store": about.store,
        "machine": what.machine, "time": rfc3339(what.now), "since": rfc3339(telling.since.as_millisecond()),
        "times": telling.times, "run": what.work, "message": what.words, "hint": what.hint, "did": what.did,
        "last-good": what.last_good.map(rfc3339), "version": env!("CARGO_PKG_VERSION"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_says_what_happened_since_when_and_what_to_do() {
        let tell = skellin_plan::Tell::default();
        let about = About { plan: "readings", store: "oak", tell: &tell };
        let happening = Happening {
            machine: "hut",
            now: 1_795_000_000_000,
            work: Some(42),
            words: Some("nothing listens on port 22".to_owned()),
            hint: Some("is the SSH service running there?".to_owned()),
            ..Happening::default()
        };
        let since = Timestamp::from_second(1_794_900_000).expect("a moment");
        let mut telling = Telling {
            topic: Topic::Failure,
            is_over: false,
            since,
            times: 3,
            channels: Vec::new(),
        };
        let (subject, body) = message(&about, &telling, &happening);
        assert_eq!(subject, "readings failed on hut");
        for part in [
            "nothing listens",
            "3 times",
            "is the SSH service",
            "none yet",
            "--run 42",
            "repeated daily",
        ] {
            assert!(body.contains(part), "{part}: {body}");
        }
        telling.is_over = true;
        let (subject, body) = message(&about, &telling, &happening);
        assert_eq!(subject, "readings recovered on hut");
        assert!(!body.contains("nothing answers") && body.contains("since"), "{body}");
        let facts = facts(&about, &telling, &happening);
        assert_eq!(
            (&facts["event"], &facts["over"], &facts["run"]),
            (&"failure".into(), &true.into(), &42.into())
        );
    }
}
