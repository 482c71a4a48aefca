//! A command run on a host (RFC 4254, section 6.5).

use std::time::{Duration, Instant};

use russh::{ChannelMsg, Disconnect, Sig};
use tokio::time::timeout;

use super::{connect::Connecting, runtime, target::SftpTarget};
use crate::PlaceError;

/// How often it is looked whether somebody interrupts, and whether the time is over.
const TICK: Duration = Duration::from_millis(50);
/// After TERM a command has so long to end by itself.
const GRACE: Duration = Duration::from_secs(5);

/// Why a command on another host did not come to its end.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FarCommandError {
    /// Somebody interrupted it.
    #[error("it was interrupted")]
    Interrupted,
    /// It took longer than it may.
    #[error("timed out after {} s", .0.as_secs())]
    TimedOut(Duration),
    /// The host cannot be reached, or lets nobody in.
    #[error("{error}{}", .error.hint.as_ref().map(|hint| format!(" ({hint})")).unwrap_or_default())]
    NotReached {
        /// Why.
        error: PlaceError,
    },
    /// The login is for files alone.
    #[error("the host does not run commands for this login")]
    NoCommands,
    /// The connection broke while it ran.
    #[error("the connection was lost: {0}")]
    Lost(String),
}

/// A command for another host.
pub struct FarCommand<'a> {
    /// As the shell there reads it.
    pub line: String,
    /// So long it may take, once it was started.
    pub timeout: Duration,
    /// Asked whether somebody interrupts.
    pub is_cancelled: &'a (dyn Fn() -> bool + Sync),
    /// Takes what it says.
    pub said: &'a mut (dyn FnMut(&[u8]) + Send),
}

impl FarCommand<'_> {
    /// Runs it; the status it ended with, or none if ended by a signal.
    ///
    /// # Errors
    /// Why it did not come to its end, or was not started at all.
    pub fn run(self, target: &SftpTarget) -> Result<Option<u32>, FarCommandError> {
        runtime().block_on(self.go(target))
    }

    async fn go(self, target: &SftpTarget) -> Result<Option<u32>, FarCommandError> {
        let told = |_| {};
        let connecting = Connecting { accept_new: false, patience: target.patience, told: &told };
        let sessions =
            connecting.go(target).await.map_err(|error| FarCommandError::NotReached { error })?;
        let broke = |error: russh::Error| FarCommandError::Lost(error.to_string());
        let session = sessions.first().ok_or_else(|| FarCommandError::Lost("no session".into()))?;
        let mut channel = session.channel_open_session().await.map_err(broke)?;
        channel.exec(true, self.line.as_bytes()).await.map_err(broke)?;
        let begun = Instant::now();
        let (mut status, mut ending) = (None, None::<(Instant, FarCommandError)>);
        loop {
            match timeout(TICK, channel.wait()).await {
                Ok(Some(ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. })) => {
                    (self.said)(&data);
                }
                Ok(Some(ChannelMsg::ExitStatus { exit_status })) => status = Some(exit_status),
                Ok(Some(ChannelMsg::Failure)) => {
                    return Err(FarCommandError::NoCommands);
                }
                Ok(Some(ChannelMsg::Close) | None) => break,
                Ok(Some(_)) | Err(_) => {}
            }
            match &ending {
                None => {
                    let why = match (self.is_cancelled)() {
                        true => Some(FarCommandError::Interrupted),
                        false if begun.elapsed() >= self.timeout => {
                            Some(FarCommandError::TimedOut(self.timeout))
                        }
                        false => None,
                    };
                    if let Some(why) = why {
                        let _ = channel.signal(Sig::TERM).await;
                        ending = Some((Instant::now(), why));
                    }
                }
                // Servers that send no signals end what runs when the channel is closed.
                Some((since, _)) if since.elapsed() >= GRACE => break,
                Some(_) => {}
            }
        }
        let _ = channel.close().await;
        let _ = session.disconnect(Disconnect::ByApplication, "", "").await;
        match ending {
            Some((_, why)) => Err(why),
            None => Ok(status),
        }
    }
}
