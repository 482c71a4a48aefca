//! A place in a bucket of an object store that speaks the S3 protocol.
//!
//! An object is written whole by one request, or in parts that become an object at once when the
//! last word is said. That nothing is written over is asked of the server; whether it does what it
//! is asked is tried once, with the same bytes, and where it does not, it is looked before.

mod answers;
mod asking;
mod far;
mod instance;
mod signing;
mod target;

use std::{
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU8, AtomicUsize, Ordering},
    },
    time::{Duration, SystemTime},
};

use base64::{Engine as _, engine::general_purpose::STANDARD};

use answers::text;
use asking::{Asking, Method, Question};
pub use target::{S3Key, S3Login, S3Style, S3Target};

use crate::{
    Extent, Listed, ObjectName, Operation, Place, PlaceError, PlaceErrorKind, Readiness,
    http::{flatten, most_of, part, range_header},
};

/// Folders whose objects hold content; the rest has to be at hand at all times.
const CONTENT: &str = "data/";
/// Folders whose objects are taken away again by each run.
const PASSING: [&str; 3] = ["runs/", "acks/", "unfinished/"];
/// What is thawed stays so for a week.
const THAWED: &str = "<RestoreRequest><Days>7</Days></RestoreRequest>";
/// Whether a server writes over what is there is tried with objects up to this size, in bytes.
const SMALL: usize = 64 << 10;

/// Whether the server writes over what is there although it was asked not to.
const UNKNOWN: u8 = 0;
const KEEPS: u8 = 1;
const WRITES_OVER: u8 = 2;
/// It refuses to be asked.
const KNOWS_NO_CONDITIONS: u8 = 3;

/// Sends a part of this number; what the server calls it.
type SendPart<'a> = dyn Fn(usize, &[u8]) -> Result<String, PlaceError> + Sync + 'a;

/// A part of a bucket.
#[derive(Debug)]
pub struct S3Place {
    target: S3Target,
    asking: Asking,
    manners: AtomicU8,
}

impl S3Place {
    /// A place in a bucket; nothing is asked yet.
    ///
    /// # Errors
    /// If the address is none, or the file of a private authority cannot be read.
    pub fn new(target: S3Target) -> Result<Self, PlaceError> {
        let asking = Asking::new(&target)?;
        Ok(Self { target, asking, manners: AtomicU8::new(UNKNOWN) })
    }

    /// Looks whether the bucket is there and may be listed; how far the clocks differ.
    ///
    /// # Errors
    /// As the server says.
    pub fn look(&self) -> Result<Option<String>, PlaceError> {
        let prefix = self.object("");
        let query = [("list-type", "2"), ("max-keys", "1"), ("prefix", prefix.as_str())];
        let answer =
            self.asking.demand(&self.question(Operation::Reach, "", Method::Get, "", &query))?;
        answers::page(&answer.body).map_err(|why| {
            PlaceError::because(Operation::Reach, self.describe(), PlaceErrorKind::Failed, why)
                .with_hint("is this the address of an S3 server?")
        })?;
        Ok(answer.skew().map(|skew| match skew.by < Duration::from_secs(5) {
            true => "as the server's".to_owned(),
            false => skew.words(),
        }))
    }

    /// Whether the key may list the server's buckets, which a place needs not.
    #[must_use]
    pub fn sees_other_buckets(&self) -> bool {
        let root = S3Target { bucket: String::new(), style: S3Style::Path, ..self.target.clone() };
        let Ok(asking) = Asking::new(&root) else { return false };
        let question = self.question(Operation::Reach, "", Method::Get, "", &[]);
        let answer = asking.ask(&question);
        answer.is_ok_and(|answer| {
            let said = flatten(&answer.body).unwrap_or_default();
            let buckets = said.iter().filter(|element| element.name == "Bucket").count();
            answer.is_fine() && buckets > 1
        })
    }

    /// The name an object has in the bucket.
    fn object(&self, name: &str) -> String {
        match self.target.prefix.as_str() {
            "" => name.to_owned(),
            prefix => format!("{prefix}/{name}"),
        }
    }

