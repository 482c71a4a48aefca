//! Pages as bytes: the body, which is fingerprinted, and the annex of hints, which is not.

use std::collections::HashMap;
use std::sync::Arc;

use minicbor::{Decoder, Encoder, data::Type, decode::Error};

use super::entry::{
    Below, Body, ChunkRef, DeviceKind, Entry, Item, Moment, Owner, PageRef, Recipe,
};
use super::needs::{Needs, Within};
use super::spot::Spot;
use crate::{
    container::Salt,
    containers::{Containers, Location},
    error::{Result, StoreError},
    ids::{Class, ContainerId, Fingerprint, RunId},
};

/// Level of a page that lists chunks; inner pages of a recipe count up from here.
pub(crate) const RECIPE_LEVEL: u8 = 64;

type Writer = Encoder<Vec<u8>>;

/// Keys of an entry's map.
mod key {
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

/// What the references of a page point to, in their order: where each lies, and for each that stands
/// for more than itself what all of it needs.
#[derive(Debug, Default)]
pub struct Refs {
    pub(crate) spots: Vec<Spot>,
    pub(crate) needs: Vec<Needs>,
}

impl Refs {
    fn push(&mut self, spot: Spot, needs: &Needs) {
        self.spots.push(spot);
        self.needs.push(needs.clone());
    }

    pub(super) fn push_child(&mut self, child: &PageRef, needs: &Needs) {
        self.push(child.spot, needs);
    }

