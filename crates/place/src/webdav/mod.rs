//! A place in a collection of a WebDAV server (RFC 4918).
//!
//! Each object is written under another name in `unfinished/` and moved; a move onto what is there
//! is refused by the server (`Overwrite: F`).

mod answers;
mod far;

use std::{
    collections::HashSet,
    fmt,
    path::PathBuf,
    sync::{Condvar, Mutex, PoisonError},
    time::Duration,
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use zeroize::Zeroizing;

use answers::{Member, all, members, room};

use crate::{
    Extent, Listed, ObjectName, Operation, Place, PlaceError, PlaceErrorKind, Throttles,
    http::{Answer, Ask, Http, Way, ago, flatten, most_of, part, range_header, says_full},
};

/// Where objects grow until they are whole.
const NURSERY: &str = "unfinished";
/// What the server says in words has no more bytes than this: all names of a folder.
const LONGEST_ANSWER: u64 = 64 << 20;
const ASKED: &[u8] = b"<?xml version=\"1.0\"?><propfind xmlns=\"DAV:\"><prop><resourcetype/><getcontentlength/><getlastmodified/><getetag/></prop></propfind>";
const ASKED_ROOM: &[u8] = b"<?xml version=\"1.0\"?><propfind xmlns=\"DAV:\"><prop><quota-available-bytes/><quota-used-bytes/></prop></propfind>";

/// A collection on a server.
#[derive(Clone)]
pub struct WebDavTarget {
    /// The server: `https://host:port`, or `http://` where nobody listens in.
    pub server: String,
    /// The collection: a full path, as it is and not encoded.
    pub path: String,
    /// The user there; none where the server asks for none.
    pub user: Option<String>,
    /// The user's password.
    pub password: Option<Zeroizing<String>>,
    /// How many connections are kept.
    pub connections: usize,
    /// So long each step of a request may take.
    pub patience: Duration,
    /// A file with the certificates of a private authority.
    pub authority: Option<PathBuf>,
    /// How fast.
    pub throttles: Throttles,
}

impl fmt::Debug for WebDavTarget {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.describe())
    }
}

impl WebDavTarget {
    /// As the user would write it.
    #[must_use]
    pub fn describe(&self) -> String {
        let (scheme, host) = self.server.split_once("://").unwrap_or(("https", &self.server));
        let scheme = if scheme == "http" { "webdav" } else { "webdavs" };
        let user = self.user.as_ref().map(|user| format!("{user}@")).unwrap_or_default();
        format!("{scheme}://{user}{host}{}", self.path)
    }
}

/// Members of a collection, and what the server's clock said.
struct Told {
    members: Vec<Member>,
    now: Option<String>,
}

/// A collection.
#[derive(Debug)]
pub struct WebDavPlace {
    target: WebDavTarget,
    http: Http,
    /// Names of objects that are being moved to their place. Some servers look and move in two steps,
    /// so that of two at once both would win.
    moving: Moving,
}

#[derive(Debug, Default)]
struct Moving {
    names: Mutex<HashSet<String>>,
    ended: Condvar,
}

/// The right to move an object to its name.
struct Turn<'m>(&'m Moving, String);

impl Moving {
    fn turn(&self, name: &str) -> Turn<'_> {
        let mut names = self.names.lock().unwrap_or_else(PoisonError::into_inner);
        while !names.insert(name.to_owned()) {
            names = self.ended.wait(names).unwrap_or_else(PoisonError::into_inner);
        }
        Turn(self, name.to_owned())
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        self.0.names.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.1);
        self.0.ended.notify_all();
    }
}

/// A path as it stands in an address (RFC 3986, section 3.3).
fn encoded(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for byte in path.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                out.push(char::from(byte));
            }
            other => out.push_str(&format!("%{other:02X}")),
        }
    }
    out
}

impl WebDavPlace {
    /// A place in a collection that is there.
    ///
    /// # Errors
    /// As the server says; [`PlaceErrorKind::Missing`] if the collection is not there.
    pub fn open(target: WebDavTarget) -> Result<Self, PlaceError> {
        let place = Self::new(target)?;
        place.look()?;
        Ok(place)
    }

    /// A place of which nothing has been looked at yet.
    ///
    /// # Errors
    /// If the file of a private authority cannot be read.
    pub fn new(target: WebDavTarget) -> Result<Self, PlaceError> {
        let way = Way {
            subject: target.describe(),
            authority: target.authority.clone(),
            connections: target.connections,
            patience: target.patience,
            throttles: target.throttles.clone(),
        };
        Ok(Self { http: Http::new(&way)?, target, moving: Moving::default() })
    }

