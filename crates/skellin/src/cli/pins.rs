//! What keeps snapshots, and pins.

use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

use serde_json::json;
use skellin_engine::{Configuration, expire::fates};
use skellin_plan::retention::Room;
use skellin_store::{RunId, Snapshot, Store};

use super::{WhichStore, context::Context, error::CliError};
use crate::{exit::Exit, words};

/// What keeps each snapshot.
pub(super) struct Kept {
    configuration: Configuration,
    now: i64,
    pub pinned: HashSet<RunId>,
    pub by: HashMap<RunId, Vec<String>>,
}

impl Kept {
    pub fn of(context: &Context, which: &WhichStore) -> Self {
        // What is configured here says nothing of a store that was named by its place.
        let configuration = match which.place {
            Some(_) => Configuration::empty(context.folders.clone()),
            None => context.lenient_configuration(),
        };
        let now = jiff::Timestamp::now().as_millisecond();
        Self { configuration, now, pinned: HashSet::new(), by: HashMap::new() }
    }

    /// Takes up what is in a store.
    pub fn learn(&mut self, store: &str, snapshots: &[Snapshot], pins: HashSet<RunId>) {
        let plans = self.configuration.plans.iter().filter_map(|file| file.plan.as_ref());
        for plan in
            plans.filter(|plan| plan.store == store || plan.replicas().any(|to| to == store))
        {
            let own = snapshots.iter().filter(|one| one.plan == plan.series()).cloned().collect();
            let room = Room::default();
            let appraisal = fates(own, (plan, store), &pins, self.now, room, &mut |_| 0);
            for fate in appraisal.fates.iter().filter(|fate| fate.decision.stays()) {
                self.by.insert(fate.snapshot.run, appraisal.because(fate));
            }
        }
        self.pinned.extend(pins);
    }
}

/// Pins a snapshot, or takes its pin away, in the stores that have it.
pub(super) fn pin(
    context: &Context,
    stores: &[(String, Arc<Store>)],
    id: &str,
    pinned: bool,
) -> Result<Exit, CliError> {
    let mut of: Vec<(String, Snapshot)> = Vec::new();
    context.attending(stores, || {
        for (name, store) in stores {
            let listed = store.snapshots()?;
            let mut fitting = listed.iter().filter(|one| one.run.to_string().starts_with(id));
            match (fitting.next(), fitting.next()) {
                (Some(one), None) => of.push((name.clone(), store.read_snapshot(one)?)),
                (Some(_), Some(_)) => {
                    let what =
                        format!("several snapshots of {name} have an id that begins with {id}");
                    return Err(CliError::usage(what, "give more of the id"));
                }
                (None, _) => {}
            }
        }
        if of.is_empty() {
            let what = format!("no snapshot has an id that begins with {id}");
            return Err(CliError::usage(
                what,
                "skellin history lists the snapshots with their ids",
            ));
        }
        for (name, snapshot) in &of {
            let store = stores.iter().find(|(other, _)| other == name).map(|(_, store)| store);
            let Some(store) = store else { continue };
            match pinned {
                true => store.pin(snapshot.run, &crate::machine::machine_name())?,
                false => store.unpin(snapshot.run)?,
            }
        }
        Ok(())
    })?;
    context.print(
        || {
            let of = of.iter().map(|(store, snapshot)| {
                json!({"id": snapshot.run.to_string(), "plan": snapshot.plan,
                "store": store, "time": words::rfc3339(snapshot.started), "pinned": pinned})
            });
            json!({"snapshots": of.collect::<Vec<_>>()})
        },
        || {
            let line = |(store, snapshot): &(String, Snapshot)| {
                let what = if pinned { "pinned, it never expires" } else { "not pinned" };
                let (plan, time) =
                    (words::path(snapshot.plan.as_bytes()), words::moment(snapshot.started));
                format!("{plan} of {time} in {store}: {what}\n")
            };
            of.iter().map(line).collect()
        },
    );
    Ok(Exit::Done)
}
