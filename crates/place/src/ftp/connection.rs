//! A connection that is logged in, and what servers say.

use std::{
    collections::HashMap,
    fmt, io,
    net::{Shutdown, TcpStream, ToSocketAddrs},
    str::FromStr,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, SystemTime},
};

use suppaftp::{
    FtpError, Mode, RustlsConnector, RustlsFtpStream,
    list::{File, ListParser},
    types::FileType,
};

use super::FtpTarget;
use crate::{
    Operation, PlaceError, PlaceErrorKind,
    http::{certificate_reason, client_config, is_certificate},
};

/// A step on the way to a server, done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FtpStep {
    /// The name has addresses.
    Name {
        /// The host.
        host: String,
        /// Its addresses.
        addresses: Vec<String>,
    },
    /// The port answers.
    Port {
        /// The port.
        port: u16,
    },
    /// Whether everything goes over TLS from here on.
    Tls {
        /// Whether it does.
        is_on: bool,
    },
    /// The login went through.
    Login {
        /// The user.
        user: String,
    },
}

/// Why something failed.
#[derive(Debug)]
pub(super) enum Trouble {
    /// The server says no, in these words.
    Said(u32, String),
    /// The certificate is not to be trusted, for this reason; what to do.
    Certificate(String, &'static str),
    /// The connection broke off.
    Cut(String),
    /// No answer came in time.
    Slow,
    /// There is no such file.
    NotThere,
    /// There is less than was asked for.
    Short,
    /// There is more than there can be.
    Long,
    /// Anything else.
    Odd(String),
}

impl From<io::Error> for Trouble {
    fn from(error: io::Error) -> Self {
        if let Some(flaw) = is_certificate(&error) {
            let (reason, hint) = certificate_reason(flaw);
            return Self::Certificate(reason, hint);
        }
        match error.kind() {
            io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock => Self::Slow,
            _ => Self::Cut(error.to_string()),
        }
    }
}

impl From<FtpError> for Trouble {
    fn from(error: FtpError) -> Self {
        match error {
            FtpError::ConnectionError(error) => error.into(),
            FtpError::UnexpectedResponse(response) => {
                let words = String::from_utf8_lossy(&response.body).trim().to_owned();
                Self::Said(response.status.code(), words)
            }
            FtpError::SecureError(words) => Self::Certificate(
                format!("cannot set up an encrypted connection: {words}"),
                "does the server use TLS on this port, and is its certificate authority known here? If it is your own: ca = \"…\"",
            ),
            other => Self::Cut(other.to_string()),
        }
    }
}

impl Trouble {
    /// Whether the connection is not to be used any more.
    pub fn is_of_the_line(&self) -> bool {
        // 421: the service closes the control connection (RFC 959, section 4.2.1).
        matches!(
            self,
            Self::Cut(_) | Self::Slow | Self::Certificate(..) | Self::Said(421 | 425 | 426, _)
        )
    }

    pub fn told(self, operation: Operation, subject: String, patience: Duration) -> PlaceError {
        use PlaceErrorKind as Kind;
        let (kind, reason) = match self {
            Self::NotThere => return PlaceError::new(operation, subject, Kind::NotFound),
            Self::Short => return PlaceError::new(operation, subject, Kind::Short),
            Self::Long => return PlaceError::new(operation, subject, Kind::Long),
            Self::Certificate(reason, hint) => {
                return PlaceError::because(operation, subject, Kind::Certificate, reason)
                    .with_hint(hint);
            }
            Self::Said(530 | 332 | 430, words) => (Kind::Login, format!("login refused: {words}")),
            Self::Said(452 | 552, _) => (Kind::Full, "no space left".to_owned()),
            Self::Said(421 | 425 | 426, words) => {
                (Kind::Cut, format!("the server closed the connection: {words}"))
            }
            Self::Said(450 | 451, words) => (Kind::Busy, format!("the server says: {words}")),
            // One word for all of it; the words tell more, where they are English.
            Self::Said(550 | 553, words) => {
                let lower = words.to_lowercase();
                if lower.contains("no such") || lower.contains("not found") {
                    return PlaceError::new(operation, subject, Kind::NotFound);
                }
                let kind = match () {
                    () if lower.contains("read-only") => Kind::ReadOnly,
                    () if lower.contains("no space") || lower.contains("quota") => Kind::Full,
                    () => Kind::Refused,
                };
                (kind, format!("the server says: {words}"))
            }
            Self::Said(code, words) => (Kind::Failed, format!("the server says {code}: {words}")),
            Self::Cut(why) => (Kind::Cut, format!("the connection was lost: {why}")),
            Self::Slow => (Kind::Slow, format!("no answer within {} s", patience.as_secs())),
            Self::Odd(why) => (Kind::Failed, why),
        };
        PlaceError::because(operation, subject, kind, reason)
    }
}

/// A file as a listing tells of it.
pub(super) struct Told {
    pub name: String,
    pub size: u64,
    pub is_folder: bool,
    pub is_link: bool,
    /// In seconds since 1970.
    pub modified: i64,
    /// In seconds.
    pub age: u64,
}

/// A connection that is logged in.
pub(super) struct Connection {
    pub ftp: RustlsFtpStream,
    /// Whether the server lists in a form made for programs; not known at first.
    lists_well: bool,
    /// Whether it is not to be used again.
    pub is_spent: bool,
    pub transfer: Transfer,
    _held: Held,
}

/// The connections of a place, so that they can be ended from outside.
#[derive(Clone, Debug, Default)]
pub(super) struct Sockets(Arc<Mutex<HashMap<u64, TcpStream>>>);

/// Keeps a connection among them.
struct Held(Sockets, u64);

/// The transfer that is under way, of which there is one at a time. While it is held here its connection
/// stays open, so it has to be let go of before its end is waited for.
#[derive(Clone, Default)]
pub(super) struct Transfer(Arc<Mutex<Option<Held>>>);

impl Transfer {
    fn begin(&self, held: Held) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(held);
    }

