//! The bodies of pages as bytes, which are fingerprinted.

use std::sync::Arc;

use minicbor::{Decoder, Encoder, data::Type, decode::Error};

use super::annex::{Hints, Refs};
use super::entry::{
    Below, Body, ChunkRef, DeviceKind, Entry, Item, Moment, Owner, PageRef, Recipe,
};
use super::needs::Needs;
use super::spot::Spot;
use crate::{
    error::{Result, StoreError},
    format::ids::Fingerprint,
};

/// Level of a page that lists chunks; inner pages of a recipe count up from here.
pub(crate) const RECIPE_LEVEL: u8 = 64;

type Writer = Encoder<Vec<u8>>;

/// Keys of an entry's map.
pub(super) mod key {
    pub const NAME: u8 = 0;
    pub const KIND: u8 = 1;
    pub const MODE: u8 = 2;
    pub const OWNER: u8 = 3;
    pub const MODIFIED: u8 = 4;
    pub const CHANGED: u8 = 5;
    pub const INODE: u8 = 6;
    pub const SIZE: u8 = 7;
    pub const ITEMS: u8 = 8;
    pub const PAGED: u8 = 9;
    pub const ROOT: u8 = 10;
    pub const BELOW: u8 = 11;
    pub const TARGET: u8 = 12;
    pub const DEVICE: u8 = 13;
    pub const XATTRS: u8 = 14;
    pub const LINKS: u8 = 15;
    pub const UNSETTLED: u8 = 16;
}

fn kind_code(body: &Body) -> u8 {
    match body {
        Body::File { .. } => 0,
        Body::Directory { .. } => 1,
        Body::Link(_) => 2,
        Body::Pipe => 3,
        Body::Device { kind: DeviceKind::Character, .. } => 4,
        Body::Device { kind: DeviceKind::Block, .. } => 5,
    }
}

/// Encodes an entry; what it refers to is appended to `refs`.
pub(super) fn encode_entry(entry: &Entry, owner: u32, out: Vec<u8>, refs: &mut Refs) -> Vec<u8> {
    let mut writer = Encoder::new(out);
    match write_entry(&mut writer, entry, owner, refs) {
        Ok(()) => writer.into_writer(),
        Err(error) => unreachable_write(&error),
    }
}

fn unreachable_write(error: &minicbor::encode::Error<std::convert::Infallible>) -> ! {
    unreachable!("writing to memory does not fail: {error}")
}

type Written = std::result::Result<(), minicbor::encode::Error<std::convert::Infallible>>;

fn write_entry(w: &mut Writer, entry: &Entry, owner: u32, refs: &mut Refs) -> Written {
    let own_fields = match &entry.body {
        Body::File { .. } | Body::Directory { .. } => 2,
        Body::Link(_) | Body::Device { .. } => 1,
        Body::Pipe => 0,
    };
    let optional = [!entry.xattrs.is_empty(), entry.links.is_some(), entry.unsettled];
    w.map(7 + own_fields + optional.iter().filter(|there| **there).count() as u64)?;
    w.u8(key::NAME)?.bytes(&entry.name)?;
    w.u8(key::KIND)?.u8(kind_code(&entry.body))?;
    w.u8(key::MODE)?.u32(entry.mode)?;
    w.u8(key::OWNER)?.u32(owner)?;
    w.u8(key::MODIFIED)?.array(2)?.i64(entry.modified.seconds)?.u32(entry.modified.nanos)?;
    w.u8(key::CHANGED)?.array(2)?.i64(entry.changed.seconds)?.u32(entry.changed.nanos)?;
    w.u8(key::INODE)?.u64(entry.inode)?;
    match &entry.body {
        Body::File { size, recipe } => {
            w.u8(key::SIZE)?.u64(*size)?;
            match recipe {
                Recipe::Inline(items) => {
                    w.u8(key::ITEMS)?.array(items.len() as u64)?;
                    items.iter().try_for_each(|item| write_item(w, item, refs))?;
                }
                Recipe::Paged(page, needs) => {
                    w.u8(key::PAGED)?.bytes(&page.fingerprint.0)?;
                    refs.push(page.spot, needs);
                }
            }
        }
        Body::Directory { root, needs, below } => {
            w.u8(key::ROOT)?.bytes(&root.fingerprint.0)?;
            refs.push(root.spot, needs);
            w.u8(key::BELOW)?.array(2)?.u64(below.files)?.u64(below.bytes)?;
        }
        Body::Link(target) => {
            w.u8(key::TARGET)?.bytes(target)?;
        }
        Body::Pipe => {}
        Body::Device { major, minor, .. } => {
            w.u8(key::DEVICE)?.array(2)?.u32(*major)?.u32(*minor)?;
        }
    }
    if !entry.xattrs.is_empty() {
        w.u8(key::XATTRS)?.array(entry.xattrs.len() as u64)?;
        for (name, value) in &entry.xattrs {
            w.array(2)?.bytes(name)?.bytes(value)?;
        }
    }
    if let Some((device, inode)) = entry.links {
        w.u8(key::LINKS)?.array(2)?.u64(device)?.u64(inode)?;
    }
    if entry.unsettled {
        w.u8(key::UNSETTLED)?.bool(true)?;
    }
    Ok(())
}

