//! Files on other hosts as they lie there: what sources are read from, and never written to.

use std::fmt::Debug;

use crate::{PlaceError, PlaceErrorKind, Retries, Waiting, retry::Patience};

/// What kind of thing a path is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FarKind {
    /// A file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A named pipe.
    Pipe,
    /// A socket.
    Socket,
    /// Something else that holds no content, as a device does.
    Other,
}

/// What a protocol tells of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FarFacts {
    /// What it is.
    pub kind: FarKind,
    /// Bytes of a file.
    pub size: u64,
    /// When it was modified, in seconds since 1970; 0 where nothing tells it.
    pub modified: i64,
    /// Permission bits, where the protocol has them.
    pub mode: Option<u32>,
    /// Numbers of user and group, where the protocol has them.
    pub owner: Option<(u32, u32)>,
    /// What the server calls this state of the content (an entity tag), where it does.
    pub tag: Option<String>,
}

/// A name in a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FarEntry {
    /// The name.
    pub name: String,
    /// What it is.
    pub facts: FarFacts,
}

/// A part of a file, with what was told of the file by the same answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FarPart {
    /// The bytes: as many as were asked for, or fewer at the end of the file.
    pub bytes: Vec<u8>,
    /// What the file was before these bytes were read.
    pub before: Option<FarFacts>,
    /// What it was after them.
    pub after: Option<FarFacts>,
}

/// Files below a directory of another host, or a single one. A path is told from there: `a/b`, and
/// the empty path is the directory itself.
pub trait FarFiles: Send + Sync + Debug {
    /// Where they are, as the user wrote it.
    fn describe(&self) -> String;

    /// What a path is. A link is told as a link, but for the first directory itself.
    ///
    /// # Errors
    /// [`PlaceErrorKind::NotFound`] if there is none, or any failure to ask.
    fn facts(&self, path: &str) -> Result<FarFacts, PlaceError>;

    /// The names in a directory, in no particular order.
    ///
    /// # Errors
    /// Any failure to list all of it.
    fn names(&self, path: &str) -> Result<Vec<FarEntry>, PlaceError>;

    /// What a link points to.
    ///
    /// # Errors
    /// Any failure to ask.
    fn link(&self, path: &str) -> Result<String, PlaceError>;

    /// A part of a file.
    ///
    /// # Errors
    /// Any failure to read. That there is less than was asked for is none.
    fn part(&self, path: &str, offset: u64, length: u64) -> Result<FarPart, PlaceError>;

    /// How many bytes of a large file are best asked for at a time.
    fn stride(&self) -> u64 {
        8 << 20
    }

    /// What is waited for at this moment, where the host knows.
    fn waiting(&self) -> Option<Waiting> {
        None
    }

    /// Ends the waiting that is under way, as [`Place::give_up`](crate::Place::give_up) does.
    fn give_up(&self) {}
}

/// What a path is to be, as far as protocols can say it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FarDress {
    /// Permission bits.
    pub mode: u32,
    /// When it was modified, in seconds since 1970.
    pub modified: i64,
    /// Numbers of user and group, where they are to be set.
    pub owner: Option<(u32, u32)>,
}

/// A directory of another host that files can be laid down in. Paths as in [`FarFiles`].
pub trait FarTarget: FarFiles {
    /// Makes a directory; that it is there already is no failure. The empty path is the directory itself, with
    /// those above it.
    ///
    /// # Errors
    /// If it cannot be made.
    fn make_directory(&self, path: &str) -> Result<(), PlaceError>;

    /// Writes part of a file; from the beginning on it is made anew, for its owner alone.
    ///
    /// # Errors
    /// If it cannot be written; part of it may be.
    fn write(&self, path: &str, offset: u64, bytes: &[u8]) -> Result<(), PlaceError>;

    /// Makes a symbolic link.
    ///
    /// # Errors
    /// If it cannot be made.
    fn make_link(&self, path: &str, target: &str) -> Result<(), PlaceError>;

    /// Sets mode, time and owner.
    ///
    /// # Errors
    /// If any of them cannot be set.
    fn set(&self, path: &str, dress: &FarDress) -> Result<(), PlaceError>;

