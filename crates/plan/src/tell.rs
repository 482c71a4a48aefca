//! What is told of a plan, and when: decided from what has happened and what was told before.
//!
//! A failure is told once, then once a day as long as it lasts, and its end is told too: to each
//! channel by what that one has heard, so that whoever is named later hears of what lasts, and nobody
//! of the end of what he never heard of. What goes well is told only to those who asked for it.

use std::collections::BTreeMap;

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
    /// When a verification found damage in a store of the plan.
    pub damage: Vec<String>,
    /// When a drill restored what is not what was backed up.
    pub drill: Vec<String>,
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
    /// A verification found damage in a store of the plan.
    Damage,
    /// A drill restored what is not what was backed up.
    Drill,
}

/// What lasts, and who has heard of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trouble {
    /// What it is; never success.
    pub topic: Topic,
    /// Since when it lasts.
    pub since: Timestamp,
    /// When it was told last, or noted where nobody is to be told.
    pub told: Timestamp,
    /// How often it has happened.
    pub times: u32,
    /// When each channel that has heard of it was told last.
    pub heard: BTreeMap<String, Timestamp>,
}

impl Trouble {
    /// Those of some channels that are to be told of it now: they have not heard of it, or not for a
    /// day.
    #[must_use]
    pub fn due<'c>(&self, channels: &'c [String], now: Timestamp) -> Vec<&'c String> {
        let is_due = |channel: &&String| {
            // A clock that was put back must not make it silent for ever.
            let last = self.heard.get(*channel);
            last.is_none_or(|told| now.duration_since(*told) >= AGAIN || now < *told)
        };
        channels.iter().filter(is_due).collect()
    }
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
    /// A verification found damage.
    Damaged,
    /// A verification of all data found none.
    Undamaged,
    /// A drill found what does not match.
    Mismatched,
    /// Everything a drill restored matched.
    Matched,
}

/// Something to tell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Telling {
    /// Of what; it says which channels are meant.
    pub topic: Topic,
    /// Whether it is over.
    pub is_over: bool,
    /// Since when it lasts, or lasted.
    pub since: Timestamp,
    /// How often it has happened.
    pub times: u32,
    /// Who is told.
    pub channels: Vec<String>,
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
            Self::Damage => "damage",
            Self::Drill => "drill",
        }
    }

    /// The topic of a word.
    #[must_use]
    pub fn of_word(word: &str) -> Option<Self> {
        let all =
            [Self::Failure, Self::Exceptions, Self::Success, Self::Late, Self::Damage, Self::Drill];
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
            Topic::Damage => &self.damage,
            Topic::Drill => &self.drill,
        }
    }

    /// Whether nobody is told of anything.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        let lists = [&self.failure, &self.exceptions, &self.success, &self.late];
        lists.into_iter().chain([&self.damage, &self.drill]).all(Vec::is_empty)
    }
}

