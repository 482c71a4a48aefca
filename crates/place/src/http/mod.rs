//! Requests over HTTP and HTTPS, for the places that speak it, and for whoever is told by it.

mod dates;
mod failure;
mod tls;
mod web;
mod xml;

use std::{
    io::Read as _,
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use ureq::{Agent, SendBody, http, tls::TlsConfig};

pub(crate) use dates::{Skew, ago, seconds_of, skew};
pub(crate) use failure::{certificate_reason, is_certificate};
pub(crate) use tls::client_config;
pub use web::{WebAnswer, ask_web};
pub(crate) use xml::{Element, flatten};

use crate::{
    Extent, Operation, PlaceError, PlaceErrorKind, Throttles,
    throttle::{Paced, Throttled},
};

/// A server that gives no parts of files is given up on from this size on, in bytes.
const LARGEST_WHOLE: u64 = 1 << 30;
/// One answer is waited for so many times the patience with one step of it, and longer if it is
/// long.
const PATIENCE_WITH_ONE: u32 = 15;
/// Refusals are no longer than this.
const LONGEST_WORDS: u64 = 1 << 20;

/// How to get to a server that speaks HTTP.
#[derive(Clone, Debug)]
pub(crate) struct Way {
    /// How it is called in messages.
    pub subject: String,
    /// A file with the certificates of a private authority; else the machine's own count.
    pub authority: Option<PathBuf>,
    /// How many connections are kept.
    pub connections: usize,
    /// So long each step may take.
    pub patience: Duration,
    /// How fast.
    pub throttles: Throttles,
}

/// A client of one server.
#[derive(Clone, Debug)]
pub(crate) struct Http {
    agent: Arc<Mutex<Agent>>,
    subject: String,
    patience: Duration,
    throttles: Throttles,
}

/// One request.
pub(crate) struct Ask<'a> {
    pub method: &'a str,
    /// So many bytes a good answer may have.
    pub most: u64,
    /// May hold a signature, and so never stands in a message.
    pub url: &'a str,
    pub headers: Vec<(&'a str, String)>,
    pub body: &'a [u8],
}

/// What came back.
pub(crate) struct Answer {
    pub status: u16,
    headers: http::HeaderMap,
    pub body: Vec<u8>,
}

impl Answer {
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name).and_then(|value| value.to_str().ok())
    }

    pub fn is_fine(&self) -> bool {
        (200..300).contains(&self.status)
    }

    /// The size of the whole file of which this may be a part (RFC 9110, section 14.4).
    pub fn whole_size(&self) -> Option<u64> {
        match self.status {
            206 | 416 => self.header("content-range")?.rsplit_once('/')?.1.parse().ok(),
            _ => self.header("content-length")?.parse().ok(),
        }
    }

    /// How far the server's clock is off, if it tells the time.
    pub fn skew(&self) -> Option<Skew> {
        self.header("date").and_then(skew)
    }
}

impl Http {
    /// # Errors
    /// If the file of a private authority cannot be read.
    pub fn new(way: &Way) -> Result<Self, PlaceError> {
        let roots = tls::roots(way.authority.as_deref()).map_err(|why| {
            PlaceError::because(
                Operation::Reach,
                way.subject.clone(),
                PlaceErrorKind::Certificate,
                why,
            )
            .with_hint("name the certificate file of your authority: ca = \"…\"")
        })?;
        let patience = Some(way.patience);
        let config = Agent::config_builder()
            .http_status_as_error(false)
            // A redirected request would have a signature that does not fit any more.
            .max_redirects(0)
            .max_redirects_will_error(false)
            .allow_non_standard_methods(true)
            .user_agent("skellin")
            .proxy(None)
            .tls_config(TlsConfig::builder().root_certs(roots).build())
            .max_idle_connections(way.connections)
            .max_idle_connections_per_host(way.connections)
            .timeout_resolve(patience)
            .timeout_connect(patience)
            .timeout_per_read(patience)
            .timeout_per_write(patience)
            .timeout_recv_response(patience.map(|patience| patience * 3))
            .build();
        Ok(Self {
            agent: Arc::new(Mutex::new(config.new_agent())),
            subject: way.subject.clone(),
            patience: way.patience,
            throttles: way.throttles.clone(),
        })
    }

