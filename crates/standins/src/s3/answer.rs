//! What is sent back.

use std::time::{Duration, SystemTime};

use http_body_util::Full;
use hyper::{Response, body::Bytes};

/// An answer.
#[derive(Debug)]
pub(super) struct Answer {
    status: u16,
    headers: Vec<(&'static str, String)>,
    body: Vec<u8>,
    /// For a question that wants no body, the length of the one it would have.
    length: Option<u64>,
}

impl Answer {
    pub fn new(status: u16) -> Self {
        Self { status, headers: Vec::new(), body: Vec::new(), length: None }
    }

    pub fn with(mut self, name: &'static str, value: impl Into<String>) -> Self {
        self.headers.push((name, value.into()));
        self
    }

    pub fn is_fine(&self) -> bool {
        self.status < 300
    }

    pub fn body(mut self, body: impl Into<Vec<u8>>) -> Self {
        self.body = body.into();
        self
    }

    pub fn length(mut self, length: u64) -> Self {
        self.length = Some(length);
        self
    }

    pub fn xml(root: &str, content: &str) -> Self {
        let text = format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<{root} xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\">{content}</{root}>"
        );
        Self::new(200).with("Content-Type", "application/xml").body(text)
    }

    pub fn error(status: u16, code: &str, words: &str) -> Self {
        Self::error_with(status, code, words, "")
    }

    pub fn error_with(status: u16, code: &str, words: &str, more: &str) -> Self {
        let text = format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Error><Code>{code}</Code><Message>{words}</Message>{more}</Error>"
        );
        Self::new(status).with("Content-Type", "application/xml").body(text)
    }

    /// As the server library sends it; `clock`: how far the server's clock is off, in seconds.
    pub fn into_response(self, clock: i64) -> Response<Full<Bytes>> {
        let (now, by) = (SystemTime::now(), Duration::from_secs(clock.unsigned_abs()));
        let now = if clock < 0 { now - by } else { now + by };
        let mut response =
            Response::builder().status(self.status).header("date", httpdate::fmt_http_date(now));
        if let Some(length) = self.length {
            response = response.header("content-length", length);
        }
        for (name, value) in self.headers {
            response = response.header(name, value);
        }
        response.body(Full::new(self.body.into())).unwrap_or_default()
    }
}