    /// Gives a finished draft its name. `replaces`: whatever has the name gives way.
    ///
    /// # Errors
    /// [`PlaceErrorKind::Exists`] if something has the name and stays.
    fn place(&self, draft: &str, path: &str, replaces: bool) -> Result<(), PlaceError>;

    /// Removes a file.
    ///
    /// # Errors
    /// If it cannot be removed.
    fn remove(&self, path: &str) -> Result<(), PlaceError>;

    /// Free bytes, where the host tells them.
    fn free(&self) -> Option<u64>;
}

/// Files whose passing failures are asked for again.
#[derive(Debug)]
pub struct RetryingFiles<F> {
    inner: F,
    patience: Patience,
}

impl<F: FarFiles> RetryingFiles<F> {
    /// Wraps files.
    #[must_use]
    pub fn new(inner: F, retries: Retries) -> Self {
        Self { inner, patience: Patience::new(retries) }
    }
}

impl<F: FarFiles> FarFiles for RetryingFiles<F> {
    fn describe(&self) -> String {
        self.inner.describe()
    }

    fn facts(&self, path: &str) -> Result<FarFacts, PlaceError> {
        self.patience.again(|_| self.inner.facts(path))
    }

    fn names(&self, path: &str) -> Result<Vec<FarEntry>, PlaceError> {
        self.patience.again(|_| self.inner.names(path))
    }

    fn link(&self, path: &str) -> Result<String, PlaceError> {
        self.patience.again(|_| self.inner.link(path))
    }

    fn part(&self, path: &str, offset: u64, length: u64) -> Result<FarPart, PlaceError> {
        self.patience.again(|_| self.inner.part(path, offset, length))
    }

    fn stride(&self) -> u64 {
        self.inner.stride()
    }

    fn waiting(&self) -> Option<Waiting> {
        self.patience.waiting(self.inner.describe())
    }

    fn give_up(&self) {
        // In this order: what fails by the second is not tried again.
        self.patience.give_up();
        self.inner.give_up();
    }
}

impl<F: FarTarget> FarTarget for RetryingFiles<F> {
    fn make_directory(&self, path: &str) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.make_directory(path))
    }

    fn write(&self, path: &str, offset: u64, bytes: &[u8]) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.write(path, offset, bytes))
    }

    fn make_link(&self, path: &str, target: &str) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.make_link(path, target))
    }

    fn set(&self, path: &str, dress: &FarDress) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.set(path, dress))
    }

    fn place(&self, draft: &str, path: &str, replaces: bool) -> Result<(), PlaceError> {
        self.patience.again(|attempt| match self.inner.place(draft, path, replaces) {
            // The answer to the attempt before was lost, and it had succeeded.
            Err(error)
                if attempt > 0
                    && error.is_not_found()
                    && self.inner.facts(draft).is_err_and(|error| error.is_not_found())
                    && self.inner.facts(path).is_ok() =>
            {
                Ok(())
            }
            other => other,
        })
    }

    fn remove(&self, path: &str) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.remove(path))
    }

    fn free(&self) -> Option<u64> {
        self.inner.free()
    }
}

/// What a server calls a state of content (RFC 9110, section 8.8.3): some quote it in one answer
/// and not in another.
pub(crate) fn tag(text: &str) -> String {
    text.trim().trim_start_matches("W/").trim_matches('"').to_owned()
}

/// A path below a directory.
pub(crate) fn below(directory: &str, path: &str) -> String {
    match (directory, path) {
        (directory, "") => directory.to_owned(),
        (directory, path) if directory.is_empty() || directory.ends_with('/') => {
            format!("{directory}{path}")
        }
        (directory, path) => format!("{directory}/{path}"),
    }
}

impl PlaceError {
    /// Whether the way there failed, and not only what was asked for.
    #[must_use]
    pub fn is_of_the_way(&self) -> bool {
        !matches!(
            self.kind,
            PlaceErrorKind::NotFound
                | PlaceErrorKind::Refused
                | PlaceErrorKind::Short
                | PlaceErrorKind::Long
                | PlaceErrorKind::Frozen
                | PlaceErrorKind::Failed
        )
    }
}
