//! Signed requests, and what their refusals mean.

use std::{
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

use url::Url;

use super::{
    answers::text,
    instance,
    signing::{self, Unsigned},
    target::{S3Key, S3Login, S3Style, S3Target},
};
use crate::{
    Operation, PlaceError, PlaceErrorKind,
    http::{Answer, Ask, Http, Way, flatten, says_full},
};

/// What the server says in words has no more bytes than this: a page of a listing.
pub(super) const LONGEST_ANSWER: u64 = 16 << 20;
/// A bucket one can ask.
#[derive(Debug)]
pub(super) struct Asking {
    http: Http,
    scheme: String,
    /// The server's name and port as requests name it, the bucket's before it if that is the style.
    host: String,
    /// The path before an object's name, with its last slash.
    base_path: String,
    subject: String,
    region: String,
    login: S3Login,
    lent: Mutex<Option<(S3Key, Instant)>>,
}

/// What is done (RFC 9110, section 9.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Method {
    Get,
    Head,
    Put,
    Post,
    Delete,
}

impl Method {
    pub fn to_str(self) -> &'static str {
        match self {
            Self::Get => "GET",
            Self::Head => "HEAD",
            Self::Put => "PUT",
            Self::Post => "POST",
            Self::Delete => "DELETE",
        }
    }
}

/// What to ask.
#[derive(Clone)]
pub(super) struct Question<'a> {
    pub operation: Operation,
    /// The object in messages; empty for the bucket.
    pub subject: &'a str,
    pub method: Method,
    /// The object's full name; empty for the bucket.
    pub object: &'a str,
    /// Sorted by name.
    pub query: &'a [(&'a str, &'a str)],
    /// Sorted by name, which is in small letters.
    pub headers: Vec<(&'a str, String)>,
    pub body: &'a [u8],
    /// So many bytes a good answer may have.
    pub most: u64,
}

impl Asking {
    /// Ends what is under way.
    pub fn give_up(&self) {
        self.http.give_up();
    }

    pub fn new(target: &S3Target) -> Result<Self, PlaceError> {
        let subject = target.describe();
        let wrong = |why: &str| {
            PlaceError::because(Operation::Reach, subject.clone(), PlaceErrorKind::Unreachable, why)
                .with_hint("correct endpoint = \"https://host\" in stores.toml")
        };
        let endpoint: Url =
            target.endpoint.parse().map_err(|_| wrong("its endpoint is not an address"))?;
        let server = endpoint.host_str().filter(|_| ["http", "https"].contains(&endpoint.scheme()));
        let server = server.ok_or_else(|| wrong("its endpoint is not a server address"))?;
        // Url names no port that is the scheme's own, and neither do requests.
        let port = endpoint.port().map_or(String::new(), |port| format!(":{port}"));
        let below = endpoint.path().trim_end_matches('/');
        let bucket = &target.bucket;
        let (host, base_path) = match target.style {
            S3Style::Path => {
                (format!("{server}{port}"), format!("{below}/{}/", signing::escaped(bucket, "")))
            }
            S3Style::Host => (format!("{bucket}.{server}{port}"), format!("{below}/")),
        };
        let way = Way {
            subject: subject.clone(),
            authority: target.authority.clone(),
            connections: target.connections,
            patience: target.patience,
            throttles: target.throttles.clone(),
        };
        Ok(Self {
            http: Http::new(&way)?,
            scheme: endpoint.scheme().to_owned(),
            host,
            base_path,
            subject,
            region: target.region.clone(),
            login: target.login.clone(),
            lent: Mutex::default(),
        })
    }

    fn key(&self) -> Result<S3Key, PlaceError> {
        let address = match &self.login {
            S3Login::Key(key) => return Ok(key.clone()),
            S3Login::Instance(address) => address,
        };
        let mut lent = self.lent.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((key, _)) = lent.as_ref().filter(|(_, until)| Instant::now() < *until) {
            return Ok(key.clone());
        }
        let (key, good_for) = instance::ask(address, &self.subject)?;
        // Renewed well before it ends.
        let until = Instant::now() + good_for.saturating_sub(Duration::from_secs(300));
        Ok(lent.insert((key, until)).0.clone())
    }

    /// Asks; whatever the server says is no error here.
    pub fn ask(&self, question: &Question<'_>) -> Result<Answer, PlaceError> {
        let key = self.key()?;
        let path = format!("{}{}", self.base_path, signing::escaped(question.object, "/"));
        let mut query: Vec<(&str, &str)> = question.query.to_vec();
        query.sort_unstable();
        let pairs = query.iter().map(|(name, value)| {
            format!("{}={}", signing::escaped(name, ""), signing::escaped(value, ""))
        });
        let query = pairs.collect::<Vec<_>>().join("&");
        let unsigned = Unsigned {
            method: question.method.to_str(),
            host: &self.host,
            path: &path,
            query: &query,
            headers: &question.headers,
            body: question.body,
            region: &self.region,
        };
        let signed = signing::sign(&unsigned, &key, jiff::Timestamp::now());
        let mut headers = question.headers.clone();
        headers.extend(signed);
        let mark = if query.is_empty() { "" } else { "?" };
        let url = format!("{}://{}{path}{mark}{query}", self.scheme, self.host);
        let subject = self.named(question.subject);
        let ask = Ask {
            method: question.method.to_str(),
            most: question.most,
            url: &url,
            headers,
            body: question.body,
        };
        self.http.ask(question.operation, &subject, ask)
    }

