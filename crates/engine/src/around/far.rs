//! A program run on another host, over SSH.

use std::time::Duration;

use skellin_place::FarCommand;

use super::{Ended, Fault};
use crate::{clock::Cancel, places::SourceHosts};

pub(super) fn run(
    host: &str,
    words: &[String],
    source_hosts: &SourceHosts,
    variables: &[(&str, String)],
    timeout: Duration,
    cancel: Option<&Cancel>,
) -> Ended {
    let target = match source_hosts.command_target(host) {
        Ok(target) => target,
        Err(error) => return Ended::unable(Fault::Unknown(error.to_string())),
    };
    let mut said = super::process::Said::default();
    let is_cancelled = || cancel.is_some_and(Cancel::is_cancelled);
    let command = FarCommand {
        line: command_line(words, variables),
        timeout,
        is_cancelled: &is_cancelled,
        said: &mut |bytes| said.push(bytes),
    };
    let ended = command.run(&target);
    let output = said.text();
    match ended {
        Ok(Some(0)) => Ended { fault: None, code: Some(0), output, note: None },
        Ok(Some(code)) => {
            let code = i32::try_from(code).unwrap_or(-1);
            Ended { fault: Some(Fault::Status(code)), code: Some(code), output, note: None }
        }
        Ok(None) => Ended { fault: Some(Fault::Signal(None)), code: None, output, note: None },
        Err(error) => Ended { fault: Some(error.into()), code: None, output, note: None },
    }
}

/// A server hands what it is told to a shell (RFC 4254, section 6.5); each word is quoted, so that
/// it stays one word and none of it is acted on.
fn command_line(words: &[String], variables: &[(&str, String)]) -> String {
    let set = variables.iter().map(|(name, value)| quoted(&format!("{name}={value}")));
    let words = words.iter().map(|word| quoted(word));
    ["env".to_owned()].into_iter().chain(set).chain(words).collect::<Vec<_>>().join(" ")
}

fn quoted(word: &str) -> String {
    // No word of a plan holds a NUL: none could be handed to a program.
    shlex::try_quote(word).map_or_else(|_| String::new(), std::borrow::Cow::into_owned)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// What a shell makes of the line is the words.
        #[test]
        fn a_shell_reads_the_words_back(words in proptest::collection::vec("[ -~åø]{0,12}", 1..5)) {
            let mut told = vec!["printf".to_owned(), "%s\\n".to_owned()];
            told.extend(words.iter().cloned());
            let line = command_line(&told, &[("SKELLIN_PLAN", "a b'c".to_owned())]);
            let output = std::process::Command::new("sh").args(["-c", &line]).output().expect("runs");
            let read: Vec<String> =
                String::from_utf8(output.stdout).expect("text").lines().map(str::to_owned).collect();
            prop_assert_eq!(read, words);
        }
    }
}