    fn agent(&self) -> Agent {
        self.agent.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Ends what is under way; what is asked later goes over new connections.
    pub fn give_up(&self) {
        let used = {
            let mut agent = self.agent.lock().unwrap_or_else(PoisonError::into_inner);
            let fresh = Agent::new_with_config(agent.config().clone());
            std::mem::replace(&mut *agent, fresh)
        };
        used.shutdown();
        self.throttles.give_up();
    }

    /// Sends a request and takes the answer whole.
    ///
    /// # Errors
    /// If no whole answer came. Whatever the server says is no error here.
    pub fn ask(
        &self,
        operation: Operation,
        subject: &str,
        ask: Ask<'_>,
    ) -> Result<Answer, PlaceError> {
        let failed = |error: ureq::Error| {
            failure::told(operation, subject, &self.subject, self.patience, &error)
        };
        let (most, ask_for_body) = (ask.most, ask.method != "HEAD");
        let wants_part = ask.headers.iter().any(|(name, _)| *name == "range");
        let mut request = http::Request::builder().method(ask.method).uri(ask.url);
        for (name, value) in ask.headers {
            request = request.header(name, value);
        }
        let has_body = !ask.body.is_empty() || matches!(ask.method, "PUT" | "POST");
        let sent = match has_body {
            true => {
                let throttle = self.throttles.up.as_ref();
                let mut body = Throttled { inner: ask.body, throttle };
                // Without its length it would go in pieces, which some servers do not take.
                let request = request.header("content-length", ask.body.len());
                let request = request.body(SendBody::from_reader(&mut body));
                request.map_err(ureq::Error::Http).and_then(|request| self.agent().run(request))
            }
            false => {
                let request = request.body(()).map_err(ureq::Error::Http);
                request.and_then(|request| self.agent().run(request))
            }
        };
        let (parts, body) = sent.map_err(failed)?.into_parts();
        let mut bytes = Vec::new();
        // A server that gives no parts of files gives the whole, up to a size.
        let whole_instead = wants_part && parts.status == 200;
        let most = match parts.status.is_success() {
            true if whole_instead => LARGEST_WHOLE,
            true => most,
            false => LONGEST_WORDS,
        };
        if ask_for_body {
            let inner = body.into_with_config().limit(u64::MAX).reader();
            let throttled = Throttled { inner, throttle: self.throttles.down.as_ref() };
            let read = Paced::new(throttled, self.patience * PATIENCE_WITH_ONE)
                .take(most.saturating_add(1))
                .read_to_end(&mut bytes);
            read.map_err(|error| failed(error.into()))?;
        }
        if bytes.len() as u64 > most {
            let error = PlaceError::new(operation, subject, PlaceErrorKind::Long);
            return Err(match whole_instead {
                true => PlaceError {
                    kind: PlaceErrorKind::Failed,
                    source: Some(std::io::Error::other(
                        "the server does not serve ranges, and the file is too large to read whole",
                    )),
                    ..error
                },
                false => error,
            });
        }
        Ok(Answer { status: parts.status.as_u16(), headers: parts.headers, body: bytes })
    }
}

/// Whether a server says that it is full, in whatever words it has: some give what their operating
/// system said.
pub(crate) fn says_full(body: &[u8]) -> bool {
    let text = String::from_utf8_lossy(&body[..body.len().min(8 << 10)]).to_lowercase();
    ["no space left", "enospc", "disk full", "quota exceeded", "edquot", "insufficient storage"]
        .iter()
        .any(|words| text.contains(words))
}

/// So many bytes a good answer to the question for a part may have.
pub(crate) fn most_of(extent: Extent) -> u64 {
    match extent {
        Extent::Within(most) => most,
        Extent::Range { length, .. } | Extent::Tail(length) => length,
    }
}

/// The header that asks for a part of an object (RFC 9110, section 14.2).
pub(crate) fn range_header(extent: Extent) -> Option<String> {
    match extent {
        Extent::Within(_) => None,
        Extent::Range { offset, length } => {
            Some(format!("bytes={offset}-{}", offset.saturating_add(length).saturating_sub(1)))
        }
        Extent::Tail(length) => Some(format!("bytes=-{length}")),
    }
}

/// The part of an object that an answer holds; servers may send more than was asked for.
///
/// The error says what is wrong with it.
pub(crate) fn part(extent: Extent, answer: Answer) -> Result<Vec<u8>, PlaceErrorKind> {
    let mut body = answer.body;
    if let Extent::Within(most) = extent
        && body.len() as u64 > most
    {
        return Err(PlaceErrorKind::Long);
    }
    match (extent, answer.status) {
        // The range lies behind the end. The tail of nothing is nothing.
        (Extent::Tail(_), 416) => Ok(Vec::new()),
        (_, 416) => Err(PlaceErrorKind::Short),
        (Extent::Within(_), 200) => Ok(body),
        (Extent::Range { length, .. }, 206) => match body.len() as u64 == length {
            true => Ok(body),
            false => Err(PlaceErrorKind::Short),
        },
        (Extent::Tail(_), 206) => Ok(body),
        // The whole object, though a part was asked for.
        (Extent::Range { offset, length }, 200) => {
            let size = body.len() as u64;
            match offset.checked_add(length).filter(|end| *end <= size) {
                Some(end) => {
                    body.truncate(usize::try_from(end).unwrap_or(usize::MAX));
                    body.drain(..usize::try_from(offset).unwrap_or(usize::MAX));
                    Ok(body)
                }
                None => Err(PlaceErrorKind::Short),
            }
        }
        (Extent::Tail(length), 200) => {
            let from = (body.len() as u64).saturating_sub(length);
            body.drain(..usize::try_from(from).unwrap_or(usize::MAX));
            Ok(body)
        }
        _ => Err(PlaceErrorKind::Failed),
    }
}

/// Bytes of a file that may have become longer or shorter since it was looked at: as many as were
/// asked for, or all to its end. The error is a reason.
pub(crate) fn far_part(offset: u64, length: u64, answer: Answer) -> Result<Vec<u8>, String> {
    let as_size = |number: u64| usize::try_from(number).unwrap_or(usize::MAX);
    let mut body = match answer.status {
        416 => Vec::new(),
        206 => {
            let range = answer.header("content-range").unwrap_or_default();
            let from = range.strip_prefix("bytes ").and_then(|range| range.split('-').next());
            if from.is_some_and(|from| from.parse() != Ok(offset)) {
                return Err(format!("the server returned another range than requested: {range}"));
            }
            answer.body
        }
        // All of it, though a part was asked for.
        200 => {
            let mut body = answer.body;
            body.drain(..as_size(offset).min(body.len()));
            body
        }
        status => return Err(format!("the server answers {status}")),
    };
    body.truncate(as_size(length));
    Ok(body)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn answer(status: u16, body: &[u8]) -> Answer {
        Answer { status, headers: http::HeaderMap::new(), body: body.to_vec() }
    }

    /// What a server makes of the header that asks for a part (RFC 9110, section 14).
    fn server(object: &[u8], range: Option<String>, ignores: bool) -> Answer {
        let size = object.len() as u64;
        let Some(range) = range.filter(|_| !ignores) else { return answer(200, object) };
        let (from, to) = range["bytes=".len()..].split_once('-').expect("a range");
        let (from, to) = match (from.parse::<u64>(), to.parse::<u64>()) {
            (Err(_), Ok(last)) => (size.saturating_sub(last), size),
            (Ok(from), Ok(to)) => (from, to.saturating_add(1).min(size)),
            _ => panic!("{range}"),
        };
        if from >= size {
            return answer(416, b"");
        }
        answer(206, &object[from as usize..to as usize])
    }

    proptest! {
        #[test]
        fn every_server_gives_the_part_that_was_asked_for(
            object in proptest::collection::vec(any::<u8>(), 0..40),
            offset in 0u64..50,
            length in 1u64..50,
            ignores: bool,
        ) {
            let size = object.len() as u64;
            let extent = Extent::Range { offset, length };
            let got = part(extent, server(&object, range_header(extent), ignores));
            let wanted = object.get(offset as usize..(offset + length) as usize);
            let got = got.ok();
            prop_assert_eq!(got.as_deref(), wanted);
            let extent = Extent::Tail(length);
            let got = part(extent, server(&object, range_header(extent), ignores));
            let from = size.saturating_sub(length) as usize;
            prop_assert_eq!(got.expect("a tail"), object[from..].to_vec());
            let got = part(Extent::Within(1 << 20), server(&object, range_header(Extent::Within(1 << 20)), ignores));
            prop_assert_eq!(got.expect("all of it"), object);
        }
    }

    proptest! {
        #[test]
        fn a_part_of_a_file_that_changes_its_size_is_what_there_is(
            object in proptest::collection::vec(any::<u8>(), 0..40),
            offset in 0u64..50,
            length in 1u64..50,
            ignores: bool,
        ) {
            let extent = Extent::Range { offset, length };
            let got = far_part(offset, length, server(&object, range_header(extent), ignores));
            let size = object.len() as u64;
            let wanted = &object[offset.min(size) as usize..(offset + length).min(size) as usize];
            prop_assert_eq!(got.expect("a part"), wanted.to_vec());
        }
    }

    #[test]
    fn what_is_no_answer_to_the_question_is_a_failure() {
        let mut other = answer(206, b"xyz");
        other.headers.insert("content-range", "bytes 7-9/12".parse().expect("a value"));
        assert_eq!(other.whole_size(), Some(12));
        assert!(far_part(7, 3, answer(206, b"xyz")).is_ok());
        assert!(far_part(4, 3, other).is_err_and(|why| why.contains("another range")));
        assert!(far_part(0, 3, answer(204, b"")).is_err());
        assert_eq!(part(Extent::Within(9), answer(206, b"x")), Err(PlaceErrorKind::Failed));
        assert_eq!(part(Extent::Within(9), answer(204, b"")), Err(PlaceErrorKind::Failed));
        let extent = Extent::Range { offset: 0, length: 3 };
        assert_eq!(part(extent, answer(206, b"xy")), Err(PlaceErrorKind::Short));
        let absurd = Extent::Range { offset: u64::MAX, length: 2 };
        assert_eq!(part(absurd, answer(200, b"xy")), Err(PlaceErrorKind::Short));
    }
}
