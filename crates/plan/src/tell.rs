//! What is told of a plan, and when: decided from what has happened and what was told before.
//!
//! A failure is told once, then once a day as long as it lasts, and its end is told too. What goes
//! well is told only to those who asked for it.

use jiff::{SignedDuration, Timestamp};

use crate::fields::{Fields, Reading, wrong_type};
use crate::problem::nearest;

/// Names of the channels that are told of each kind of event.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tell {
    /// When a run came to nothing.
    pub failure: Vec<String>,
    /// When a run left paths out that it should have taken.
    pub exceptions: Vec<String>,
    /// When a run was good.
    pub success: Vec<String>,
    /// When there was no good run for longer than the schedule allows.
    pub late: Vec<String>,
}

/// What can be told of a plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Topic {
    /// A run came to nothing.
    Failure,
    /// A run left paths out that it should have taken.
    Exceptions,
    /// A run was good.
    Success,
    /// There was no good run for longer than the schedule allows.
    Late,
}

/// What lasts and was told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Trouble {
    /// What it is: failure, exceptions, or late.
    pub topic: Topic,
    /// Since when it lasts.
    pub since: Timestamp,
    /// When it was told last.
    pub told: Timestamp,
    /// How often it has happened.
    pub times: u32,
}

/// How things stand with a plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// A run was good.
    Good,
    /// A run was good but for some paths.
    Exceptions,
    /// A run came to nothing.
    Failed,
    /// Nothing ran for longer than it should.
    Late,
}

/// Something to tell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Telling {
    /// Of what; it says which channels are meant.
    pub topic: Topic,
    /// Whether it is over.
    pub is_over: bool,
    /// Since when it lasts, or lasted.
    pub since: Timestamp,
    /// How often it has happened.
    pub times: u32,
}

/// What lasts is told again after this time.
const AGAIN: SignedDuration = SignedDuration::from_hours(24);

impl Topic {
    /// As plans name it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Failure => "failure",
            Self::Exceptions => "exceptions",
            Self::Success => "success",
            Self::Late => "late",
        }
    }

    /// The topic of a word.
    #[must_use]
    pub fn of_word(word: &str) -> Option<Self> {
        let all = [Self::Failure, Self::Exceptions, Self::Success, Self::Late];
        all.into_iter().find(|topic| topic.word() == word)
    }
}

impl Tell {
    /// The channels that are told of a topic.
    #[must_use]
    pub fn channels(&self, topic: Topic) -> &[String] {
        match topic {
            Topic::Failure => &self.failure,
            Topic::Exceptions => &self.exceptions,
            Topic::Success => &self.success,
            Topic::Late => &self.late,
        }
    }

    /// Whether nobody is told of anything.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        [&self.failure, &self.exceptions, &self.success, &self.late]
            .iter()
            .all(|list| list.is_empty())
    }
}

/// What is to be told now that things stand so, and the troubles that last from now on.
#[must_use]
pub fn tellings(
    troubles: &[Trouble],
    standing: Standing,
    now: Timestamp,
) -> (Vec<Telling>, Vec<Trouble>) {
    let (current, ended): (Option<Topic>, &[Topic]) = match standing {
        Standing::Good => (None, &[Topic::Failure, Topic::Exceptions, Topic::Late]),
        Standing::Exceptions => (Some(Topic::Exceptions), &[Topic::Failure, Topic::Late]),
        Standing::Failed => (Some(Topic::Failure), &[]),
        Standing::Late => (Some(Topic::Late), &[]),
    };
    let (mut told, mut left) = (Vec::new(), Vec::new());
    for trouble in troubles {
        let Trouble { topic, since, times, .. } = *trouble;
        if ended.contains(&topic) {
            told.push(Telling { topic, is_over: true, since, times });
        } else if current != Some(topic) {
            left.push(*trouble);
        }
    }
    if let Some(topic) = current {
        let before = troubles.iter().find(|trouble| trouble.topic == topic);
        let since = before.map_or(now, |before| before.since);
        // That a plan is late is found at every look; it happens once.
        let more = u32::from(topic != Topic::Late || before.is_none());
        let times = before.map_or(0, |before| before.times) + more;
        let last = before.map(|before| before.told);
        // A clock that was put back must not make it silent for ever.
        let is_due = last.is_none_or(|told| now.duration_since(told) >= AGAIN || now < told);
        if is_due {
            told.push(Telling { topic, is_over: false, since, times });
        }
        let told = if is_due { now } else { last.unwrap_or(now) };
        left.push(Trouble { topic, since, told, times });
    }
    if matches!(standing, Standing::Good | Standing::Exceptions) {
        told.push(Telling { topic: Topic::Success, is_over: false, since: now, times: 1 });
    }
    (told, left)
}

/// Who is told of a plan, by the text of its file, whatever else may be wrong with it.
#[must_use]
pub fn parse_tell(text: &str) -> Tell {
    let mut reading = Reading::new("", text);
    let table = reading.parse();
    let mut fields = Fields::new("a plan", table);
    parse(&mut reading, &mut fields, None)
}

