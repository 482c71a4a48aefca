//! Passphrase slots: each an object of its own that yields the store's secret to one passphrase.

use argon2::{Algorithm, Argon2, Params, Version};
use minicbor::{Decode, Encode, bytes::ByteVec};
use zeroize::{Zeroize, Zeroizing};

use crate::{
    error::{Result, StoreError},
    ids::{hex, random},
    keys::Secret,
    signed::{decode, encode},
};

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
}

/// A slot as it lies at the place, in clear but for the bundle.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
struct Slot {
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
}

/// What a slot yields.
#[derive(Encode, Decode)]
#[cbor(map)]
struct Bundle {
    /// 0 is the full role.
    #[n(0)]
    role: u32,
    #[n(1)]
    epoch: u32,
    #[cbor(n(2), with = "minicbor::bytes")]
    master: [u8; 32],
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
        .hash_password_into(passphrase, salt, root.as_mut_slice())
        .map_err(wrong)?;
    let root = Secret(*root);
    Ok(SlotKeys { seal: root.derive("slot seal"), commitment: root.derive("slot commitment").0 })
}

/// A new slot for a passphrase: its id in hexadecimal, and its bytes.
pub(crate) fn create(
    passphrase: &[u8],
    cost: PassphraseCost,
    epoch: u32,
    master: &Secret,
    header: &[u8],
) -> Result<(String, Vec<u8>)> {
    let (id, salt) = (random::<8>()?, random::<16>()?);
    let keys = stretch(passphrase, &salt, cost)?;
    let mut bundle = Bundle { role: 0, epoch, master: master.0 };
    let plain = Zeroizing::new(encode(&bundle));
    bundle.master.zeroize();
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
    };
    Ok((hex(&id), encode(&slot)))
}

/// Tries a passphrase on a slot: epoch and master secret, or `None` if it is another passphrase's.
pub(crate) fn open(
    bytes: &[u8],
    passphrase: &[u8],
    header: &[u8],
    object: &str,
) -> Result<Option<(u32, Secret)>> {
    let slot: Slot = decode(bytes, object)?;
    if slot.version != 1 {
        let need = format!("slot version {}", slot.version);
        return Err(StoreError::Newer { object: object.to_owned(), need });
    }
    // A slot is in clear: one that asks for absurd memory or time is damage, not a wish.
    if slot.memory > 4 << 20 || slot.passes > 64 || slot.lanes > 64 {
        return Err(StoreError::damaged(object, "its cost is out of bounds"));
    }
    let cost = PassphraseCost { memory: slot.memory, passes: slot.passes, lanes: slot.lanes };
    let keys = stretch(passphrase, &slot.salt, cost)?;
    if blake3::Hash::from(keys.commitment) != blake3::Hash::from(slot.commitment) {
        return Ok(None);
    }
    let opened = keys.seal.open(&slot.bundle, &bound_to(header, &slot.id)).map(Zeroizing::new);
    let plain = opened.ok_or_else(|| {
        StoreError::damaged(object, "the passphrase fits, but slot or header were changed")
    })?;
    let mut bundle: Bundle = decode(&plain, object)?;
    if bundle.role != 0 {
        let need = format!("passphrase role {}", bundle.role);
        return Err(StoreError::Newer { object: object.to_owned(), need });
    }
    let master = Secret(bundle.master);
    bundle.master.zeroize();
    Ok(Some((bundle.epoch, master)))
}

/// A slot belongs to one header: a header that was changed opens no more.
fn bound_to(header: &[u8], id: &[u8; 8]) -> Vec<u8> {
    [b"skellin slot v1".as_slice(), id, blake3::hash(header).as_bytes()].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slot_opens_for_its_passphrase_and_header_only() {
        let master = Secret([3; 32]);
        let (_, bytes) =
            create(b"gull", PassphraseCost::TRIVIAL, 1, &master, b"header").expect("a slot");
        let opened = open(&bytes, b"gull", b"header", "slot").expect("readable");
        assert_eq!(opened.map(|(epoch, master)| (epoch, master.0)), Some((1, [3; 32])));
        assert!(open(&bytes, b"tern", b"header", "slot").expect("readable").is_none());
        let changed = open(&bytes, b"gull", b"another", "slot");
        assert!(matches!(changed, Err(StoreError::Damaged { .. })));
    }
}
