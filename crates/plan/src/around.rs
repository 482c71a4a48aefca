//! Commands around a run: what is done before the sources are read, and undone after.

use std::time::Duration;

use toml::de::DeValue;

use crate::{
    fields::{Fields, Reading, wrong_type},
    units::parse_duration,
};

/// Commands before the sources are read, and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Around {
    /// Done first: a program and its arguments; empty if nothing is to be done.
    pub enter: Vec<String>,
    /// Done as soon as the sources are read, and always once `enter` was begun; empty if nothing.
    pub leave: Vec<String>,
    /// So long each of the two may take.
    pub timeout: Duration,
    /// Whether the run goes on if `enter` fails.
    pub go_on: bool,
    /// The host they are done on, if it is not this machine.
    pub on: Option<String>,
}

/// So long a command may take where a plan says nothing.
const TIMEOUT: Duration = Duration::from_secs(600);
/// The longest a command may be given, in seconds.
const LONGEST: u64 = 24 * 3600;

/// Reads all `[[around]]`, in their order.
pub(crate) fn parse<'t>(reading: &mut Reading<'t>, fields: &mut Fields<'t>) -> Vec<Around> {
    let Some(value) = fields.take("around") else { return Vec::new() };
    let Some(array) = value.get_ref().as_array() else {
        wrong_type(reading, "around", &value, "a table for each pair, as in [[around]]");
        return Vec::new();
    };
    let mut found = Vec::new();
    for item in array.iter() {
        match item.get_ref() {
            DeValue::Table(table) => {
                let fields = Fields::new("an [[around]]", table.clone());
                found.extend(parse_one(reading, fields, &item.span()));
            }
            _ => wrong_type(reading, "around", item, "a table, as in [[around]]"),
        }
    }
    found
}

fn parse_one<'t>(
    reading: &mut Reading<'t>,
    mut fields: Fields<'t>,
    span: &std::ops::Range<usize>,
) -> Option<Around> {
    let before = reading.problems.len();
    let mut words = |reading: &mut Reading<'t>, key| match fields.texts(reading, key) {
        None => Vec::new(),
        Some(words) => {
            let words: Vec<String> = words.into_iter().map(|(word, _)| word).collect();
            if words.first().is_none_or(String::is_empty) {
                let hint = "write [\"systemctl\", \"stop\", \"gauge-db\"]";
                reading.problem_with(span, format!("`{key}` does not name a program"), hint);
            }
            words
        }
    };
    let (enter, leave) = (words(reading, "enter"), words(reading, "leave"));
    if enter.is_empty() && leave.is_empty() && reading.problems.len() == before {
        let hint = "add enter = [\"program\", \"argument\"], leave = […], or both";
        reading.problem_with(span, "this [[around]] does nothing", hint);
    }
    let mut timeout = TIMEOUT;
    if let Some((text, span)) = fields.text(reading, "timeout") {
        match parse_duration(&text) {
            Ok(seconds @ 1..=LONGEST) => timeout = Duration::from_secs(seconds),
            Ok(_) => {
                let what = format!("`{text}` is not a timeout");
                reading.problem_with(&span, what, "write \"2 min\"; at most one day");
            }
            Err(why) => drop(reading.problem(&span, why)),
        }
    }
    let go_on = match fields.text(reading, "if-enter-fails") {
        None => false,
        Some((word, _)) if word == "stop" => false,
        Some((word, _)) if word == "go-on" => true,
        Some((word, span)) => {
            let what = format!("`{word}` is not a choice here");
            reading.problem_with(&span, what, "write \"stop\" or \"go-on\"");
            false
        }
    };
    let on = fields.text(reading, "on").and_then(|(host, span)| {
        let is_fine =
            |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | ':' | '@');
        if host.is_empty() || host.starts_with('-') || !host.chars().all(is_fine) {
            let hint = "name it as a source does: \"mast\", \"keeper@mast\"";
            reading.problem_with(&span, format!("`{host}` is not a host"), hint);
            return None;
        }
        Some(host)
    });
    fields.finish(reading, &[]);
    (reading.problems.len() == before).then_some(Around { enter, leave, timeout, go_on, on })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Plan, parse_plan};

    fn read(around: &str) -> (Option<Plan>, Vec<String>) {
        let text = format!("sources = [\"/srv\"]\nstore = \"oak\"\n\n{around}");
        let (plan, problems) =
            parse_plan("readings", "readings.toml", &text, &|_: &str| None, ["oak"]);
        (plan, problems.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn pairs_of_commands_are_read_in_order() {
        let (plan, problems) = read(
            "[[around]]\nenter = [\"systemctl\", \"stop\", \"gauge-db\"]\nleave = [\"systemctl\", \"start\", \"gauge-db\"]\ntimeout = \"2 min\"\nif-enter-fails = \"go-on\"\n\n[[around]]\nleave = [\"rm\", \"/tmp/a b\"]\non = \"keeper@mast\"\n",
        );
        assert_eq!(problems, [""; 0]);
        let around = plan.expect("a plan").around;
        assert_eq!(around[0].enter, ["systemctl", "stop", "gauge-db"]);
        assert_eq!((around[0].timeout, around[0].go_on), (Duration::from_secs(120), true));
        let second = Around {
            enter: Vec::new(),
            leave: vec!["rm".to_owned(), "/tmp/a b".to_owned()],
            timeout: TIMEOUT,
            go_on: false,
            on: Some("keeper@mast".to_owned()),
        };
        assert_eq!(around[1], second);
    }

    #[test]
    fn mistakes_are_told_each_with_its_line() {
        let (plan, problems) = read(
            "[[around]]\nenter = \"systemctl stop\"\n[[around]]\ntimeout = \"2 min\"\n[[around]]\nenter = [\"\"]\ntimeout = \"3 days\"\nif-enter-fails = \"perhaps\"\non = \"-oProxyCommand=x\"\nenters = [\"x\"]\n",
        );
        assert!(plan.is_none());
        for (line, reason) in [
            (5, "a list of strings"),
            (6, "does nothing"),
            (8, "does not name a program"),
            (10, "not a timeout"),
            (11, "is not a choice here"),
            (12, "is not a host"),
            (13, "did you mean `enter`?"),
        ] {
            let told = problems.iter().any(|problem| {
                problem.starts_with(&format!("readings.toml:{line}:")) && problem.contains(reason)
            });
            assert!(told, "{line} {reason}: {problems:#?}");
        }
    }
}