/// What is to be told now that things stand so, and the troubles that last from now on.
/// `channels`: who is to be told of a topic.
#[must_use]
pub fn tellings(
    troubles: &[Trouble],
    standing: Standing,
    now: Timestamp,
    channels: &dyn Fn(Topic) -> Vec<String>,
) -> (Vec<Telling>, Vec<Trouble>) {
    let (current, ended): (Option<Topic>, &[Topic]) = match standing {
        Standing::Good => (None, &[Topic::Failure, Topic::Exceptions, Topic::Late]),
        Standing::Exceptions => (Some(Topic::Exceptions), &[Topic::Failure, Topic::Late]),
        Standing::Failed => (Some(Topic::Failure), &[]),
        Standing::Late => (Some(Topic::Late), &[]),
        Standing::Damaged => (Some(Topic::Damage), &[]),
        Standing::Undamaged => (None, &[Topic::Damage]),
        Standing::Mismatched => (Some(Topic::Drill), &[]),
        Standing::Matched => (None, &[Topic::Drill]),
    };
    let (mut told, mut left) = (Vec::new(), Vec::new());
    for trouble in troubles {
        let Trouble { topic, since, times, .. } = *trouble;
        if ended.contains(&topic) {
            let mut channels = channels(topic);
            channels.retain(|channel| trouble.heard.contains_key(channel));
            told.push(Telling { topic, is_over: true, since, times, channels });
        } else if current != Some(topic) {
            left.push(trouble.clone());
        }
    }
    if let Some(topic) = current {
        let before = troubles.iter().find(|trouble| trouble.topic == topic);
        // That a plan is late is found at every look; it happens once.
        let more = u32::from(topic != Topic::Late || before.is_none());
        let mut trouble = before.cloned().unwrap_or(Trouble {
            topic,
            since: now,
            told: now,
            times: 0,
            heard: BTreeMap::new(),
        });
        trouble.times += more;
        let all = channels(topic);
        let channels: Vec<String> = trouble.due(&all, now).into_iter().cloned().collect();
        if !channels.is_empty() || all.is_empty() {
            trouble.told = now;
        }
        trouble.heard.extend(channels.iter().map(|channel| (channel.clone(), now)));
        if !channels.is_empty() {
            let Trouble { since, times, .. } = trouble;
            told.push(Telling { topic, is_over: false, since, times, channels });
        }
        left.push(trouble);
    }
    if matches!(standing, Standing::Good | Standing::Exceptions) {
        let channels = channels(Topic::Success);
        let topic = Topic::Success;
        told.push(Telling { topic, is_over: false, since: now, times: 1, channels });
    }
    told.retain(|telling| !telling.channels.is_empty());
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
        ("damage", &mut tell.damage),
        ("drill", &mut tell.drill),
    ] {
        for (name, span) in inner.texts(reading, key).unwrap_or_default() {
            let is_known = channels.is_none_or(|channels| channels.contains(&name));
            if !is_known {
                let names = channels.unwrap_or_default().iter().map(String::as_str);
                let hint = match nearest(&name, names.clone()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None if names.len() == 0 => "channels.toml is empty".to_owned(),
                    None => format!("there are {}", names.collect::<Vec<_>>().join(", ")),
                };
                let what = format!("channel `{name}` is not in channels.toml");
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

    /// What a channel is told over a row of hours, as a word for each. It is named from an hour on.
    fn story(standings: &[Option<Standing>], named: usize) -> Vec<String> {
        let (mut troubles, mut told) = (Vec::new(), Vec::new());
        let mut now = Timestamp::UNIX_EPOCH;
        for (number, standing) in standings.iter().enumerate() {
            if let Some(standing) = standing {
                let channels = |_: Topic| {
                    let late = (number >= named).then(|| "mail".to_owned());
                    late.into_iter().chain(["board".to_owned()]).collect()
                };
                let (now_told, left) = tellings(&troubles, *standing, now, &channels);
                troubles = left;
                let hour = now.as_second() / 3600;
                let to_it = now_told.iter().filter(|one| one.channels.contains(&"mail".to_owned()));
                told.extend(to_it.filter(|one| one.topic != Topic::Success).map(|one| {
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
            story(&hours, 0),
            ["1: failure ×1", "25: failure ×25", "49: failure ×49", "51: failure over ×50"]
        );
    }

    #[test]
    fn lateness_and_exceptions_have_their_own_beginning_and_end() {
        use Standing::{Exceptions, Failed, Good, Late};
        let hours = [Late, Late, Failed, Late, Exceptions, Exceptions, Good, Good];
        let told = story(&hours.map(Some), 0);
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

    #[test]
    fn a_channel_named_later_hears_of_what_lasts_and_never_of_an_end_first() {
        use Standing::{Failed, Good};
        let hours = [Failed, Failed, Failed, Failed, Good, Good].map(Some);
        assert_eq!(story(&hours, 2), ["2: failure ×3", "4: failure over ×4"]);
        assert!(story(&hours, 4).is_empty(), "it never heard that anything was wrong");
    }

    proptest! {
        /// Against a naive look at the whole row: each trouble has one beginning and one end told,
        /// and while it lasts nothing is silent for a day nor told twice in one.
        #[test]
        fn nothing_lasts_untold_and_nothing_is_told_twice_a_day(
            hours in proptest::collection::vec(prop_oneof![
                3 => Just(None), 2 => Just(Some(Standing::Good)), 2 => Just(Some(Standing::Failed)),
                1 => Just(Some(Standing::Exceptions)), 2 => Just(Some(Standing::Late)),
                1 => Just(Some(Standing::Damaged)), 1 => Just(Some(Standing::Undamaged)),
                1 => Just(Some(Standing::Mismatched)), 1 => Just(Some(Standing::Matched)),
            ], 1..300), named in 0_usize..100,
        ) {
            let told = story(&hours, named);
            for topic in
                [Topic::Failure, Topic::Exceptions, Topic::Late, Topic::Damage, Topic::Drill]
            {
                let mut expected = Vec::new();
                let mut last: Option<usize> = None;
                for (hour, standing) in hours.iter().enumerate().skip(named) {
                    let Some(standing) = standing else { continue };
                    let is_it = match standing {
                        Standing::Failed => topic == Topic::Failure,
                        Standing::Exceptions => topic == Topic::Exceptions,
                        Standing::Late => topic == Topic::Late,
                        Standing::Damaged => topic == Topic::Damage,
                        Standing::Mismatched => topic == Topic::Drill,
                        Standing::Good | Standing::Undamaged | Standing::Matched => false,
                    };
                    let is_of_run = !matches!(topic, Topic::Damage | Topic::Drill);
                    let is_end = match standing {
                        Standing::Good => is_of_run,
                        Standing::Exceptions => is_of_run && topic != Topic::Exceptions,
                        Standing::Undamaged => topic == Topic::Damage,
                        Standing::Matched => topic == Topic::Drill,
                        _ => false,
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