fn write_item(w: &mut Writer, item: &Item, refs: &mut Refs) -> Written {
    match item {
        Item::Chunk(ChunkRef { fingerprint, length, spot }) => {
            w.array(2)?.u32(*length)?.bytes(&fingerprint.0)?;
            refs.spots.push(*spot);
        }
        Item::Hole(length) => {
            w.u64(*length)?;
        }
    }
    Ok(())
}

/// Encodes one item of a recipe page.
pub(super) fn encode_item(item: &Item, out: Vec<u8>, refs: &mut Refs) -> Vec<u8> {
    let mut writer = Encoder::new(out);
    match write_item(&mut writer, item, refs) {
        Ok(()) => writer.into_writer(),
        Err(error) => unreachable_write(&error),
    }
}

/// Encodes one child of an inner page: the last name below it, or the bytes of content below it.
pub(super) fn encode_child(label: &ChildLabel, page: &Fingerprint, out: Vec<u8>) -> Vec<u8> {
    let mut writer = Encoder::new(out);
    let written = (|| {
        writer.array(2)?;
        match label {
            ChildLabel::Name(name) => writer.bytes(name)?,
            ChildLabel::Bytes(bytes) => writer.u64(*bytes)?,
        };
        writer.bytes(&page.0)?;
        Ok(())
    })();
    match written {
        Ok(()) => writer.into_writer(),
        Err(error) => unreachable_write(&error),
    }
}

/// By what an inner page tells its children apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum ChildLabel {
    /// The last name of a directory's page.
    Name(Vec<u8>),
    /// The bytes of content a recipe page stands for.
    Bytes(u64),
}

/// Puts a page's body together from rows that are encoded already.
pub(super) fn assemble(level: u8, owners: Option<&[Owner]>, count: u64, rows: &[u8]) -> Vec<u8> {
    let mut writer = Encoder::new(Vec::with_capacity(rows.len() + 256));
    let written: Written = (|| {
        writer.array(if owners.is_some() { 3 } else { 2 })?.u8(level)?;
        if let Some(owners) = owners {
            writer.array(owners.len() as u64)?;
            for owner in owners {
                writer.array(4)?.u32(owner.uid)?.u32(owner.gid)?;
                for name in [&owner.user, &owner.group] {
                    match name {
                        Some(name) => writer.str(name)?,
                        None => writer.null()?,
                    };
                }
            }
        }
        writer.array(count)?;
        Ok(())
    })();
    match written {
        Ok(()) => {
            let mut body = writer.into_writer();
            body.extend_from_slice(rows);
            body
        }
        Err(error) => unreachable_write(&error),
    }
}

/// A page that was read.
#[derive(Debug)]
pub(super) enum Page {
    Entries(Vec<Entry>),
    Items(Vec<Item>),
    Inner(Vec<(ChildLabel, PageRef, Needs)>),
}

impl Page {
    /// Decodes a body; the hints are handed out in the order in which references appear.
    pub fn decode(body: &[u8], hints: &Hints<'_>, object: &str) -> Result<Self> {
        let mut count = 0;
        let mut next = || {
            count += 1;
            hints.spot(count - 1)
        };
        let mut decoder = Decoder::new(body);
        let page = decode_page(&mut decoder, &mut next);
        let mut page = page.map_err(|error| StoreError::damaged(object, error.to_string()))?;
        if decoder.position() != body.len() {
            return Err(StoreError::damaged(object, "bytes follow the page's end"));
        }
        page.note_needs(&mut hints.needs(count));
        Ok(page)
    }

