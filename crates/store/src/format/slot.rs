//! Passphrase slots: each an object of its own that yields the store's secret to one passphrase.

use std::time::{Duration, Instant};

use argon2::{Algorithm, Argon2, Params, Version};
use minicbor::{Decode, Encode, bytes::ByteVec};
use zeroize::{Zeroize, Zeroizing};

use crate::{
    error::{Result, StoreError},
    format::{
        ids::{hex, random},
        keys::{Held, ReadingKeys, Secret},
        recovery::canonical,
        signed::{decode, encode},
    },
};

/// No slot asks for more memory, in KiB,
const MOST_MEMORY: u32 = 1 << 20;
/// or more passes,
const MOST_PASSES: u32 = 8;
/// or more lanes.
const MOST_LANES: u32 = 64;

/// What it costs to try a passphrase (Argon2id, RFC 9106).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PassphraseCost {
    /// Memory in KiB.
    pub memory: u32,
    /// Passes.
    pub passes: u32,
    /// Lanes.
    pub lanes: u32,
}

impl Default for PassphraseCost {
    /// The second recommended choice of RFC 9106: 64 MiB, three passes, four lanes.
    fn default() -> Self {
        Self { memory: 64 << 10, passes: 3, lanes: 4 }
    }
}

impl PassphraseCost {
    /// A cost for tests and demonstrations, where the passphrase protects nothing.
    pub const TRIVIAL: Self = Self { memory: 8, passes: 1, lanes: 1 };

    /// What this machine tries in about half a second, and never less than the default: whoever guesses
    /// pays as much for each guess. It takes as long as one trial of the default.
    ///
    /// # Errors
    /// If there is not enough memory for a trial.
    pub fn of_this_machine() -> Result<Self> {
        let begun = Instant::now();
        stretch(b"a trial", &[0; 16], Self::default())?;
        let memory = rustix::system::sysinfo();
        let all = memory.totalram.saturating_mul(memory.mem_unit.into());
        Ok(Self::within(begun.elapsed(), all))
    }

    /// The largest cost that takes no longer than it should where the default takes so long, in so many
    /// bytes of memory in all.
    fn within(default_takes: Duration, memory: u64) -> Self {
        let mut cost = Self::default();
        let takes = |cost: Self| {
            let times = f64::from(cost.memory) * f64::from(cost.passes)
                / (f64::from(Self::default().memory) * f64::from(Self::default().passes));
            default_takes.mul_f64(times)
        };
        // Memory first: it is what makes guessing dear.
        loop {
            let more = Self { memory: cost.memory * 2, ..cost };
            let fits = u64::from(more.memory) << 10 <= memory / SHARE_OF_MEMORY;
            if more.memory > DEAREST_MEMORY || !fits || takes(more) > TRIAL {
                break;
            }
            cost = more;
        }
        loop {
            let more = Self { passes: cost.passes + 1, ..cost };
            if more.passes > DEAREST_PASSES || takes(more) > TRIAL {
                return cost;
            }
            cost = more;
        }
    }
}

/// So long a trial of a passphrase may take on the machine that adds it.
const TRIAL: Duration = Duration::from_millis(500);
/// Small machines have to open the store, too: no more memory than this, in KiB,
const DEAREST_MEMORY: u32 = 256 << 10;
/// and no more passes.
const DEAREST_PASSES: u32 = 4;
/// Nor more than one part in so many of the machine's memory.
const SHARE_OF_MEMORY: u64 = 16;

/// A slot as it lies at the place, in clear but for the bundle.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Slot {
    #[n(0)]
    version: u32,
    #[cbor(n(1), with = "minicbor::bytes")]
    id: [u8; 8],
    #[n(2)]
    memory: u32,
    #[n(3)]
    passes: u32,
    #[n(4)]
    lanes: u32,
    #[cbor(n(5), with = "minicbor::bytes")]
    salt: [u8; 16],
    /// Binds the slot to one key: AES-GCM alone would let a crafted slot open under several.
    #[cbor(n(6), with = "minicbor::bytes")]
    commitment: [u8; 32],
    #[n(7)]
    bundle: ByteVec,
    /// The first half of the hash of the record without it: tells a damaged slot from a wrong
    /// passphrase. Slots of earlier writers have none.
    #[cbor(n(8), with = "minicbor::bytes")]
    sum: Option<[u8; 16]>,
    /// Whose it is, and
    #[n(9)]
    pub label: Option<String>,
    /// when it was added, in seconds since 1970: for people, nothing rests on it.
    #[n(10)]
    pub created: Option<i64>,
}

/// No label is longer, in characters.
pub(crate) const LONGEST_LABEL: usize = 64;

