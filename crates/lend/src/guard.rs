//! Who is let in, how many at a time, and what is told of them.

use std::{
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use ring::digest::{SHA256, digest};

/// The only user.
pub const USER: &str = "lent";
/// So many are served at a time.
pub(crate) const VISITORS: usize = 16;
/// After so many wrong passwords nobody is let in any more: somebody is guessing.
pub const WRONG: usize = 20;

/// The way somebody came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Via {
    /// By SFTP.
    Sftp,
    /// By WebDAV.
    Web,
}

impl Via {
    /// As a word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Sftp => "sftp",
            Self::Web => "webdav",
        }
    }
}

/// What somebody did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Deed {
    /// Was let in.
    Came,
    /// Gave a wrong password.
    Refused,
    /// Too many had given wrong passwords before: nobody is let in any more.
    Closed,
    /// Was sent away, since too many are here.
    Full,
    /// Read a file, or part of it.
    Read {
        /// The path in what is lent.
        path: String,
        /// Bytes that were handed over.
        bytes: u64,
        /// Bytes of the file.
        of: u64,
    },
}

/// What is told while something is lent.
#[derive(Clone, Debug)]
pub struct Visit {
    /// From where.
    pub from: SocketAddr,
    /// The way.
    pub via: Via,
    /// What was done.
    pub deed: Deed,
}

/// Hears what is done.
pub type Teller = Arc<dyn Fn(Visit) + Send + Sync>;

/// Lets in those who know the password.
pub(crate) struct Guard {
    /// A hash, so that comparing takes as long whatever is wrong.
    password: Vec<u8>,
    wrong: AtomicUsize,
    present: AtomicUsize,
    tell: Teller,
}

impl Guard {
    pub fn new(password: &str, tell: Teller) -> Arc<Self> {
        let password = digest(&SHA256, password.as_bytes()).as_ref().to_vec();
        Arc::new(Self { password, wrong: 0.into(), present: 0.into(), tell })
    }

    pub fn tell(&self, from: SocketAddr, via: Via, deed: Deed) {
        (self.tell)(Visit { from, via, deed });
    }

    /// Whether somebody is let in.
    pub fn admits(&self, user: &str, password: &str, (from, via): (SocketAddr, Via)) -> bool {
        if self.wrong.load(Ordering::SeqCst) >= WRONG {
            self.tell(from, via, Deed::Closed);
            return false;
        }
        let given = digest(&SHA256, password.as_bytes());
        let is_right = user == USER
            && given.as_ref().iter().zip(&self.password).fold(0, |sum, (a, b)| sum | (a ^ b)) == 0;
        if !is_right {
            self.wrong.fetch_add(1, Ordering::SeqCst);
            self.tell(from, via, Deed::Refused);
        }
        is_right
    }

    /// A place for somebody who has come; none if all are taken.
    pub fn enter(self: &Arc<Self>, from: SocketAddr, via: Via) -> Option<Present> {
        if self.present.fetch_add(1, Ordering::SeqCst) >= VISITORS {
            self.present.fetch_sub(1, Ordering::SeqCst);
            self.tell(from, via, Deed::Full);
            return None;
        }
        Some(Present(Arc::clone(self)))
    }
}

/// Somebody who is here; leaves when dropped.
pub(crate) struct Present(Arc<Guard>);

impl Drop for Present {
    fn drop(&mut self) {
        self.0.present.fetch_sub(1, Ordering::SeqCst);
    }
}
