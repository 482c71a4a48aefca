//! What is known of a plan's copies, measured against its goal: the weakest point, and why.

use jiff::{SignedDuration, Timestamp};

use crate::{goals::Goals, places::PlaceSpec, stores::StoreConfig};

/// Proofs older than this are told as old.
const LONG_AGO: SignedDuration = SignedDuration::from_hours(24 * 90);

/// Where a store stands: copies at one site, or of one provider, are lost together.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Site {
    /// Its name.
    pub name: String,
    /// Whether it is elsewhere than the sources.
    pub is_away: bool,
}

impl Site {
    /// That of a store: what its entry says, else the host that serves it, else this machine.
    #[must_use]
    pub fn of(store: &StoreConfig, machine: &str) -> Self {
        let host = match &store.place {
            PlaceSpec::Sftp(host)
            | PlaceSpec::WebDav { host, .. }
            | PlaceSpec::Ftp { host, .. } => Some(host.host.clone()),
            PlaceSpec::S3(bucket) => {
                Some(store.access.objects.endpoint.clone().unwrap_or_else(|| bucket.bucket.clone()))
            }
            _ => None,
        };
        let is_far = host.is_some();
        let name = store.site.clone().or(host).unwrap_or_else(|| machine.to_owned());
        let is_away = name != machine && (is_far || store.site.is_some());
        Self { name, is_away }
    }
}

/// A copy of a plan's snapshots.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlanCopyFacts {
    /// The store.
    pub store: String,
    /// The store, or the drive.
    pub name: String,
    /// Where it is.
    pub site: Site,
    /// When the newest snapshot in it was begun; none if it has none.
    pub newest: Option<Timestamp>,
    /// When it was last verified without damage.
    pub verified: Option<Timestamp>,
    /// When it was last found damaged, if nothing good is known since.
    pub damaged: Option<Timestamp>,
}

/// What is known of a plan.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Proofs {
    /// Its copies, that in its own store first.
    pub copies: Vec<PlanCopyFacts>,
    /// When a drill last showed that everything matches.
    pub drilled: Option<Timestamp>,
    /// When a drill last found something that does not match, if no good one followed.
    pub mismatched: Option<Timestamp>,
    /// How long a restore of everything takes, as a drill has measured.
    pub back: Option<SignedDuration>,
}

/// What a plan lacks; those that come first are worse.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Weakness {
    /// There is no snapshot anywhere.
    NoSnapshot,
    /// A copy was found damaged.
    Damaged {
        /// Which.
        copy: String,
        /// Its store.
        store: String,
        /// When.
        since: Timestamp,
    },
    /// A drill found what does not match.
    Mismatched {
        /// When.
        since: Timestamp,
    },
    /// The newest snapshot is older than the goal.
    Old {
        /// When it was begun.
        newest: Timestamp,
        /// The goal.
        goal: SignedDuration,
    },
    /// There are fewer copies than the goal, those at one site counted once.
    Copies {
        /// How many.
        have: u32,
        /// The goal.
        goal: u32,
        /// Copies that share a site, where that is why.
        shared: Option<String>,
    },
    /// Fewer of them are elsewhere than the goal.
    OffSite {
        /// How many.
        have: u32,
        /// The goal.
        goal: u32,
    },
    /// A restore of everything takes longer than the goal.
    Slow {
        /// How long.
        takes: SignedDuration,
        /// The goal.
        goal: SignedDuration,
    },
    /// Nothing tells how long a restore of everything takes, and there is a goal for that.
    Unmeasured,
    /// There is no second copy, and no goal that asks for one.
    OnlyCopy {
        /// Where it is.
        site: String,
    },
    /// No restore was ever drilled.
    NeverDrilled,
    /// A copy was never verified.
    NeverVerified {
        /// Which.
        copy: String,
        /// Its store.
        store: String,
    },
    /// The last drill is long ago.
    DrilledLongAgo {
        /// When.
        at: Timestamp,
    },
    /// The last verification of a copy is long ago.
    VerifiedLongAgo {
        /// Which.
        copy: String,
        /// Its store.
        store: String,
        /// When.
        at: Timestamp,
    },
}

impl Weakness {
    /// Whether something is broken or a goal is missed, as against not proven.
    #[must_use]
    pub fn is_failure(&self) -> bool {
        !matches!(
            self,
            Self::OnlyCopy { .. }
                | Self::NeverDrilled
                | Self::NeverVerified { .. }
                | Self::DrilledLongAgo { .. }
                | Self::VerifiedLongAgo { .. }
        )
    }
}

impl Proofs {
    /// The copies that have a snapshot.
    fn filled(&self) -> impl Iterator<Item = &PlanCopyFacts> {
        self.copies.iter().filter(|copy| copy.newest.is_some())
    }

