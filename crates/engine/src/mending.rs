//! Where the bytes of lost contents still are: in the files themselves, or in other stores.

use std::{ffi::CString, fs::File, os::unix::fs::FileExt, sync::Arc};

use rustix::fs::{CWD, FileType, fstat};
use skellin_store::{
    Body, ChunkRef, Damage, MendStart, Mender, Recipe, RunId, Snapshot, Store, VerifyReport,
};

use crate::{
    clock::Cancel,
    cursor::FileCursor,
    error::{EngineError, Result},
    event::{Event, EventSink, Progress},
    history,
    sources::open_file,
};

/// So many snapshots of another store are asked for a file: those nearest in time.
const NEAREST: usize = 5;

/// Another store that may have what is lost in this one.
pub struct OtherStore {
    /// Its name.
    pub name: String,
    /// It, open.
    pub store: Arc<Store>,
}

/// What is to be brought back to a store, and who helps.
pub(crate) struct Mending<'a> {
    pub store: &'a Arc<Store>,
    pub start: MendStart<'a>,
    pub others: &'a [OtherStore],
    /// What this machine is called in its snapshots.
    pub own: &'a dyn Fn(&Snapshot) -> bool,
    pub cancel: &'a Cancel,
    pub events: &'a dyn EventSink,
}

impl Mending<'_> {
    /// Stores lost contents anew; how many.
    pub fn bring_back(&self, report: &VerifyReport) -> Result<u64> {
        let mut mender = Mender::begin(self.store, self.start, report.lost.clone())?;
        if let Err(error) = self.search(&mut mender, &report.damage, report.lost.len()) {
            mender.abandon();
            return Err(error);
        }
        Ok(mender.finish(&|| self.cancel.is_cancelled())?)
    }

    fn search(&self, mender: &mut Mender, damage: &[Damage], all: usize) -> Result<()> {
        let snapshots = history::snapshots(self.store, None, |_, _| {})?;
        let others: Vec<Vec<Snapshot>> = self
            .others
            .iter()
            .map(|other| history::snapshots(&other.store, None, |_, _| {}))
            .collect::<Result<_>>()?;
        let of_run = |run: RunId| snapshots.iter().find(|snapshot| snapshot.run == run);
        for file in damage.iter().flat_map(|damage| &damage.files) {
            if mender.left() == 0 {
                break;
            }
            if self.cancel.is_cancelled() {
                return Err(EngineError::Cancelled);
            }
            let Some(snapshot) = of_run(file.snapshot) else { continue };
            // What lies below a page that is lost is told of by its directory.
            let Ok(Some(located)) = history::locate(self.store, snapshot, &file.path) else {
                continue;
            };
            let Body::File { recipe, .. } = &located.entry.body else { continue };
            let mut missing = mender.lost_in(recipe)?;
            if !missing.is_empty() && (self.own)(snapshot) {
                self.ask_live(mender, &file.path, &mut missing)?;
            }
            for (other, theirs) in self.others.iter().zip(&others) {
                if missing.is_empty() {
                    break;
                }
                self.ask_other(mender, (other, theirs), (snapshot, &file.path), &mut missing)?;
            }
            let done = all.saturating_sub(mender.left()) as u64;
            self.events.event(Event::Progress(Progress {
                files: done,
                total_files: Some(all as u64),
                path: file.path.clone(),
                ..Progress::default()
            }));
        }
        Ok(())
    }

    /// From the file as it lies in its source.
    fn ask_live(
        &self,
        mender: &mut Mender,
        path: &[u8],
        missing: &mut Vec<(u64, ChunkRef)>,
    ) -> Result<()> {
        let name = CString::new(path).ok().filter(|_| path.starts_with(b"/"));
        let Some(file) = name.and_then(|name| open_file(CWD, &name).ok()) else { return Ok(()) };
        let is_file = fstat(&file)
            .is_ok_and(|facts| FileType::from_raw_mode(facts.st_mode) == FileType::RegularFile);
        if !is_file {
            return Ok(());
        }
        let file = File::from(file);
        offer(mender, missing, |offset, bytes| file.read_exact_at(bytes, offset).is_ok())
    }

    /// From another store's snapshots of the same plan and machine, the nearest in time first.
    fn ask_other(
        &self,
        mender: &mut Mender,
        (other, theirs): (&OtherStore, &[Snapshot]),
        (snapshot, path): (&Snapshot, &[u8]),
        missing: &mut Vec<(u64, ChunkRef)>,
    ) -> Result<()> {
        let mut near: Vec<&Snapshot> = theirs
            .iter()
            .filter(|one| (&one.plan, &one.machine) == (&snapshot.plan, &snapshot.machine))
            .collect();
        near.sort_by_key(|one| one.started.abs_diff(snapshot.started));
        let mut seen: Vec<Recipe> = Vec::new();
        for one in near.into_iter().take(NEAREST) {
            if missing.is_empty() {
                break;
            }
            // A store that cannot be read there does not help, and harms nothing.
            let Ok(Some(located)) = history::locate(&other.store, one, path) else { continue };
            let Body::File { recipe, .. } = located.entry.body else { continue };
            if seen.contains(&recipe) {
                continue;
            }
            let mut cursor = FileCursor::new(&*other.store, &recipe);
            offer(mender, missing, |offset, bytes| {
                cursor.read_at(offset, bytes).is_ok_and(|count| count == bytes.len())
            })?;
            seen.push(recipe);
        }
        Ok(())
    }
}

/// Reads what is missing, and keeps what is still missing then.
fn offer(
    mender: &mut Mender,
    missing: &mut Vec<(u64, ChunkRef)>,
    mut read: impl FnMut(u64, &mut [u8]) -> bool,
) -> Result<()> {
    let mut left = Vec::new();
    for (offset, chunk) in missing.drain(..) {
        if !mender.is_lost(&chunk) {
            continue;
        }
        let mut bytes = vec![0; chunk.length as usize];
        if !(read(offset, &mut bytes) && mender.offer(&bytes)?) {
            left.push((offset, chunk));
        }
    }
    *missing = left;
    Ok(())
}