    pub(super) fn clear(&mut self) {
        self.spots.clear();
        self.needs.clear();
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

type Decoded<T> = std::result::Result<T, Error>;

fn length(d: &mut Decoder<'_>) -> Decoded<u64> {
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

fn decode_owners(d: &mut Decoder<'_>) -> Decoded<Vec<Owner>> {
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

fn decode_entry(
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

const ANNEX_CONTAINER: usize = 40;
const ANNEX_HINT: usize = 16;
/// No hint.
const NOWHERE: u16 = u16::MAX;
/// In the block in which the page itself lies.
const SAME_BLOCK: u16 = u16::MAX - 1;

/// What is needed is not noted.
const NOT_NOTED: u16 = u16::MAX;

/// The containers an annex names, by the numbers it gives them.
struct Table<'c> {
    containers: &'c Containers,
    numbers: HashMap<u32, u16>,
    rows: Vec<u8>,
}

impl Table<'_> {
    /// The number of a container; none if it cannot be named.
    fn number(&mut self, container: u32) -> Option<u16> {
        if let Some(number) = self.numbers.get(&container) {
            return Some(*number);
        }
        let known = self.containers.get(container);
        let salt = known.salt.get()?;
        let number = u16::try_from(self.numbers.len()).ok().filter(|n| *n < SAME_BLOCK)?;
        self.rows.extend_from_slice(&known.id.run.0);
        self.rows.extend_from_slice(salt);
        self.rows.extend_from_slice(&known.id.sequence.to_le_bytes());
        self.rows.extend_from_slice(&u32::from(known.id.class.code()).to_le_bytes());
        self.numbers.insert(container, number);
        Some(number)
    }

    /// What a reference needs: how many containers, and which.
    fn needs(&mut self, needs: &Needs, open: u64) -> Vec<u8> {
        let mut numbers = Vec::new();
        for within in needs.within().unwrap_or_default() {
            numbers.push(match within {
                Within::Container(container) => self.number(*container),
                Within::Block(token) => (*token == open).then_some(SAME_BLOCK),
            });
        }
        let noted: Option<Vec<u16>> = numbers.into_iter().collect();
        match noted.filter(|_| needs.within().is_some()) {
            Some(noted) => {
                let count = noted.len() as u16;
                std::iter::once(count).chain(noted).flat_map(u16::to_le_bytes).collect()
            }
            None => NOT_NOTED.to_le_bytes().to_vec(),
        }
    }
}

/// Stored form of a page: length of the body, body, annex. `open` is the token of the block the
/// page will lie in.
pub(crate) fn attach(body: &[u8], refs: &Refs, open: u64, containers: &Containers) -> Vec<u8> {
    let mut table = Table { containers, numbers: HashMap::new(), rows: Vec::new() };
    let mut hints = Vec::with_capacity(refs.spots.len() * ANNEX_HINT);
    for spot in &refs.spots {
        let (container, block, chunk, offset, length) = match spot {
            Spot::At(at) => {
                let number = table.number(at.container);
                (number.unwrap_or(NOWHERE), at.block, at.chunk, at.offset, at.length)
            }
            Spot::Open { token, chunk } if *token == open => (SAME_BLOCK, 0, *chunk, 0, 0),
            Spot::Open { .. } | Spot::Unknown => (NOWHERE, 0, 0, 0, 0),
        };
        for half in [container, block, chunk, 0] {
            hints.extend_from_slice(&half.to_le_bytes());
        }
        hints.extend_from_slice(&offset.to_le_bytes());
        hints.extend_from_slice(&length.to_le_bytes());
    }
    for needs in &refs.needs {
        hints.extend(table.needs(needs, open));
    }
    let size = (body.len() as u32).to_le_bytes();
    let count = (table.numbers.len() as u32).to_le_bytes();
    [size.as_slice(), body, &count, &table.rows, &hints].concat()
}

/// The hints of an annex. They need not be true, only never dangerous: whoever follows one checks the
/// fingerprint, and what is needed was true when it was written, since a container's name is never
/// used for other bytes.
pub(crate) struct Hints<'a> {
    numbers: Vec<Option<u32>>,
    rows: &'a [u8],
    /// Where the page itself lies.
    own: Option<Location>,
}

impl<'a> Hints<'a> {
    /// Of a page that has none.
    #[cfg(test)]
    pub const NONE: Hints<'static> = Hints { numbers: Vec::new(), rows: &[], own: None };

    pub fn of(annex: &'a [u8], own: Location, containers: &Containers) -> Self {
        let none = Self { numbers: Vec::new(), rows: &[], own: Some(own) };
        let Some((count, rest)) = annex.split_first_chunk::<4>() else { return none };
        let size = (u32::from_le_bytes(*count) as usize).saturating_mul(ANNEX_CONTAINER);
        let Some((table, rows)) = rest.split_at_checked(size) else { return none };
        let number = |row: &[u8]| {
            let (mut run, mut salt): ([u8; 16], Salt) = ([0; 16], [0; 16]);
            run.copy_from_slice(&row[..16]);
            salt.copy_from_slice(&row[16..32]);
            let sequence = u32::from_le_bytes([row[32], row[33], row[34], row[35]]);
            let id = ContainerId { class: Class::from_code(row[36])?, run: RunId(run), sequence };
            Some(containers.number(id, Some(&salt)))
        };
        let numbers = table.chunks_exact(ANNEX_CONTAINER).map(number).collect();
        Self { numbers, rows, own: Some(own) }
    }

    fn container(&self, number: u16) -> Option<u32> {
        match number {
            SAME_BLOCK => self.own.map(|own| own.container),
            number => self.numbers.get(usize::from(number)).copied().flatten(),
        }
    }

    /// Where the reference of this number lies.
    fn spot(&self, number: usize) -> Spot {
        let at = number.saturating_mul(ANNEX_HINT);
        let row = self.rows.get(at..at.saturating_add(ANNEX_HINT));
        let (Some(row), Some(own)) = (row, self.own) else { return Spot::Unknown };
        let half = |at: usize| u16::from_le_bytes([row[at], row[at + 1]]);
        let word = |at: usize| u32::from_le_bytes([row[at], row[at + 1], row[at + 2], row[at + 3]]);
        if half(0) == SAME_BLOCK {
            return Spot::At(Location { chunk: half(4), ..own });
        }
        self.container(half(0)).map_or(Spot::Unknown, |container| {
            Spot::At(Location {
                container,
                block: half(2),
                chunk: half(4),
                offset: word(8),
                length: word(12),
            })
        })
    }

    /// What the references need that stand for more than themselves, behind the places of all
    /// `references`. Earlier writers noted none.
    fn needs(&self, references: usize) -> impl Iterator<Item = Needs> {
        let mut rest = self.rows.get(references.saturating_mul(ANNEX_HINT)..).unwrap_or_default();
        std::iter::from_fn(move || {
            let mut half = || {
                let (half, behind) = rest.split_first_chunk::<2>()?;
                rest = behind;
                Some(u16::from_le_bytes(*half))
            };
            let count = half()?;
            if count == NOT_NOTED {
                return Some(Needs::default());
            }
            let noted = (0..count).map(|_| half().and_then(|number| self.container(number)));
            let noted: Option<Vec<u32>> = noted.collect();
            Some(noted.map_or(Needs::default(), |noted| {
                Needs::of(noted.into_iter().map(Within::Container).collect())
            }))
        })
    }
}

/// Body and annex of a stored page.
pub(crate) fn split(stored: &[u8]) -> Option<(&[u8], &[u8])> {
    let (length, rest) = stored.split_first_chunk::<4>()?;
    rest.split_at_checked(u32::from_le_bytes(*length) as usize)
}

#[cfg(test)]
#[path = "page_tests.rs"]
mod tests;
