//! Requests to addresses that are no places: one at a time, TLS always verified.

use std::{path::Path, time::Duration};

use ureq::http;

use super::{Ask, Http, Way};
use crate::{Operation, PlaceError, PlaceErrorKind, Throttles};

/// What a server answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WebAnswer {
    /// Its status (RFC 9110, section 15).
    pub status: u16,
    /// The beginning of what it said.
    pub words: String,
}

/// So much of an answer is kept, in characters.
const WORDS: usize = 200;

/// Sends a request and takes the answer. `ca`: a file of authorities to trust instead of those of
/// the machine. The address is not repeated in failures: it may hold a secret.
///
/// # Errors
/// If no whole answer came.
pub fn ask_web(
    method: &str,
    url: &str,
    headers: &[(&str, String)],
    body: &[u8],
    ca: Option<&Path>,
    patience: Duration,
) -> Result<WebAnswer, PlaceError> {
    let subject = http::Uri::try_from(url).ok().and_then(|url| url.host().map(str::to_owned));
    let subject = subject.ok_or_else(|| {
        let why = "not a web address";
        PlaceError::because(Operation::Reach, "it", PlaceErrorKind::Failed, why)
    })?;
    let way = Way {
        subject: subject.clone(),
        authority: ca.map(Path::to_path_buf),
        connections: 1,
        patience,
        throttles: Throttles::default(),
    };
    let ask = Ask { method, most: 1 << 20, url, headers: headers.to_vec(), body };
    let answer = Http::new(&way)?.ask(Operation::Reach, &subject, ask)?;
    let words = String::from_utf8_lossy(&answer.body).trim().chars().take(WORDS).collect();
    Ok(WebAnswer { status: answer.status, words })
}
