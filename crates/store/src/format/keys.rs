//! The keys of a store, all derived from its master secret.

use hpke::{
    Deserializable, Kem as _, Serializable, aead::AesGcm256, kdf::HkdfSha256, kem::X25519HkdfSha256,
};
use ring::{
    aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey},
    signature::{ED25519, Ed25519KeyPair, KeyPair, UnparsedPublicKey},
};
use zeroize::{Zeroize, ZeroizeOnDrop, Zeroizing};

use crate::{
    error::{Result, StoreError},
    format::ids::{Class, Fingerprint, Lineage, RunId, StoreId, random},
    mistakes::is_in_turn,
};

/// Bytes of an HPKE-wrapped run key: the encapsulated key, the key, the tag.
pub(crate) const WRAPPED: usize = 32 + 32 + 16;
/// Bytes of an AES-256-GCM tag.
pub(crate) const TAG: usize = 16;

type Kem = X25519HkdfSha256;
type PublicKey = <Kem as hpke::Kem>::PublicKey;
type SecretKey = <Kem as hpke::Kem>::PrivateKey;

/// A symmetric secret that is wiped when dropped.
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
pub(crate) struct Secret(pub [u8; 32]);

impl Secret {
    pub fn random() -> Result<Self> {
        random().map(Self)
    }

    /// A key for one purpose (BLAKE3 in its key derivation mode).
    pub fn derive(&self, purpose: &str) -> Self {
        Self(blake3::derive_key(&format!("skellin store v1 {purpose}"), &self.0))
    }

    /// AES-256-GCM under this key.
    pub fn aead(&self) -> LessSafeKey {
        // The length is right by type, and that is all that can be wrong with a key.
        let key = UnboundKey::new(&AES_256_GCM, &self.0);
        #[expect(clippy::expect_used, reason = "32 bytes always make an AES-256 key")]
        LessSafeKey::new(key.expect("32 bytes"))
    }

    /// Seals under a random nonce, which goes before the ciphertext.
    pub fn seal(&self, plain: &[u8], bound_to: &[u8]) -> Result<Vec<u8>> {
        let nonce = random::<12>()?;
        let mut sealed = Vec::with_capacity(12 + plain.len() + TAG);
        sealed.extend_from_slice(&nonce);
        sealed.extend_from_slice(plain);
        let (_, body) = sealed.split_at_mut(12);
        let tag = self
            .aead()
            .seal_in_place_separate_tag(
                Nonce::assume_unique_for_key(nonce),
                Aad::from(bound_to),
                body,
            )
            .map_err(|_| StoreError::damaged("a record", "it is too long to seal"))?;
        sealed.extend_from_slice(tag.as_ref());
        Ok(sealed)
    }

    /// Opens what [`seal`](Self::seal) made; `None` if it is not authentic.
    pub fn open(&self, sealed: &[u8], bound_to: &[u8]) -> Option<Vec<u8>> {
        let (nonce, body) = sealed.split_first_chunk::<12>()?;
        let mut plain = body.to_vec();
        let nonce = Nonce::assume_unique_for_key(*nonce);
        let length = self.aead().open_in_place(nonce, Aad::from(bound_to), &mut plain).ok()?.len();
        plain.truncate(length);
        Some(plain)
    }
}

/// A pair of keys to which content keys and snapshots are sealed (HPKE, RFC 9180, base mode,
/// DHKEM(X25519, HKDF-SHA256), HKDF-SHA256, AES-256-GCM).
pub(crate) struct Envelope {
    secret: SecretKey,
    public: PublicKey,
}

impl Envelope {
    fn derive(seed: &Secret) -> Self {
        let (secret, public) = Kem::derive_keypair(&seed.0);
        Self { secret, public }
    }

    pub fn public(&self) -> [u8; 32] {
        self.public.to_bytes().into()
    }

    pub fn seal(&self, plain: &[u8], info: &[u8]) -> Result<Vec<u8>> {
        if is_in_turn() {
            return Ok([[0; 20].as_slice(), &self.stand_in().seal(plain, info)?].concat());
        }
        let mode = hpke::OpModeS::Base;
        let (key, sealed) = hpke::single_shot_seal::<AesGcm256, HkdfSha256, Kem>(
            &mode,
            &self.public,
            info,
            plain,
            b"",
        )
        .map_err(|error| {
            StoreError::local("sealing a key", std::io::Error::other(error.to_string()))
        })?;
        Ok([key.to_bytes().as_slice(), &sealed].concat())
    }

    pub fn open(&self, sealed: &[u8], info: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
        if is_in_turn() {
            return self.stand_in().open(sealed.get(20..)?, info).map(Zeroizing::new);
        }
        let (key, body) = sealed.split_at_checked(32)?;
        let key = <Kem as hpke::Kem>::EncappedKey::from_bytes(key).ok()?;
        let mode = hpke::OpModeR::Base;
        hpke::single_shot_open::<AesGcm256, HkdfSha256, Kem>(
            &mode,
            &self.secret,
            &key,
            info,
            body,
            b"",
        )
        .ok()
        .map(Zeroizing::new)
    }

