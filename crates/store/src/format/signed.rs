//! Signed records: a body, the machine that vouches for it, and the store's word for the machine.

use minicbor::{Decode, Encode, bytes::ByteVec};

use crate::{
    error::{Result, StoreError},
    format::keys::{Keys, Signer, is_signed},
};

/// A machine's public key, certified by the store.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Certificate {
    #[n(0)]
    pub machine: String,
    #[cbor(n(1), with = "minicbor::bytes")]
    pub public: [u8; 32],
    #[n(2)]
    pub epoch: u32,
    #[cbor(n(3), with = "minicbor::bytes")]
    pub signature: [u8; 64],
}

/// A body and its signature.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Signed {
    #[n(0)]
    pub body: ByteVec,
    #[n(1)]
    pub certificate: Certificate,
    #[cbor(n(2), with = "minicbor::bytes")]
    pub signature: [u8; 64],
}

/// A machine that signs.
pub(crate) struct Machine {
    signer: Signer,
    certificate: Certificate,
}

impl Machine {
    /// The machine of this name, certified with the store's own key.
    pub fn certified(keys: &Keys, name: &str) -> Result<Self> {
        let signer = keys.machine_signer(name)?;
        let public = signer.public();
        let message = certificate_message(keys, name, &public, keys.epoch);
        let signature = keys.sign(&message)?;
        let certificate =
            Certificate { machine: name.to_owned(), public, epoch: keys.epoch, signature };
        Ok(Self { signer, certificate })
    }

    /// Signs a body in a context, which says what the body is and to what it belongs.
    pub fn sign(&self, context: &[u8], body: Vec<u8>) -> Signed {
        let signature = self.signer.sign(&signed_message(context, &body));
        Signed { body: body.into(), certificate: self.certificate.clone(), signature }
    }
}

impl Signed {
    /// The body, if machine and signature are good in this context.
    pub fn verified(self, keys: &Keys, context: &[u8], object: &str) -> Result<Vec<u8>> {
        let Certificate { machine, public, epoch, signature } = &self.certificate;
        let message = certificate_message(keys, machine, public, *epoch);
        if !is_signed(&keys.store_key, &message, signature) {
            return Err(StoreError::damaged(object, "its machine was not certified by this store"));
        }
        if !is_signed(public, &signed_message(context, &self.body), &self.signature) {
            return Err(StoreError::damaged(object, "its signature is wrong"));
        }
        Ok(self.body.into())
    }

    pub fn encode(&self) -> Vec<u8> {
        encode(self)
    }

    pub fn decode(bytes: &[u8], object: &str) -> Result<Self> {
        decode(bytes, object)
    }
}

fn certificate_message(keys: &Keys, machine: &str, public: &[u8; 32], epoch: u32) -> Vec<u8> {
    let head = b"skellin machine v1".as_slice();
    [head, &keys.store.0, &epoch.to_le_bytes(), public, machine.as_bytes()].concat()
}

fn signed_message(context: &[u8], body: &[u8]) -> Vec<u8> {
    let length = (context.len() as u64).to_le_bytes();
    [b"skellin signed v1".as_slice(), &length, context, blake3::hash(body).as_bytes()].concat()
}

/// A record as deterministic CBOR (RFC 8949, 4.2): shortest heads, definite lengths, rising keys.
pub(crate) fn encode<T: Encode<()>>(record: &T) -> Vec<u8> {
    let mut bytes = Vec::new();
    match minicbor::encode(record, &mut bytes) {
        Ok(()) => bytes,
        Err(error) => unreachable!("writing to memory does not fail: {error}"),
    }
}

/// A record from CBOR; trailing bytes are damage.
pub(crate) fn decode<'b, T: Decode<'b, ()>>(bytes: &'b [u8], object: &str) -> Result<T> {
    let mut decoder = minicbor::Decoder::new(bytes);
    let record =
        decoder.decode().map_err(|error| StoreError::damaged(object, error.to_string()))?;
    if decoder.position() == bytes.len() {
        Ok(record)
    } else {
        Err(StoreError::damaged(object, "bytes follow its end"))
    }
}