    /// Makes the collection for a new store, with the folders its objects will lie in.
    ///
    /// # Errors
    /// If the server cannot be reached or a collection cannot be made.
    pub fn prepare(target: WebDavTarget, folders: &[&str]) -> Result<Self, PlaceError> {
        let place = Self::new(target)?;
        if place.look().is_err_and(|error| error.kind == PlaceErrorKind::Missing) {
            let path = place.target.path.clone();
            let ends = path.char_indices().filter(|(at, c)| *c == '/' && *at > 0).map(|(at, _)| at);
            for end in ends.chain([path.len()]) {
                place.make_folder(&path[..end], end == path.len())?;
            }
        }
        for folder in folders.iter().chain(&[NURSERY]) {
            place.make_folder(&format!("{}/{folder}", place.target.path), true)?;
        }
        Ok(place)
    }

    /// Makes a collection; that it is there already is no failure. What stands above it may be
    /// closed to us, and be there all the same.
    fn make_folder(&self, path: &str, insist: bool) -> Result<(), PlaceError> {
        let answer =
            self.ask(Operation::Reach, "", "MKCOL", &format!("{path}/"), Vec::new(), &[])?;
        match answer.status {
            405 => Ok(()),
            _ if answer.is_fine() || !insist => Ok(()),
            _ => Err(self.refusal(Operation::Reach, "", &answer)),
        }
    }

    /// Looks whether the collection is there; how far the clocks differ.
    ///
    /// # Errors
    /// [`PlaceErrorKind::Missing`] if it is not.
    pub fn look(&self) -> Result<Option<String>, PlaceError> {
        let path = format!("{}/", self.target.path);
        let headers = vec![("depth", "0".to_owned())];
        let answer = self.ask(Operation::Reach, "", "PROPFIND", &path, headers, ASKED)?;
        match answer.status {
            404 | 409 => {
                Err(self.missing(format!("directory {} does not exist", self.target.path)))
            }
            405 | 501 => Err(PlaceError::because(
                Operation::Reach,
                self.describe(),
                PlaceErrorKind::Failed,
                "the server does not speak WebDAV there",
            )
            .with_hint("check the path; servers often use one of their own, such as /dav/")),
            207 => {
                let found = all(&answer.body).unwrap_or_default();
                match found.first().is_some_and(|member| !member.is_folder) {
                    true => Err(self.missing(format!("{} is not a directory", self.target.path))),
                    false => Ok(answer.skew().map(|skew| match skew.by < Duration::from_secs(5) {
                        true => "as the server's".to_owned(),
                        false => skew.words(),
                    })),
                }
            }
            _ => Err(self.refusal(Operation::Reach, "", &answer)),
        }
    }

    fn missing(&self, why: String) -> PlaceError {
        PlaceError::because(Operation::Reach, self.describe(), PlaceErrorKind::Missing, why)
            .with_hint("correct the path; for a new store: skellin store create")
    }

    /// Free and all bytes, where the server tells (RFC 4331).
    ///
    /// # Errors
    /// If the server cannot be reached.
    pub fn ask_room(&self) -> Result<Option<(u64, u64)>, PlaceError> {
        let path = format!("{}/", self.target.path);
        let headers = vec![("depth", "0".to_owned())];
        let answer = self.ask(Operation::Reach, "", "PROPFIND", &path, headers, ASKED_ROOM)?;
        Ok(if answer.status == 207 { room(&answer.body) } else { None })
    }

    fn path(&self, name: &str) -> String {
        format!("{}/{name}", self.target.path)
    }

    fn ask(
        &self,
        operation: Operation,
        subject: &str,
        method: &str,
        path: &str,
        headers: Vec<(&str, String)>,
        body: &[u8],
    ) -> Result<Answer, PlaceError> {
        self.ask_up_to(LONGEST_ANSWER, operation, subject, (method, path), (headers, body))
    }

    /// As [`ask`](Self::ask), where a good answer may have so many bytes.
    fn ask_up_to(
        &self,
        most: u64,
        operation: Operation,
        subject: &str,
        (method, path): (&str, &str),
        (mut headers, body): (Vec<(&str, String)>, &[u8]),
    ) -> Result<Answer, PlaceError> {
        if let Some(user) = &self.target.user {
            // RFC 7617; TLS keeps it from those who listen in.
            let password = self.target.password.as_ref().map_or("", |password| password.as_str());
            let both = Zeroizing::new(format!("{user}:{password}"));
            headers.push(("authorization", format!("Basic {}", STANDARD.encode(both.as_bytes()))));
        }
        let url = format!("{}{}", self.target.server, encoded(path));
        self.http.ask(
            operation,
            &self.named(subject),
            Ask { method, most, url: &url, headers, body },
        )
    }