/// What a slot tells people in clear.
#[derive(Debug, Default)]
pub(crate) struct Told {
    pub label: Option<String>,
    pub created: Option<i64>,
}

/// What a slot yields.
#[derive(Encode, Decode)]
#[cbor(map)]
struct Bundle {
    /// Full, or restore only.
    #[n(0)]
    role: u32,
    #[n(1)]
    epoch: u32,
    /// Of the full role.
    #[cbor(n(2), with = "minicbor::bytes")]
    master: Option<[u8; 32]>,
    /// Of the role that only restores.
    #[n(4)]
    reading: Option<ByteVec>,
}

const FULL: u32 = 0;
const RESTORE_ONLY: u32 = 1;

impl Bundle {
    fn wipe(&mut self) {
        self.master.zeroize();
        if let Some(reading) = &mut self.reading {
            reading.as_mut_slice().zeroize();
        }
    }
}

struct SlotKeys {
    seal: Secret,
    commitment: [u8; 32],
}

fn stretch(passphrase: &[u8], salt: &[u8; 16], cost: PassphraseCost) -> Result<SlotKeys> {
    let wrong = |error: argon2::Error| StoreError::damaged("a passphrase slot", error.to_string());
    let params = Params::new(cost.memory, cost.passes, cost.lanes, Some(32)).map_err(wrong)?;
    let mut root = Zeroizing::new([0; 32]);
    Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
        .hash_password_into(&canonical(passphrase), salt, root.as_mut_slice())
        .map_err(wrong)?;
    let root = Secret(*root);
    Ok(SlotKeys { seal: root.derive("slot seal"), commitment: root.derive("slot commitment").0 })
}

/// A new slot for a passphrase: its id in hexadecimal, and its bytes.
pub(crate) fn create(
    passphrase: &[u8],
    cost: PassphraseCost,
    epoch: u32,
    held: &Held,
    header: &[u8],
    told: Told,
) -> Result<(String, Vec<u8>)> {
    let (id, salt) = (random::<8>()?, random::<16>()?);
    let keys = stretch(passphrase, &salt, cost)?;
    let mut bundle = match held {
        Held::Full(master) => Bundle { role: FULL, epoch, master: Some(master.0), reading: None },
        Held::Reading(keys) => {
            let reading = Some(keys.bytes().to_vec().into());
            Bundle { role: RESTORE_ONLY, epoch, master: None, reading }
        }
    };
    let plain = Zeroizing::new(encode(&bundle));
    bundle.wipe();
    let sealed = keys.seal.seal(&plain, &bound_to(header, &id))?;
    let slot = Slot {
        version: 1,
        id,
        memory: cost.memory,
        passes: cost.passes,
        lanes: cost.lanes,
        salt,
        commitment: keys.commitment,
        bundle: sealed.into(),
        sum: None,
        label: told.label,
        created: told.created,
    };
    let sum = slot.checksum();
    Ok((hex(&id), encode(&Slot { sum: Some(sum), ..slot })))
}

impl Slot {
    /// Reads a slot.
    pub fn decode(bytes: &[u8], object: &str) -> Result<Self> {
        let slot: Self = decode(bytes, object)?;
        if slot.version != 1 {
            let need = format!("slot version {}", slot.version);
            return Err(StoreError::Newer { object: object.to_owned(), need });
        }
        // A slot is in clear: one that asks for absurd memory or time is damage, not a wish.
        if slot.memory > MOST_MEMORY || slot.passes > MOST_PASSES || slot.lanes > MOST_LANES {
            return Err(StoreError::damaged(object, "its cost is out of bounds"));
        }
        if slot.label.as_ref().is_some_and(|label| label.chars().count() > LONGEST_LABEL) {
            return Err(StoreError::damaged(object, "its label is too long"));
        }
        match slot.sum {
            Some(sum) if sum != slot.checksum() => {
                Err(StoreError::damaged(object, "its checksum is wrong"))
            }
            _ => Ok(slot),
        }
    }

    fn checksum(&self) -> [u8; 16] {
        let record = encode(&Self { sum: None, ..self.clone() });
        let mut sum = [0; 16];
        sum.copy_from_slice(&blake3::hash(&record).as_bytes()[..16]);
        sum
    }

    /// Whether its checksum was right.
    pub fn is_proven(&self) -> bool {
        self.sum.is_some()
    }

    /// What it costs to try it.
    pub fn passphrase_cost(&self) -> PassphraseCost {
        PassphraseCost { memory: self.memory, passes: self.passes, lanes: self.lanes }
    }

    /// What it costs to try it, in KiB times passes.
    pub fn cost(&self) -> u64 {
        u64::from(self.memory) * u64::from(self.passes)
    }

