//! The containers a process knows of, by number.

use std::{
    collections::{HashMap, HashSet},
    sync::{
        Arc, OnceLock, PoisonError, RwLock,
        atomic::{AtomicBool, AtomicU8, Ordering},
    },
};

use crate::format::{
    container::{ContainerKey, Salt},
    ids::ContainerId,
};

/// Number of a container in this process.
pub(crate) type ContainerIx = u32;

/// Where a chunk or a page lies: everything needed to fetch it with one ranged read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Location {
    /// The container, as this process numbers it.
    pub(crate) container: ContainerIx,
    /// The block in the container.
    pub(crate) block: u16,
    /// The chunk in the block.
    pub(crate) chunk: u16,
    /// Offset of the sealed block.
    pub(crate) offset: u32,
    /// Length of the sealed block.
    pub(crate) length: u32,
}

/// Whether a container's content may be relied on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum Standing {
    /// Nobody looked yet.
    Unknown,
    /// It was listed at the place, or written by this run.
    Present,
    /// It was not in the listing.
    Absent,
    /// A reclaim wants to delete it.
    Condemned,
    /// Its bytes are not what was written, or not all of them.
    Damaged,
}

/// How long the index says a container is, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ContainerLength {
    Exactly(u64),
    /// The end of its last block is all that is known.
    AtLeast(u64),
}

impl ContainerLength {
    fn fits(self, size: u64) -> bool {
        match self {
            Self::Exactly(length) => size == length,
            Self::AtLeast(length) => size > length,
        }
    }
}

/// What is known of one container.
pub(crate) struct Container {
    pub id: ContainerId,
    pub salt: OnceLock<Salt>,
    pub key: OnceLock<Arc<ContainerKey>>,
    /// Bytes it must have at the place, as the index says.
    length: OnceLock<ContainerLength>,
    standing: AtomicU8,
    used: AtomicBool,
    /// Whether a block could be read from none of its copies.
    lost: AtomicBool,
    /// Whether a reclaim wants to delete it, now and for ever.
    condemned: AtomicBool,
}

impl Container {
    pub fn standing(&self) -> Standing {
        match self.standing.load(Ordering::SeqCst) {
            0 => Standing::Unknown,
            1 => Standing::Present,
            2 => Standing::Absent,
            3 => Standing::Condemned,
            _ => Standing::Damaged,
        }
    }

    /// Whether it is at the place, whatever may be relied on.
    pub fn is_there(&self) -> bool {
        matches!(self.standing(), Standing::Present | Standing::Condemned | Standing::Damaged)
    }

    pub fn mark_lost(&self) {
        self.lost.store(true, Ordering::SeqCst);
    }

    /// Whether a block of it could be read from none of its copies.
    pub fn is_lost(&self) -> bool {
        self.lost.load(Ordering::SeqCst)
    }

    pub fn is_used(&self) -> bool {
        self.used.load(Ordering::SeqCst)
    }

    /// Takes over how long the index says it is.
    pub fn learn_length(&self, length: ContainerLength) {
        // The first to say counts: what two authentic segments say of a container is the same.
        let _ = self.length.set(length);
    }

    /// Bytes it was written with, if the index says so.
    pub fn exact_length(&self) -> Option<u64> {
        match self.length.get()? {
            ContainerLength::Exactly(length) => Some(*length),
            ContainerLength::AtLeast(_) => None,
        }
    }

    pub fn set_standing(&self, standing: Standing) {
        if standing == Standing::Condemned {
            self.condemned.store(true, Ordering::SeqCst);
        }
        self.standing.store(standing as u8, Ordering::SeqCst);
    }

    /// Whether a reclaim wants to delete it, or has.
    pub fn is_condemned(&self) -> bool {
        self.condemned.load(Ordering::SeqCst)
    }

    /// It is at the place. What is condemned stays so, also if it was gone for a while.
    fn set_present(&self) {
        match self.is_condemned() {
            true => self.set_standing(Standing::Condemned),
            false => self.set_standing(Standing::Present),
        }
    }

    /// Whether new snapshots may refer to it.
    pub fn is_usable(&self) -> bool {
        self.standing() == Standing::Present
    }

    /// Notes that the snapshot in the making refers to it.
    pub fn mark_used(&self) {
        if !self.used.load(Ordering::Acquire) {
            self.used.store(true, Ordering::SeqCst);
        }
    }