    fn named(&self, name: &str) -> String {
        match name {
            "" => self.describe(),
            name => format!("{}/{name}", self.describe()),
        }
    }

    fn refusal(&self, operation: Operation, name: &str, answer: &Answer) -> PlaceError {
        use PlaceErrorKind as Kind;
        let told = |kind, reason: String, hint: &str| {
            let error = PlaceError::because(operation, self.named(name), kind, reason);
            if hint.is_empty() { error } else { error.with_hint(hint) }
        };
        match answer.status {
            400..=599 if says_full(&answer.body) => {
                told(Kind::Full, "no space left".to_owned(), "free space there, or raise the quota")
            }
            401 => {
                let offers =
                    answer.header("www-authenticate").unwrap_or("nothing").split(' ').next();
                let offers = offers.unwrap_or("nothing").to_owned();
                let tried = match (&self.target.user, &self.target.password) {
                    (None, _) => "no user".to_owned(),
                    (Some(user), None) => format!("{user} without a password"),
                    (Some(user), Some(_)) => format!("{user} with the password"),
                };
                told(
                    Kind::Login,
                    format!("login refused; the server accepts {offers}; tried: {tried}"),
                    "set the user in the place (webdavs://user@host/…), and password = { file = \"…\" } in stores.toml",
                )
            }
            403 => told(
                Kind::Refused,
                "permission denied".to_owned(),
                &format!(
                    "let {} read, write and delete in {} on the server",
                    self.target.user.as_deref().unwrap_or("visitors without a login"),
                    self.target.path
                ),
            ),
            404 => PlaceError::new(operation, self.named(name), Kind::NotFound),
            412 => PlaceError::new(operation, self.named(name), Kind::Exists),
            // The collection it would lie in is not there.
            409 => PlaceError::new(operation, self.named(name), Kind::NotFound),
            423 => told(Kind::Refused, "it is locked".to_owned(), "find out who holds the lock"),
            507 | 413 => {
                told(Kind::Full, "no space left".to_owned(), "free space there, or raise the quota")
            }
            301 | 302 | 307 | 308 => told(
                Kind::Failed,
                format!(
                    "the server redirects to {}",
                    answer.header("location").unwrap_or("another address")
                ),
                "use that address instead",
            ),
            408 | 429 | 500 | 502 | 503 | 504 => {
                told(Kind::Busy, format!("the server answers {}", answer.status), "")
            }
            status => {
                let said = flatten(&answer.body).unwrap_or_default();
                let words = said.iter().find(|element| element.name == "message");
                let words = words.map(|element| format!(": {}", element.text)).unwrap_or_default();
                told(Kind::Failed, format!("the server answers {status}{words}"), "")
            }
        }
    }

    /// Members of a collection, if it is there.
    fn members(&self, folder: &str) -> Result<Option<Told>, PlaceError> {
        let path = match folder {
            "" => format!("{}/", self.target.path),
            folder => format!("{}/", self.path(folder)),
        };
        let headers = vec![("depth", "1".to_owned())];
        let answer = self.ask(Operation::List, folder, "PROPFIND", &path, headers, ASKED)?;
        match answer.status {
            404 => Ok(None),
            207 => {
                let found = members(&answer.body, &path).map_err(|why| {
                    PlaceError::because(
                        Operation::List,
                        self.named(folder),
                        PlaceErrorKind::Failed,
                        why,
                    )
                })?;
                Ok(Some(Told { members: found, now: answer.header("date").map(str::to_owned) }))
            }
            _ => Err(self.refusal(Operation::List, folder, &answer)),
        }
    }

    fn remove(&self, name: &str) -> Result<(), PlaceError> {
        let answer =
            self.ask(Operation::Delete, name, "DELETE", &self.path(name), Vec::new(), &[])?;
        match answer.status {
            404 => {
                Err(PlaceError::new(Operation::Delete, self.named(name), PlaceErrorKind::NotFound))
            }
            _ if answer.is_fine() => Ok(()),
            _ => Err(self.refusal(Operation::Delete, name, &answer)),
        }
    }

    /// Without the collection itself nothing is "not there": the place is away.
    fn or_missing<T>(&self, otherwise: Result<T, PlaceError>) -> Result<T, PlaceError> {
        match self.look() {
            Err(error) if error.kind == PlaceErrorKind::Missing => Err(error),
            _ => otherwise,
        }
    }
}

