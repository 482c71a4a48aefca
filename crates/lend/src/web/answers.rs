//! What is answered to requests.

use std::{
    net::SocketAddr,
    sync::Arc,
    time::{Duration, SystemTime},
};

use futures_util::stream;
use http_body_util::{BodyExt as _, Full, StreamBody, combinators::UnsyncBoxBody};
use hyper::{
    Response, StatusCode,
    body::{Bytes, Frame},
    header::{HeaderName, HeaderValue},
};
use quick_xml::escape::escape;
use skellin_store::{Body as Content, Entry, Moment, Recipe};
use tokio::{sync::mpsc, task};

use crate::{
    guard::{Deed, Guard, Via},
    view::{Found, Missing, Node, View, shown},
};

/// The body of an answer.
pub(super) type Body = UnsyncBoxBody<Bytes, std::io::Error>;

/// Bytes that are read at a time.
const PIECE: usize = 256 << 10;
/// Pieces that wait for a slow client.
const WAITING: usize = 4;
const METHODS: &str = "OPTIONS, GET, HEAD, PROPFIND";
const XML: &str = "application/xml; charset=utf-8";

fn whole(text: impl Into<Bytes>) -> Body {
    Full::new(text.into()).map_err(|never| match never {}).boxed_unsync()
}

fn answer(status: StatusCode, headers: &[(&'static str, String)], body: Body) -> Response<Body> {
    let mut response = Response::new(body);
    *response.status_mut() = status;
    for (name, value) in headers {
        // What cannot be said in a header is left unsaid.
        if let Ok(value) = HeaderValue::from_str(value) {
            response.headers_mut().insert(HeaderName::from_static(name), value);
        }
    }
    response
}

pub(super) fn plain(status: StatusCode, text: &'static str) -> Response<Body> {
    let kind = ("content-type", "text/plain; charset=utf-8".to_owned());
    answer(status, &[kind], whole(text))
}

pub(super) fn ask_password() -> Response<Body> {
    let how = ("www-authenticate", "Basic realm=\"lent\", charset=\"UTF-8\"".to_owned());
    answer(StatusCode::UNAUTHORIZED, &[how], whole("the user is lent; the password was told\n"))
}

pub(super) fn options() -> Response<Body> {
    let headers = [("dav", "1".to_owned()), ("allow", METHODS.to_owned())];
    answer(StatusCode::OK, &headers, whole(""))
}

/// To whatever would change something.
pub(super) fn refused() -> Response<Body> {
    let allow = ("allow", METHODS.to_owned());
    answer(StatusCode::METHOD_NOT_ALLOWED, &[allow], whole("nothing can be changed here\n"))
}

fn missing(missing: Missing) -> Response<Body> {
    match missing {
        Missing::NotThere | Missing::WrongKind => {
            plain(StatusCode::NOT_FOUND, "not in the snapshot\n")
        }
        Missing::Lost => plain(
            StatusCode::INTERNAL_SERVER_ERROR,
            "the store cannot read it: verify lists what is damaged\n",
        ),
    }
}

/// The path of a request without its escapes; `None` if it is no text or has a NUL.
pub(super) fn decoded(path: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(path.len());
    let mut rest = path.bytes();
    while let Some(byte) = rest.next() {
        if byte != b'%' {
            bytes.push(byte);
            continue;
        }
        let digit = |byte: Option<u8>| char::from(byte?).to_digit(16);
        let (high, low) = (digit(rest.next())?, digit(rest.next())?);
        bytes.push((high * 16 + low) as u8);
    }
    String::from_utf8(bytes).ok().filter(|text| !text.contains('\0'))
}

/// A path as links have it.
fn encoded(path: &str) -> String {
    let mut out = String::new();
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' | b'~' | b'/' => {
                out.push(char::from(byte));
            }
            byte => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}

fn http_date(moment: Moment) -> String {
    let seconds = Duration::from_secs(u64::try_from(moment.seconds).unwrap_or(0));
    // After the year 9999 no such date can be told.
    let latest = Duration::from_secs(253_402_300_799);
    httpdate::fmt_http_date(SystemTime::UNIX_EPOCH + seconds.min(latest))
}

/// The first and last byte that a header asks for; an error if there are none such. Whoever asks for
/// several parts gets the whole, as RFC 9110, section 14.2 allows.
fn range_of(header: &str, size: u64) -> Result<Option<(u64, u64)>, ()> {
    let Some((first, last)) = header
        .strip_prefix("bytes=")
        .filter(|ranges| !ranges.contains(','))
        .and_then(|range| range.trim().split_once('-'))
    else {
        return Ok(None);
    };
    let range = match (first.parse::<u64>(), last.parse::<u64>()) {
        (Ok(first), Ok(last)) => (first, last.min(size.saturating_sub(1))),
        (Ok(first), Err(_)) if last.is_empty() => (first, size.saturating_sub(1)),
        (Err(_), Ok(last)) if first.is_empty() && last > 0 => {
            (size.saturating_sub(last), size.saturating_sub(1))
        }
        _ => return Ok(None),
    };
    if range.0 >= size || range.0 > range.1 { Err(()) } else { Ok(Some(range)) }
}

/// One request.
pub(super) struct Web {
    pub view: Arc<View>,
    pub guard: Arc<Guard>,
    pub from: SocketAddr,
    pub path: String,
}

impl Web {
    fn parts(&self) -> String {
        format!("/{}", View::parts(&self.path).join("/"))
    }

    /// A file, or a page of links to what lies in a directory.
    pub fn get(self, range: Option<&str>, with_body: bool) -> Response<Body> {
        let node = match task::block_in_place(|| self.view.follow(&self.path)) {
            Ok(node) => node,
            Err(why) => return missing(why),
        };
        if let Node::Entry(entry) = &node {
            match &entry.body {
                Content::File { recipe, size } => {
                    return self.file((recipe, *size, entry.modified), range, with_body);
                }
                Content::Directory { .. } => {}
                _ => return missing(Missing::WrongKind),
            }
        }
        let kind = ("content-type", "text/html; charset=utf-8".to_owned());
        match with_body {
            true => answer(StatusCode::OK, &[kind], self.page(node)),
            false => answer(StatusCode::OK, &[kind], whole("")),
        }
    }

    fn file(
        self,
        (recipe, size, modified): (&Recipe, u64, Moment),
        range: Option<&str>,
        with_body: bool,
    ) -> Response<Body> {
        let part = match range.map_or(Ok(None), |range| range_of(range, size)) {
            Ok(part) => part,
            Err(()) => {
                let all = ("content-range", format!("bytes */{size}"));
                return answer(StatusCode::RANGE_NOT_SATISFIABLE, &[all], whole(""));
            }
        };
        let (from, length) = part.map_or((0, size), |(first, last)| (first, last - first + 1));
        let mut headers = vec![
            ("content-type", "application/octet-stream".to_owned()),
            // A page of somebody's is looked at as bytes, never run.
            ("x-content-type-options", "nosniff".to_owned()),
            ("accept-ranges", "bytes".to_owned()),
            ("last-modified", http_date(modified)),
            ("content-length", length.to_string()),
        ];
        if let Some((first, last)) = part {
            headers.push(("content-range", format!("bytes {first}-{last}/{size}")));
        }
        let status = if part.is_some() { StatusCode::PARTIAL_CONTENT } else { StatusCode::OK };
        let body = match with_body {
            true => self.content(recipe.clone(), (from, length, size)),
            false => whole(""),
        };
        answer(status, &headers, body)
    }

    fn content(self, recipe: Recipe, (from, length, size): (u64, u64, u64)) -> Body {
        streamed(move |send| {
            let mut cursor = self.view.open(&recipe);
            let mut read = 0;
            while read < length {
                let count = usize::try_from(length - read).unwrap_or(PIECE).min(PIECE);
                let mut piece = vec![0; count];
                match cursor.read_at(from + read, &mut piece) {
                    Ok(count) if count == piece.len() => {}
                    // Less than was promised: whoever reads has to notice.
                    _ => {
                        send(Err(std::io::Error::other("the store cannot read it")));
                        break;
                    }
                }
                if !send(Ok(piece.into())) {
                    break;
                }
                read += count as u64;
            }
            let deed = Deed::Read { path: self.parts(), bytes: read, of: size };
            self.guard.tell(self.from, Via::Web, deed);
        })
    }

    /// Links to what lies in a directory, for a browser.
    fn page(self, node: Node) -> Body {
        streamed(move |send| {
            let path = self.parts();
            let head = format!(
                "<!doctype html><meta charset=\"utf-8\"><title>{0}</title><h1>{0}</h1><ul>\n",
                escape(&*path)
            );
            if !send(Ok(head.into())) {
                return;
            }
            let entries = self.view.list(&node).into_iter().flatten();
            for entry in entries.filter_map(Result::ok) {
                let Some(found) = self.resolved(&path, &entry) else { continue };
                let name = shown(&found.name);
                let slash = if found.is_directory { "/" } else { "" };
                let href = encoded(&format!("{}/{name}{slash}", path.trim_end_matches('/')));
                let line = format!("<li><a href=\"{href}\">{}{slash}</a>\n", escape(&*name));
                if !send(Ok(line.into())) {
                    return;
                }
            }
            send(Ok("</ul>\n".into()));
        })
    }

    /// What is told of an entry: files and directories as they are, links to files as those files. Links to
    /// directories are not listed: clients would follow them without end.
    fn resolved(&self, path: &str, entry: &Entry) -> Option<Told> {
        let name = entry.name.clone();
        let body = match &entry.body {
            Content::Link(_) => match self.view.follow(&format!("{path}/{}", shown(&name))).ok()? {
                Node::Entry(target) => *target,
                Node::Root => return None,
            },
            _ => return Told::of(name, entry),
        };
        Told::of(name, &body).filter(|told| !told.is_directory)
    }

    /// PROPFIND: the facts of something, and with a depth of 1 of what lies in it.
    pub fn properties(self, depth: Option<&str>) -> Response<Body> {
        let with_children = match depth {
            Some("0") => false,
            Some("1") => true,
            _ => {
                let why = "<?xml version=\"1.0\"?><D:error xmlns:D=\"DAV:\"><D:propfind-finite-depth/></D:error>";
                let kind = ("content-type", XML.to_owned());
                return answer(StatusCode::FORBIDDEN, &[kind], whole(why));
            }
        };
        let found: Found<Node> = task::block_in_place(|| self.view.follow(&self.path));
        let node = match found {
            Ok(node) => node,
            Err(why) => return missing(why),
        };
        let kind = ("content-type", XML.to_owned());
        answer(StatusCode::MULTI_STATUS, &[kind], self.multistatus(node, with_children))
    }

    fn multistatus(self, node: Node, with_children: bool) -> Body {
        streamed(move |send| {
            let head =
                "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\">\n";
            let path = self.parts();
            let own = match &node {
                Node::Root => Some(Told {
                    name: Vec::new(),
                    is_directory: true,
                    size: 0,
                    modified: self.view.modified(&node),
                }),
                Node::Entry(entry) => Told::of(entry.name.clone(), entry),
            };
            let Some(own) = own else {
                send(Err(std::io::Error::other("neither file nor directory")));
                return;
            };
            let is_directory = own.is_directory;
            if !send(Ok(format!("{head}{}", own.response(&path)).into())) {
                return;
            }
            if with_children && is_directory {
                let entries = match self.view.list(&node) {
                    Ok(entries) => entries,
                    Err(_) => {
                        send(Err(std::io::Error::other("the store cannot read it")));
                        return;
                    }
                };
                for entry in entries {
                    let Ok(entry) = entry else {
                        send(Err(std::io::Error::other("the store cannot read it")));
                        return;
                    };
                    let Some(told) = self.resolved(&path, &entry) else { continue };
                    let below = format!("{}/{}", path.trim_end_matches('/'), shown(&told.name));
                    if !send(Ok(told.response(&below).into())) {
                        return;
                    }
                }
            }
            send(Ok("</D:multistatus>\n".into()));
        })
    }
}

/// What is told of a file or directory.
struct Told {
    name: Vec<u8>,
    is_directory: bool,
    size: u64,
    modified: Moment,
}

impl Told {
    fn of(name: Vec<u8>, entry: &Entry) -> Option<Self> {
        let (is_directory, size) = match &entry.body {
            Content::File { size, .. } => (false, *size),
            Content::Directory { .. } => (true, 0),
            _ => return None,
        };
        Some(Self { name, is_directory, size, modified: entry.modified })
    }

    fn response(&self, path: &str) -> String {
        let slash = if self.is_directory && !path.ends_with('/') { "/" } else { "" };
        let facts = match self.is_directory {
            true => "<D:resourcetype><D:collection/></D:resourcetype>".to_owned(),
            false => {
                format!("<D:resourcetype/><D:getcontentlength>{}</D:getcontentlength>", self.size)
            }
        };
        format!(
            "<D:response><D:href>{}{slash}</D:href><D:propstat><D:prop>{facts}<D:getlastmodified>{}</D:getlastmodified></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>\n",
            encoded(path),
            http_date(self.modified)
        )
    }
}

/// A body that is made while it is sent. `make` gets what sends a piece, and says whether anybody still
/// listens.
fn streamed(make: impl FnOnce(&dyn Fn(std::io::Result<Bytes>) -> bool) + Send + 'static) -> Body {
    let (sender, receiver) = mpsc::channel::<std::io::Result<Bytes>>(WAITING);
    task::spawn_blocking(move || make(&|piece| sender.blocking_send(piece).is_ok()));
    let pieces = stream::unfold(receiver, |mut receiver| async move {
        let piece = receiver.recv().await?;
        Some((piece.map(Frame::data), receiver))
    });
    StreamBody::new(pieces).boxed_unsync()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_the_standard_says() {
        for (header, expected) in [
            ("bytes=0-99", Ok(Some((0, 99)))),
            ("bytes=900-5000", Ok(Some((900, 999)))),
            ("bytes=990-", Ok(Some((990, 999)))),
            ("bytes=-10", Ok(Some((990, 999)))),
            ("bytes=-5000", Ok(Some((0, 999)))),
            ("bytes=1000-", Err(())),
            ("bytes=5-2", Err(())),
            ("bytes=0-1,5-6", Ok(None)),
            ("lines=1-2", Ok(None)),
            ("bytes=a-b", Ok(None)),
        ] {
            assert_eq!(range_of(header, 1000), expected, "{header}");
        }
        assert_eq!(range_of("bytes=0-", 0), Err(()));
    }

    #[test]
    fn paths_come_back_from_their_escapes() {
        for path in ["/a b/ü%/~.csv", "/\u{1b}[31m", "/#?&<>"] {
            assert_eq!(decoded(&encoded(path)).as_deref(), Some(path));
        }
        for bad in ["/%", "/%2", "/%zz", "/%ff%fe", "/%00"] {
            assert_eq!(decoded(bad), None, "{bad}");
        }
    }
}