    /// Notes what each reference needs, in the order in which they stand.
    fn note_needs(&mut self, next: &mut dyn Iterator<Item = Needs>) {
        match self {
            Self::Entries(entries) => {
                for entry in entries {
                    if let Body::Directory { needs, .. }
                    | Body::File { recipe: Recipe::Paged(_, needs), .. } = &mut entry.body
                    {
                        *needs = next.next().unwrap_or_default();
                    }
                }
            }
            Self::Inner(children) => {
                for (_, _, needs) in children {
                    *needs = next.next().unwrap_or_default();
                }
            }
            Self::Items(_) => {}
        }
    }
}

pub(super) type Decoded<T> = std::result::Result<T, Error>;

pub(super) fn length(d: &mut Decoder<'_>) -> Decoded<u64> {
    d.array()?.ok_or_else(|| Error::message("a list of unknown length"))
}

fn exactly(d: &mut Decoder<'_>, wanted: u64) -> Decoded<()> {
    if length(d)? == wanted { Ok(()) } else { Err(Error::message("a row of the wrong length")) }
}

fn fingerprint(d: &mut Decoder<'_>) -> Decoded<Fingerprint> {
    let bytes =
        d.bytes()?.try_into().map_err(|_| Error::message("a fingerprint of wrong length"))?;
    Ok(Fingerprint(bytes))
}

fn decode_page(d: &mut Decoder<'_>, next: &mut dyn FnMut() -> Spot) -> Decoded<Page> {
    let parts = length(d)?;
    let level = d.u8()?;
    match (level, parts) {
        (0, 3) => {
            let owners = decode_owners(d)?;
            let entries = (0..length(d)?).map(|_| decode_entry(d, &owners, next));
            let entries: Vec<Entry> = entries.collect::<Decoded<_>>()?;
            let sorted = entries.is_sorted_by(|a, b| a.name < b.name);
            if !sorted || !entries.iter().all(|entry| Entry::is_name(&entry.name)) {
                return Err(Error::message("invalid or unsorted names"));
            }
            Ok(Page::Entries(entries))
        }
        (RECIPE_LEVEL, 2) => {
            let items = (0..length(d)?).map(|_| decode_item(d, next));
            items.collect::<Decoded<_>>().map(Page::Items)
        }
        (_, 2) => {
            let children = (0..length(d)?).map(|_| {
                exactly(d, 2)?;
                let label = match d.datatype()? {
                    Type::Bytes => ChildLabel::Name(d.bytes()?.to_vec()),
                    _ => ChildLabel::Bytes(d.u64()?),
                };
                let page = PageRef { fingerprint: fingerprint(d)?, spot: next() };
                Ok((label, page, Needs::default()))
            });
            children.collect::<Decoded<_>>().map(Page::Inner)
        }
        _ => Err(Error::message("a page of unknown form")),
    }
}

pub(super) fn decode_owners(d: &mut Decoder<'_>) -> Decoded<Vec<Owner>> {
    let name = |d: &mut Decoder<'_>| -> Decoded<Option<Arc<str>>> {
        if d.datatype()? == Type::Null {
            d.null().map(|()| None)
        } else {
            Ok(Some(d.str()?.into()))
        }
    };
    (0..length(d)?)
        .map(|_| {
            exactly(d, 4)?;
            Ok(Owner { uid: d.u32()?, gid: d.u32()?, user: name(d)?, group: name(d)? })
        })
        .collect()
}

fn decode_item(d: &mut Decoder<'_>, next: &mut dyn FnMut() -> Spot) -> Decoded<Item> {
    if d.datatype()? == Type::Array {
        exactly(d, 2)?;
        let length = d.u32()?;
        Ok(Item::Chunk(ChunkRef { length, fingerprint: fingerprint(d)?, spot: next() }))
    } else {
        d.u64().map(Item::Hole)
    }
}

fn moment(d: &mut Decoder<'_>) -> Decoded<Moment> {
    exactly(d, 2)?;
    let moment = Moment { seconds: d.i64()?, nanos: d.u32()? };
    if moment.nanos < 1_000_000_000 {
        Ok(moment)
    } else {
        Err(Error::message("a time out of range"))
    }
}

