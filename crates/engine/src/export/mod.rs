//! Exports: paths of a snapshot as one POSIX pax archive (IEEE Std 1003.1-2017, "pax Interchange
//! Format"), written as a stream; holes as GNU tar stores them in pax archives (sparse format 1.0).

mod content;
mod header;

use std::{
    collections::HashMap,
    io::{self, Write},
    time::{Duration, Instant},
};

use skellin_store::{Body, Entry, Met, Snapshot, Store, TreeWalk};

use crate::{
    cause::Cause,
    clock::Cancel,
    error::{EngineError, Result},
    event::{Event, EventSink, Exception, Meter, Progress, time_left},
    history::Located,
    path::join,
};
use content::{Content, Map};
use header::Member;

const TICK: Duration = Duration::from_millis(100);
/// So many exceptions are kept with path and reason; all are counted.
const MOST_EXCEPTIONS: usize = 1000;

/// How an archive is compressed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    #[default]
    Plain,
    /// As gzip (RFC 1952).
    Gzip,
    /// As Zstandard (RFC 8878).
    Zstd,
}

/// What an export needs to know.
pub struct ExportRequest<'a> {
    /// The snapshot.
    pub snapshot: &'a Snapshot,
    /// What of it.
    pub paths: &'a [Located],
    /// How it is compressed.
    pub packing: Packing,
    /// Raised to interrupt.
    pub cancel: &'a Cancel,
    /// Told what happens.
    pub events: &'a dyn EventSink,
}

/// What is in an archive.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ExportReport {
    /// Members.
    pub members: u64,
    /// Bytes of files, holes included.
    pub bytes: u64,
    /// How many paths are not in it as they were.
    pub exception_count: u64,
    /// The first of them.
    pub exceptions: Vec<Exception>,
}

/// Writes an archive. Where content cannot be read any more there are zeros, and an exception says so: what
/// went before has left already.
///
/// # Errors
/// [`EngineError::Cancelled`]; or if the store fails, or what is written cannot be.
pub fn export(
    store: &Store,
    request: &ExportRequest<'_>,
    out: &mut dyn Write,
) -> Result<ExportReport> {
    let name = request.snapshot.plan.clone();
    request.events.event(Event::Begun { work: "export", name });
    let packed = match request.packing {
        Packing::Plain => archive(store, request, &mut *out).map(drop_writer),
        Packing::Gzip => {
            let packer = flate2::write::GzEncoder::new(&mut *out, flate2::Compression::default());
            archive(store, request, packer).and_then(|(report, packer)| {
                packer.finish().map_err(failed)?;
                Ok(report)
            })
        }
        Packing::Zstd => {
            let packer = zstd::stream::write::Encoder::new(&mut *out, 0).map_err(failed)?;
            archive(store, request, packer).and_then(|(report, packer)| {
                packer.finish().map_err(failed)?;
                Ok(report)
            })
        }
    };
    let report = packed.and_then(|report| out.flush().map(|()| report).map_err(failed));
    request.events.event(Event::Ended);
    report
}

fn drop_writer<W>((report, _): (ExportReport, W)) -> ExportReport {
    report
}

fn failed(source: io::Error) -> EngineError {
    EngineError::local("write", "the archive", source)
}

fn archive<W: Write>(
    store: &Store,
    request: &ExportRequest<'_>,
    out: W,
) -> Result<(ExportReport, W)> {
    let totals = request.paths.iter().map(|located| located.entry.counted());
    let total = totals.fold((0u64, 0u64), |sum, below| {
        (sum.0.saturating_add(below.files), sum.1.saturating_add(below.bytes))
    });
    let mut exporting = Exporting {
        store,
        request,
        archive: tar::Builder::new(out),
        report: ExportReport::default(),
        links: HashMap::new(),
        total,
        meter: Meter::new(),
        told: Instant::now(),
    };
    for located in request.paths {
        exporting.all_of(located)?;
    }
    let out = exporting.archive.into_inner().map_err(failed)?;
    Ok((exporting.report, out))
}

/// A size of which nothing can be read is believed up to this, in bytes.
const BELIEVED: u64 = 1 << 40;

