//! What those who take part do, each as a process of its own would.

use std::{sync::Arc, time::Duration};

use skellin_place::Place;

use super::{open, turns::Done};
use crate::{
    Body, Compression, Entry, Order, Reclaim, Result, Session, SessionStart, StoreError,
    protocol_tests::{Unwatched, noise, try_draft, try_put},
};

/// Who takes part, and what they do one after the other.
#[derive(Clone, Debug)]
pub(super) enum Part {
    /// A machine that runs a plan in some nights.
    Writer { plan: u8, nights: Vec<u64> },
    /// A run of a plan of which the files are known by numbers.
    Run { plan: &'static str, files: &'static [u64] },
    /// Somebody who copies one and the same snapshot here.
    Copier,
    /// Somebody who lets all but the newest snapshots of each plan expire.
    Expirer { times: u8 },
    /// Somebody who reclaims.
    Reclaimer { times: u8 },
}

/// Names and contents.
type Files = Vec<(String, Vec<u8>)>;

/// Contents are shared between nights and plans, so that who reclaims and who writes meet.
fn files(plan: u8, night: u64) -> Files {
    let of = |number: u64| noise(number, 1500 + (number as usize % 3) * 400);
    vec![
        ("a".to_owned(), of(night % 3)),
        ("b".to_owned(), of(10 + (night + u64::from(plan)) % 4)),
        ("c".to_owned(), of(20 + night / 2)),
    ]
}

/// Does a part; `tell` hears what has been done.
pub(super) fn act(place: &Arc<dyn Place>, part: &Part, tell: &mut dyn FnMut(Done)) -> Result<()> {
    match part {
        Part::Writer { plan, nights } => nights.iter().try_for_each(|night| {
            let name = format!("plan-{plan}");
            write(place, (&name, "hut", None), &files(*plan, *night), tell)
        }),
        Part::Run { plan, files } => {
            let file = |number: &u64| (number.to_string(), noise(1000 + number, 2000));
            write(place, (plan, "hut", None), &files.iter().map(file).collect::<Files>(), tell)
        }
        Part::Copier => {
            write(place, ("copied", "mast", Some(Order(77))), &files(1, 4), &mut |_| {})
        }
        Part::Expirer { times } => (0..*times).try_for_each(|_| expire(place, tell)),
        Part::Reclaimer { times } => (0..*times).try_for_each(|_| {
            let reclaim = Reclaim {
                machine: "mast",
                origin: None,
                now: 2_000_000_000,
                waste: 0,
                most: u64::MAX,
                patience: Duration::ZERO,
            };
            open(Arc::clone(place))?.reclaim(&reclaim, &Unwatched).map(drop)
        }),
    }
}

fn write(
    place: &Arc<dyn Place>,
    (plan, machine, order): (&str, &str, Option<Order>),
    files: &[(String, Vec<u8>)],
    tell: &mut dyn FnMut(Done),
) -> Result<()> {
    // A run that was told to check again is done again.
    for _ in 0..4 {
        let store = open(Arc::clone(place))?;
        let start = SessionStart {
            plan,
            machine,
            started: 1_000,
            order,
            origin: None,
            compression: Compression::Default,
        };
        let session = Session::begin(&store, &start)?;
        let entries = entries(&session, files)?;
        session.poll()?;
        match session.finish(try_draft(&session, &entries)?) {
            Ok(_) if order.is_some() => return session.gives_way().map(drop),
            Ok(snapshot) => {
                tell(Done::Ended(snapshot.run));
                return Ok(());
            }
            Err(StoreError::Revoked | StoreError::Unsound(_)) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// What the files are: taken over from the last snapshot where they are unchanged, else stored.
fn entries(session: &Arc<Session>, files: &[(String, Vec<u8>)]) -> Result<Vec<Entry>> {
    let (store, comparison) = (session.store(), session.comparison());
    let mut entries = Vec::new();
    let mut new = Vec::new();
    for (name, content) in files {
        let before = match comparison.base() {
            Some(base) => store.entry(base.root_page(store), name.as_bytes())?,
            None => None,
        };
        // The source tells by size and time; here by the fingerprint of the whole.
        let hash =
            i64::from_le_bytes(*blake3::hash(content).as_bytes().first_chunk().unwrap_or(&[0; 8]));
        let same = before.filter(|entry| entry.modified.seconds == hash);
        let mut taken = None;
        if let Some(mut entry) = same
            && let Body::File { recipe, .. } = &mut entry.body
            && comparison.take_over(recipe)?
        {
            taken = Some(entry);
        }
        match taken {
            Some(entry) => entries.push(entry),
            None => new.push((name.as_str(), content.clone(), hash)),
        }
    }
    let contents: Vec<(&str, Vec<u8>)> =
        new.iter().map(|(name, content, _)| (*name, content.clone())).collect();
    for mut entry in try_put(session, &contents)? {
        let hash = new.iter().find(|(name, ..)| name.as_bytes() == entry.name);
        entry.modified.seconds = hash.map_or(0, |(.., hash)| *hash);
        entries.push(entry);
    }
    entries.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(entries)
}

fn expire(place: &Arc<dyn Place>, tell: &mut dyn FnMut(Done)) -> Result<()> {
    let store = open(Arc::clone(place))?;
    let listed = store.snapshots()?;
    let is_last =
        |at: usize| listed[at + 1..].iter().all(|other| other.lineage != listed[at].lineage);
    let gone: Vec<_> =
        (0..listed.len()).filter(|at| !is_last(*at)).map(|at| listed[at].run).collect();
    gone.iter().for_each(|run| tell(Done::Expires(*run)));
    store.expire(&gone, "mast").map(drop)
}