    fn question<'a>(
        &self,
        operation: Operation,
        subject: &'a str,
        method: Method,
        object: &'a str,
        query: &'a [(&'a str, &'a str)],
    ) -> Question<'a> {
        let (headers, body, most) = (Vec::new(), &[][..], asking::LONGEST_ANSWER);
        Question { operation, subject, method, object, query, headers, body, most }
    }

    fn is_there(&self, name: &ObjectName) -> Result<bool, PlaceError> {
        Ok(self.size(name)?.is_some())
    }

    fn size(&self, name: &ObjectName) -> Result<Option<u64>, PlaceError> {
        let object = self.object(name.as_str());
        let question = self.question(Operation::Read, name.as_str(), Method::Head, &object, &[]);
        let answer = self.asking.ask(&question)?;
        match answer.status {
            // Such an answer has no words: a bucket that is not there says no more than this.
            404 => Ok(None),
            _ if answer.is_fine() => {
                Ok(Some(answer.header("content-length").and_then(|n| n.parse().ok()).unwrap_or(0)))
            }
            _ => Err(self.asking.refusal(Operation::Read, name.as_str(), &answer)),
        }
    }

    /// How what is written is to be kept: sorted, as signing wants it.
    fn keeping(&self, name: &ObjectName, checksum: Option<&[u8]>) -> Vec<(&'static str, String)> {
        let mut headers = Vec::new();
        let passes = PASSING.iter().any(|folder| name.as_str().starts_with(folder));
        if let Some(bytes) = checksum.filter(|_| self.target.lock.is_some() && !passes) {
            let digest = ring::digest::digest(&ring::digest::SHA256, bytes);
            headers.push(("x-amz-checksum-sha256", STANDARD.encode(digest)));
        }
        if let Some(seconds) = self.target.lock.filter(|_| !passes) {
            let until = jiff::Timestamp::try_from(SystemTime::now() + Duration::from_secs(seconds));
            headers.push(("x-amz-object-lock-mode", "GOVERNANCE".to_owned()));
            if let Ok(until) = until {
                let until = until.strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
                headers.push(("x-amz-object-lock-retain-until-date", until));
            }
        }
        if let Some(class) =
            self.target.class.as_ref().filter(|_| name.as_str().starts_with(CONTENT))
        {
            headers.push(("x-amz-storage-class", class.clone()));
        }
        headers
    }

    /// The token of the next page of a listing; a server that repeats itself is given up on.
    fn next_page(
        &self,
        folder: &str,
        before: Option<&str>,
        next: Option<String>,
        pages: &mut usize,
    ) -> Result<Option<String>, PlaceError> {
        *pages += 1;
        // A page has a thousand entries.
        if (next.is_some() && next.as_deref() == before) || *pages > crate::MOST_LISTED / 1000 {
            let why = "the listing of the server does not end";
            return Err(PlaceError::because(Operation::List, folder, PlaceErrorKind::Failed, why));
        }
        Ok(next)
    }

    /// The question not to write over what is there, where it is understood.
    fn only_if_new(&self) -> Vec<(&'static str, String)> {
        match self.manners.load(Ordering::Relaxed) {
            KNOWS_NO_CONDITIONS => Vec::new(),
            _ => vec![("if-none-match", "*".to_owned())],
        }
    }

    /// Notes that the server refuses to be asked; whether that is news.
    fn learn_no_conditions(&self) -> bool {
        self.manners.swap(KNOWS_NO_CONDITIONS, Ordering::Relaxed) != KNOWS_NO_CONDITIONS
    }

    fn put(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let object = self.object(name.as_str());
        let mut headers = self.only_if_new();
        headers.extend(self.keeping(name, Some(bytes)));
        let question = self.question(Operation::Create, name.as_str(), Method::Put, &object, &[]);
        let answer = self.asking.ask(&Question { headers, body: bytes, ..question })?;
        match answer.status {
            // It does not know the question; without it, then, after the look there was.
            501 if self.learn_no_conditions() => self.put(name, bytes),
            _ if answer.is_fine() => Ok(()),
            // Two at once: the other may have been first.
            409 => match self.is_there(name)? {
                true => {
                    Err(PlaceError::new(Operation::Create, name.as_str(), PlaceErrorKind::Exists))
                }
                false => {
                    Err(PlaceError::new(Operation::Create, name.as_str(), PlaceErrorKind::Busy))
                }
            },
            _ => Err(self.asking.refusal(Operation::Create, name.as_str(), &answer)),
        }
    }

    /// Finds out whether the server keeps what is there when it is asked to, by writing the same
    /// bytes once more.
    fn try_manners(&self, name: &ObjectName, bytes: &[u8]) {
        match self.put(name, bytes) {
            Ok(()) => self.manners.store(WRITES_OVER, Ordering::Relaxed),
            Err(error) if error.kind == PlaceErrorKind::Exists => {
                self.manners.store(KEEPS, Ordering::Relaxed);
            }
            // What was to be written is written; the next one tries again.
            Err(_) => {}
        }
    }

    fn put_parts(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let object = self.object(name.as_str());
        let ask = |method, query: &[(&str, &str)], headers, body: &[u8]| {
            let question = self.question(Operation::Create, name.as_str(), method, &object, query);
            self.asking.demand(&Question { headers, body, ..question })
        };
        let odd = |why: &str| {
            PlaceError::because(Operation::Create, name.as_str(), PlaceErrorKind::Failed, why)
        };
        let begun = ask(Method::Post, &[("uploads", "")], self.keeping(name, None), &[])?;
        let said = flatten(&begun.body).map_err(|why| odd(&why))?;
        let id =
            text(&said, "UploadId").ok_or_else(|| odd("the server does not start the upload"))?;
        let sent = self.send_parts(bytes, &|number, part| {
            let number = number.to_string();
            let query = [("partNumber", number.as_str()), ("uploadId", id)];
            let answer = ask(Method::Put, &query, Vec::new(), part)?;
            let tag = answer
                .header("etag")
                .ok_or_else(|| odd("the server returned no tag for a part"))?;
            Ok(tag.to_owned())
        });
        let ended = sent.and_then(|tags| {
            let parts: String = tags
                .iter()
                .enumerate()
                .map(|(number, tag)| {
                    let (number, tag) = (number + 1, quick_xml::escape::escape(tag.as_str()));
                    format!("<Part><PartNumber>{number}</PartNumber><ETag>{tag}</ETag></Part>")
                })
                .collect();
            let list = format!("<CompleteMultipartUpload>{parts}</CompleteMultipartUpload>");
            let query = [("uploadId", id)];
            let question =
                self.question(Operation::Create, name.as_str(), Method::Post, &object, &query);
            let end = |headers| {
                self.asking.ask(&Question { headers, body: list.as_bytes(), ..question.clone() })
            };
            let mut answer = end(self.only_if_new())?;
            if answer.status == 501 && self.learn_no_conditions() {
                answer = end(Vec::new())?;
            }
            // A failure that comes late is told in the words of an answer that began well.
            match flatten(&answer.body).ok().filter(|said| text(said, "Code").is_some()) {
                None if answer.is_fine() => Ok(()),
                _ => Err(self.asking.refusal(Operation::Create, name.as_str(), &answer)),
            }
        });
        if ended.is_err() {
            // The first failure counts; what stays is swept later.
            let _ = ask(Method::Delete, &[("uploadId", id)], Vec::new(), &[]);
        }
        ended
    }

    /// Sends all parts, some at a time; their tags in order.
    fn send_parts(&self, bytes: &[u8], send: &SendPart<'_>) -> Result<Vec<String>, PlaceError> {
        let size = usize::try_from(self.target.part_size).unwrap_or(usize::MAX).max(1);
        let parts: Vec<&[u8]> = bytes.chunks(size).collect();
        let (next, stopped) = (AtomicUsize::new(0), AtomicBool::new(false));
        let unsent: Vec<Result<String, PlaceError>> =
            parts.iter().map(|_| Ok(String::new())).collect();
        let tags = Mutex::new(unsent);
        let work = || {
            loop {
                let number = next.fetch_add(1, Ordering::Relaxed);
                let Some(part) = parts.get(number).filter(|_| !stopped.load(Ordering::Relaxed))
                else {
                    return;
                };
                let result = send(number + 1, part);
                if result.is_err() {
                    stopped.store(true, Ordering::Relaxed);
                }
                tags.lock().unwrap_or_else(PoisonError::into_inner)[number] = result;
            }
        };
        std::thread::scope(|scope| {
            for _ in 1..self.target.connections.min(parts.len()) {
                scope.spawn(work);
            }
            work();
        });
        tags.into_inner().unwrap_or_else(PoisonError::into_inner).into_iter().collect()
    }
}

