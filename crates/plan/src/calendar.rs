//! Schedules as the calendar expressions of systemd.time(7).

use crate::{
    cron::Cron,
    schedule::{Days, Schedule},
};

const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

impl Schedule {
    /// The expressions that together mean its moments, in a zone by its name; none for an interval,
    /// which is counted from the last good run and so stands in no calendar.
    #[must_use]
    pub fn calendar(&self, zone: Option<&str>) -> Vec<String> {
        let plain = match self {
            Self::Every { .. } => Vec::new(),
            Self::Cron(cron) => of_cron(cron),
            Self::Days { days, at } => {
                let at = at.strftime("%H:%M:%S");
                match days {
                    Days::Daily => vec![format!("*-*-* {at}")],
                    Days::Week(week) => {
                        let named = DAYS.iter().zip(week).filter(|(_, on)| **on);
                        let named: Vec<&str> = named.map(|(day, _)| *day).collect();
                        vec![format!("{} *-*-* {at}", named.join(","))]
                    }
                    // The last day, which shorter months have earlier.
                    Days::Month(31) => vec![format!("*-*~01 {at}")],
                    Days::Month(day @ 29..) => {
                        vec![format!("*-*-{day:02} {at}"), format!("*-02~01 {at}")]
                    }
                    Days::Month(day) => vec![format!("*-*-{day:02} {at}")],
                }
            }
        };
        let in_zone = |text: String| match zone {
            Some(zone) => format!("{text} {zone}"),
            None => text,
        };
        plain.into_iter().map(in_zone).collect()
    }
}

fn of_cron(cron: &Cron) -> Vec<String> {
    let list = |numbers: Vec<u32>, all: usize| match numbers.len() == all {
        true => "*".to_owned(),
        false => numbers.iter().map(|number| format!("{number:02}")).collect::<Vec<_>>().join(","),
    };
    let [minutes, hours, days, months] = cron.numbers();
    let (minutes, hours) = (list(minutes, 60), list(hours, 24));
    let (days, months) = (list(days, 31), list(months, 12));
    let week: Vec<&str> =
        DAYS.iter().zip(cron.week()).filter(|(_, on)| *on).map(|(day, _)| *day).collect();
    let at = format!("{hours}:{minutes}:00");
    let by_week = |days: &str| format!("{} *-{months}-{days} {at}", week.join(","));
    match (week.len() == 7, cron.is_either()) {
        // Where both day fields say something, a day of either counts.
        (_, true) => vec![format!("*-{months}-{days} {at}"), by_week("*")],
        (true, false) => vec![format!("*-{months}-{days} {at}")],
        (false, false) => vec![by_week(&days)],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schedules_stand_in_a_calendar() {
        let calendar = |text: &str| Schedule::parse(text).expect("a schedule").calendar(None);
        assert_eq!(calendar("daily at 21:40"), ["*-*-* 21:40:00"]);
        assert_eq!(calendar("weekdays at 12:00"), ["Mon,Tue,Wed,Thu,Fri *-*-* 12:00:00"]);
        assert_eq!(calendar("monthly on 2 at 05:00"), ["*-*-02 05:00:00"]);
        assert_eq!(calendar("monthly on 30 at 05:00"), ["*-*-30 05:00:00", "*-02~01 05:00:00"]);
        assert_eq!(calendar("monthly on 31 at 05:00"), ["*-*~01 05:00:00"]);
        assert_eq!(calendar("every 4 days"), [""; 0]);
        assert_eq!(calendar("40 21 * * *"), ["*-*-* 21:40:00"]);
        assert_eq!(calendar("*/30 8-9 * 1 *"), ["*-01-* 08,09:00,30:00"]);
        assert_eq!(calendar("0 3 * * sun"), ["Sun *-*-* 03:00:00"]);
        assert_eq!(calendar("0 3 13 * fri"), ["*-*-13 03:00:00", "Fri *-*-* 03:00:00"]);
        let zoned = Schedule::parse("daily at 21:40").expect("a schedule");
        assert_eq!(zoned.calendar(Some("Europe/Oslo")), ["*-*-* 21:40:00 Europe/Oslo"]);
    }
}
