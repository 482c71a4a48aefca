//! `[goal]`: what a plan's copies, their ages and its restores are measured against.

use jiff::SignedDuration;
use toml::de::DeValue;

use crate::{
    fields::{Fields, Reading, wrong_type},
    units::parse_duration,
};

/// No plan has a goal of more copies.
const MOST_COPIES: u32 = 20;

/// What a plan is to reach; what is not set is not measured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Goals {
    /// So many copies, the store's own included; those at one site or of one provider count once.
    pub copies: Option<u32>,
    /// So many of them are not where the sources are.
    pub off_site: Option<u32>,
    /// The newest snapshot is no older.
    pub newest_within: Option<SignedDuration>,
    /// A restore of everything takes no longer.
    pub back_within: Option<SignedDuration>,
}

/// Reads `[goal]`.
pub(crate) fn parse<'t>(reading: &mut Reading<'t>, fields: &mut Fields<'t>) -> Goals {
    let Some(value) = fields.take("goal") else { return Goals::default() };
    let DeValue::Table(table) = value.get_ref() else {
        wrong_type(reading, "goal", &value, "a table, as in [goal]");
        return Goals::default();
    };
    let mut inner = Fields::new("a goal", table.clone());
    let copies = inner.count(reading, "copies", MOST_COPIES);
    let off_site = inner.count(reading, "off-site", MOST_COPIES);
    let mut duration = |key| {
        let (text, span) = inner.text(reading, key)?;
        match parse_duration(&text) {
            Ok(seconds) => i64::try_from(seconds).ok().map(SignedDuration::from_secs),
            Err(why) => {
                reading.problem(&span, why);
                None
            }
        }
    };
    let (newest_within, back_within) = (duration("newest-within"), duration("back-within"));
    inner.finish(reading, &[]);
    if let (Some(copies), Some(off_site)) = (copies, off_site)
        && off_site > copies
    {
        let what = format!("`off-site` asks for {off_site} copies, and `copies` for {copies}");
        reading.problem_with(&value.span(), what, "copies counts all of them, off-site ones too");
    }
    Goals { copies, off_site, newest_within, back_within }
}

#[cfg(test)]
mod tests {
    use jiff::SignedDuration;

    use super::Goals;
    use crate::parse_plan;

    fn read(goal: &str) -> (Option<Goals>, Vec<String>) {
        let text = format!("sources = [\"/srv\"]\nstore = \"oak\"\n[goal]\n{goal}");
        let (plan, problems) =
            parse_plan("readings", "readings.toml", &text, &|_: &str| None, ["oak"]);
        let problems = problems.iter().map(ToString::to_string).collect();
        (plan.map(|plan| plan.goals), problems)
    }

    #[test]
    fn goals_are_read() {
        let (goals, problems) = read(
            "copies = 3\noff-site = 1\nnewest-within = \"2 days\"\nback-within = \"4 hours\"\n",
        );
        assert_eq!(problems, [""; 0]);
        let hours = SignedDuration::from_hours;
        let wanted = Goals {
            copies: Some(3),
            off_site: Some(1),
            newest_within: Some(hours(48)),
            back_within: Some(hours(4)),
        };
        assert_eq!(goals, Some(wanted));
        assert_eq!(read("").0, Some(Goals::default()));
    }

    #[test]
    fn what_is_no_goal_is_refused_with_its_line() {
        for (goal, expected) in [
            ("copies = 0\n", "readings.toml:4:10: "),
            ("newest-within = \"soon\"\n", "readings.toml:4:17: "),
            ("copeis = 2\n", "readings.toml:4:1: "),
            ("copies = 1\noff-site = 2\n", "`off-site` asks for 2 copies, and `copies` for 1"),
        ] {
            let (goals, problems) = read(goal);
            assert!(goals.is_none(), "{goal}");
            assert!(problems.iter().any(|problem| problem.contains(expected)), "{problems:?}");
        }
    }
}