    /// What a simulation takes for the key pair, so that it has time for many schedules.
    fn stand_in(&self) -> Secret {
        Secret(self.public()).derive("simulation")
    }
}

/// A signing key (Ed25519, RFC 8032).
pub(crate) struct Signer(Ed25519KeyPair);

impl Signer {
    fn from_seed(seed: &Secret) -> Result<Self> {
        Ed25519KeyPair::from_seed_unchecked(&seed.0).map(Self).map_err(|error| {
            StoreError::local("signing key", std::io::Error::other(error.to_string()))
        })
    }

    pub fn public(&self) -> [u8; 32] {
        let mut public = [0; 32];
        public.copy_from_slice(self.0.public_key().as_ref());
        public
    }

    pub fn sign(&self, message: &[u8]) -> [u8; 64] {
        if is_in_turn() {
            return stand_in_signature(&self.public(), message);
        }
        let mut signature = [0; 64];
        signature.copy_from_slice(self.0.sign(message).as_ref());
        signature
    }
}

/// Whether an Ed25519 signature is good.
pub(crate) fn is_signed(public: &[u8; 32], message: &[u8], signature: &[u8; 64]) -> bool {
    if is_in_turn() {
        return *signature == stand_in_signature(public, message);
    }
    UnparsedPublicKey::new(&ED25519, public).verify(message, signature).is_ok()
}

/// What a simulation takes for a signature, so that it has time for many schedules.
fn stand_in_signature(public: &[u8; 32], message: &[u8]) -> [u8; 64] {
    let mut signature = [0; 64];
    blake3::Hasher::new_keyed(public).update(message).finalize_xof().fill(&mut signature);
    signature
}

/// What it takes to read a store: everything but what signs.
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
pub(crate) struct ReadingKeys([Secret; READING]);

/// So many of them, in the order of [`PURPOSES`].
const READING: usize = 8;
const PURPOSES: [&str; READING] = [
    "data fingerprint",
    "tree fingerprint",
    "boundary",
    "index",
    "names",
    "control",
    "data envelope",
    "tree envelope",
];

impl ReadingKeys {
    pub fn of(master: &Secret) -> Self {
        Self(PURPOSES.map(|purpose| master.derive(purpose)))
    }

    /// One after the other, as slots have them.
    pub fn bytes(&self) -> Zeroizing<Vec<u8>> {
        Zeroizing::new(self.0.iter().flat_map(|secret| secret.0).collect())
    }

    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let (keys, rest) = bytes.as_chunks::<32>();
        let keys: [[u8; 32]; READING] = keys.try_into().ok()?;
        rest.is_empty().then(|| Self(keys.map(Secret)))
    }
}

/// What a passphrase yields.
pub(crate) enum Held {
    /// The full role: the master secret, from which all keys come.
    Full(Secret),
    /// Restore only: what reads.
    Reading(Box<ReadingKeys>),
}

/// The keys that sign.
struct Signing {
    /// Certifies machines.
    store: Signer,
    machines: Secret,
}

/// The keys of a role.
pub(crate) struct Keys {
    pub store: StoreId,
    pub epoch: u32,
    data_fingerprint: Secret,
    tree_fingerprint: Secret,
    /// Decides where chunks are cut.
    pub boundary: Secret,
    /// Seals index segments, and proves cached ones.
    pub index: Secret,
    /// Seals the names of snapshots.
    pub names: Secret,
    /// Seals the records by which runs and reclaims talk.
    pub control: Secret,
    data: Envelope,
    tree: Envelope,
    /// By which certificates of machines are checked.
    pub store_key: [u8; 32],
    /// None in the role that only restores.
    signing: Option<Signing>,
}

impl Keys {
    pub fn from_master(store: StoreId, epoch: u32, master: &Secret) -> Result<Self> {
        let signing = Signing {
            store: Signer::from_seed(&master.derive("store signer"))?,
            machines: master.derive("machine signers"),
        };
        let reading =
            Self::from_reading(store, epoch, &ReadingKeys::of(master), signing.store.public());
        Ok(Self { signing: Some(signing), ..reading })
    }

    /// Of the role that only restores. `store_key`: the store's own, from a header that was proven.
    pub fn from_reading(
        store: StoreId,
        epoch: u32,
        reading: &ReadingKeys,
        store_key: [u8; 32],
    ) -> Self {
        let [data_fingerprint, tree_fingerprint, boundary, index, names, control, data, tree] =
            reading.0.clone();
        Self {
            store,
            epoch,
            data_fingerprint,
            tree_fingerprint,
            boundary,
            index,
            names,
            control,
            data: Envelope::derive(&data),
            tree: Envelope::derive(&tree),
            store_key,
            signing: None,
        }
    }

