//! Drives that take turns.

use jiff::{Timestamp, ToSpan, tz::TimeZone};

use crate::schedule::Schedule;

/// The drives of a store, each a full store of its own.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rotation {
    /// Their names, in the order of their turns.
    pub drives: Vec<String>,
    /// When the next takes its turn; none if that is left to people.
    pub swap: Option<Schedule>,
}

/// The drive whose turn it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Turn {
    /// Its name.
    pub drive: String,
    /// Since when; none if it has always been.
    pub since: Option<Timestamp>,
    /// When the next one follows.
    pub until: Option<Timestamp>,
}

impl Rotation {
    /// Whose turn it is. `newest`: the time of the newest snapshot on each drive, as far as it is
    /// known.
    ///
    /// The drive that was used since the last swap has its turn until the next one; if none was,
    /// it is the turn of the one after that which was used last.
    #[must_use]
    pub fn turn(
        &self,
        newest: &dyn Fn(&str) -> Option<Timestamp>,
        now: Timestamp,
        zone: &TimeZone,
    ) -> Option<Turn> {
        let swap = self.swap.as_ref()?;
        let last =
            self.drives.iter().enumerate().filter_map(|(at, drive)| Some((newest(drive)?, at)));
        let until = Some(swap.next(now, None, zone));
        let Some((used, at)) = last.max() else {
            return Some(Turn { drive: self.drives.first()?.clone(), since: None, until });
        };
        // The last moment of a swap up to now: none of them is further apart than this.
        let from = now.checked_sub((63 * 24).hours()).unwrap_or(now);
        let swapped = swap.moments(from, now, None, zone, usize::MAX).pop()?;
        let at = if used >= swapped { at } else { (at + 1) % self.drives.len() };
        Some(Turn { drive: self.drives[at].clone(), since: Some(swapped), until })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn drives_take_turns_at_the_swap() {
        let schedule = Schedule::parse("mondays at 00:00").expect("a schedule");
        let drives = ["oak-east", "oak-west"].map(str::to_owned).to_vec();
        let rotation = Rotation { drives, swap: Some(schedule) };
        let time = |text: &str| text.parse::<Timestamp>().expect("a time");
        let turn = |east: Option<&str>, west: Option<&str>, now: &str| {
            let newest = |drive: &str| match drive {
                "oak-east" => east.map(time),
                _ => west.map(time),
            };
            let turn = rotation.turn(&newest, time(now), &TimeZone::UTC).expect("a turn");
            assert!(turn.until.is_some_and(|until| until > time(now)));
            turn.drive
        };
        // 2026-11-09 is a Monday.
        let (sunday, monday, tuesday) =
            ("2026-11-08T21:40:00Z", "2026-11-09T21:40:00Z", "2026-11-10T21:40:00Z");
        assert_eq!(turn(None, None, tuesday), "oak-east");
        assert_eq!(turn(Some(sunday), None, tuesday), "oak-west");
        assert_eq!(turn(Some(sunday), Some(monday), tuesday), "oak-west");
        assert_eq!(turn(Some(monday), Some(sunday), tuesday), "oak-east");
        assert_eq!(turn(Some(sunday), Some(monday), "2026-11-16T01:00:00Z"), "oak-east");
        // Weeks in which nobody swapped make no difference: it is still the other's turn.
        assert_eq!(turn(Some("2026-09-01T21:40:00Z"), None, tuesday), "oak-west");
        let free = Rotation { swap: None, ..rotation.clone() };
        assert_eq!(free.turn(&|_| None, time(tuesday), &TimeZone::UTC), None);
    }
}
