//! Opening a store: its header and the slots of its passphrases, each of which lies there twice.
//!
//! Nothing here is authentic before a slot has opened, so that everything is bounded: how many
//! slots are tried, what they may cost, how long an object may be.

use skellin_place::{ObjectName, Place};
use zeroize::Zeroizing;

use crate::{
    error::{Result, StoreError},
    format::{bounds, header::Header, keys::Held, slot::Slot},
    index::Cache,
    reading::{
        nearby::{self, Opened},
        rereading::twice,
    },
};

pub(crate) const HEADER_NAMES: [&str; 2] = ["skellin-store", "skellin-store.spare"];
/// All slots that are tried may cost so much together, in KiB times passes: about 200 times the
/// usual one. One slot is always tried.
const MOST_COST: u64 = 40 << 20;

/// What opening a store yields.
pub(crate) struct Unlocked {
    pub header: Header,
    pub epoch: u32,
    pub held: Held,
}

fn name(text: impl Into<String>) -> Result<ObjectName> {
    Ok(ObjectName::new(text)?)
}

/// Opens a store's header and slot with a passphrase; which slot it was is remembered.
pub(crate) fn unlock(place: &dyn Place, passphrase: &[u8], cache: &Cache) -> Result<Unlocked> {
    let before = nearby::last_opened(cache, &place.describe());
    if place.is_far()
        && let Some(unlocked) =
            before.as_ref().and_then(|known| as_before(place, passphrase, known))
    {
        return Ok(unlocked);
    }
    let (unlocked, opened) =
        try_all(place, passphrase, before.as_ref().map(|known| known.slot.as_str()))?;
    nearby::note_opened(cache, &place.describe(), &opened);
    Ok(unlocked)
}

/// Opens a store whose header and slot are known from before: one request. `None` if anything is
/// other than it was.
fn as_before(place: &dyn Place, passphrase: &[u8], known: &Opened) -> Option<Unlocked> {
    let header = Header::decode(&known.header, HEADER_NAMES[0]).ok()?;
    let sealed = Zeroizing::new(place.fetch(&name(&known.slot).ok()?, bounds::SMALL).ok()?);
    // The slot is bound to the header: if it opens, both are those of the store at this place.
    let slot = Slot::decode(&sealed, &known.slot).ok()?;
    let (epoch, held) = slot.open(passphrase, &known.header, &known.slot).ok()??;
    Some(Unlocked { header, epoch, held })
}

/// The headers that can be read, as they are and as they lie there: one, or two if they differ. The
/// second is read only where the first does not do.
struct Headers<'p> {
    place: &'p dyn Place,
    unread: std::slice::Iter<'static, &'static str>,
    found: Vec<(Header, Vec<u8>)>,
    first: Option<StoreError>,
}

impl<'p> Headers<'p> {
    /// # Errors
    /// If there is none.
    fn of(place: &'p dyn Place) -> Result<Self> {
        let mut headers =
            Self { place, unread: HEADER_NAMES.iter(), found: Vec::new(), first: None };
        if headers.get(0)?.is_some() {
            return Ok(headers);
        }
        Err(match headers.first {
            Some(StoreError::Place(error)) if !error.is_not_found() => StoreError::Place(error),
            Some(StoreError::Place(_)) | None => StoreError::NoStore(place.describe()),
            Some(error) => error,
        })
    }

    fn get(&mut self, number: usize) -> Result<Option<&(Header, Vec<u8>)>> {
        while self.found.len() <= number {
            let Some(copy) = self.unread.next() else { return Ok(None) };
            let object = name(*copy)?;
            let read = || {
                let bytes = self.place.fetch(&object, bounds::SMALL)?;
                Ok((Header::decode(&bytes, copy)?, bytes))
            };
            match twice(self.place, read) {
                Ok((_, bytes)) if self.found.iter().any(|(_, known)| *known == bytes) => {}
                Ok(read) => self.found.push(read),
                Err(error) => self.first = self.first.take().or(Some(error)),
            }
        }
        Ok(self.found.get(number))
    }
}

/// The header of the store at a place, as it is told before anything proves it.
pub(crate) fn read_header(place: &dyn Place) -> Result<Header> {
    Ok(Headers::of(place)?.found.swap_remove(0).0)
}

/// A slot that may be tried, and the copies of it that differ.
pub(crate) struct Candidate {
    pub id: String,
    pub copies: Vec<(ObjectName, Slot)>,
}

