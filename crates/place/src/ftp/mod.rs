//! A place in a directory of an FTP server (RFC 959, 3659), over TLS where that is asked for
//! (RFC 4217).
//!
//! Each object is written under another name in `unfinished/`, its size is asked for, and it is
//! renamed. Servers rename over what is there; so whoever wants a name first makes a directory of
//! that name in `unfinished/`, which only one can.

mod connection;
mod far;

use std::{
    collections::HashSet,
    fmt,
    io::{Read, Write},
    path::PathBuf,
    sync::{Mutex, MutexGuard, PoisonError, atomic::AtomicUsize, atomic::Ordering},
    time::Duration,
};

use zeroize::Zeroizing;

pub use connection::FtpStep;
use connection::{Connection, Sockets, Trouble};

use crate::{
    Extent, Listed, ObjectName, Operation, Place, PlaceError, PlaceErrorKind, Throttles,
    throttle::{Paced, Throttled},
};

/// Where objects grow until they are whole.
const NURSERY: &str = "unfinished";
/// A transfer that is broken off costs a connection; so much more is read instead, in bytes.
const READ_ON: u64 = 256 << 10;

/// A directory on a server.
#[derive(Clone)]
pub struct FtpTarget {
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// Whether everything goes over TLS.
    pub tls: bool,
    /// The user there.
    pub user: String,
    /// The user's password.
    pub password: Option<Zeroizing<String>>,
    /// The directory: a full path, or one below the directory the login leads to.
    pub path: String,
    /// How many connections at most.
    pub connections: usize,
    /// So long each step may take.
    pub patience: Duration,
    /// A file with the certificates of a private authority.
    pub authority: Option<PathBuf>,
    /// How fast.
    pub throttles: Throttles,
}

impl fmt::Debug for FtpTarget {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.describe())
    }
}

impl FtpTarget {
    /// As the user would write it.
    #[must_use]
    pub fn describe(&self) -> String {
        let scheme = if self.tls { "ftps" } else { "ftp" };
        let port = if self.port == 21 { String::new() } else { format!(":{}", self.port) };
        let slash = if self.path.starts_with('/') { "" } else { "/~/" };
        format!("{scheme}://{}@{}{port}{slash}{}", self.user, self.host, self.path)
    }
}

/// A directory.
#[derive(Debug)]
pub struct FtpPlace {
    target: FtpTarget,
    connections: Vec<Mutex<Option<Connection>>>,
    sockets: Sockets,
    next: AtomicUsize,
    /// Names this process has claimed, or is creating now.
    claims: Mutex<Claims>,
}

#[derive(Debug, Default)]
struct Claims {
    made: HashSet<String>,
    busy: HashSet<ObjectName>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl FtpPlace {
    /// A place in a directory that is there.
    ///
    /// # Errors
    /// As each step on the way may fail; [`PlaceErrorKind::Missing`] if the directory is not there.
    pub fn open(target: FtpTarget) -> Result<Self, PlaceError> {
        let place = Self::new(target);
        place.connect(&|_| {})?;
        place.look_for_root()?;
        Ok(place)
    }

    /// A place of which nothing has been looked at yet.
    #[must_use]
    pub fn new(target: FtpTarget) -> Self {
        let connections = (0..target.connections.max(1)).map(|_| Mutex::new(None)).collect();
        let (sockets, next) = (Sockets::default(), AtomicUsize::new(0));
        Self { target, connections, sockets, next, claims: Mutex::default() }
    }

    /// Makes the directory for a new store, with the folders its objects will lie in.
    ///
    /// # Errors
    /// If the server cannot be reached or a directory cannot be made.
    pub fn prepare(target: FtpTarget, folders: &[&str]) -> Result<Self, PlaceError> {
        let place = Self::new(target);
        let path = place.target.path.clone();
        place.run(Operation::Reach, "", |connection| {
            let ends = path.char_indices().filter(|(at, c)| *c == '/' && *at > 0).map(|(at, _)| at);
            for end in ends {
                // What stands above may be closed to us, and be there all the same.
                let _ = connection.make_folder(&path[..end]);
            }
            connection.make_folder(&path)?;
            for folder in folders.iter().chain(&[NURSERY]) {
                connection.make_folder(&format!("{path}/{folder}"))?;
            }
            Ok(())
        })?;
        Ok(place)
    }

    /// Goes the way to the server, and tells of each step.
    ///
    /// # Errors
    /// The first step that fails.
    pub fn connect(&self, told: &dyn Fn(FtpStep)) -> Result<(), PlaceError> {
        let mut slot = locked(&self.connections[0]);
        *slot = Some(Connection::open(&self.target, &self.sockets, told)?);
        Ok(())
    }

    /// Looks whether the directory is there.
    ///
    /// # Errors
    /// [`PlaceErrorKind::Missing`] if it is not.
    pub fn look_for_root(&self) -> Result<(), PlaceError> {
        let path = &self.target.path;
        match self.run(Operation::Reach, "", |connection| connection.has_folder(path))? {
            true => Ok(()),
            false => Err(PlaceError::because(
                Operation::Reach,
                self.describe(),
                PlaceErrorKind::Missing,
                format!("directory {path} does not exist"),
            )
            .with_hint("correct the path; for a new store: skellin store create")),
        }
    }

    /// Does something on a connection, made anew where there is none.
    fn run<T>(
        &self,
        operation: Operation,
        name: &str,
        work: impl FnOnce(&mut Connection) -> Result<T, Trouble>,
    ) -> Result<T, PlaceError> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let count = self.connections.len();
        // One that is free, or the next in turn.
        let free =
            (0..count).find_map(|at| self.connections[(number + at) % count].try_lock().ok());
        let mut slot = free.unwrap_or_else(|| locked(&self.connections[number % count]));
        let connection = match &mut *slot {
            Some(connection) => connection,
            none => none.insert(Connection::open(&self.target, &self.sockets, &|_| {})?),
        };
        let worked = work(connection);
        if connection.is_spent || worked.as_ref().is_err_and(Trouble::is_of_the_line) {
            *slot = None;
        }
        worked.map_err(|trouble| {
            let subject = match name {
                "" => self.describe(),
                name => format!("{}/{name}", self.describe()),
            };
            trouble.told(operation, subject, self.target.patience)
        })
    }

