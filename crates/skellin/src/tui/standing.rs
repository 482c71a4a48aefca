//! What is known of each plan's copies and drills, and what that lacks.

use jiff::{SignedDuration, Timestamp};
use skellin_engine::{JournalEntry, Outcome, Work as Recorded};
use skellin_plan::{Goals, PlanCopyFacts, Proofs, Site, Weakness};

use super::{lanes::Lane, model::Model};
use crate::words;

fn moment(milliseconds: i64) -> Timestamp {
    Timestamp::from_millisecond(milliseconds).unwrap_or(Timestamp::UNIX_EPOCH)
}

impl Model {
    /// What is known of a plan.
    pub fn proofs(&self, lane: &Lane) -> Proofs {
        let mut copies = Vec::new();
        for store in lane.stores() {
            let newest = match store == lane.store {
                true => lane.marks.last().map(|mark| mark.time),
                false => lane.copies.get(store).map(|(_, newest)| *newest),
            };
            let (verified, damaged) = self.verified(store);
            let here = Site { name: self.machine.clone(), is_away: false };
            let site = self.sites.get(store).cloned().unwrap_or(here);
            let copy = |name: &str, site: Site, newest: Option<i64>| PlanCopyFacts {
                store: store.to_owned(),
                name: name.to_owned(),
                site,
                newest: newest.map(moment),
                verified: verified.map(moment),
                damaged: damaged.map(moment),
            };
            let rows = self.stores.iter().flatten().find(|row| row.name == store);
            let drives = rows.map_or(&[][..], |row| &row.drives.drives);
            if drives.len() < 2 {
                copies.push(copy(store, site, newest));
                continue;
            }
            // Drives that take turns are copies of their own, and one that is away is elsewhere.
            for drive in drives {
                let site = match drive.mount {
                    Some(_) => site.clone(),
                    None => Site { name: drive.name.clone(), is_away: true },
                };
                // What is known of a drive is its newest snapshot of any plan.
                let until = drive.newest.filter(|_| drive.mount.is_none());
                let of_drive = match (drive.mount.is_some(), until) {
                    (true, _) => newest,
                    (false, None) => None,
                    (false, Some(until)) => {
                        let marks = lane.marks.iter().rev().map(|mark| mark.time);
                        marks.into_iter().find(|time| *time <= until)
                    }
                };
                copies.push(copy(&drive.name, site, of_drive));
            }
        }
        let drills = self.drills.get(&lane.name).map_or(&[][..], Vec::as_slice);
        let good = drills.iter().find(|drill| drill.wrong == 0).map(|drill| drill.started);
        let bad = drills.iter().find(|drill| drill.wrong > 0).map(|drill| drill.started);
        let back = drills.iter().find_map(|drill| drill.whole_seconds);
        Proofs {
            copies,
            drilled: good.map(moment),
            mismatched: bad.filter(|bad| good.is_none_or(|good| good < *bad)).map(moment),
            back: back.and_then(|seconds| SignedDuration::try_from_secs_f64(seconds).ok()),
        }
    }

    /// When a store was last verified, and since when it is known to be damaged.
    fn verified(&self, store: &str) -> (Option<i64>, Option<i64>) {
        let Some(Ok(papers)) = &self.journal else { return (None, None) };
        let newest = |outcome: Outcome| {
            let is_it = |entry: &&JournalEntry| {
                entry.work == Recorded::Verify && entry.store == store && entry.outcome == outcome
            };
            papers.iter().map(|(entry, _)| entry).find(is_it).map(|entry| entry.started)
        };
        let (good, bad) = (newest(Outcome::Done), newest(Outcome::Damage));
        (good, bad.filter(|bad| good.is_none_or(|good| good < *bad)))
    }

    /// What a plan lacks, the worst first.
    pub fn weaknesses(&self, lane: &Lane) -> Vec<Weakness> {
        let goals = lane.plan.as_ref().map_or(Goals::default(), |plan| plan.goals);
        self.proofs(lane).weaknesses(&goals, moment(self.now))
    }
}

fn long(time: SignedDuration) -> String {
    words::seconds(time.as_secs_f64())
}

/// A weakness in one sentence.
pub(super) fn sentence(weakness: &Weakness, now: i64) -> String {
    let ago = |at: &Timestamp| format!("{} ago", words::age(now - at.as_millisecond()));
    let many = |count: u32| words::counted(u64::from(count), "copy", "copies");
    match weakness {
        Weakness::NoSnapshot => "There is no snapshot yet.".to_owned(),
        Weakness::Damaged { copy, since, .. } => {
            format!("{copy} was found damaged {}.", ago(since))
        }
        Weakness::Mismatched { since } => {
            format!("A drill {} restored files that did not match.", ago(since))
        }
        Weakness::Old { newest, goal } => {
            format!("The newest snapshot was made {}; the goal is {}.", ago(newest), long(*goal))
        }
        Weakness::Copies { have, goal, shared } => {
            let shared = shared
                .as_ref()
                .map_or(String::new(), |site| format!(" (those at {site} count once)"));
            format!("{} of {goal} wanted{shared}.", many(*have))
        }
        Weakness::OffSite { have, goal } => {
            format!("{} off site, {goal} wanted.", many(*have))
        }
        Weakness::Slow { takes, goal } => {
            format!("A full restore takes about {}; the goal is {}.", long(*takes), long(*goal))
        }
        Weakness::Unmeasured => "Nothing tells how long a full restore takes.".to_owned(),
        Weakness::OnlyCopy { site } => format!("The only copy is at {site}."),
        Weakness::NeverDrilled => "No restore was ever drilled.".to_owned(),
        Weakness::NeverVerified { copy, .. } => format!("{copy} was never verified."),
        Weakness::DrilledLongAgo { at } => format!("The last drill was {}.", ago(at)),
        Weakness::VerifiedLongAgo { copy, at, .. } => format!("{copy} was verified {}.", ago(at)),
    }
}

/// What to do about it.
pub(super) fn remedy(weakness: &Weakness, plan: &str) -> String {
    match weakness {
        Weakness::NoSnapshot | Weakness::Old { .. } => format!("skellin run {plan}"),
        Weakness::Damaged { store, .. }
        | Weakness::NeverVerified { store, .. }
        | Weakness::VerifiedLongAgo { store, .. } => format!("skellin verify {store}"),
        Weakness::Mismatched { .. } => format!(
            "Enter on the drill in the journal (j) lists them; skellin run {plan} stores them again"
        ),
        Weakness::Copies { .. } | Weakness::OffSite { .. } | Weakness::OnlyCopy { .. } => {
            "replicate = [\"STORE\"] in the plan, to a store elsewhere".to_owned()
        }
        Weakness::Slow { .. } => "a nearer copy, or back-within in [goal]".to_owned(),
        Weakness::Unmeasured | Weakness::NeverDrilled | Weakness::DrilledLongAgo { .. } => {
            format!("d drills it now, or skellin drill {plan}")
        }
    }
}