impl Place for WebDavPlace {
    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        self.http.give_up();
    }

    fn is_far(&self) -> bool {
        true
    }

    fn begin_trial(&self) -> Result<bool, PlaceError> {
        let path = format!("{}/", self.path(NURSERY));
        let answer = self.ask(Operation::Create, NURSERY, "MKCOL", &path, Vec::new(), &[])?;
        match answer.status {
            405 => Ok(false),
            _ if answer.is_fine() => Ok(true),
            _ => Err(self.refusal(Operation::Create, NURSERY, &answer)),
        }
    }

    fn end_trial(&self) -> Result<(), PlaceError> {
        // To delete a collection is to delete all that is in it: only what is empty goes.
        let mut is_empty = true;
        self.list(NURSERY, &mut |_| is_empty = false)?;
        if !is_empty {
            return Ok(());
        }
        let path = format!("{}/", self.path(NURSERY));
        let answer = self.ask(Operation::Delete, NURSERY, "DELETE", &path, Vec::new(), &[])?;
        match answer.is_fine() || answer.status == 404 {
            true => Ok(()),
            false => Err(self.refusal(Operation::Delete, NURSERY, &answer)),
        }
    }

    fn room(&self) -> Option<(u64, u64)> {
        self.ask_room().ok().flatten()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let mut random = [0u8; 12];
        getrandom::fill(&mut random).map_err(|error| {
            PlaceError::io(Operation::Create, name.as_str(), std::io::Error::other(error))
        })?;
        let suffix: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
        let draft = format!("{NURSERY}/{suffix}");
        let fine = |answer: Answer| match answer.is_fine() {
            true => Ok(()),
            false => Err(self.refusal(Operation::Create, name.as_str(), &answer)),
        };
        let created = (|| {
            fine(self.ask(
                Operation::Create,
                name.as_str(),
                "PUT",
                &self.path(&draft),
                Vec::new(),
                bytes,
            )?)?;
            let to = format!("{}{}", self.target.server, encoded(&self.path(name.as_str())));
            let headers = vec![("destination", to), ("overwrite", "F".to_owned())];
            let _turn = self.moving.turn(name.as_str());
            fine(self.ask(
                Operation::Create,
                name.as_str(),
                "MOVE",
                &self.path(&draft),
                headers,
                &[],
            )?)
        })();
        match created {
            Err(error) => {
                if !error.is_passing() {
                    // The first failure counts; a draft that stays is swept later.
                    let _ = self.remove(&draft);
                }
                if error.is_not_found() { self.or_missing(Err(error)) } else { Err(error) }
            }
            Ok(()) => Ok(()),
        }
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let fail = |kind| PlaceError::new(Operation::Read, self.named(name.as_str()), kind);
        let path = self.path(name.as_str());
        // This protocol knows no empty range.
        let (method, asked) = match extent {
            Extent::Range { length: 0, .. } => ("HEAD", Extent::Within(0)),
            other => ("GET", other),
        };
        let headers = range_header(asked).map(|range| ("range", range)).into_iter().collect();
        let most = most_of(extent);
        let asked = ((method, path.as_str()), (headers, &[][..]));
        let answer = self.ask_up_to(most, Operation::Read, name.as_str(), asked.0, asked.1)?;
        if !answer.is_fine() && answer.status != 416 {
            let error = self.refusal(Operation::Read, name.as_str(), &answer);
            return if error.is_not_found() { self.or_missing(Err(error)) } else { Err(error) };
        }
        if let Extent::Range { offset, length: 0 } = extent {
            let size = answer.header("content-length").and_then(|n| n.parse::<u64>().ok());
            into.clear();
            return match size.is_none_or(|size| offset <= size) {
                true => Ok(()),
                false => Err(fail(PlaceErrorKind::Short)),
            };
        }
        *into = part(extent, answer).map_err(fail)?;
        Ok(())
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        let Some(Told { members, .. }) = self.members(folder)? else {
            return self.or_missing(Ok(()));
        };
        for member in members.into_iter().filter(|member| !member.is_folder) {
            let text = match folder {
                "" => member.name,
                folder => format!("{folder}/{}", member.name),
            };
            // What is not named like an object was not put there by a store.
            if let (Ok(name), Some(size)) = (ObjectName::new(text), member.size) {
                each(Listed { name, size });
            }
        }
        Ok(())
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        match self.remove(name.as_str()) {
            Err(error) if error.is_not_found() => self.or_missing(Ok(())),
            other => other,
        }
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        let Some(Told { members, now }) = self.members(NURSERY)? else { return Ok(()) };
        for member in members.into_iter().filter(|member| !member.is_folder) {
            let age = member.modified.as_deref().and_then(|date| ago(date, now.as_deref()));
            if age.unwrap_or(0) >= age_seconds {
                match self.remove(&format!("{NURSERY}/{}", member.name)) {
                    Err(error) if !error.is_not_found() => return Err(error),
                    _ => {}
                }
            }
        }
        Ok(())
    }
}