    /// The sites with a copy, each once.
    fn sites(&self) -> Vec<&Site> {
        let mut sites: Vec<&Site> = self.filled().map(|copy| &copy.site).collect();
        sites.sort();
        sites.dedup();
        sites
    }

    /// How many copies there are, those at one site counted once, and how many of them are elsewhere.
    #[must_use]
    pub fn counted(&self) -> (u32, u32) {
        let sites = self.sites();
        let away = sites.iter().filter(|site| site.is_away).count();
        (sites.len() as u32, away as u32)
    }

    /// A site that has several of the copies.
    fn shared(&self) -> Option<String> {
        let sites = self.sites();
        let has_several =
            |site: &&&Site| self.filled().filter(|copy| copy.site == ***site).count() > 1;
        sites.iter().find(has_several).map(|site| site.name.clone())
    }

    /// What is lacking, the worst first.
    #[must_use]
    pub fn weaknesses(&self, goals: &Goals, now: Timestamp) -> Vec<Weakness> {
        let mut found = Vec::new();
        let Some(newest) = self.copies.iter().filter_map(|copy| copy.newest).max() else {
            return vec![Weakness::NoSnapshot];
        };
        for copy in &self.copies {
            if let Some(since) = copy.damaged {
                let (copy, store) = (copy.name.clone(), copy.store.clone());
                found.push(Weakness::Damaged { copy, store, since });
            }
        }
        found.extend(self.mismatched.map(|since| Weakness::Mismatched { since }));
        if let Some(goal) = goals.newest_within
            && now.duration_since(newest) > goal
        {
            found.push(Weakness::Old { newest, goal });
        }
        let (have, away) = self.counted();
        if let Some(goal) = goals.copies.filter(|goal| have < *goal) {
            found.push(Weakness::Copies { have, goal, shared: self.shared() });
        }
        if let Some(goal) = goals.off_site.filter(|goal| away < *goal) {
            found.push(Weakness::OffSite { have: away, goal });
        }
        match (goals.back_within, self.back) {
            (Some(goal), Some(takes)) if takes > goal => {
                found.push(Weakness::Slow { takes, goal });
            }
            (Some(_), None) => found.push(Weakness::Unmeasured),
            _ => {}
        }
        let is_old = |at: &Timestamp| now.duration_since(*at) > LONG_AGO;
        if let (None, [site]) = (goals.copies, self.sites().as_slice()) {
            found.push(Weakness::OnlyCopy { site: site.name.clone() });
        }
        if self.drilled.is_none() && self.mismatched.is_none() {
            found.push(Weakness::NeverDrilled);
        }
        for copy in self.filled().filter(|copy| copy.verified.is_none() && copy.damaged.is_none()) {
            let (copy, store) = (copy.name.clone(), copy.store.clone());
            found.push(Weakness::NeverVerified { copy, store });
        }
        found.extend(self.drilled.filter(is_old).map(|at| Weakness::DrilledLongAgo { at }));
        for copy in self.filled() {
            if let Some(at) = copy.verified.filter(is_old) {
                let (copy, store) = (copy.name.clone(), copy.store.clone());
                found.push(Weakness::VerifiedLongAgo { copy, store, at });
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::parse_stores;

    fn at(day: i64) -> Timestamp {
        Timestamp::from_second(1_790_000_000 + day * 86_400).expect("a time")
    }

    fn copy(name: &str, site: &str, is_away: bool) -> PlanCopyFacts {
        let site = Site { name: site.to_owned(), is_away };
        let (newest, verified) = (Some(at(99)), Some(at(90)));
        let (store, name) = (name.to_owned(), name.to_owned());
        PlanCopyFacts { store, name, site, newest, verified, damaged: None }
    }

    fn goals() -> Goals {
        let hours = SignedDuration::from_hours;
        Goals {
            copies: Some(3),
            off_site: Some(1),
            newest_within: Some(hours(48)),
            back_within: Some(hours(4)),
        }
    }

    fn fine() -> Proofs {
        Proofs {
            copies: vec![
                copy("oak", "hut", false),
                copy("pier", "pier", true),
                copy("offshore", "ridge-north", true),
            ],
            drilled: Some(at(80)),
            mismatched: None,
            back: Some(SignedDuration::from_mins(50)),
        }
    }

    #[test]
    fn each_lack_is_found_and_what_is_broken_comes_first() {
        let (now, pier) = (at(100), || "pier".to_owned());
        let alone = Proofs { copies: vec![copy("oak", "hut", false)], ..fine() };
        let only = alone.weaknesses(&Goals::default(), now);
        assert_eq!(only, [Weakness::OnlyCopy { site: "hut".to_owned() }]);
        assert!(!only[0].is_failure());
        assert_eq!(fine().weaknesses(&goals(), now), []);
        let first = |change: &dyn Fn(&mut Proofs)| {
            let mut proofs = fine();
            change(&mut proofs);
            proofs.weaknesses(&goals(), now).into_iter().next().expect("a weakness")
        };
        assert_eq!(first(&|proofs| proofs.copies.clear()), Weakness::NoSnapshot);
        // Two stores at one site burn together.
        let together = first(&|proofs| proofs.copies[2].site = proofs.copies[1].site.clone());
        let shared = Some("pier".to_owned());
        assert_eq!(together, Weakness::Copies { have: 2, goal: 3, shared });
        let near = first(&|proofs| {
            proofs.copies[1].site.is_away = false;
            proofs.copies[2].site.is_away = false;
        });
        assert_eq!(near, Weakness::OffSite { have: 0, goal: 1 });
        let empty = first(&|proofs| proofs.copies[1].newest = None);
        assert_eq!(empty, Weakness::Copies { have: 2, goal: 3, shared: None });
        let old = first(&|proofs| {
            for copy in &mut proofs.copies {
                copy.newest = Some(at(90));
            }
        });
        assert!(matches!(old, Weakness::Old { .. }), "{old:?}");
        let slow = first(&|proofs| proofs.back = Some(SignedDuration::from_hours(5)));
        assert!(matches!(slow, Weakness::Slow { .. }), "{slow:?}");
        assert_eq!(first(&|proofs| proofs.back = None), Weakness::Unmeasured);
        assert_eq!(first(&|proofs| proofs.drilled = None), Weakness::NeverDrilled);
        let damaged = first(&|proofs| {
            proofs.drilled = None;
            proofs.copies[1].damaged = Some(at(95));
        });
        assert_eq!(damaged, Weakness::Damaged { copy: pier(), store: pier(), since: at(95) });
        let unverified = first(&|proofs| proofs.copies[1].verified = None);
        assert_eq!(unverified, Weakness::NeverVerified { copy: pier(), store: pier() });
        let long_ago = first(&|proofs| proofs.drilled = Some(at(1)));
        assert_eq!(long_ago, Weakness::DrilledLongAgo { at: at(1) });
    }

    #[test]
    fn where_a_store_stands_follows_from_its_entry() {
        let text = "[oak]\nplace = \"drive:/skellin\"\n[elm]\nplace = \"/mnt/elm\"\nsite = \"harbour\"\n[pier]\nplace = \"sftp://keeper@pier/srv\"\n[offshore]\nplace = \"s3://fennick-ridge/hut\"\nendpoint = \"https://north.example\"\nregion = \"north-1\"\ncredentials = \"instance\"\n[ash]\nplace = \"sftp://hut/srv\"\n";
        let stores = parse_stores("stores.toml", text, &|_: &str| None);
        assert!(stores.problems.is_empty(), "{:?}", stores.problems);
        let site = |name: &str| {
            let site = Site::of(&stores.fine[name], "hut");
            (site.name, site.is_away)
        };
        assert_eq!(site("oak"), ("hut".to_owned(), false));
        assert_eq!(site("elm"), ("harbour".to_owned(), true));
        assert_eq!(site("pier"), ("pier".to_owned(), true));
        assert_eq!(site("offshore"), ("https://north.example".to_owned(), true));
        assert_eq!(site("ash"), ("hut".to_owned(), false), "a server on this machine");
    }

    proptest! {
        /// More is never worse: a further copy, verification or drill brings no new failure.
        #[test]
        fn more_is_never_worse(
            sites in prop::collection::vec((0u8..4, any::<bool>(), any::<bool>()), 1..6),
            goal in 1u32..5,
        ) {
            let copies: Vec<PlanCopyFacts> = sites
                .iter()
                .map(|(site, is_away, is_filled)| PlanCopyFacts {
                    newest: is_filled.then(|| at(99)),
                    ..copy("x", &format!("s{site}"), *is_away)
                })
                .collect();
            let goals = Goals { copies: Some(goal), off_site: Some(1), ..Goals::default() };
            let failures = |copies: &[PlanCopyFacts]| {
                let proofs = Proofs { copies: copies.to_vec(), ..fine() };
                let found = proofs.weaknesses(&goals, at(100));
                found.iter().filter(|weakness| weakness.is_failure()).count()
            };
            // One by one, each beside those before; the first may be the first snapshot at all.
            let filled: Vec<_> =
                copies.into_iter().filter(|copy| copy.newest.is_some()).collect();
            for number in 1..filled.len() {
                prop_assert!(failures(&filled[..=number]) <= failures(&filled[..number]));
            }
        }
    }
}