    /// Everything was sent or read.
    pub fn let_go(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take();
    }
}

impl Sockets {
    fn streams(&self) -> MutexGuard<'_, HashMap<u64, TcpStream>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn hold(&self, stream: &TcpStream) -> io::Result<Held> {
        let mut streams = self.streams();
        let number = streams.keys().max().map_or(0, |last| last + 1);
        streams.insert(number, stream.try_clone()?);
        Ok(Held(self.clone(), number))
    }

    /// Ends them all: whoever waits for an answer on one hears that it is gone.
    pub fn shut_down(&self) {
        for stream in self.streams().values() {
            // One that is gone already needs no end.
            let _ = stream.shutdown(Shutdown::Both);
        }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.0.streams().remove(&self.1);
    }
}

impl fmt::Debug for Connection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Connection")
    }
}

impl Connection {
    /// Goes the way to a server, step by step.
    pub fn open(
        target: &FtpTarget,
        sockets: &Sockets,
        told: &dyn Fn(FtpStep),
    ) -> Result<Self, PlaceError> {
        let FtpTarget { host, port, patience, .. } = target;
        let failed = |kind, reason: String| {
            PlaceError::because(Operation::Reach, format!("{host}:{port}"), kind, reason)
        };
        let trouble =
            |trouble: Trouble| trouble.told(Operation::Reach, target.describe(), *patience);
        let addresses: Vec<_> = (host.as_str(), *port)
            .to_socket_addrs()
            .map_err(|error| {
                failed(
                    PlaceErrorKind::Unreachable,
                    format!("the name {host} does not resolve: {error}"),
                )
                .with_hint("check the spelling of the host name, and DNS on this machine")
            })?
            .collect();
        told(FtpStep::Name {
            host: host.clone(),
            addresses: addresses.iter().map(|address| address.ip().to_string()).collect(),
        });
        let stream = dial(&addresses, *patience).map_err(|error| match error.kind() {
            io::ErrorKind::ConnectionRefused => {
                failed(PlaceErrorKind::Unreachable, format!("nothing listens on port {port}"))
                    .with_hint("is the FTP service running there, on this port?")
            }
            _ => failed(
                PlaceErrorKind::Unreachable,
                format!("port {port} cannot be reached: {error}"),
            )
            .with_hint("is the host up, and does the firewall allow this port?"),
        })?;
        let held = sockets.hold(&stream).map_err(|error| {
            failed(PlaceErrorKind::Unreachable, format!("no handle for the connection: {error}"))
        })?;
        let is_v6 = stream.peer_addr().is_ok_and(|address| address.is_ipv6());
        let patience = *patience;
        let ftp =
            RustlsFtpStream::connect_with_stream(stream).map_err(|error| trouble(error.into()))?;
        told(FtpStep::Port { port: *port });
        // What is transferred is ended from outside like what is said.
        let (sockets, transfer) = (sockets.clone(), Transfer::default());
        let begun = transfer.clone();
        let mut ftp = ftp.passive_stream_builder(move |address| {
            let stream = dial(&[address], patience).map_err(FtpError::ConnectionError)?;
            let held = sockets.hold(&stream).map_err(FtpError::ConnectionError)?;
            begun.begin(held);
            Ok(stream)
        });
        // Servers behind a gateway name an address nobody reaches; that of the server itself counts.
        ftp.set_passive_nat_workaround(true);
        if is_v6 {
            ftp.set_mode(Mode::ExtendedPassive);
        }
        let mut ftp = match target.tls {
            true => {
                let config = client_config(target.authority.as_deref()).map_err(|why| {
                    failed(PlaceErrorKind::Certificate, why)
                        .with_hint("name the certificate file of your authority: ca = \"…\"")
                })?;
                ftp.into_secure(RustlsConnector::from(config), host).map_err(|error| match error
                    .into()
                {
                    Trouble::Said(code, words) => failed(
                        PlaceErrorKind::Refused,
                        format!("the server offers no TLS ({code}: {words})"),
                    )
                    .with_hint(
                        "use ftp:// only on a network you trust: it sends the password unencrypted",
                    ),
                    other => trouble(other),
                })?
            }
            false => ftp,
        };
        told(FtpStep::Tls { is_on: target.tls });
        let password = target.password.as_ref().map_or("", |password| password.as_str());
        ftp.login(target.user.as_str(), password).map_err(|error| match error.into() {
            Trouble::Said(_, words) => {
                failed(PlaceErrorKind::Login, format!("login as {} refused: {words}", target.user))
                    .with_hint(
                        "check account and password: password = { file = \"…\" } in stores.toml",
                    )
            }
            other => trouble(other),
        })?;
        ftp.transfer_type(FileType::Binary).map_err(|error| trouble(error.into()))?;
        told(FtpStep::Login { user: target.user.clone() });
        Ok(Self { ftp, lists_well: true, is_spent: false, transfer, _held: held })
    }

