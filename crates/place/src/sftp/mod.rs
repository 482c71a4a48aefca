//! A place in a directory of a host that is reached by SFTP (draft-ietf-secsh-filexfer-02), without
//! any program but this one.
//!
//! Each object is written under another name in `unfinished/`, flushed where the server can, and
//! renamed; a rename onto what is there fails. Requests are kept in flight, so that a slow line is
//! filled; a connection that broke off is made anew by the next operation.

mod command;
mod connect;
mod far;
mod files;
mod known_hosts;
mod laying;
mod line;
mod target;
mod trust;

use std::{
    sync::{
        Arc, Mutex, OnceLock, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    time::{SystemTime, UNIX_EPOCH},
};

use russh_sftp::protocol::{FileAttributes, OpenFlags, StatusCode};
use tokio::{runtime::Runtime, sync::Notify};

pub use command::{FarCommand, FarCommandError};
use connect::Connecting;
pub use connect::SftpStep;
use files::{give_back, list, make_folder, read, write};
use line::{Failure, Line, Room};
pub use target::{Hop, SftpTarget};

use crate::{Extent, Listed, ObjectName, Operation, Place, PlaceError, PlaceErrorKind};

/// Where objects grow until they are whole.
const NURSERY: &str = "unfinished";

/// The threads that carry all connections.
fn runtime() -> &'static Runtime {
    static RUNTIME: OnceLock<Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| {
        let mut builder = tokio::runtime::Builder::new_multi_thread();
        let made = builder.worker_threads(2).thread_name("sftp").enable_all().build();
        made.unwrap_or_else(|error| panic!("cannot start a thread: {error}"))
    })
}

/// A directory on a host.
#[derive(Debug)]
pub struct SftpPlace {
    target: SftpTarget,
    accept_new: bool,
    lines: Vec<Mutex<Option<Arc<Line>>>>,
    /// How much is under way on each.
    busy: Vec<AtomicUsize>,
    /// Told when nobody wants what is under way any more.
    quit: Notify,
}

/// Something under way on a connection.
struct Busy<'a>(&'a AtomicUsize);

impl Drop for Busy<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl SftpPlace {
    /// A place in a directory that is there.
    ///
    /// # Errors
    /// As each step on the way may fail; [`PlaceErrorKind::Missing`] if the directory is not there.
    pub fn open(target: SftpTarget) -> Result<Self, PlaceError> {
        let place = Self::new(target, false);
        place.connect(&|_| {})?;
        place.look_for_root()?;
        Ok(place)
    }

    /// A place of which nothing has been looked at yet. `accept_new`: whether a host whose key is
    /// not known is accepted and saved.
    #[must_use]
    pub fn new(target: SftpTarget, accept_new: bool) -> Self {
        let lines = (0..target.connections.max(1)).map(|_| Mutex::new(None)).collect();
        let busy = (0..target.connections.max(1)).map(|_| AtomicUsize::new(0)).collect();
        Self { target, accept_new, lines, busy, quit: Notify::new() }
    }

    /// Makes the directory for a new store, with the folders its objects will lie in.
    ///
    /// # Errors
    /// If the host cannot be reached or a directory cannot be made.
    pub fn prepare(target: SftpTarget, folders: &[&str]) -> Result<Self, PlaceError> {
        let place = Self::new(target, false);
        let path = place.target.path.clone();
        place.run(Operation::Reach, "", async |line| {
            let mut above = String::new();
            for part in path.split('/') {
                above.push_str(part);
                if !part.is_empty() {
                    make_folder(line, &above).await?;
                }
                above.push('/');
            }
            for folder in folders.iter().chain(&[NURSERY]) {
                make_folder(line, &format!("{path}/{folder}")).await?;
            }
            Ok(())
        })?;
        Ok(place)
    }

    /// Goes the way to the host, and tells of each step.
    ///
    /// # Errors
    /// The first step that fails.
    pub fn connect(&self, told: &(dyn Fn(SftpStep) + Sync)) -> Result<(), PlaceError> {
        self.line(told, 0).map(drop)
    }

    /// Looks whether the directory is there.
    ///
    /// # Errors
    /// [`PlaceErrorKind::Missing`] if it is not.
    pub fn look_for_root(&self) -> Result<(), PlaceError> {
        let path = &self.target.path;
        let found = self.run(Operation::Reach, "", async |line| Ok(line.sftp.stat(path).await?));
        match found {
            Ok(found) if found.attrs.is_dir() => Ok(()),
            Ok(_) => Err(self.missing(format!("{path} is not a directory"))),
            Err(error) if error.is_not_found() || error.kind == PlaceErrorKind::Missing => {
                Err(self.missing(format!("directory {path} does not exist")))
            }
            Err(error) => Err(error),
        }
    }

