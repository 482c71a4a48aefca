//! The entries of a page met as bytes first: of many versions of a directory most are the same, or not
//! wanted, and need no decoding.

use minicbor::{Decoder, data::Type, decode::Error};

use super::{
    annex::Hints,
    entry::{Entry, Owner},
    page::{Decoded, Page, decode_entry, decode_owners, key, length},
};
use crate::error::{Result, StoreError};

/// An entry that was not decoded yet.
pub(super) struct Row<'p> {
    pub name: &'p [u8],
    pub is_directory: bool,
    /// Its bytes, which mean the same with the same owners.
    pub raw: &'p [u8],
    pub owners: &'p [Owner],
    hints: &'p Hints<'p>,
    /// The number of its first reference.
    first: usize,
}

impl Row<'_> {
    /// The entry; what the pages it refers to need is not told.
    pub fn entry(&self, object: &str) -> Result<Entry> {
        let mut count = self.first;
        let mut next = || {
            count += 1;
            self.hints.spot(count - 1)
        };
        let entry = decode_entry(&mut Decoder::new(self.raw), self.owners, &mut next);
        entry.map_err(|error| StoreError::damaged(object, error.to_string()))
    }
}

/// Hands over the entries of a page, in order; a page that has none is given back decoded.
pub(super) fn scan(
    body: &[u8],
    hints: &Hints<'_>,
    object: &str,
    visit: &mut dyn FnMut(&Row<'_>) -> Result<()>,
) -> Result<Option<Page>> {
    let damaged = |error: &Error| StoreError::damaged(object, error.to_string());
    let mut d = Decoder::new(body);
    let begins = |d: &mut Decoder<'_>| Ok::<_, Error>((length(d)?, d.u8()?));
    if begins(&mut d).map_err(|error| damaged(&error))? != (3, 0) {
        return Page::decode(body, hints, object).map(Some);
    }
    let owners = decode_owners(&mut d).map_err(|error| damaged(&error))?;
    let count = length(&mut d).map_err(|error| damaged(&error))?;
    let (mut first, mut before): (usize, Option<&[u8]>) = (0, None);
    for _ in 0..count {
        let from = d.position();
        let (name, is_directory, references) = pass(&mut d).map_err(|error| damaged(&error))?;
        if before.is_some_and(|before| before >= name) || !Entry::is_name(name) {
            return Err(StoreError::damaged(object, "invalid or unsorted names"));
        }
        before = Some(name);
        let raw = &body[from..d.position()];
        visit(&Row { name, is_directory, raw, owners: &owners, hints, first })?;
        first += references;
    }
    if d.position() != body.len() {
        return Err(StoreError::damaged(object, "bytes follow the page's end"));
    }
    Ok(None)
}

/// Passes over an entry: its name, whether it is a directory, and how many references stand in it.
fn pass<'b>(d: &mut Decoder<'b>) -> Decoded<(&'b [u8], bool, usize)> {
    let fields = d.map()?.ok_or_else(|| Error::message("an entry of unknown length"))?;
    let (mut name, mut kind, mut references) = (None, 0, 0);
    for _ in 0..fields {
        match d.u8()? {
            key::NAME => name = Some(d.bytes()?),
            key::KIND => kind = d.u8()?,
            key::ITEMS => {
                for _ in 0..length(d)? {
                    references += usize::from(d.datatype()? == Type::Array);
                    d.skip()?;
                }
            }
            key::PAGED | key::ROOT => {
                references += 1;
                d.skip()?;
            }
            _ => d.skip()?,
        }
    }
    let name = name.ok_or_else(|| Error::message("an entry without name"))?;
    Ok((name, kind == 1, references))
}