    /// Asks, and takes a refusal for a failure.
    pub fn demand(&self, question: &Question<'_>) -> Result<Answer, PlaceError> {
        let answer = self.ask(question)?;
        match answer.is_fine() {
            true => Ok(answer),
            false => Err(self.refusal(question.operation, question.subject, &answer)),
        }
    }

    fn named(&self, name: &str) -> String {
        match name {
            "" => self.subject.clone(),
            name => format!("{}/{name}", self.subject),
        }
    }

    /// What a refusal means.
    pub fn refusal(&self, operation: Operation, name: &str, answer: &Answer) -> PlaceError {
        use PlaceErrorKind as Kind;
        let said = flatten(&answer.body).unwrap_or_default();
        let (code, words) =
            (text(&said, "Code").unwrap_or_default(), text(&said, "Message").unwrap_or_default());
        let told = |kind, reason: String, hint: &str| {
            let error = PlaceError::because(operation, self.named(name), kind, reason);
            if hint.is_empty() { error } else { error.with_hint(hint) }
        };
        let plainly = || match (code, words) {
            ("", "") => format!("the server answers {}", answer.status),
            (code, "") => format!("the server says {code}"),
            (code, words) => format!("the server says {code}: {words}"),
        };
        if matches!(answer.status, 400 | 401 | 403)
            && let Some(skew) = answer.skew().filter(|skew| skew.is_too_much())
        {
            let hint = "set the clock of this machine, best by NTP";
            return told(
                Kind::Clock,
                format!("the server refuses signed requests: {}", skew.words()),
                hint,
            );
        }
        let region = text(&said, "Region").or_else(|| answer.header("x-amz-bucket-region"));
        match (answer.status, code) {
            (
                _,
                "PermanentRedirect"
                | "AuthorizationHeaderMalformed"
                | "AuthorizationQueryParametersError"
                | "IllegalLocationConstraintException",
            )
            | (301 | 307, _) => match region.filter(|region| *region != self.region) {
                Some(region) => told(
                    Kind::Refused,
                    format!("the bucket is in region {region}, not {}", self.region),
                    &format!("set region = \"{region}\" in stores.toml"),
                ),
                None => told(Kind::Refused, plainly(), "check endpoint and region in stores.toml"),
            },
            (_, "InvalidAccessKeyId" | "UnrecognizedClientException") => told(
                Kind::Login,
                "unknown key id".to_owned(),
                "check the id in the file that `credentials` names",
            ),
            (_, "SignatureDoesNotMatch") => told(
                Kind::Login,
                "the secret does not match the key id".to_owned(),
                "check the secret in the file that `credentials` names: complete, without blanks",
            ),
            (_, "ExpiredToken" | "InvalidToken" | "TokenRefreshRequired") => {
                told(Kind::Login, "the temporary key has expired".to_owned(), "get a new one")
            }
            (_, "RequestTimeTooSkewed") => told(
                Kind::Clock,
                "the server refuses signed requests: the clock of this machine is wrong".to_owned(),
                "set the clock of this machine, best by NTP",
            ),
            (_, "NoSuchBucket") => told(
                Kind::Missing,
                "the bucket does not exist".to_owned(),
                "create it (`skellin store prepare` shows what it needs), or correct the place",
            ),
            (_, "InvalidObjectState") => told(
                Kind::Frozen,
                "it is in cold storage".to_owned(),
                "request its retrieval, and try again when it is available",
            ),
            _ if says_full(&answer.body) => {
                told(Kind::Full, "no space left".to_owned(), "free space there, or raise the quota")
            }
            (507, _)
            | (_, "QuotaExceeded" | "QuotaExceededException" | "EntityTooLarge" | "XStorageFull") => {
                told(Kind::Full, "no space left".to_owned(), "free space there, or raise the quota")
            }
            (_, "XAmzContentSHA256Mismatch" | "BadDigest" | "IncompleteBody") => {
                told(Kind::Cut, "the data arrived damaged".to_owned(), "")
            }
            (401 | 403, _) => told(
                Kind::Refused,
                match code {
                    "" | "AccessDenied" => "permission denied".to_owned(),
                    _ => plainly(),
                },
                "allow the key to list, read, write and delete below this prefix: `skellin store prepare` prints a policy",
            ),
            (404, _) => PlaceError::new(operation, self.named(name), Kind::NotFound),
            (412, _) => PlaceError::new(operation, self.named(name), Kind::Exists),
            (408 | 429 | 500 | 502 | 503 | 504, _) => told(Kind::Busy, plainly(), ""),
            _ => told(Kind::Failed, plainly(), ""),
        }
    }
}
