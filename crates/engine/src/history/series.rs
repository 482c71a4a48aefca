//! The snapshots of a plan on a machine, wherever they lie, and paths that are found in them.

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    sync::Mutex,
};

use skellin_plan::Query;
use skellin_store::{Entry, ListedSnapshot, Snapshot, Store, StoreError};

use super::{Asked, Hit, Span, find, snapshots};
use crate::{
    error::{EngineError, Result},
    locked::locked,
};

/// The snapshots of one plan on one machine. One that several stores have is looked for in the first.
#[derive(Debug)]
pub struct Series {
    /// The plan.
    pub plan: String,
    /// The machine.
    pub machine: String,
    /// The number of a store, and what is looked for there, oldest first.
    parts: Vec<(usize, Vec<Snapshot>)>,
    /// The times of all, in milliseconds since 1970, in order.
    times: Vec<i64>,
}

/// Which snapshots are looked through.
#[derive(Clone, Copy, Debug, Default)]
pub struct Which<'a> {
    /// Of this plan.
    pub plan: Option<&'a str>,
    /// Of this machine.
    pub machine: Option<&'a str>,
    /// Not taken before, in milliseconds since 1970.
    pub since: Option<i64>,
    /// Not taken after, in milliseconds since 1970.
    pub until: Option<i64>,
}

/// The series that stores hold. Snapshots that cannot be read are handed to `damaged`.
///
/// # Errors
/// If a place fails.
pub fn series(
    stores: &[&Store],
    which: Which<'_>,
    damaged: &mut dyn FnMut(&ListedSnapshot, EngineError),
) -> Result<Vec<Series>> {
    let mut found: BTreeMap<(String, String), Series> = BTreeMap::new();
    let mut known = HashSet::new();
    for (number, store) in stores.iter().enumerate() {
        for snapshot in snapshots(store, which.plan, &mut *damaged)? {
            let time = snapshot.started;
            let is_asked = which.machine.is_none_or(|machine| machine == snapshot.machine)
                && which.since.is_none_or(|since| since <= time)
                && which.until.is_none_or(|until| time <= until);
            let key = (snapshot.plan.clone(), snapshot.machine.clone());
            if !is_asked || !known.insert((key.clone(), time)) {
                continue;
            }
            let series = found.entry(key).or_insert_with_key(|(plan, machine)| Series {
                plan: plan.clone(),
                machine: machine.clone(),
                parts: Vec::new(),
                times: Vec::new(),
            });
            series.times.push(time);
            match series.parts.last_mut().filter(|(store, _)| *store == number) {
                Some((_, part)) => part.push(snapshot),
                None => series.parts.push((number, vec![snapshot])),
            }
        }
    }
    let mut found: Vec<Series> = found.into_values().collect();
    found.iter_mut().for_each(|series| series.times.sort_unstable());
    Ok(found)
}

impl Series {
    /// How many snapshots it has.
    #[must_use]
    pub fn len(&self) -> usize {
        self.times.len()
    }

    /// Whether it has none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.times.is_empty()
    }

    /// Finds paths in it, in the stores it was taken from; each comes once, as soon as it is known.
    ///
    /// # Errors
    /// As [`find`].
    pub fn search(
        &self,
        stores: &[&Store],
        (query, only_gone): (&Query, bool),
        is_cancelled: &(dyn Fn() -> bool + Sync),
        each: &(dyn Fn(Hit) + Sync),
        lost: &(dyn Fn(&[u8], &StoreError) + Sync),
    ) -> Result<()> {
        let ask = |snapshots, only_gone| Asked { snapshots, query, only_gone, is_cancelled };
        if let [(store, snapshots)] = self.parts.as_slice() {
            let asked = ask(snapshots.as_slice(), only_gone);
            return find(stores[*store], &asked, each, lost);
        }
        // What one store has no more another may have: only all together tell.
        let found: Mutex<HashMap<Vec<u8>, Gathered>> = Mutex::default();
        for (store, snapshots) in &self.parts {
            let times: Vec<i64> = snapshots.iter().map(|snapshot| snapshot.started).collect();
            let gather = |hit: Hit| {
                locked(&found).entry(hit.path.clone()).or_default().add(hit, &times);
            };
            find(stores[*store], &ask(snapshots.as_slice(), false), &gather, lost)?;
        }
        let found = found.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        let found: HashMap<Vec<u8>, Hit> = found
            .into_iter()
            .filter_map(|(path, gathered)| Some((path.clone(), gathered.hit(path, &self.times)?)))
            .collect();
        let mut paths: Vec<&Vec<u8>> = found.keys().collect();
        paths.sort_unstable();
        let goes_with_its_directory = |hit: &Hit| {
            let above = hit.path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
            found.get(&hit.path[..above]).is_some_and(|above| above.gone == hit.gone)
        };
        for hit in paths.into_iter().filter_map(|path| found.get(path)) {
            if !only_gone || hit.gone.is_some() && !goes_with_its_directory(hit) {
                each(hit.clone());
            }
        }
        Ok(())
    }
}

/// What was found of one path in several stores.
#[derive(Default)]
struct Gathered {
    /// It at each moment.
    moments: Vec<Span>,
    entry: Option<(i64, Entry)>,
}

impl Gathered {
    /// `times`: those of the snapshots it was looked for in.
    fn add(&mut self, hit: Hit, times: &[i64]) {
        for span in &hit.spans {
            let within = times.iter().filter(|time| (span.first..=span.last).contains(time));
            self.moments.extend(within.map(|time| Span { first: *time, last: *time, ..*span }));
        }
        let last = hit.spans.last().map_or(i64::MIN, |span| span.last);
        if self.entry.as_ref().is_none_or(|(known, _)| *known < last) {
            self.entry = Some((last, hit.entry));
        }
    }

    /// All of it, beside the times of all snapshots. Two versions of the same size and time are one.
    fn hit(mut self, path: Vec<u8>, times: &[i64]) -> Option<Hit> {
        self.moments.sort_by_key(|span| span.first);
        let after = |time: i64| times.get(times.partition_point(|other| *other <= time)).copied();
        let mut spans: Vec<Span> = Vec::new();
        for span in self.moments {
            let goes_on = |before: &&mut Span| {
                (before.size, before.modified) == (span.size, span.modified)
                    && after(before.last).is_none_or(|next| next >= span.first)
            };
            match spans.last_mut().filter(goes_on) {
                Some(before) => before.last = span.last,
                None => spans.push(span),
            }
        }
        let gone = spans.last().and_then(|span| after(span.last));
        Some(Hit { path, spans, entry: self.entry?.1, gone })
    }
}
