//! Signed requests, and what their refusals mean.

use std::{
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

use rusty_s3::{Bucket, Method, UrlStyle, signing::sign};

use super::{
    answers::text,
    instance,
    target::{S3Key, S3Login, S3Style, S3Target},
};
use crate::{
    Operation, PlaceError, PlaceErrorKind,
    http::{Answer, Ask, Http, Way, flatten},
};

/// A signed request is good for so many seconds.
const GOOD_FOR: u64 = 900;

/// A bucket one can ask.
#[derive(Debug)]
pub(super) struct Asking {
    http: Http,
    bucket: Bucket,
    subject: String,
    region: String,
    login: S3Login,
    lent: Mutex<Option<(S3Key, Instant)>>,
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
}

impl Asking {
    pub fn new(target: &S3Target) -> Result<Self, PlaceError> {
        let subject = target.describe();
        let wrong = |why: &str| {
            PlaceError::because(Operation::Reach, subject.clone(), PlaceErrorKind::Unreachable, why)
                .with_hint("correct endpoint = \"https://host\" in stores.toml")
        };
        let endpoint = target.endpoint.parse().map_err(|_| wrong("its endpoint is no address"))?;
        let style = match target.style {
            S3Style::Path => UrlStyle::Path,
            S3Style::Host => UrlStyle::VirtualHost,
        };
        let bucket = Bucket::new(endpoint, style, target.bucket.clone(), target.region.clone())
            .map_err(|_| wrong("its endpoint is no address of a server"))?;
        let way = Way {
            subject: subject.clone(),
            authority: target.authority.clone(),
            connections: target.connections,
            patience: target.patience,
            throttles: target.throttles.clone(),
        };
        Ok(Self {
            http: Http::new(&way)?,
            bucket,
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
        let url = match question.object {
            "" => self.bucket.base_url().clone(),
            object => self.bucket.object_url(object),
        };
        let signed = question.headers.iter().filter(|(name, _)| name.starts_with("x-amz-"));
        let url = sign(
            &jiff::Timestamp::now(),
            question.method,
            url,
            &key.id,
            &key.secret,
            key.token.as_ref().map(|token| token.as_str()),
            &self.region,
            GOOD_FOR,
            question.query.iter().copied(),
            signed.map(|(name, value)| (*name, value.as_str())),
        );
        let subject = self.named(question.subject);
        let ask = Ask {
            method: question.method.to_str(),
            url: url.as_str(),
            headers: question.headers.clone(),
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
            let hint = "set this machine's clock, best by a time service";
            return told(
                Kind::Clock,
                format!("signed requests are refused: {}", skew.words()),
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
                    format!("the bucket is in the region {region}, not in {}", self.region),
                    &format!("set region = \"{region}\" in stores.toml"),
                ),
                None => {
                    told(Kind::Refused, plainly(), "look at endpoint and region in stores.toml")
                }
            },
            (_, "InvalidAccessKeyId" | "UnrecognizedClientException") => told(
                Kind::Login,
                "the server does not know the key's id".to_owned(),
                "is it the right id, for this server? It stands where `credentials` says",
            ),
            (_, "SignatureDoesNotMatch") => told(
                Kind::Login,
                "the secret does not fit the key's id".to_owned(),
                "is it the right secret, whole, without a blank? It stands where `credentials` says",
            ),
            (_, "ExpiredToken" | "InvalidToken" | "TokenRefreshRequired") => {
                told(Kind::Login, "the lent key has ended".to_owned(), "lend a new one")
            }
            (_, "RequestTimeTooSkewed") => told(
                Kind::Clock,
                "signed requests are refused: the server says that this machine's clock is wrong"
                    .to_owned(),
                "set this machine's clock, best by a time service",
            ),
            (_, "NoSuchBucket") => told(
                Kind::Missing,
                "there is no such bucket".to_owned(),
                "create it there (`skellin store prepare` shows what it needs), or correct the place in stores.toml",
            ),
            (_, "InvalidObjectState") => told(
                Kind::Frozen,
                "it lies in a storage class that has to be thawed first".to_owned(),
                "ask for it to be thawed, and come back when it is",
            ),
            (507, _)
            | (_, "QuotaExceeded" | "QuotaExceededException" | "EntityTooLarge" | "XStorageFull") => {
                told(
                    Kind::Full,
                    "there is no room left".to_owned(),
                    "make room there, or raise the quota",
                )
            }
            (401 | 403, _) => told(
                Kind::Refused,
                match code {
                    "" | "AccessDenied" => "permission was refused".to_owned(),
                    _ => plainly(),
                },
                "let the key list, read, write and delete in this part of the bucket: `skellin store prepare` prints a policy",
            ),
            (404, _) => PlaceError::new(operation, self.named(name), Kind::NotFound),
            (412, _) => PlaceError::new(operation, self.named(name), Kind::Exists),
            (408 | 429 | 500 | 502 | 503 | 504, _) => told(Kind::Busy, plainly(), ""),
            _ => told(Kind::Failed, plainly(), ""),
        }
    }
}
