//! What is asked, and whether whoever asks may.

use std::{collections::BTreeMap, time::Duration};

use hyper::{body::Bytes, header::HeaderValue};
use rusty_s3::{Method, signing::sign};
use url::Url;

use super::{Bucket, Trouble, answer::Answer};

/// A request, taken apart.
#[derive(Debug)]
pub(super) struct Asked {
    pub method: Method,
    url: Url,
    /// The bucket, and the object's name.
    pub bucket: String,
    pub object: String,
    pub query: BTreeMap<String, String>,
    pub headers: BTreeMap<String, String>,
    pub body: Bytes,
}

impl Asked {
    pub fn read(parts: &hyper::http::request::Parts, body: Bytes) -> Option<Self> {
        let method = match parts.method.as_str() {
            "GET" => Method::Get,
            "HEAD" => Method::Head,
            "PUT" => Method::Put,
            "POST" => Method::Post,
            "DELETE" => Method::Delete,
            _ => return None,
        };
        let text = |value: &HeaderValue| String::from_utf8_lossy(value.as_bytes()).into_owned();
        let headers = parts.headers.iter();
        let headers: BTreeMap<String, String> =
            headers.map(|(name, value)| (name.as_str().to_owned(), text(value))).collect();
        let asked = parts.uri.path_and_query()?;
        let url = Url::parse(&format!("http://{}{asked}", headers.get("host")?)).ok()?;
        let mut path = url.path_segments()?;
        let bucket = path.next().unwrap_or_default().to_owned();
        let object = decoded(&path.collect::<Vec<_>>().join("/"));
        let query = url.query_pairs().map(|(name, value)| (name.into_owned(), value.into_owned()));
        let query = query.collect();
        Some(Self { method, url, bucket, object, query, headers, body })
    }

    pub fn query(&self, name: &str) -> &str {
        self.query.get(name).map_or("", String::as_str)
    }

    /// Why whoever asks is sent away, if so.
    pub fn refusal(&self, bucket: &Bucket, trouble: &Trouble) -> Option<Answer> {
        let denied = |words| Some(Answer::error(403, "AccessDenied", words));
        let credential: Vec<&str> = self.query("X-Amz-Credential").split('/').collect();
        let [id, _, region, "s3", "aws4_request"] = credential[..] else {
            return denied("the request is not signed");
        };
        if id != bucket.id {
            return Some(Answer::error(403, "InvalidAccessKeyId", "no such key"));
        }
        let date = self.query("X-Amz-Date");
        let Ok(date) = jiff::fmt::strtime::parse("%Y%m%dT%H%M%SZ", date)
            .and_then(|parsed| parsed.to_datetime())
            .and_then(|date| date.to_zoned(jiff::tz::TimeZone::UTC))
        else {
            return denied("the request has no date");
        };
        let date = date.timestamp();
        // Only the start of the address and what is no signature is signed.
        let own = self.query.iter().filter(|(name, _)| !name.starts_with("X-Amz-"));
        let signed: Vec<&str> = self.query("X-Amz-SignedHeaders").split(';').collect();
        let headers = self
            .headers
            .iter()
            .filter(|(name, _)| name.as_str() != "host" && signed.contains(&name.as_str()));
        let unsigned = self
            .headers
            .keys()
            .any(|name| name.starts_with("x-amz-") && !signed.contains(&name.as_str()));
        let expected = sign(
            &date,
            self.method,
            self.url.clone(),
            &bucket.id,
            &bucket.secret,
            None,
            region,
            self.query("X-Amz-Expires").parse().unwrap_or(0),
            own.map(|(name, value)| (name.as_str(), value.as_str())),
            headers.map(|(name, value)| (name.as_str(), value.as_str())),
        );
        let expected = expected.query_pairs().find(|(name, _)| name == "X-Amz-Signature");
        if unsigned || expected.is_none_or(|(_, value)| value != self.query("X-Amz-Signature")) {
            return Some(Answer::error(403, "SignatureDoesNotMatch", "the signature does not fit"));
        }
        if region != bucket.region {
            let more = format!("<Region>{}</Region>", bucket.region);
            let words = "the region is wrong";
            return Some(Answer::error_with(400, "AuthorizationHeaderMalformed", words, &more));
        }
        let now = jiff::Timestamp::now().as_second() + trouble.clock;
        let off = Duration::from_secs(now.abs_diff(date.as_second()));
        if off >= Duration::from_secs(15 * 60) {
            return denied("the request has expired");
        }
        if !self.bucket.is_empty() && self.bucket != bucket.name {
            return Some(Answer::error(404, "NoSuchBucket", "no such bucket"));
        }
        None
    }
}

fn decoded(text: &str) -> String {
    let pairs = format!("x={}", text.replace('+', "%2B"));
    url::form_urlencoded::parse(pairs.as_bytes())
        .next()
        .map_or_else(String::new, |(_, value)| value.into_owned())
}
