//! Webhooks, and pings to whoever watches from outside.

use std::{path::Path, time::Duration};

use ring::hmac;
use skellin_place::{PlaceError, WebAnswer, ask_web};
use skellin_plan::SecretSource;

use super::NotSent;
use crate::secrets::read_secret;

/// The header of the signature: `sha256=` and the HMAC-SHA-256 (RFC 2104) of the body.
const SIGNATURE: &str = "x-skellin-signature";

/// Posts a JSON document.
///
/// # Errors
/// Why it was not taken.
pub(super) fn post(
    url: &str,
    key: Option<&SecretSource>,
    ca: Option<&Path>,
    document: &str,
    patience: Duration,
) -> Result<(), NotSent> {
    let mut headers = vec![("content-type", "application/json".to_owned())];
    if let Some(key) = key {
        let secret = read_secret(key, "the key of the webhook").map_err(NotSent::Secret)?;
        let key = hmac::Key::new(hmac::HMAC_SHA256, &secret);
        let tag = hmac::sign(&key, document.as_bytes());
        headers.push((SIGNATURE, format!("sha256={}", skellin_store::hex(tag.as_ref()))));
    }
    taken(ask_web("POST", url, &headers, document.as_bytes(), ca, patience))
}

/// Requests an address.
///
/// # Errors
/// Why that was not answered well.
pub(super) fn ping(url: &str, ca: Option<&Path>, patience: Duration) -> Result<(), NotSent> {
    taken(ask_web("GET", url, &[], &[], ca, patience))
}

fn taken(answer: Result<WebAnswer, PlaceError>) -> Result<(), NotSent> {
    match answer {
        Ok(answer) if (200..300).contains(&answer.status) => Ok(()),
        Ok(answer) => {
            let words = answer.words.lines().next().unwrap_or_default().to_owned();
            Err(NotSent::Answered { status: answer.status, words })
        }
        Err(error) => Err(NotSent::Web { error }),
    }
}