struct Exporting<'a, W: Write> {
    store: &'a Store,
    request: &'a ExportRequest<'a>,
    archive: tar::Builder<W>,
    report: ExportReport,
    /// The first name of each file that has several.
    links: HashMap<(u64, u64), Vec<u8>>,
    total: (u64, u64),
    meter: Meter,
    told: Instant,
}

impl<W: Write> Exporting<'_, W> {
    /// A path and everything below it: named as a restore would, each source by its base name.
    fn all_of(&mut self, located: &Located) -> Result<()> {
        let source = &self.request.snapshot.sources[located.source];
        let name = located.parts.iter().fold(source.name.to_vec(), |name, part| join(&name, part));
        self.add(&name, &located.path, &located.entry)?;
        let mut walk = TreeWalk::new(self.store);
        if let Body::Directory { root, .. } = located.entry.body {
            walk.enter(root, located.path.clone(), name);
        }
        loop {
            match walk.advance()? {
                None => return Ok(()),
                Some(Met::Left(_)) => {}
                Some(Met::Lost(node, error)) => self.exception(&node.path, Cause::store(&error)),
                Some(Met::Entry(entry)) => {
                    let path = walk.path_of(&entry.name);
                    let above = walk.top().map_or(&[][..], |node| &node.with);
                    let name = join(above, &entry.name);
                    self.add(&name, &path, &entry)?;
                    if let Body::Directory { root, .. } = entry.body {
                        walk.enter(root, path, name);
                    }
                }
            }
        }
    }

    fn add(&mut self, name: &[u8], path: &[u8], entry: &Entry) -> Result<()> {
        if self.request.cancel.is_cancelled() {
            return Err(EngineError::Cancelled);
        }
        let first = entry.links.and_then(|group| self.links.get(&group).cloned());
        if let Some(first) = first {
            Member::hard_link(name, entry, &first).put(&mut self.archive, io::empty())?;
        } else if let Body::File { size, recipe } = &entry.body {
            let (total, map) = match Map::of(self.store, recipe, *size) {
                // As a file without holes it says which part of it is lost.
                Err(EngineError::Store(error)) if error.is_unreadable() && *size < BELIEVED => {
                    (Some(*size), None)
                }
                Err(EngineError::Store(error)) if error.is_unreadable() => {
                    self.exception(path, Cause::store(&error));
                    return Ok(());
                }
                told => told?,
            };
            if total != Some(*size) {
                let words = format!("its content does not have the {size} bytes it should");
                self.exception(path, Cause::other(words));
                return Ok(());
            }
            if let Some(group) = entry.links {
                self.links.insert(group, name.to_vec());
            }
            let cancel = self.request.cancel;
            let mut content = Content::new((self.store, cancel), recipe, *size, map.as_ref());
            Member::file(name, entry, map.as_ref()).put(&mut self.archive, &mut content)?;
            if cancel.is_cancelled() {
                return Err(EngineError::Cancelled);
            }
            if let Some(error) = content.take_failure() {
                match error.is_unreadable() {
                    true => self.exception(path, Cause::store(&error)),
                    false => return Err(error.into()),
                }
            }
            self.report.bytes = self.report.bytes.saturating_add(*size);
        } else {
            Member::other(name, entry).put(&mut self.archive, io::empty())?;
        }
        self.report.members += 1;
        self.tell(path);
        Ok(())
    }

    fn exception(&mut self, path: &[u8], cause: Cause) {
        let exception = Exception { path: path.to_vec(), cause };
        self.request.events.event(Event::Exception(exception.clone()));
        self.report.exception_count += 1;
        if self.report.exceptions.len() < MOST_EXCEPTIONS {
            self.report.exceptions.push(exception);
        }
    }

    fn tell(&mut self, path: &[u8]) {
        let now = Instant::now();
        if now.duration_since(self.told) < TICK {
            return;
        }
        self.told = now;
        let bytes = self.report.bytes;
        let rate = self.meter.rate(now, bytes as f64);
        self.request.events.event(Event::Progress(Progress {
            files: self.report.members,
            total_files: Some(self.total.0),
            bytes,
            total_bytes: Some(self.total.1),
            read: bytes,
            rate,
            left: time_left(self.total.1.saturating_sub(bytes) as f64, rate),
            path: path.to_vec(),
            exceptions: self.report.exception_count,
        }));
    }
}