    /// The size of a file; none if there is no such file.
    pub fn size(&mut self, path: &str) -> Result<Option<u64>, Trouble> {
        match self.ftp.size(path).map_err(Trouble::from) {
            Ok(size) => Ok(Some(size as u64)),
            Err(Trouble::Said(550 | 553 | 450, _)) => Ok(None),
            Err(trouble) => Err(trouble),
        }
    }

    /// When a file was modified, in seconds since 1970; 0 where the server does not tell.
    pub fn modified(&mut self, path: &str) -> Result<i64, Trouble> {
        match self.ftp.mdtm(path).map_err(Trouble::from) {
            Ok(time) => Ok(time.and_utc().timestamp()),
            Err(trouble) if trouble.is_of_the_line() => Err(trouble),
            Err(_) => Ok(0),
        }
    }

    pub fn has_folder(&mut self, path: &str) -> Result<bool, Trouble> {
        let before = self.ftp.pwd()?;
        match self.ftp.cwd(path).map_err(Trouble::from) {
            Ok(()) => {
                self.ftp.cwd(&before)?;
                Ok(true)
            }
            Err(Trouble::Said(..)) => Ok(false),
            Err(trouble) => Err(trouble),
        }
    }

    /// Makes a directory; that it is there already is no failure.
    pub fn make_folder(&mut self, path: &str) -> Result<(), Trouble> {
        match self.ftp.mkdir(path).map_err(Trouble::from) {
            Err(trouble @ Trouble::Said(..)) => match self.has_folder(path)? {
                true => Ok(()),
                false => Err(trouble),
            },
            other => other,
        }
    }

    /// Makes a directory that was not there; whether it is ours.
    pub fn claim(&mut self, path: &str) -> Result<bool, Trouble> {
        match self.ftp.mkdir(path).map_err(Trouble::from) {
            Ok(()) => Ok(true),
            Err(trouble @ Trouble::Said(..)) => match self.has_folder(path)? {
                true => Ok(false),
                false => Err(trouble),
            },
            Err(trouble) => Err(trouble),
        }
    }

    pub fn give_up_claim(&mut self, path: &str) -> Result<(), Trouble> {
        Ok(self.ftp.rmdir(path)?)
    }

    /// All files and directories of a directory.
    pub fn list(&mut self, path: &str) -> Result<Vec<Told>, Trouble> {
        // Those that list nothing for a directory that is not there must not be believed.
        if !self.has_folder(path)? {
            return Err(Trouble::NotThere);
        }
        if self.lists_well {
            match self.ftp.mlsd(Some(path)).map_err(Trouble::from) {
                Ok(lines) => {
                    let files =
                        lines.iter().map(|line| ListParser::parse_mlsd(line).map_err(|_| line));
                    return told(files);
                }
                // It does not know the command (RFC 959, section 4.2.1).
                Err(Trouble::Said(500..=504, _)) => self.lists_well = false,
                Err(trouble) => return Err(trouble),
            }
        }
        let lines = self.ftp.list(Some(path))?;
        let lines =
            lines.iter().filter(|line| !line.trim().is_empty() && !line.starts_with("total "));
        told(lines.map(|line| File::from_str(line).map_err(|_| line)))
    }
}

