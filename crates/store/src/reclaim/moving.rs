//! Needed contents of containers that are given up, stored anew by a run of its own.

use std::{collections::HashMap, sync::Arc};

use super::{ReclaimWatch, choosing::Weighed, marking::Marks};
use crate::{
    containers::{Location, Standing},
    error::{Result, StoreError},
    format::{
        block::Block,
        container::Directory,
        ids::{Class, ContainerId, Fingerprint},
    },
    index::SegmentDraft,
    records::needed::is_list,
    store::Store,
    tree::{
        Body, ChunkRef, Gathered, Item, Needs, PageRef, PageSink as _, Recipe, Refs, Spot,
        split_page,
    },
    writing::{content::ContentWriter, session::Session},
};

/// Contents that are asked for together from a far place.
const TOGETHER: usize = 512;

/// What has been stored anew.
#[derive(Debug, Default)]
pub(super) struct Moved {
    /// Bytes of blocks that were read.
    pub read: u64,
    /// Containers that could not be read, and stay therefore.
    pub unreadable: Vec<(ContainerId, String)>,
}

/// Stores what is needed of containers anew. They are out of use for this process before.
pub(super) fn move_out(
    session: &Arc<Session>,
    chosen: &[Weighed],
    marks: &Marks,
    watch: &dyn ReclaimWatch,
    progress: &mut dyn FnMut(u64),
) -> Result<Moved> {
    let store = &session.writing.store;
    let mut moved = Moved::default();
    let mut writer = ContentWriter::new(session)?;
    let of_class = |class| chosen.iter().filter(move |one: &&Weighed| one.id.class == class);
    for one in of_class(Class::Data) {
        let read = &mut moved.read;
        let done = each_content(store, one, (marks, read), watch, &mut |_, content| {
            writer.begin_file(());
            writer.chunk(content)?;
            writer.end_file()?;
            writer.take_done();
            Ok(())
        });
        keep_unreadable(store, one, done, &mut moved)?;
        session.poll_now_and_then()?;
        progress(one.size);
    }
    writer.close()?;
    drop(writer);
    let is_cancelled = || watch.is_cancelled();
    // Pages that are moved say where their contents lie now: the index has to know.
    let finished = session.writing.uploads.drain(&is_cancelled)?;
    session.writing.write_segment(&finished, SegmentDraft::default())?;
    let mut fresh = Fresh { store, needs: HashMap::new() };
    for one in of_class(Class::Tree) {
        let read = &mut moved.read;
        let done = each_content(store, one, (marks, read), watch, &mut |fingerprint, stored| {
            let body = split_page(stored).map(|(body, _)| body);
            let body =
                body.ok_or_else(|| StoreError::damaged(one.id.to_string(), "a page is cut short"))?;
            let refs = match is_list(body) {
                true => Refs::default(),
                false => fresh.refs(fingerprint)?,
            };
            session.put_page(body, &refs)?;
            Ok(())
        });
        keep_unreadable(store, one, done, &mut moved)?;
        session.poll_now_and_then()?;
        progress(one.size);
    }
    session.close_tree()?;
    let finished = session.writing.uploads.drain(&is_cancelled)?;
    let (unlisted, replaced) = session.comparison().take_unlisted();
    session.writing.write_segment(&finished, unlisted)?;
    if !replaced.is_empty() {
        store.delete_segments(&replaced)?;
    }
    Ok(moved)
}

/// A container that cannot be read whole stays: what is needed of it may be had by other means.
fn keep_unreadable(
    store: &Store,
    one: &Weighed,
    done: Result<()>,
    moved: &mut Moved,
) -> Result<()> {
    match done {
        Err(error) if error.is_unreadable() => {
            let number = store.containers.number(one.id, None);
            store.give_up(number, &error);
            moved.unreadable.push((one.id, error.in_short()));
            Ok(())
        }
        other => other,
    }
}