    fn path(&self, name: &str) -> String {
        format!("{}/{name}", self.target.path)
    }

    /// The directory that stands for the right to make this name.
    fn claim(&self, name: &ObjectName) -> String {
        self.path(&format!("{NURSERY}/claim-{}", name.as_str().replace('/', "-")))
    }

    /// Reads a part of a file of this size that lies within it.
    fn retrieve(
        &self,
        connection: &mut Connection,
        path: &str,
        size: u64,
        (offset, length): (u64, u64),
    ) -> Result<Vec<u8>, Trouble> {
        // What the server claims is a limit to read to, never an amount to make room for.
        let mut bytes = Vec::new();
        if length == 0 {
            return Ok(bytes);
        }
        let from = usize::try_from(offset).map_err(|_| Trouble::Short)?;
        connection.ftp.resume_transfer(from)?;
        let mut stream = connection.ftp.retr_as_stream(path)?;
        let throttle = self.target.throttles.down.as_ref();
        let inner = (&mut stream).take(length);
        let read = Paced::new(Throttled { inner, throttle }, self.target.patience * 15)
            .read_to_end(&mut bytes);
        if read.is_err() || (bytes.len() as u64) < length {
            connection.transfer.let_go();
        }
        read?;
        if (bytes.len() as u64) < length {
            return Err(Trouble::Cut("the transfer ended too early".to_owned()));
        }
        if size - offset - length <= READ_ON {
            let rest = std::io::copy(&mut (&mut stream).take(READ_ON), &mut std::io::sink());
            connection.transfer.let_go();
            rest?;
            stream.finish()?;
            return Ok(bytes);
        }
        // What servers say to this differs; a new connection is the sure way.
        connection.transfer.let_go();
        let _ = stream.finish();
        connection.is_spent = true;
        Ok(bytes)
    }

    fn upload(
        &self,
        connection: &mut Connection,
        name: &ObjectName,
        bytes: &[u8],
    ) -> Result<Made, Trouble> {
        let mut random = [0u8; 12];
        getrandom::fill(&mut random).map_err(|error| Trouble::Odd(error.to_string()))?;
        let suffix: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
        let draft = self.path(&format!("{NURSERY}/{suffix}"));
        let target = self.path(name.as_str());
        let made = (|| {
            let mut stream = connection.ftp.put_with_stream(&draft)?;
            let throttle = self.target.throttles.up.as_ref();
            let sent = std::io::copy(&mut Throttled { inner: bytes, throttle }, &mut stream)
                .and_then(|_| stream.flush());
            connection.transfer.let_go();
            sent?;
            stream.finish()?;
            // A connection that broke off looks like an end to some servers.
            if connection.size(&draft)? != Some(bytes.len() as u64) {
                return Err(Trouble::Cut("the server did not receive all of it".to_owned()));
            }
            let claim = self.claim(name);
            if !locked(&self.claims).made.contains(&claim) {
                if !connection.claim(&claim)? {
                    return Ok(Made::ByAnother);
                }
                locked(&self.claims).made.insert(claim.clone());
            }
            let made = match connection.size(&target)? {
                Some(_) => Made::ByAnother,
                None => {
                    connection.ftp.rename(&draft, &target)?;
                    Made::Now
                }
            };
            connection.give_up_claim(&claim)?;
            locked(&self.claims).made.remove(&claim);
            Ok(made)
        })();
        if !matches!(made, Ok(Made::Now)) && !made.as_ref().is_err_and(Trouble::is_of_the_line) {
            // The first failure counts; a draft that stays is swept later.
            let _ = connection.ftp.rm(&draft);
        }
        made
    }
}