    /// Whether nothing can be signed with these keys.
    pub fn only_read(&self) -> bool {
        self.signing.is_none()
    }

    /// Signs with other keys than the store's, as somebody would who changed the program.
    #[cfg(test)]
    pub fn sign_with(&mut self, secret: &Secret) -> Result<()> {
        let store = Signer::from_seed(&secret.derive("store signer"))?;
        (self.store_key, self.signing) =
            (store.public(), Some(Signing { store, machines: secret.clone() }));
        Ok(())
    }

    pub fn envelope(&self, class: Class) -> &Envelope {
        match class {
            Class::Data => &self.data,
            Class::Tree => &self.tree,
        }
    }

    /// The fingerprint of a chunk or page.
    pub fn fingerprint(&self, class: Class, content: &[u8]) -> Fingerprint {
        let key = match class {
            Class::Data => &self.data_fingerprint,
            Class::Tree => &self.tree_fingerprint,
        };
        Fingerprint(*blake3::keyed_hash(&key.0, content).as_bytes())
    }

    /// The lineage of a plan on a machine.
    pub fn lineage(&self, plan: &str, machine: &str) -> Lineage {
        let mut hasher = blake3::Hasher::new_keyed(&self.names.0);
        for part in [plan, machine] {
            hasher.update(&(part.len() as u64).to_le_bytes()).update(part.as_bytes());
        }
        let mut id = [0; 16];
        id.copy_from_slice(&hasher.finalize().as_bytes()[..16]);
        Lineage(id)
    }

    /// The signing key of a machine that holds the master secret.
    pub fn machine_signer(&self, machine: &str) -> Result<Signer> {
        let signing = self.signing.as_ref().ok_or(StoreError::RestoreOnly)?;
        let seed = blake3::keyed_hash(&signing.machines.0, machine.as_bytes());
        Signer::from_seed(&Secret(*seed.as_bytes()))
    }

    /// Signs with the store's own key.
    pub fn sign(&self, message: &[u8]) -> Result<[u8; 64]> {
        let signing = self.signing.as_ref().ok_or(StoreError::RestoreOnly)?;
        Ok(signing.store.sign(message))
    }

    /// Wraps the content key of a run.
    pub fn wrap(&self, run: RunId, class: Class, key: &Secret) -> Result<[u8; WRAPPED]> {
        let sealed = self.envelope(class).seal(&key.0, &self.wrap_info(run, class))?;
        sealed.try_into().map_err(|_| StoreError::damaged("a run key", "unexpected length"))
    }

    /// Unwraps the content key of a run; `None` if it is not authentic.
    pub fn unwrap(&self, run: RunId, class: Class, wrapped: &[u8; WRAPPED]) -> Option<Secret> {
        let plain = self.envelope(class).open(wrapped, &self.wrap_info(run, class))?;
        plain.as_slice().try_into().ok().map(Secret)
    }

    fn wrap_info(&self, run: RunId, class: Class) -> Vec<u8> {
        let head = b"skellin run key v1".as_slice();
        [head, &self.store.0, &self.epoch.to_le_bytes(), &run.0, &[class.code()]].concat()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys() -> Keys {
        Keys::from_master(StoreId([1; 16]), 1, &Secret([7; 32])).expect("keys from any 32 bytes")
    }

    #[test]
    fn a_wrapped_key_opens_only_for_its_run_and_class() {
        let (keys, run) = (keys(), RunId([2; 16]));
        let wrapped = keys.wrap(run, Class::Data, &Secret([9; 32])).expect("wraps");
        assert_eq!(keys.unwrap(run, Class::Data, &wrapped).expect("opens").0, [9; 32]);
        assert!(keys.unwrap(RunId([3; 16]), Class::Data, &wrapped).is_none());
        assert!(keys.unwrap(run, Class::Tree, &wrapped).is_none());
        let mut torn = wrapped;
        torn[40] ^= 1;
        assert!(keys.unwrap(run, Class::Data, &torn).is_none());
    }

    #[test]
    fn sealed_records_are_bound_to_their_name() {
        let secret = Secret([5; 32]);
        let sealed = secret.seal(b"words", b"runs/a").expect("seals");
        assert_eq!(secret.open(&sealed, b"runs/a").as_deref(), Some(b"words".as_slice()));
        assert_eq!(secret.open(&sealed, b"runs/b"), None);
        assert_eq!(secret.open(&sealed[..11], b"runs/a"), None);
    }

    #[test]
    fn lineages_do_not_run_into_each_other() {
        let keys = keys();
        assert_ne!(keys.lineage("ab", "c"), keys.lineage("a", "bc"));
    }
}