    fn missing(&self, why: String) -> PlaceError {
        let subject = self.target.describe();
        PlaceError::because(Operation::Reach, subject, PlaceErrorKind::Missing, why)
            .with_hint("correct the path; for a new store: skellin store create")
    }

    /// Free and all bytes of the file system the directory lies on, where the server tells.
    ///
    /// # Errors
    /// If the host cannot be reached.
    pub fn ask_room(&self) -> Result<Option<(u64, u64)>, PlaceError> {
        let path = &self.target.path;
        self.run(Operation::Reach, "", async |line| {
            Ok(line.room(path).await.map(|room| (room.free, room.all)))
        })
    }

    /// The connection with the least under way, the first of several: what is done one after the
    /// other needs no second one.
    fn free(&self) -> (usize, Busy<'_>) {
        let least = (0..self.busy.len()).min_by_key(|at| self.busy[*at].load(Ordering::Relaxed));
        let number = least.unwrap_or(0);
        self.busy[number].fetch_add(1, Ordering::Relaxed);
        (number, Busy(&self.busy[number]))
    }

    /// A connection, made anew where there is none.
    fn line(
        &self,
        told: &(dyn Fn(SftpStep) + Sync),
        number: usize,
    ) -> Result<Arc<Line>, PlaceError> {
        let mut slot = self.lines[number].lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(line) = slot.as_ref().filter(|line| line.is_sound()) {
            return Ok(Arc::clone(line));
        }
        let patience = self.target.patience;
        let connecting = Connecting { accept_new: self.accept_new, patience, told };
        let made = async {
            let sessions = connecting.go(&self.target).await?;
            Line::open(sessions, patience, self.target.throttles.clone()).await.map_err(|failure| {
                if failure.is_of_the_line() {
                    let (kind, reason) = failure.told();
                    return PlaceError::because(
                        Operation::Reach,
                        self.target.describe(),
                        kind,
                        reason,
                    );
                }
                let what = format!("the server does not offer SFTP: {failure}");
                let subject = self.target.describe();
                PlaceError::because(Operation::Reach, subject, PlaceErrorKind::Refused, what)
                    .with_hint("allow the SFTP subsystem for this account")
            })
        };
        let line = runtime().block_on(async {
            tokio::select! {
                line = made => line,
                () = self.quit.notified() => {
                    let (kind, reason) = Failure::Cut(String::new()).told();
                    let subject = self.target.describe();
                    Err(PlaceError::because(Operation::Reach, subject, kind, reason))
                }
            }
        })?;
        Ok(Arc::clone(slot.insert(Arc::new(line))))
    }

    /// Does something on a connection.
    fn run<T>(
        &self,
        operation: Operation,
        name: &str,
        work: impl AsyncFnOnce(&Arc<Line>) -> Result<T, Failure>,
    ) -> Result<T, PlaceError> {
        let (number, _busy) = self.free();
        let line = self.line(&|_| {}, number)?;
        let result = runtime().block_on(async {
            // No single request takes so long; what is large is many requests.
            let work = tokio::time::timeout(self.target.patience * 30, work(&line));
            tokio::select! {
                result = work => result.unwrap_or(Err(Failure::Slow)),
                () = line.gone() => Err(Failure::Cut(String::new())),
                () = self.quit.notified() => Err(Failure::Cut(String::new())),
            }
        });
        result.map_err(|failure| {
            if failure.is_of_the_line() {
                line.give_up();
            }
            let subject = match name {
                "" => self.target.describe(),
                name => format!("{}/{name}", self.target.describe()),
            };
            let (kind, reason) = failure.told();
            let error = PlaceError::because(operation, subject, kind, reason);
            match kind {
                PlaceErrorKind::Refused => error.with_hint(format!(
                    "let {} on {} read, write and delete in {}",
                    self.target.hop.user, self.target.hop.address, self.target.path
                )),
                _ => error,
            }
        })
    }

    fn path(&self, name: &str) -> String {
        format!("{}/{name}", self.target.path)
    }

    /// Why something could not be created: servers have one word for most of it.
    fn explain(&self, name: &ObjectName, error: PlaceError) -> PlaceError {
        if !matches!(error.kind, PlaceErrorKind::Failed | PlaceErrorKind::NotFound) {
            return error;
        }
        let (path, root) = (self.path(name.as_str()), self.target.path.clone());
        let looked = self.run(Operation::Create, name.as_str(), async |line| {
            let is_there = line.sftp.lstat(&path).await.is_ok();
            Ok((is_there, line.sftp.stat(&root).await.is_ok()))
        });
        let kind = match looked {
            Ok((true, _)) => PlaceErrorKind::Exists,
            Ok((_, false)) => PlaceErrorKind::Missing,
            _ => return error,
        };
        PlaceError::new(Operation::Create, error.subject, kind)
    }
}