    /// Tries a passphrase: the epoch and what it yields, or `None` if it is another passphrase's.
    pub fn open(
        &self,
        passphrase: &[u8],
        header: &[u8],
        object: &str,
    ) -> Result<Option<(u32, Held)>> {
        let keys = stretch(passphrase, &self.salt, self.passphrase_cost())?;
        if blake3::Hash::from(keys.commitment) != blake3::Hash::from(self.commitment) {
            return Ok(None);
        }
        let opened = keys.seal.open(&self.bundle, &bound_to(header, &self.id)).map(Zeroizing::new);
        let plain = opened.ok_or_else(|| {
            StoreError::damaged(object, "the passphrase is right, but slot or header were modified")
        })?;
        let mut bundle: Bundle = decode(&plain, object)?;
        let held = match (bundle.role, &bundle.master, &bundle.reading) {
            (FULL, Some(master), _) => Some(Held::Full(Secret(*master))),
            (RESTORE_ONLY, _, Some(reading)) => {
                ReadingKeys::from_bytes(reading).map(|keys| Held::Reading(Box::new(keys)))
            }
            (FULL | RESTORE_ONLY, ..) => None,
            (role, ..) => {
                bundle.wipe();
                let need = format!("passphrase role {role}");
                return Err(StoreError::Newer { object: object.to_owned(), need });
            }
        };
        bundle.wipe();
        let held =
            held.ok_or_else(|| StoreError::damaged(object, "it lacks the keys of its role"))?;
        Ok(Some((bundle.epoch, held)))
    }
}

/// A slot belongs to one header: a header that was changed opens no more.
fn bound_to(header: &[u8], id: &[u8; 8]) -> Vec<u8> {
    [b"skellin slot v1".as_slice(), id, blake3::hash(header).as_bytes()].concat()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_slot_opens_for_its_passphrase_and_header_only() {
        let master = Held::Full(Secret([3; 32]));
        let (_, bytes) =
            create(b"gull", PassphraseCost::TRIVIAL, 1, &master, b"header", Told::default())
                .expect("a slot");
        let open = |passphrase: &[u8], header: &[u8]| {
            Slot::decode(&bytes, "slot").and_then(|slot| slot.open(passphrase, header, "slot"))
        };
        let opened = open(b"gull", b"header").expect("readable");
        let is_master = |held: &Held| matches!(held, Held::Full(master) if master.0 == [3; 32]);
        assert!(opened.is_some_and(|(epoch, held)| epoch == 1 && is_master(&held)));
        assert!(open(b"tern", b"header").expect("readable").is_none());
        let changed = open(b"gull", b"another");
        assert!(matches!(changed, Err(StoreError::Damaged { .. })));
    }

    #[test]
    fn every_changed_byte_of_a_slot_is_damage_and_no_wrong_passphrase() {
        let (_, bytes) = create(
            b"gull",
            PassphraseCost::TRIVIAL,
            1,
            &Held::Full(Secret([3; 32])),
            b"header",
            Told::default(),
        )
        .expect("a slot");
        for at in 0..bytes.len() {
            let mut changed = bytes.clone();
            changed[at] ^= 1;
            // A key nobody knows is passed over: then it is as if there were no checksum.
            let read = Slot::decode(&changed, "slot");
            assert!(read.is_err() || read.is_ok_and(|slot| slot.sum.is_none()), "at {at}");
        }
    }

    proptest! {
        /// Never cheaper than the default, never dearer than small machines can pay.
        #[test]
        fn costs_keep_to_floor_and_ceiling(millis in 0u64..60_000, memory in any::<u64>()) {
            let cost = PassphraseCost::within(Duration::from_millis(millis), memory);
            let floor = PassphraseCost::default();
            prop_assert!(cost.memory >= floor.memory && cost.passes >= floor.passes);
            prop_assert!(cost.memory <= DEAREST_MEMORY && cost.passes <= DEAREST_PASSES);
            prop_assert_eq!(cost.lanes, floor.lanes);
            let times = u128::from(cost.memory) * u128::from(cost.passes);
            let of = u128::from(floor.memory) * u128::from(floor.passes);
            prop_assert!(cost == floor || u128::from(millis) * times <= 500 * of);
        }
    }

    #[test]
    fn quick_machines_pay_more() {
        let of =
            |millis, gib: u64| PassphraseCost::within(Duration::from_millis(millis), gib << 30);
        assert_eq!(of(1000, 64), PassphraseCost::default());
        assert_eq!(of(150, 64).memory, 128 << 10);
        assert_eq!((of(20, 64).memory, of(20, 64).passes), (256 << 10, 4));
        assert_eq!((of(20, 1).memory, of(20, 1).passes), (64 << 10, 4));
    }
}