    /// Notes its use, and says whether it may be used. In this order: whoever condemns it notes that
    /// first and looks for its use then, so that one of the two sees the other.
    pub fn claim_use(&self) -> bool {
        self.mark_used();
        self.is_usable()
    }
}

#[derive(Default)]
struct Inner {
    list: Vec<Arc<Container>>,
    by_id: HashMap<ContainerId, ContainerIx>,
}

/// All of them.
#[derive(Default)]
pub(crate) struct Containers(RwLock<Inner>);

impl Containers {
    /// The number of a container, a new one if it was not known.
    pub fn number(&self, id: ContainerId, salt: Option<&Salt>) -> ContainerIx {
        let known = self.0.read().unwrap_or_else(PoisonError::into_inner).by_id.get(&id).copied();
        let number = known.unwrap_or_else(|| {
            let mut inner = self.0.write().unwrap_or_else(PoisonError::into_inner);
            let Inner { list, by_id } = &mut *inner;
            *by_id.entry(id).or_insert_with(|| {
                list.push(Arc::new(Container {
                    id,
                    salt: OnceLock::new(),
                    key: OnceLock::new(),
                    length: OnceLock::new(),
                    standing: AtomicU8::new(0),
                    used: AtomicBool::new(false),
                    lost: AtomicBool::new(false),
                    condemned: AtomicBool::new(false),
                }));
                (list.len() - 1) as ContainerIx
            })
        });
        if let Some(salt) = salt {
            // The first to say counts; a wrong one is found out when a block does not open.
            let _ = self.get(number).salt.set(*salt);
        }
        number
    }

    /// A container by a number that [`number`](Self::number) gave.
    pub fn get(&self, number: ContainerIx) -> Arc<Container> {
        let inner = self.0.read().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(&inner.list[number as usize])
    }

    /// All that are known now.
    pub fn all(&self) -> Vec<Arc<Container>> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).list.clone()
    }

    /// Ids of those in use, sorted.
    pub fn used(&self) -> Vec<ContainerId> {
        let all = self.all();
        let used = all.iter().filter(|container| container.used.load(Ordering::SeqCst));
        let mut ids: Vec<_> = used.map(|container| container.id).collect();
        ids.sort_unstable();
        ids
    }

    /// Forgets which are in use, for another attempt.
    pub fn clear_used(&self) {
        self.all().iter().for_each(|container| container.used.store(false, Ordering::SeqCst));
    }

    /// Whether every container of which the index knows the length is listed with it.
    pub fn fit(&self, listed: &[(ContainerId, u64)]) -> bool {
        let sizes: HashMap<ContainerId, u64> = listed.iter().copied().collect();
        self.all().iter().all(|container| {
            let length = container.length.get();
            length.is_none_or(|length| {
                sizes.get(&container.id).is_some_and(|size| length.fits(*size))
            })
        })
    }

    /// Those that were there and are not listed any more are absent.
    pub fn miss(&self, listed: &[(ContainerId, u64)]) {
        let there: HashSet<ContainerId> = listed.iter().map(|(id, _)| *id).collect();
        for container in self.all() {
            if container.is_there() && !there.contains(&container.id) {
                container.set_standing(Standing::Absent);
            }
        }
    }

    /// Takes a listing of the place as the truth about which are there. Handed back: those whose
    /// length is not the one the index knows, with the bytes that are there.
    pub fn set_present(&self, listed: &[(ContainerId, u64)]) -> Vec<(ContainerId, u64)> {
        let mut wrong = Vec::new();
        for (id, size) in listed {
            let container = self.get(self.number(*id, None));
            if container.length.get().is_some_and(|length| !length.fits(*size)) {
                container.set_standing(Standing::Damaged);
                wrong.push((*id, *size));
            } else if !matches!(container.standing(), Standing::Condemned | Standing::Damaged) {
                container.set_present();
            }
        }
        let there: HashSet<ContainerId> = listed.iter().map(|(id, _)| *id).collect();
        for container in self.all() {
            if matches!(container.standing(), Standing::Unknown | Standing::Damaged)
                && !there.contains(&container.id)
            {
                container.set_standing(Standing::Absent);
            }
        }
        wrong
    }
}
