//! Identifiers: of stores, runs, containers, contents.

use std::fmt;

use minicbor::{Decode, Encode};
use skellin_place::ObjectName;

use crate::error::{Result, StoreError};

/// Fills bytes from the operating system's random source.
///
/// # Errors
/// [`StoreError::Local`] if there is none.
pub(crate) fn random<const N: usize>() -> Result<[u8; N]> {
    let mut bytes = [0; N];
    #[cfg(test)]
    if crate::simulation::fill(&mut bytes) {
        return Ok(bytes);
    }
    getrandom::fill(&mut bytes)
        .map_err(|error| StoreError::local("random numbers", std::io::Error::other(error)))?;
    Ok(bytes)
}

/// Lower-case hexadecimal.
#[must_use]
pub fn hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let digit = |value: u8| char::from(DIGITS[usize::from(value)]);
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

/// The reverse of [`hex`]; `None` if it is not lower-case hexadecimal.
pub(crate) fn unhex(text: &str) -> Option<Vec<u8>> {
    let value = |digit: u8| match digit {
        b'0'..=b'9' => Some(digit - b'0'),
        b'a'..=b'f' => Some(digit - b'a' + 10),
        _ => None,
    };
    let pairs = text.as_bytes().chunks(2);
    pairs.map(|pair| Some(value(*pair.first()?)? << 4 | value(*pair.get(1)?)?)).collect()
}

macro_rules! id_type {
    ($(#[$doc:meta])* $name:ident, $length:literal) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Encode, Decode)]
        #[cbor(transparent)]
        pub struct $name(#[n(0)] #[cbor(with = "minicbor::bytes")] pub [u8; $length]);

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&hex(&self.0))
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "{}({})", stringify!($name), self)
            }
        }

        impl $name {
            /// Reads the hexadecimal form.
            #[must_use]
            pub fn parse(text: &str) -> Option<Self> {
                unhex(text)?.try_into().ok().map(Self)
            }

            /// As much of it as tells it from others to a person.
            #[must_use]
            pub fn short(&self) -> String {
                hex(&self.0[..4])
            }
        }
    };
}

id_type!(
    /// A store, for ever.
    StoreId,
    16
);
id_type!(
    /// A run: its containers, its segments and its snapshot carry it.
    RunId,
    16
);
id_type!(
    /// Plan and machine, as a keyed hash: snapshots of one lineage follow each other.
    Lineage,
    16
);
id_type!(
    /// The keyed hash of a chunk or of a tree page.
    Fingerprint,
    32
);

impl RunId {
    /// A new one.
    ///
    /// # Errors
    /// If the system has no random numbers.
    pub fn random() -> Result<Self> {
        random().map(Self)
    }
}

/// The first half of a fingerprint, as the index keeps it.
pub(crate) type Prefix = [u8; 16];

impl Fingerprint {
    pub(crate) fn prefix(&self) -> Prefix {
        let mut prefix = [0; 16];
        prefix.copy_from_slice(&self.0[..16]);
        prefix
    }
}

/// What a container holds. Data and trees never share one, so that trees can lie on quick storage.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Class {
    /// Chunks of files.
    Data,
    /// Pages of trees.
    Tree,
}

impl Class {
    /// As records write it.
    #[must_use]
    pub fn code(self) -> u8 {
        match self {
            Self::Data => 1,
            Self::Tree => 2,
        }
    }

    pub(crate) fn from_code(code: u8) -> Option<Self> {
        match code {
            1 => Some(Self::Data),
            2 => Some(Self::Tree),
            _ => None,
        }
    }

    /// The folder at the place.
    #[must_use]
    pub fn folder(self) -> &'static str {
        match self {
            Self::Data => "data",
            Self::Tree => "trees",
        }
    }
}

/// A container: its name is used once and never for other bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ContainerId {
    /// What it holds.
    pub class: Class,
    /// The run that wrote it.
    pub run: RunId,
    /// Its number within run and class.
    pub sequence: u32,
}

impl ContainerId {
    /// Where it lies.
    ///
    /// # Errors
    /// Never for an id made by this crate.
    pub fn object(&self) -> Result<ObjectName> {
        let Self { class, run, sequence } = self;
        Ok(ObjectName::new(format!("{}/{run}-{sequence:08x}", class.folder()))?)
    }

    /// Where its second copy lies: trees are small, and everything hangs on them.
    pub(crate) fn spare(&self) -> Result<Option<ObjectName>> {
        let Self { class, run, sequence } = self;
        match class {
            Class::Data => Ok(None),
            Class::Tree => Ok(Some(ObjectName::new(format!("spares/{run}-{sequence:08x}"))?)),
        }
    }

    pub(crate) fn parse(class: Class, leaf: &str) -> Option<Self> {
        let (run, sequence) = leaf.split_once('-')?;
        let sequence = u32::from_be_bytes(unhex(sequence)?.try_into().ok()?);
        Some(Self { class, run: RunId::parse(run)?, sequence })
    }
}

impl fmt::Display for ContainerId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}-{:08x}", self.class.folder(), self.run, self.sequence)
    }
}