/// Reads `[tell]`; `channels` are the names there are, if they are known.
pub(crate) fn parse<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    channels: Option<&[String]>,
) -> Tell {
    let mut tell = Tell::default();
    let Some(value) = fields.take("tell") else { return tell };
    let toml::de::DeValue::Table(table) = value.get_ref() else {
        wrong_type(reading, "tell", &value, "a table, as in [tell]");
        return tell;
    };
    let mut inner = Fields::new("[tell]", table.clone());
    for (key, list) in [
        ("failure", &mut tell.failure),
        ("exceptions", &mut tell.exceptions),
        ("success", &mut tell.success),
        ("late", &mut tell.late),
    ] {
        for (name, span) in inner.texts(reading, key).unwrap_or_default() {
            let is_known = channels.is_none_or(|channels| channels.contains(&name));
            if !is_known {
                let names = channels.unwrap_or_default().iter().map(String::as_str);
                let hint = match nearest(&name, names.clone()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None if names.len() == 0 => "channels.toml names none yet".to_owned(),
                    None => format!("there are {}", names.collect::<Vec<_>>().join(", ")),
                };
                let what = format!("no channel `{name}` stands in channels.toml");
                reading.problem_with(&span, what, hint);
            }
            list.push(name);
        }
    }
    inner.finish(reading, &[]);
    tell
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const HOUR: SignedDuration = SignedDuration::from_hours(1);

    /// What is told over a row of hours, as a word for each.
    fn story(standings: &[Option<Standing>]) -> Vec<String> {
        let (mut troubles, mut told) = (Vec::new(), Vec::new());
        let mut now = Timestamp::UNIX_EPOCH;
        for standing in standings {
            if let Some(standing) = standing {
                let (now_told, left) = tellings(&troubles, *standing, now);
                troubles = left;
                let hour = now.as_second() / 3600;
                told.extend(now_told.iter().filter(|one| one.topic != Topic::Success).map(|one| {
                    let over = if one.is_over { " over" } else { "" };
                    format!("{hour}: {}{over} ×{}", one.topic.word(), one.times)
                }));
            }
            now += HOUR;
        }
        told
    }

    #[test]
    fn a_failure_is_told_once_then_daily_and_its_end_once() {
        let mut hours = vec![Some(Standing::Good), Some(Standing::Failed)];
        hours.extend([Some(Standing::Failed); 49]);
        hours.extend([Some(Standing::Good); 3]);
        assert_eq!(
            story(&hours),
            ["1: failure ×1", "25: failure ×25", "49: failure ×49", "51: failure over ×50"]
        );
    }

    #[test]
    fn lateness_and_exceptions_have_their_own_beginning_and_end() {
        use Standing::{Exceptions, Failed, Good, Late};
        let hours = [Late, Late, Failed, Late, Exceptions, Exceptions, Good, Good];
        let told = story(&hours.map(Some));
        assert_eq!(
            told,
            [
                "0: late ×1",
                "2: failure ×1",
                "4: failure over ×1",
                "4: late over ×1",
                "4: exceptions ×1",
                "6: exceptions over ×2"
            ]
        );
    }

    proptest! {
        /// Against a naive look at the whole row: each trouble has one beginning and one end told,
        /// and while it lasts nothing is silent for a day nor told twice in one.
        #[test]
        fn nothing_lasts_untold_and_nothing_is_told_twice_a_day(
            hours in proptest::collection::vec(prop_oneof![
                3 => Just(None), 2 => Just(Some(Standing::Good)), 2 => Just(Some(Standing::Failed)),
                1 => Just(Some(Standing::Exceptions)), 2 => Just(Some(Standing::Late)),
            ], 1..300),
        ) {
            let told = story(&hours);
            for topic in [Topic::Failure, Topic::Exceptions, Topic::Late] {
                let mut expected = Vec::new();
                let mut last: Option<usize> = None;
                for (hour, standing) in hours.iter().enumerate() {
                    let Some(standing) = standing else { continue };
                    let is_it = match standing {
                        Standing::Failed => topic == Topic::Failure,
                        Standing::Exceptions => topic == Topic::Exceptions,
                        Standing::Late => topic == Topic::Late,
                        Standing::Good => false,
                    };
                    let is_end = match standing {
                        Standing::Good => true,
                        Standing::Exceptions => topic != Topic::Exceptions,
                        Standing::Failed | Standing::Late => false,
                    };
                    if is_it && last.is_none_or(|last| hour - last >= 24) {
                        expected.push(format!("{hour}: {}", topic.word()));
                        last = Some(hour);
                    }
                    if is_end && last.take().is_some() {
                        expected.push(format!("{hour}: {} over", topic.word()));
                    }
                }
                let of_it: Vec<String> = told.iter()
                    .filter(|one| one.contains(topic.word()))
                    .map(|one| one.split(" ×").next().unwrap_or_default().to_owned())
                    .collect();
                prop_assert_eq!(of_it, expected);
            }
        }
    }
}
