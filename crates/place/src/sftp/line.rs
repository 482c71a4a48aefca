//! One connection with a session of SFTP on it.

use std::{
    fmt,
    sync::atomic::{AtomicBool, Ordering},
    time::Duration,
};

use russh_sftp::{
    client::{Config, RawSftpSession, error::Error},
    extensions::{FSYNC, LIMITS, STATVFS},
    protocol::StatusCode,
};
use tokio::time::{sleep, timeout};

use super::connect::Session;
use crate::{PlaceErrorKind, Throttles, room::lacks_inodes};

/// Pieces are never larger than this, whatever a server allows: a packet carries more than them.
const LARGEST_PIECE: u64 = 240 << 10;
/// What every server takes (draft-ietf-secsh-filexfer-02, section 3).
const USUAL_PIECE: u64 = 32_000;
/// So often it is looked whether a connection is gone.
const LOOK: Duration = Duration::from_millis(200);
/// The file system takes no writes (`ST_RDONLY` of the server's extension).
const READ_ONLY: u64 = 1;

/// Why a request failed.
#[derive(Debug)]
pub(super) enum Failure {
    /// The server says so, in these words.
    Status(StatusCode, String),
    /// The connection broke off.
    Cut(String),
    /// No answer came in time.
    Slow,
    /// There is less than was asked for.
    Short,
    /// There is more than there can be.
    Long,
    /// There is no room left.
    Full,
    /// There are no inodes left.
    NoInodes,
    /// The file system takes no writes.
    ReadOnly,
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        match error {
            Error::Status(status) => Self::Status(status.status_code, status.error_message),
            Error::Timeout => Self::Slow,
            // How the library says that the connection is gone.
            Error::UnexpectedBehavior(words)
                if ["sender dropped", "session closed", "SendError", "RecvError"]
                    .iter()
                    .any(|gone| words.starts_with(gone)) =>
            {
                Self::Cut(String::new())
            }
            other => Self::Cut(other.to_string()),
        }
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.told().1)
    }
}

impl Failure {
    /// Whether the connection is not to be used any more.
    pub fn is_of_the_line(&self) -> bool {
        matches!(self, Self::Cut(_) | Self::Slow)
    }

    /// Its kind, and its reason in words.
    pub fn told(&self) -> (PlaceErrorKind, String) {
        match self {
            Self::Status(StatusCode::NoSuchFile, _) => {
                (PlaceErrorKind::NotFound, "it does not exist".to_owned())
            }
            Self::Status(StatusCode::PermissionDenied, _) => {
                (PlaceErrorKind::Refused, "permission denied".to_owned())
            }
            Self::Status(_, words) => (PlaceErrorKind::Failed, format!("the server says: {words}")),
            Self::Cut(why) if why.is_empty() => {
                (PlaceErrorKind::Cut, "the connection was lost".to_owned())
            }
            Self::Cut(why) => (PlaceErrorKind::Cut, format!("the connection was lost: {why}")),
            Self::Slow => (PlaceErrorKind::Slow, "no answer in time".to_owned()),
            Self::Full => (PlaceErrorKind::Full, "no space left".to_owned()),
            Self::NoInodes => (PlaceErrorKind::Full, "no free inodes left".to_owned()),
            Self::ReadOnly => (PlaceErrorKind::ReadOnly, "the medium is read-only".to_owned()),
            Self::Long => {
                (PlaceErrorKind::Long, "it is longer than this kind of object may be".to_owned())
            }
            Self::Short => (PlaceErrorKind::Short, "it is shorter than it should be".to_owned()),
        }
    }
}

/// Room on a file system, in bytes.
pub(super) struct Room {
    pub free: u64,
    pub all: u64,
    /// Whether no file can be made, however many bytes are free.
    pub lacks_inodes: bool,
    pub is_read_only: bool,
}

/// A connection that is logged in.
pub(super) struct Line {
    pub sftp: RawSftpSession,
    /// Bytes of a piece that is read or written by one request.
    pub read_length: usize,
    pub write_length: usize,
    /// Whether the server flushes a file when it is asked to.
    pub can_flush: bool,
    can_tell_room: bool,
    given_up: AtomicBool,
    /// The connection, and those that carry it.
    sessions: Vec<Session>,
    pub throttles: Throttles,
}

impl fmt::Debug for Line {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Line").field("is_sound", &self.is_sound()).finish_non_exhaustive()
    }
}

impl Line {
    pub async fn open(
        sessions: Vec<Session>,
        patience: Duration,
        throttles: Throttles,
    ) -> Result<Self, Failure> {
        let cut = |error: russh::Error| Failure::Cut(error.to_string());
        let Some(session) = sessions.first() else {
            return Err(Failure::Cut("not connected".to_owned()));
        };
        let opening = async {
            let channel = session.channel_open_session().await.map_err(cut)?;
            channel.request_subsystem(true, "sftp").await.map_err(cut)?;
            Ok::<_, Failure>(channel)
        };
        let channel = patient(patience, opening).await??;
        let config = Config {
            max_packet_len: 1 << 20,
            request_timeout_secs: patience.as_secs().max(1),
            ..Config::default()
        };
        let sftp = RawSftpSession::new_with_config(channel.into_stream(), config);
        let version = patient(patience, sftp.init()).await??;
        let has = |extension: &str| version.extensions.contains_key(extension);
        let (mut read, mut write) = (USUAL_PIECE, USUAL_PIECE);
        if has(LIMITS)
            && let Ok(limits) = sftp.limits().await
        {
            let fit =
                |limit: u64| if limit == 0 { LARGEST_PIECE } else { limit.min(LARGEST_PIECE) };
            (read, write) = (fit(limits.max_read_len), fit(limits.max_write_len));
        }
        let (can_flush, can_tell_room) = (has(FSYNC), has(STATVFS));
        let given_up = AtomicBool::new(false);
        Ok(Self {
            sftp,
            read_length: read as usize,
            write_length: write as usize,
            can_flush,
            can_tell_room,
            given_up,
            sessions,
            throttles,
        })
    }

    /// Whether it can be used, as far as is known.
    pub fn is_sound(&self) -> bool {
        !self.given_up.load(Ordering::Relaxed)
            && self.sessions.iter().all(|session| !session.is_closed())
    }

    /// Ends when the connection is gone, a little later than what was asked on it should have heard of
    /// that: a request may have been sent into a connection that was just ending, and nobody answers it.
    pub async fn gone(&self) {
        while self.sessions.iter().all(|session| !session.is_closed()) {
            sleep(LOOK).await;
        }
        sleep(2 * LOOK).await;
    }

    /// It is not to be used any more.
    pub fn give_up(&self) {
        self.given_up.store(true, Ordering::Relaxed);
    }

    /// What the file system at a path has room for.
    pub async fn room(&self, path: &str) -> Option<Room> {
        if !self.can_tell_room {
            return None;
        }
        let facts = self.sftp.statvfs(path).await.ok()?;
        let unit = facts.fragment_size.max(1);
        let is_read_only = facts.flags & READ_ONLY != 0;
        Some(Room {
            free: facts.blocks_avail.saturating_mul(unit),
            all: facts.blocks.saturating_mul(unit),
            lacks_inodes: lacks_inodes(facts.inodes, facts.inodes_avail),
            is_read_only,
        })
    }
}

async fn patient<T>(patience: Duration, step: impl Future<Output = T>) -> Result<T, Failure> {
    timeout(patience, step).await.map_err(|_| Failure::Slow)
}
