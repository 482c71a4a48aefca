//! One line in a crontab (crontab(5)) that looks every minute for what is due.

use super::Setting;

/// Around what is ours.
const BEGIN: &str =
    "# skellin: written by `skellin timers install`, removed by `skellin timers remove`";
const END: &str = "# skellin: end";

/// The line, between the two that mark it.
#[must_use]
pub fn crontab_line(setting: &Setting<'_>) -> String {
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "'\\''"));
    let config = setting.configuration.folders.config.display().to_string();
    let variables =
        setting.variables.iter().map(|(name, value)| format!("{name}={} ", quoted(value)));
    let variables: String = variables.collect();
    let program = quoted(&setting.program.display().to_string());
    let command = format!("{variables}{program} --quiet --config {} due --run", quoted(&config));
    // What follows a bare per cent sign is not part of the command.
    format!("{BEGIN}\n* * * * * {}\n{END}\n", command.replace('%', "\\%"))
}

/// What of a crontab is ours.
#[must_use]
pub fn written_line(crontab: &str) -> Option<String> {
    let start = crontab.find(BEGIN)?;
    let end = crontab[start..].find(END)? + start + END.len();
    let rest = &crontab[end..];
    let end = if rest.starts_with('\n') { end + 1 } else { end };
    Some(crontab[start..end].to_owned())
}

/// A crontab without what is ours; nothing else of it is changed.
#[must_use]
pub fn without_line(crontab: &str) -> String {
    match written_line(crontab) {
        Some(ours) => crontab.replacen(&ours, "", 1),
        None => crontab.to_owned(),
    }
}

/// A crontab with our line, once.
#[must_use]
pub fn with_line(crontab: &str, line: &str) -> String {
    if let Some(ours) = written_line(crontab) {
        return crontab.replacen(&ours, line, 1);
    }
    let gap = if crontab.is_empty() || crontab.ends_with('\n') { "" } else { "\n" };
    format!("{crontab}{gap}{line}")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// What others wrote stays, byte by byte.
        #[test]
        fn our_line_comes_and_goes_without_a_trace(others in "([ -~]{0,30}\n){0,6}[ -~]{0,10}") {
            let line = format!("{BEGIN}\n* * * * * 'skellin' due --run\n{END}\n");
            let with = with_line(&others, &line);
            prop_assert_eq!(written_line(&with), Some(line.clone()));
            prop_assert_eq!(with_line(&with, &line), with.clone());
            let changed = line.replace("skellin' due", "/opt/skellin' due");
            let updated = with_line(&with, &changed);
            // A last line that had no end has one now.
            let ended = if others.is_empty() || others.ends_with('\n') { others } else { others + "\n" };
            prop_assert_eq!(without_line(&updated), ended.clone());
            prop_assert_eq!(without_line(&with), ended);
        }
    }
}