impl Place for SftpPlace {
    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        self.quit.notify_waiters();
    }

    fn is_far(&self) -> bool {
        true
    }

    fn begin_trial(&self) -> Result<bool, PlaceError> {
        let path = self.path(NURSERY);
        self.run(Operation::Create, NURSERY, async |line| {
            let is_there = line.sftp.stat(&path).await.is_ok();
            if !is_there {
                make_folder(line, &path).await?;
            }
            Ok(!is_there)
        })
    }

    fn end_trial(&self) -> Result<(), PlaceError> {
        let path = self.path(NURSERY);
        self.run(Operation::Delete, NURSERY, async |line| {
            line.sftp.rmdir(&path).await.map(drop).map_err(Into::into)
        })
    }

    fn room(&self) -> Option<(u64, u64)> {
        self.ask_room().ok().flatten()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let mut random = [0u8; 12];
        let failed = |error: getrandom::Error| {
            PlaceError::io(Operation::Create, name.as_str(), std::io::Error::other(error))
        };
        getrandom::fill(&mut random).map_err(failed)?;
        let suffix: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
        let (draft, target) = (self.path(&format!("{NURSERY}/{suffix}")), self.path(name.as_str()));
        let written = self.run(Operation::Create, name.as_str(), async |line| {
            let written = write(line, &draft, bytes).await;
            let renamed = match written {
                Ok(()) => line.sftp.rename(&draft, &target).await.map_err(Failure::from),
                Err(failure) => Err(failure),
            };
            if let Err(failure) = renamed {
                // Servers have one word for most of it; while the draft is there its room tells.
                let room = match &failure {
                    Failure::Status(..) => line.room(&self.target.path).await,
                    _ => None,
                };
                // The first failure counts; a draft that stays is swept later.
                if !failure.is_of_the_line() {
                    let _ = line.sftp.remove(&draft).await;
                }
                return Err(match room {
                    Some(Room { is_read_only: true, .. }) => Failure::ReadOnly,
                    Some(Room { lacks_inodes: true, .. }) => Failure::NoInodes,
                    Some(Room { free, .. }) if free < bytes.len() as u64 => Failure::Full,
                    _ => failure,
                });
            }
            Ok(())
        });
        written.map_err(|error| self.explain(name, error))
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let path = self.path(name.as_str());
        let bytes = self.run(Operation::Read, name.as_str(), async |line| {
            let handle = line.sftp.open(&path, OpenFlags::READ, FileAttributes::empty()).await?;
            let handle = handle.handle;
            let bytes = read(line, &handle, extent).await;
            give_back(line, handle);
            bytes
        });
        match bytes {
            Ok(bytes) => {
                *into = bytes;
                Ok(())
            }
            Err(error) if error.is_not_found() => match self.look_for_root() {
                Err(missing) if missing.kind == PlaceErrorKind::Missing => Err(missing),
                _ => Err(error),
            },
            Err(error) => Err(error),
        }
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        let path = self.path(folder);
        let listed = self.run(Operation::List, folder, async |line| list(line, &path).await);
        let files = match listed {
            Ok(files) => files,
            Err(error) if error.is_not_found() => return self.look_for_root(),
            Err(error) => return Err(error),
        };
        for (leaf, attributes) in files.into_iter().filter(|(_, found)| found.is_regular()) {
            let text = if folder.is_empty() { leaf } else { format!("{folder}/{leaf}") };
            // What is not named like an object was not put there by a store.
            if let (Ok(name), Some(size)) = (ObjectName::new(text), attributes.size) {
                each(Listed { name, size });
            }
        }
        Ok(())
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        let path = self.path(name.as_str());
        let removed = self.run(Operation::Delete, name.as_str(), async |line| {
            Ok(line.sftp.remove(&path).await.map(drop)?)
        });
        match removed {
            Err(error) if error.is_not_found() => self.look_for_root(),
            other => other,
        }
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        let path = self.path(NURSERY);
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |now| now.as_secs());
        self.run(Operation::Delete, NURSERY, async |line| {
            let files = match list(line, &path).await {
                Err(Failure::Status(StatusCode::NoSuchFile, _)) => return Ok(()),
                other => other?,
            };
            for (leaf, attributes) in files.into_iter().filter(|(_, found)| found.is_regular()) {
                let age = now.saturating_sub(u64::from(attributes.mtime.unwrap_or(u32::MAX)));
                if age >= age_seconds {
                    match line.sftp.remove(format!("{path}/{leaf}")).await.map_err(Failure::from) {
                        Err(Failure::Status(StatusCode::NoSuchFile, _)) | Ok(_) => {}
                        Err(failure) => return Err(failure),
                    }
                }
            }
            Ok(())
        })
    }
}