impl Place for S3Place {
    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        self.asking.give_up();
    }

    fn is_far(&self) -> bool {
        true
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let manners = self.manners.load(Ordering::Relaxed);
        if manners != KEEPS && self.is_there(name)? {
            return Err(PlaceError::new(Operation::Create, name.as_str(), PlaceErrorKind::Exists));
        }
        if bytes.len() as u64 > self.target.part_size {
            return self.put_parts(name, bytes);
        }
        self.put(name, bytes)?;
        if manners == UNKNOWN && bytes.len() <= SMALL {
            self.try_manners(name, bytes);
        }
        Ok(())
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let fail = |kind| PlaceError::new(Operation::Read, name.as_str(), kind);
        // This protocol knows no empty range.
        if let Extent::Range { offset, length: 0 } = extent {
            let size = self.size(name)?.ok_or_else(|| fail(PlaceErrorKind::NotFound))?;
            into.clear();
            return if offset <= size { Ok(()) } else { Err(fail(PlaceErrorKind::Short)) };
        }
        let object = self.object(name.as_str());
        let headers = range_header(extent).map(|range| ("range", range)).into_iter().collect();
        let question = self.question(Operation::Read, name.as_str(), Method::Get, &object, &[]);
        let most = most_of(extent);
        let answer = self.asking.ask(&Question { headers, most, ..question })?;
        if !answer.is_fine() && answer.status != 416 {
            return Err(self.asking.refusal(Operation::Read, name.as_str(), &answer));
        }
        *into = part(extent, answer).map_err(fail)?;
        Ok(())
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        let (prefix, mut next): (String, Option<String>) = match folder {
            "" => (self.object(""), None),
            folder => (self.object(&format!("{folder}/")), None),
        };
        let own = self.object("").len();
        let mut listed = 0;
        loop {
            let mut query =
                vec![("delimiter", "/"), ("list-type", "2"), ("prefix", prefix.as_str())];
            if let Some(token) = &next {
                query.insert(0, ("continuation-token", token.as_str()));
            }
            let answer = self.asking.demand(&self.question(
                Operation::List,
                folder,
                Method::Get,
                "",
                &query,
            ))?;
            let page = answers::page(&answer.body).map_err(|why| {
                PlaceError::because(Operation::List, self.describe(), PlaceErrorKind::Failed, why)
            })?;
            for object in page.objects {
                // What is not named like an object was not put there by a store.
                if let Some(Ok(name)) = object.name.get(own..).map(ObjectName::new) {
                    each(Listed { name, size: object.size });
                }
            }
            next = self.next_page(folder, next.as_deref(), page.next, &mut listed)?;
            if next.is_none() {
                return Ok(());
            }
        }
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        let object = self.object(name.as_str());
        let question =
            self.question(Operation::Delete, name.as_str(), Method::Delete, &object, &[]);
        match self.asking.demand(&question) {
            Err(error) if error.is_not_found() => Ok(()),
            other => other.map(drop),
        }
    }

    fn readiness(&self, name: &ObjectName) -> Result<Readiness, PlaceError> {
        if self.target.thaw.is_none() {
            return Ok(Readiness::Ready);
        }
        let object = self.object(name.as_str());
        let question = self.question(Operation::Read, name.as_str(), Method::Head, &object, &[]);
        let answer = self.asking.demand(&question)?;
        let class = answer.header("x-amz-storage-class");
        Ok(match answer.header("x-amz-restore") {
            Some(told) if told.contains("ongoing-request=\"true\"") => Readiness::Thawing,
            None if class.is_some() && class == self.target.class.as_deref() => Readiness::Frozen,
            _ => Readiness::Ready,
        })
    }

    fn thaw(&self, name: &ObjectName) -> Result<(), PlaceError> {
        let object = self.object(name.as_str());
        let query = [("restore", "")];
        let question = self.question(Operation::Read, name.as_str(), Method::Post, &object, &query);
        let answer = self.asking.ask(&Question { body: THAWED.as_bytes(), ..question })?;
        // Somebody has asked for it already.
        match answer.is_fine() || answer.status == 409 {
            true => Ok(()),
            false => Err(self.asking.refusal(Operation::Read, name.as_str(), &answer)),
        }
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        let prefix = self.object("");
        let query = [("prefix", prefix.as_str()), ("uploads", "")];
        let answer =
            self.asking.demand(&self.question(Operation::List, "", Method::Get, "", &query))?;
        let uploads = answers::uploads(&answer.body).map_err(|why| {
            PlaceError::because(Operation::List, self.describe(), PlaceErrorKind::Failed, why)
        })?;
        let now = jiff::Timestamp::now().as_second();
        for (object, id, begun) in uploads {
            let begun = begun.parse::<jiff::Timestamp>().map_or(now, jiff::Timestamp::as_second);
            if now.saturating_sub(begun) >= i64::try_from(age_seconds).unwrap_or(i64::MAX) {
                let query = [("uploadId", id.as_str())];
                let question =
                    self.question(Operation::Delete, "", Method::Delete, &object, &query);
                match self.asking.demand(&question) {
                    Err(error) if !error.is_not_found() => return Err(error),
                    _ => {}
                }
            }
        }
        Ok(())
    }
}