/// Tries a passphrase on every slot: the one that fitted last first, then the cheap ones.
pub(crate) fn try_all(
    place: &dyn Place,
    passphrase: &[u8],
    first: Option<&str>,
) -> Result<(Unlocked, Opened)> {
    let mut headers = Headers::of(place)?;
    let (mut candidates, mut trouble) = read_slots(place)?;
    let id_of =
        |object: &str| object.trim_start_matches("keys/").split('.').next().map(str::to_owned);
    let own = first.and_then(id_of);
    candidates.sort_by_key(|slot| {
        let cost = slot.copies.iter().map(|(_, slot)| slot.cost()).max();
        (Some(&slot.id) != own.as_ref(), cost)
    });
    let (mut spent, mut tried) = (0u64, 0);
    for Candidate { copies, .. } in candidates {
        for (number, (object, slot)) in copies.into_iter().enumerate() {
            spent = spent.saturating_add(slot.cost());
            if tried > 0 && spent > MOST_COST {
                let why = "there are too many passphrase slots";
                trouble = trouble.or(Some(StoreError::damaged("keys", why)));
                break;
            }
            tried += usize::from(number == 0);
            let mut which = 0;
            while let Some((header, bytes)) = headers.get(which)? {
                which += 1;
                match slot.open(passphrase, bytes, object.as_str()) {
                    Ok(Some((epoch, held))) => {
                        let slot = object.as_str().to_owned();
                        let opened = Opened { slot, header: bytes.clone() };
                        let header = header.clone();
                        return Ok((Unlocked { header, epoch, held }, opened));
                    }
                    Ok(None) => break,
                    Err(error) => trouble = trouble.or(Some(error)),
                }
            }
        }
    }
    match trouble {
        // With a slot that cannot be read nobody knows whether it would have fitted.
        Some(error) => Err(error),
        None => Err(StoreError::WrongPassphrase { slots: tried }),
    }
}

/// Every slot at the place, with its copies as far as they can be read and differ; and what was
/// wrong with slots of which no copy can be.
pub(crate) fn read_slots(place: &dyn Place) -> Result<(Vec<Candidate>, Option<StoreError>)> {
    let mut names: Vec<ObjectName> =
        place.listing("keys")?.into_iter().map(|object| object.name).collect();
    names.sort();
    let mut candidates: Vec<Candidate> = Vec::new();
    let mut failed: Vec<(String, StoreError)> = Vec::new();
    for object in names {
        let id = object.leaf().split('.').next().unwrap_or_default().to_owned();
        let known = candidates.iter_mut().find(|slot| slot.id == id);
        if place.is_far() && known.as_ref().is_some_and(|slot| slot.copies[0].1.is_proven()) {
            continue;
        }
        let read = || {
            let bytes = Zeroizing::new(place.fetch(&object, bounds::SMALL)?);
            Slot::decode(&bytes, object.as_str())
        };
        match (twice(place, read), known) {
            (Ok(slot), Some(known)) => {
                if known.copies.iter().all(|(_, other)| *other != slot) {
                    known.copies.push((object, slot));
                }
            }
            (Ok(slot), None) => candidates.push(Candidate { id, copies: vec![(object, slot)] }),
            (Err(error), _) => failed.push((id, error)),
        }
    }
    failed.retain(|(id, _)| candidates.iter().all(|slot| slot.id != *id));
    Ok((candidates, failed.into_iter().next().map(|(_, error)| error)))
}

/// What is wrong with the header, the slots, or their copies.
pub(crate) fn examine(place: &dyn Place, header: &Header) -> Result<Vec<(String, String)>> {
    let mut wrong = Vec::new();
    let mut note = |object: &str, why: String| wrong.push((object.to_owned(), why));
    for copy in HEADER_NAMES {
        let object = name(copy)?;
        let read = || Header::decode(&place.fetch(&object, bounds::SMALL)?, copy);
        match twice(place, read) {
            Ok(found) if found == *header => {}
            Ok(_) => note(copy, "it is the header of another store, or was modified".to_owned()),
            Err(error) if passes_over(&error) => note(copy, error.in_short()),
            Err(error) => return Err(error),
        }
    }
    let mut ids: Vec<String> = place
        .listing("keys")?
        .iter()
        .map(|object| object.name.leaf().split('.').next().unwrap_or_default().to_owned())
        .collect();
    ids.sort();
    ids.dedup();
    for id in ids {
        let mut copies = Vec::new();
        for copy in ["a", "b"] {
            let object = format!("keys/{id}.{copy}");
            let slot = name(&object)?;
            let read = || {
                let bytes = Zeroizing::new(place.fetch(&slot, bounds::SMALL)?);
                Slot::decode(&bytes, &object)
            };
            match twice(place, read) {
                Ok(slot) => copies.push(slot),
                Err(error) if passes_over(&error) => note(&object, error.in_short()),
                Err(error) => return Err(error),
            }
        }
        if let [first, second] = copies.as_slice()
            && first != second
        {
            note(&format!("keys/{id}"), "its two copies differ".to_owned());
        }
    }
    Ok(wrong)
}

/// Whether a check goes on after it.
pub(crate) fn passes_over(error: &StoreError) -> bool {
    error.is_unreadable() || matches!(error, StoreError::Newer { .. })
}