#[derive(Default)]
struct Fields {
    name: Vec<u8>,
    kind: u8,
    mode: u32,
    owner: Owner,
    modified: Moment,
    changed: Moment,
    inode: u64,
    size: u64,
    recipe: Option<Recipe>,
    root: Option<PageRef>,
    below: Below,
    target: Option<Vec<u8>>,
    device: Option<(u32, u32)>,
    xattrs: Vec<(Vec<u8>, Vec<u8>)>,
    links: Option<(u64, u64)>,
    unsettled: bool,
}

pub(super) fn decode_entry(
    d: &mut Decoder<'_>,
    owners: &[Owner],
    next: &mut dyn FnMut() -> Spot,
) -> Decoded<Entry> {
    let mut f = Fields::default();
    let fields = d.map()?.ok_or_else(|| Error::message("an entry of unknown length"))?;
    for _ in 0..fields {
        match d.u8()? {
            key::NAME => f.name = d.bytes()?.to_vec(),
            key::KIND => f.kind = d.u8()?,
            key::MODE => f.mode = d.u32()?,
            key::OWNER => {
                let owner = owners.get(d.u32()? as usize);
                f.owner =
                    owner.ok_or_else(|| Error::message("an owner that is not listed"))?.clone();
            }
            key::MODIFIED => f.modified = moment(d)?,
            key::CHANGED => f.changed = moment(d)?,
            key::INODE => f.inode = d.u64()?,
            key::SIZE => f.size = d.u64()?,
            key::ITEMS => {
                let items =
                    (0..length(d)?).map(|_| decode_item(d, next)).collect::<Decoded<_>>()?;
                f.recipe = Some(Recipe::Inline(items));
            }
            key::PAGED => {
                let page = PageRef { fingerprint: fingerprint(d)?, spot: next() };
                f.recipe = Some(Recipe::Paged(page, Needs::default()));
            }
            key::ROOT => f.root = Some(PageRef { fingerprint: fingerprint(d)?, spot: next() }),
            key::BELOW => {
                exactly(d, 2)?;
                f.below = Below { files: d.u64()?, bytes: d.u64()? };
            }
            key::TARGET => f.target = Some(d.bytes()?.to_vec()),
            key::DEVICE => {
                exactly(d, 2)?;
                f.device = Some((d.u32()?, d.u32()?));
            }
            key::XATTRS => {
                for _ in 0..length(d)? {
                    exactly(d, 2)?;
                    f.xattrs.push((d.bytes()?.to_vec(), d.bytes()?.to_vec()));
                }
            }
            key::LINKS => {
                exactly(d, 2)?;
                f.links = Some((d.u64()?, d.u64()?));
            }
            key::UNSETTLED => f.unsettled = d.bool()?,
            // A field of a later version that readers need not understand.
            _ => d.skip()?,
        }
    }
    f.into_entry()
}

impl Fields {
    fn into_entry(self) -> Decoded<Entry> {
        let missing = |what: &'static str| Error::message(what);
        let device = |kind, numbers: Option<(u32, u32)>| {
            let (major, minor) = numbers.ok_or_else(|| missing("a device without numbers"))?;
            Ok(Body::Device { kind, major, minor })
        };
        let body = match self.kind {
            0 => {
                let recipe = self.recipe.ok_or_else(|| missing("a file without content"))?;
                Body::File { size: self.size, recipe }
            }
            1 => {
                let root = self.root.ok_or_else(|| missing("a directory without tree"))?;
                Body::Directory { root, needs: Needs::default(), below: self.below }
            }
            2 => Body::Link(self.target.ok_or_else(|| missing("a link without target"))?),
            3 => Body::Pipe,
            4 => device(DeviceKind::Character, self.device)?,
            5 => device(DeviceKind::Block, self.device)?,
            _ => return Err(missing("an entry of unknown kind")),
        };
        Ok(Entry {
            name: self.name,
            mode: self.mode & 0o7777,
            owner: self.owner,
            modified: self.modified,
            changed: self.changed,
            inode: self.inode,
            links: self.links,
            unsettled: self.unsettled,
            xattrs: self.xattrs,
            body,
        })
    }
}

#[cfg(test)]
#[path = "page_tests.rs"]
mod tests;
