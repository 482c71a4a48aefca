//! The keys of `[schedule]` that say how runs are started.

use jiff::SignedDuration;
use toml::de::DeValue;

use crate::{
    due::{Retry, Starting, Window},
    fields::{Fields, Reading, wrong_type},
    schedule::{Schedule, parse_time},
    units::parse_duration,
};

/// Reads `[schedule]`.
pub(crate) fn parse<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
) -> (Option<Schedule>, Starting) {
    let mut starting = Starting::default();
    let Some(value) = fields.take("schedule") else { return (None, starting) };
    let DeValue::Table(table) = value.get_ref() else {
        wrong_type(reading, "schedule", &value, "a table, as in [schedule]");
        return (None, starting);
    };
    let mut inner = Fields::new("a schedule", table.clone());
    let schedule = inner.text(reading, "run").and_then(|(text, span)| {
        Schedule::parse(&text).map_err(|(what, hint)| reading.problem_with(&span, what, hint)).ok()
    });
    for (occasion, span) in inner.texts(reading, "also-on").unwrap_or_default() {
        match occasion.as_str() {
            "boot" => starting.on_boot = true,
            "drive" => starting.on_drive = true,
            _ => {
                let what = format!("`{occasion}` is not an occasion to run");
                reading.problem_with(&span, what, "write \"boot\" or \"drive\"");
            }
        }
    }
    if let Some(value) = inner.take("catch-up") {
        match value.get_ref() {
            DeValue::Boolean(wanted) => starting.catch_up = *wanted,
            _ => wrong_type(reading, "catch-up", &value, "true or false"),
        }
    }
    let mut take = |key, set: &mut dyn FnMut(&str) -> Result<(), String>| {
        if let Some((text, span)) = inner.text(reading, key)
            && let Err(why) = set(&text)
        {
            reading.problem(&span, why);
        }
    };
    take("spread", &mut |text| {
        starting.spread = duration(text)?;
        Ok(())
    });
    take("window", &mut |text| {
        starting.window = Some(window(text)?);
        Ok(())
    });
    take("retry", &mut |text| {
        starting.retry = Some(retry(text)?);
        Ok(())
    });
    take("expire", &mut |text| match text {
        "after run" => {
            starting.expire = true;
            Ok(())
        }
        _ => Err(format!("`{text}` is not a time to expire: write \"after run\"")),
    });
    starting.drill = inner.text(reading, "drill").and_then(|(text, span)| {
        Schedule::parse(&text).map_err(|(what, hint)| reading.problem_with(&span, what, hint)).ok()
    });
    inner.finish(reading, &[]);
    (schedule, starting)
}

fn duration(text: &str) -> Result<SignedDuration, String> {
    let seconds = i64::try_from(parse_duration(text)?).unwrap_or(i64::MAX);
    match seconds <= 7 * 86_400 {
        true => Ok(SignedDuration::from_secs(seconds)),
        false => Err(format!("`{text}` is more than a week")),
    }
}

fn window(text: &str) -> Result<Window, String> {
    let wrong = || format!("`{text}` is not a window: write \"21:00-06:00\"");
    let (from, to) = text.split_once('-').ok_or_else(wrong)?;
    let time = |text: &str| parse_time(text.trim()).map_err(|_| wrong());
    let window = Window { from: time(from)?, to: time(to)? };
    match window.from == window.to {
        true => Err(format!("`{text}` is an empty window: remove it to start at any time")),
        false => Ok(window),
    }
}

fn retry(text: &str) -> Result<Retry, String> {
    let wrong = || format!("`{text}` is not a retry: write \"3 times every 15 min\"");
    let (times, pause) = text.split_once(" every ").ok_or_else(wrong)?;
    let times = times.strip_suffix(" times").or_else(|| times.strip_suffix(" time"));
    let times = times.and_then(|times| times.trim().parse().ok());
    let times = times.filter(|times| (1..=100).contains(times)).ok_or_else(wrong)?;
    Ok(Retry { times, pause: duration(pause)? })
}

#[cfg(test)]
mod tests {
    use jiff::civil::time;

    use crate::{Plan, Retry, Window, parse_plan};

    fn read(schedule: &str) -> (Option<Plan>, Vec<String>) {
        let text = format!(
            "sources = [\"/srv\"]\nstore = \"oak\"\nretain = [\"at least 4\"]\n[schedule]\n{schedule}"
        );
        let (plan, problems) =
            parse_plan("readings", "readings.toml", &text, &|_: &str| None, ["oak"]);
        (plan, problems.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn how_runs_are_started_is_read() {
        let (plan, problems) = read(
            "run = \"40 21 * * *\"\nalso-on = [\"boot\", \"drive\"]\ncatch-up = false\nspread = \"10 min\"\nwindow = \"21:00-06:00\"\nretry = \"3 times every 15 min\"\nexpire = \"after run\"\ndrill = \"monthly on 2 at 05:00\"\n",
        );
        assert_eq!(problems, [""; 0]);
        let starting = plan.expect("a plan").starting;
        assert!(starting.on_boot && starting.on_drive && !starting.catch_up && starting.expire);
        assert_eq!(starting.spread.as_mins(), 10);
        assert!(starting.drill.is_some());
        let (from, to) = (time(21, 0, 0, 0), time(6, 0, 0, 0));
        assert_eq!(starting.window, Some(Window { from, to }));
        let pause = jiff::SignedDuration::from_mins(15);
        assert_eq!(starting.retry, Some(Retry { times: 3, pause }));
        let (plan, _) = read("run = \"daily at 21:40\"\n");
        assert_eq!(plan.expect("a plan").starting, super::Starting::default());
    }

    #[test]
    fn mistakes_are_told_each_with_its_place() {
        let (plan, problems) = read(
            "run = \"61 21 * * *\"\nalso-on = [\"noon\"]\ncatch-up = \"yes\"\nspread = \"9 days\"\nwindow = \"21-6\"\nretry = \"often\"\nexpire = \"daily\"\ndrill = \"sometimes\"\n",
        );
        assert!(plan.is_none());
        for (line, reason) in [
            (5, "not a valid minute"),
            (6, "not an occasion"),
            (7, "true or false"),
            (8, "more than a week"),
            (9, "not a window"),
            (10, "not a retry"),
            (11, "write \"after run\""),
            (12, "sometimes"),
        ] {
            let told = problems.iter().any(|problem| {
                problem.starts_with(&format!("readings.toml:{line}:")) && problem.contains(reason)
            });
            assert!(told, "{line} {reason}: {problems:#?}");
        }
        let (_, problems) = read("window = \"06:00-06:00\"\n");
        assert!(problems[0].contains("an empty window"), "{problems:?}");
    }
}