enum Made {
    Now,
    ByAnother,
}

impl Place for FtpPlace {
    fn begin_trial(&self) -> Result<bool, PlaceError> {
        let path = self.path(NURSERY);
        self.run(Operation::Create, NURSERY, |connection| connection.claim(&path))
    }

    fn end_trial(&self) -> Result<(), PlaceError> {
        let path = self.path(NURSERY);
        self.run(Operation::Delete, NURSERY, |connection| connection.give_up_claim(&path))
    }

    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        self.sockets.shut_down();
        self.target.throttles.give_up();
    }

    fn is_far(&self) -> bool {
        true
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let exists = || PlaceError::new(Operation::Create, name.as_str(), PlaceErrorKind::Exists);
        if !locked(&self.claims).busy.insert(name.clone()) {
            return Err(exists());
        }
        let made = self.run(Operation::Create, name.as_str(), |connection| {
            self.upload(connection, name, bytes)
        });
        locked(&self.claims).busy.remove(name);
        match made {
            Ok(Made::Now) => Ok(()),
            Ok(Made::ByAnother) => Err(exists()),
            Err(error) if error.kind == PlaceErrorKind::NotFound => {
                self.look_for_root()?;
                Err(error)
            }
            Err(error) => Err(error),
        }
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let path = self.path(name.as_str());
        let read = self.run(Operation::Read, name.as_str(), |connection| {
            let size = connection.size(&path)?.ok_or(Trouble::NotThere)?;
            let (offset, length) = match extent {
                Extent::Within(most) if size > most => return Err(Trouble::Long),
                Extent::Within(_) => (0, size),
                Extent::Tail(length) => (size - length.min(size), length.min(size)),
                Extent::Range { offset, length } => (offset, length),
            };
            if offset.checked_add(length).is_none_or(|end| end > size) {
                return Err(Trouble::Short);
            }
            self.retrieve(connection, &path, size, (offset, length))
        });
        match read {
            Ok(bytes) => {
                *into = bytes;
                Ok(())
            }
            Err(error) if error.is_not_found() => {
                self.look_for_root()?;
                Err(error)
            }
            Err(error) => Err(error),
        }
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        let path = if folder.is_empty() { self.target.path.clone() } else { self.path(folder) };
        let listed = self.run(Operation::List, folder, |connection| connection.list(&path));
        let files = match listed {
            Ok(files) => files,
            Err(error) if error.is_not_found() => return self.look_for_root(),
            Err(error) => return Err(error),
        };
        for file in files.into_iter().filter(|file| !file.is_folder) {
            let text = match folder {
                "" => file.name,
                folder => format!("{folder}/{}", file.name),
            };
            // What is not named like an object was not put there by a store.
            if let Ok(name) = ObjectName::new(text) {
                each(Listed { name, size: file.size });
            }
        }
        Ok(())
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        let path = self.path(name.as_str());
        let deleted = self.run(Operation::Delete, name.as_str(), |connection| {
            match connection.ftp.rm(&path).map_err(Trouble::from) {
                // Servers have one word for all of it.
                Err(trouble) if !trouble.is_of_the_line() && connection.size(&path)?.is_none() => {
                    Ok(false)
                }
                other => other.map(|()| true),
            }
        })?;
        if deleted { Ok(()) } else { self.look_for_root() }
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        let path = self.path(NURSERY);
        self.run(Operation::Delete, NURSERY, |connection| {
            let files = match connection.list(&path) {
                Err(Trouble::NotThere) => return Ok(()),
                other => other?,
            };
            for file in files.into_iter().filter(|file| file.age >= age_seconds) {
                let path = format!("{path}/{}", file.name);
                let removed = match file.is_folder {
                    true => connection.ftp.rmdir(&path),
                    false => connection.ftp.rm(&path),
                };
                match removed.map_err(Trouble::from) {
                    Err(trouble) if trouble.is_of_the_line() => return Err(trouble),
                    // Somebody else may have been first.
                    _ => {}
                }
            }
            Ok(())
        })
    }
}
