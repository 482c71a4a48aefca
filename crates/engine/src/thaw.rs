//! Storage classes from which nothing can be read before it was asked for and thawed.

use std::collections::BTreeSet;

use skellin_place::{ObjectName, Readiness};
use skellin_plan::StoreConfig;
use skellin_store::{Body, Entry, Store};

use crate::{
    clock::Cancel,
    error::{EngineError, Result},
    history::{self, Located},
};

/// Content that has to be thawed before it can be restored.
#[derive(Clone, Debug, PartialEq)]
pub struct Frozen {
    /// The storage class, as the server names it.
    pub class: String,
    /// Objects nobody has asked for yet.
    pub objects: Vec<ObjectName>,
    /// How many were asked for and are not ready yet.
    pub thawing: u64,
    /// Bytes of content that is to be restored.
    pub bytes: u64,
    /// How long it takes, in seconds.
    pub takes: u64,
    /// What fetching these bytes costs, and the currency; unknown without a price.
    pub cost: Option<(f64, String)>,
}

impl Frozen {
    /// What has to be known before it is asked for.
    #[must_use]
    pub fn words(&self) -> String {
        let hours = self.takes.div_ceil(3600);
        let cost = match &self.cost {
            Some((cost, currency)) => format!("costs about {cost:.2} {currency}"),
            None => "at the price of the server (the store has no `price`)".to_owned(),
        };
        let waiting = match self.thawing {
            0 => String::new(),
            many => format!(", {many} more are already being retrieved"),
        };
        format!(
            "{} objects are in cold storage, class {}{waiting}: retrieval takes about {hours} h, and reading {} MiB {cost}",
            self.objects.len(),
            self.class,
            self.bytes.div_ceil(1 << 20),
        )
    }
}

/// What a run into such a store has to say before it starts.
#[must_use]
pub fn warning(config: &StoreConfig) -> Option<String> {
    let objects = &config.access.objects;
    let (class, takes) = (objects.class.as_ref()?, objects.thaw?);
    let cost = config.prices.first().filter(|price| price.fetch_gib > 0.0);
    let cost = cost.map_or(String::new(), |price| {
        format!(" and costs {} {} a GiB", price.fetch_gib, price.currency)
    });
    Some(format!(
        "content is stored in class {class}: reading it back needs retrieval first, about {} h{cost}",
        takes.div_ceil(3600)
    ))
}

/// What of these paths has to be thawed before it can be restored.
///
/// # Errors
/// If trees cannot be read, the place cannot be asked, or it was cancelled.
pub fn frozen(
    store: &Store,
    config: &StoreConfig,
    paths: &[Located],
    cancel: &Cancel,
) -> Result<Option<Frozen>> {
    let objects = &config.access.objects;
    let (Some(class), Some(takes)) = (&objects.class, objects.thaw) else { return Ok(None) };
    let (mut seen, mut names, mut bytes) = (BTreeSet::new(), Vec::new(), 0u64);
    for located in paths {
        history::walk(store, located, &mut |_: &[u8], entry: &Entry| {
            if cancel.is_cancelled() {
                return Err(EngineError::Cancelled);
            }
            if let Body::File { size, recipe } = &entry.body {
                bytes += size;
                store.objects_of(recipe, &mut seen, &mut |name| names.push(name))?;
            }
            Ok(())
        })?;
    }
    let (mut waiting, mut thawing) = (Vec::new(), 0);
    for name in names {
        match store.place().readiness(&name)? {
            Readiness::Ready => {}
            Readiness::Thawing => thawing += 1,
            Readiness::Frozen => waiting.push(name),
        }
    }
    if waiting.is_empty() && thawing == 0 {
        return Ok(None);
    }
    let cost = config.prices.first().map(|price| (price.fetch(bytes), price.currency.clone()));
    let class = class.clone();
    Ok(Some(Frozen { class, objects: waiting, thawing, bytes, takes, cost }))
}

/// Asks for all of it to be thawed.
///
/// # Errors
/// The first that is refused.
pub fn ask_to_thaw(store: &Store, frozen: &Frozen) -> Result<()> {
    for name in &frozen.objects {
        store.place().thaw(name)?;
    }
    Ok(())
}
