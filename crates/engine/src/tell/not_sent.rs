//! Why a message did not go out.

use std::time::Duration;

use skellin_place::{MailError, PlaceError};

use crate::{around::Fault, error::EngineError};

/// Why a message did not go out; no secret stands in it.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum NotSent {
    /// What is to be sent makes no letter.
    #[error("cannot write the mail: {0}")]
    Letter(String),
    /// The machine's own mail program failed.
    #[error("sendmail failed: {0}")]
    Sendmail(String),
    /// A mail server did not take it.
    #[error("mail server {server}: {}{}", told(error, patience), advice(error))]
    Mail {
        /// The server, as it is configured.
        server: String,
        /// What came of it.
        error: MailError,
        /// So long each step was waited for.
        patience: Duration,
    },
    /// A password or key cannot be had.
    #[error("{0}")]
    Secret(EngineError),
    /// The password holds bytes that are no text.
    #[error("the password is not text")]
    Password,
    /// A server of the web refused it.
    #[error("the server answers {status}{}", after(words))]
    Answered {
        /// The status of HTTP.
        status: u16,
        /// The first line of what it said; may be empty.
        words: String,
    },
    /// A server of the web cannot be reached.
    #[error("{error}{}", .error.hint.as_ref().map(|hint| format!("; {hint}")).unwrap_or_default())]
    Web {
        /// Why.
        error: PlaceError,
    },
    /// Nobody on a desktop saw it.
    #[error("{0}")]
    Desktop(String),
    /// The program that tells came to nothing.
    #[error("{fault}{}", after(said))]
    Program {
        /// Why.
        fault: Fault,
        /// The last line it said; may be empty.
        said: String,
    },
    /// The channel is not there any more, or has mistakes.
    #[error("{0}")]
    Channel(EngineError),
    /// The delivery panicked.
    #[error("the delivery ended unexpectedly; this is a bug")]
    Panicked,
}

fn after(words: &str) -> String {
    if words.is_empty() { String::new() } else { format!(": {words}") }
}

fn told(error: &MailError, patience: &Duration) -> String {
    match error {
        MailError::Slow => format!("no answer within {} s", patience.as_secs()),
        error => error.to_string(),
    }
}

fn advice(error: &MailError) -> &'static str {
    match error {
        MailError::Login(_) => "; check the user in `server`, and the password",
        MailError::Certificate(_) => {
            "; if its authority is your own: ca = \"/path/to/authority.pem\""
        }
        MailError::NoTls => "; mail is never sent without TLS: try smtps://",
        MailError::Slow | MailError::Line(_) => {
            "; is it up, and is this the submission port (587, or 465 with smtps://)?"
        }
        _ => "",
    }
}