/// Hands over the needed contents of a container that lie nowhere else, in their order.
fn each_content(
    store: &Store,
    one: &Weighed,
    (marks, read): (&Marks, &mut u64),
    watch: &dyn ReclaimWatch,
    take: &mut dyn FnMut(&Fingerprint, &[u8]) -> Result<()>,
) -> Result<()> {
    let directory = store.read_directory_somehow(one.id, one.size)?;
    let container = store.containers.number(one.id, Some(&directory.salt));
    let is_wanted = |fingerprint: &Fingerprint| {
        let prefix = fingerprint.prefix();
        marks.is_needed(&prefix) && !store.has_copy(&prefix)
    };
    let rows: Vec<_> = directory.rows.iter().filter(|row| is_wanted(&row.fingerprint)).collect();
    let mut block: Option<(u16, Arc<Block>)> = None;
    for some in rows.chunks(TOGETHER) {
        if one.id.class == Class::Data {
            let chunk = |row: &&&crate::format::container::Row| ChunkRef {
                fingerprint: row.fingerprint,
                length: 0,
                spot: Spot::At(location(&directory, container, row.block, row.chunk)),
            };
            store.fetch_ahead(&some.iter().map(|row| chunk(&row)).collect::<Vec<_>>());
        }
        for row in some {
            if watch.is_cancelled() {
                return Err(StoreError::Cancelled);
            }
            let at = location(&directory, container, row.block, row.chunk);
            let open = match block.take() {
                Some((number, open)) if number == row.block => open,
                _ => {
                    *read += u64::from(at.length);
                    store.block(&at)?
                }
            };
            let damaged = |why: &str| StoreError::damaged(one.id.to_string(), why);
            let content =
                open.chunk(row.chunk.into()).ok_or_else(|| damaged("a content is missing"))?;
            let body = match one.id.class {
                Class::Data => content,
                Class::Tree => split_page(content).map_or(&[][..], |(body, _)| body),
            };
            if store.keys.fingerprint(one.id.class, body) != row.fingerprint {
                return Err(damaged("a content does not match its fingerprint"));
            }
            take(&row.fingerprint, content)?;
            block = Some((row.block, open));
        }
    }
    Ok(())
}

fn location(directory: &Directory, container: u32, block: u16, chunk: u16) -> Location {
    let (offset, length) = directory.blocks.get(usize::from(block)).copied().unwrap_or_default();
    Location { container, block, chunk, offset, length }
}

/// Where what pages refer to lies now, and what it needs.
struct Fresh<'s> {
    store: &'s Store,
    /// What the pages need that were moved already; those below a page come before it.
    needs: HashMap<Fingerprint, Needs>,
}

impl Fresh<'_> {
    /// The references of a page as they are now.
    fn refs(&mut self, page: &Fingerprint) -> Result<Refs> {
        let content = self.store.page_children(&PageRef::unplaced(*page))?;
        let mut refs = Refs::default();
        let mut all = Gathered::default();
        for (page, needs) in &content.pages {
            self.add_page(page, needs, &mut refs, &mut all);
        }
        for item in &content.items {
            self.add_item(item, &mut refs, &mut all);
        }
        for entry in &content.entries {
            match &entry.body {
                Body::File { recipe: Recipe::Inline(few), .. } => {
                    few.iter().for_each(|item| self.add_item(item, &mut refs, &mut all));
                }
                Body::File { recipe: Recipe::Paged(page, needs), .. }
                | Body::Directory { root: page, needs, .. } => {
                    self.add_page(page, needs, &mut refs, &mut all);
                }
                Body::Link(_) | Body::Pipe | Body::Device { .. } => {}
            }
        }
        self.needs.insert(*page, all.needs());
        Ok(refs)
    }

    fn add_item(&self, item: &Item, refs: &mut Refs, all: &mut Gathered) {
        if let Item::Chunk(chunk) = item {
            let spot = self.spot(&chunk.fingerprint);
            refs.spots.push(spot);
            all.add_spot(spot);
        }
    }

    fn add_page(&self, page: &PageRef, noted: &Needs, refs: &mut Refs, all: &mut Gathered) {
        let spot = self.spot(&page.fingerprint);
        let is_usable = |needs: &Needs| {
            needs.within().is_some_and(|within| {
                within.iter().all(|within| match within {
                    crate::tree::Within::Container(number) => {
                        self.store.containers.get(*number).standing() == Standing::Present
                    }
                    crate::tree::Within::Block(_) => false,
                })
            })
        };
        let needs = match self.needs.get(&page.fingerprint) {
            // The page itself lies in a container that is not written yet.
            Some(_) if spot == Spot::Unknown => Needs::default(),
            Some(below) => {
                let mut with_page = Gathered::default();
                with_page.add(below);
                with_page.add_spot(spot);
                with_page.needs()
            }
            None if is_usable(noted) => noted.clone(),
            None => Needs::default(),
        };
        refs.spots.push(spot);
        refs.needs.push(needs.clone());
        all.add(&needs);
    }

    fn spot(&self, fingerprint: &Fingerprint) -> Spot {
        self.store.location_of(fingerprint).map_or(Spot::Unknown, Spot::At)
    }
}
