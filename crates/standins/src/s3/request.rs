//! What is asked, and whether whoever asks may.

use std::{collections::BTreeMap, time::Duration};

use hyper::{body::Bytes, header::HeaderValue};
use ring::{
    digest::{SHA256, digest},
    hmac,
};
use url::Url;

use super::{Bucket, Trouble, answer::Answer};

/// A request, taken apart.
#[derive(Debug)]
pub(super) struct Asked {
    pub method: String,
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
        let method = parts.method.as_str().to_owned();
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
        let header = |name: &str| self.headers.get(name).map_or("", String::as_str);
        let Some(claims) = header("authorization").strip_prefix("AWS4-HMAC-SHA256 ") else {
            return denied("the request is not signed");
        };
        let claim = |name: &str| {
            let mut parts = claims.split(',').map(str::trim);
            parts.find_map(|part| part.strip_prefix(name)?.strip_prefix('=')).unwrap_or_default()
        };
        let credential: Vec<&str> = claim("Credential").split('/').collect();
        let [id, day, region, "s3", "aws4_request"] = credential[..] else {
            return denied("the request is not signed");
        };
        if id != bucket.id {
            return Some(Answer::error(403, "InvalidAccessKeyId", "no such key"));
        }
        let told = header("x-amz-date");
        let Ok(date) = jiff::fmt::strtime::parse("%Y%m%dT%H%M%SZ", told)
            .and_then(|parsed| parsed.to_datetime())
            .and_then(|date| date.to_zoned(jiff::tz::TimeZone::UTC))
        else {
            return denied("the request has no date");
        };
        let date = date.timestamp();
        let hash = hex(digest(&SHA256, &self.body).as_ref());
        if hash != header("x-amz-content-sha256") {
            return Some(Answer::error(
                400,
                "XAmzContentSHA256Mismatch",
                "other bytes were signed",
            ));
        }
        let names: Vec<&str> = claim("SignedHeaders").split(';').collect();
        let matters = |name: &str| {
            name.starts_with("x-amz-") || ["host", "range", "if-none-match"].contains(&name)
        };
        let unsigned =
            self.headers.keys().any(|name| matters(name) && !names.contains(&name.as_str()));
        let lines: String =
            names.iter().map(|name| format!("{name}:{}\n", header(name).trim())).collect();
        let mut pairs: Vec<&str> = self.url.query().unwrap_or_default().split('&').collect();
        pairs.sort_unstable();
        let request = format!(
            "{}\n{}\n{}\n{lines}\n{}\n{hash}",
            self.method,
            self.url.path(),
            pairs.join("&"),
            names.join(";")
        );
        let scope = format!("{day}/{region}/s3/aws4_request");
        let request = hex(digest(&SHA256, request.as_bytes()).as_ref());
        let words = format!("AWS4-HMAC-SHA256\n{told}\n{scope}\n{request}");
        let sign = |key: &[u8], words: &str| {
            hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, key), words.as_bytes())
        };
        let mut key = sign(format!("AWS4{}", bucket.secret).as_bytes(), day);
        for part in [region, "s3", "aws4_request"] {
            key = sign(key.as_ref(), part);
        }
        if unsigned || hex(sign(key.as_ref(), &words).as_ref()) != claim("Signature") {
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

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn decoded(text: &str) -> String {
    let pairs = format!("x={}", text.replace('+', "%2B"));
    url::form_urlencoded::parse(pairs.as_bytes())
        .next()
        .map_or_else(String::new, |(_, value)| value.into_owned())
}