fn told<'a>(files: impl Iterator<Item = Result<File, &'a String>>) -> Result<Vec<Told>, Trouble> {
    let now = SystemTime::now();
    let mut found = Vec::new();
    for file in files {
        let file = file.map_err(|line| {
            Trouble::Odd(format!("the listing has a line in an unknown format: {line:?}"))
        })?;
        if matches!(file.name(), "." | "..") {
            continue;
        }
        found.push(Told {
            name: file.name().rsplit('/').next().unwrap_or_default().to_owned(),
            size: file.size() as u64,
            is_folder: file.is_directory(),
            is_link: file.is_symlink(),
            modified: file
                .modified()
                .duration_since(SystemTime::UNIX_EPOCH)
                .map_or(0, |since| i64::try_from(since.as_secs()).unwrap_or(i64::MAX)),
            age: now.duration_since(file.modified()).map_or(0, |age| age.as_secs()),
        });
    }
    Ok(found)
}

/// A connection, to the first address that answers.
fn dial(addresses: &[std::net::SocketAddr], patience: Duration) -> io::Result<TcpStream> {
    let mut last = io::Error::from(io::ErrorKind::AddrNotAvailable);
    for address in addresses {
        match TcpStream::connect_timeout(address, patience) {
            Ok(stream) => {
                stream.set_read_timeout(Some(patience))?;
                stream.set_write_timeout(Some(patience))?;
                stream.set_nodelay(true)?;
                return Ok(stream);
            }
            Err(error) => last = error,
        }
    }
    Err(last)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_servers_say_has_its_kind() {
        use PlaceErrorKind as Kind;
        let kind = |code: u32, words: &str| {
            let trouble = Trouble::Said(code, words.to_owned());
            trouble.told(Operation::Create, "x".to_owned(), Duration::from_secs(1)).kind
        };
        for (code, words, expected) in [
            (530, "Login incorrect.", Kind::Login),
            (552, "Quota", Kind::Full),
            (452, "", Kind::Full),
            (421, "Timeout.", Kind::Cut),
            (426, "broken", Kind::Cut),
            (450, "busy", Kind::Busy),
            (550, "No such file or directory.", Kind::NotFound),
            (550, "a: Not found", Kind::NotFound),
            (550, "Read-only file system", Kind::ReadOnly),
            (550, "No space left on device", Kind::Full),
            (550, "Permission denied.", Kind::Refused),
            (502, "no", Kind::Failed),
        ] {
            assert_eq!(kind(code, words), expected, "{code} {words}");
        }
        assert!(Trouble::Said(421, String::new()).is_of_the_line());
        assert!(!Trouble::Said(550, String::new()).is_of_the_line());
    }

    #[test]
    fn listings_of_both_forms_are_read_and_others_refused() {
        let lines = [
            "type=file;size=12;modify=20261122214000; data-a",
            "type=dir;size=4096;modify=20261122214000; claim b",
        ]
        .map(str::to_owned);
        let found = told(lines.iter().map(|line| ListParser::parse_mlsd(line).map_err(|_| line)));
        let found = found.expect("files");
        assert_eq!(
            (found[0].name.as_str(), found[0].size, found[0].is_folder),
            ("data-a", 12, false)
        );
        assert_eq!((found[1].name.as_str(), found[1].is_folder), ("claim b", true));
        let lines = [
            "-rw-r--r--   1 keeper keeper     1234 Nov  5  2018 0a1b",
            "drwxr-xr-x   2 keeper keeper     4096 Nov  5  2018 .",
            "drwxr-xr-x   2 keeper keeper     4096 Nov  5  2018 data",
        ]
        .map(str::to_owned);
        let found = told(lines.iter().map(|line| File::from_str(line).map_err(|_| line)));
        let found = found.expect("files");
        assert_eq!(found.len(), 2, "the directory itself is not one of its files");
        assert!(found[0].size == 1234 && found[0].age > 86_400 && found[1].is_folder);
        let odd = ["type=file;size=much; data-a".to_owned()];
        let refused = told(odd.iter().map(|line| ListParser::parse_mlsd(line).map_err(|_| line)));
        assert!(matches!(refused, Err(Trouble::Odd(why)) if why.contains("unknown format")));
    }
}
