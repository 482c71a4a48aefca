//! The way to a place, tried step by step.

use std::{
    io,
    net::{TcpStream, ToSocketAddrs},
    sync::Arc,
    time::{Duration, Instant},
};

use skellin_place::{
    DirectoryPlace, Extent, FarFiles, FarKind, FtpPlace, FtpStep, ObjectName, Operation, Place,
    PlaceError, PlaceErrorKind, S3Place, SftpPlace, SftpStep, WebDavPlace,
};
use skellin_plan::{FarSource, PlaceSpec, StoreConfig};
use skellin_store::{Store, StoreError};

use super::{SourceHosts, drives, targets};
use crate::{error::Result, folders::Folders, refusal::Refusal};

/// So many bytes are written and read back to learn the speed of a place.
const PROBE: usize = 4 << 20;

/// A step on the way to a place, done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReachStep {
    /// What it is called: name, port, host key, login, path, write, read back, once only, delete,
    /// room, speed.
    pub step: &'static str,
    /// What was found.
    pub found: String,
}

/// Goes the way to a store's place step by step, writes there, reads it back and takes it away
/// again; `told` hears of each step. The first that fails is the error. `accept_new`: whether a host
/// whose key is not known is accepted and saved.
///
/// # Errors
/// The first step that fails, with what it means.
pub fn reach(
    config: &StoreConfig,
    folders: &Folders,
    accept_new: bool,
    told: &(dyn Fn(ReachStep) + Sync),
) -> Result<()> {
    let say = |step, found: String| told(ReachStep { step, found });
    let place = go(config, folders, accept_new, &say)?;
    try_out(&*place, &say)?;
    match Store::header_at(&*place) {
        Ok(header) => say("store", format!("found, id {}", header.store)),
        Err(StoreError::NoStore(_)) => say("store", "none yet".to_owned()),
        Err(error) => return Err(error.into()),
    }
    Ok(())
}

/// Tells of a step.
type Say<'a> = dyn Fn(&'static str, String) + Sync + 'a;

/// Goes the way to the place, up to its directory.
fn go(
    config: &StoreConfig,
    folders: &Folders,
    accept_new: bool,
    say: &Say<'_>,
) -> Result<Arc<dyn Place>> {
    let room = |room: Option<(u64, u64)>| {
        if let Some((free, all)) = room {
            say("room", format!("{} MiB free of {} MiB", free >> 20, all >> 20));
        }
    };
    let clock = |told: Option<String>| {
        if let Some(told) = told {
            say("clock", told);
        }
    };
    Ok(match &config.place {
        PlaceSpec::Directory(path) => {
            let place = DirectoryPlace::open(path.clone())?;
            say("path", format!("{} is a directory", path.display()));
            Arc::new(place)
        }
        PlaceSpec::Drive(path) => {
            let drive = drives::find(config, path, folders)?;
            let name = drive.name.unwrap_or_else(|| "a drive".to_owned());
            say("drive", format!("{name} is mounted at {}", drive.mount.display()));
            Arc::new(DirectoryPlace::open(drive.root)?)
        }
        PlaceSpec::Sftp(host) => {
            let target = targets::sftp(host, config)?;
            let path = target.path.clone();
            let place = SftpPlace::new(target, accept_new);
            by_sftp(&place, say)?;
            place.look_for_root()?;
            say("path", format!("{path} is a directory"));
            room(place.ask_room()?);
            Arc::new(place)
        }
        PlaceSpec::S3(bucket) => {
            let target = targets::s3(bucket, config)?;
            let encrypted = target.endpoint.starts_with("https://");
            knock(&target.endpoint, target.patience, say)?;
            let (class, thaw) = (target.class.clone(), target.thaw);
            let place = S3Place::new(target)?;
            let told = place.look()?;
            if encrypted {
                say("TLS", authority(config));
            }
            say("login", format!("the key can list bucket {}", bucket.bucket));
            clock(told);
            if place.sees_other_buckets() {
                say(
                    "too much",
                    "the key can list other buckets too; a key for this bucket is enough"
                        .to_owned(),
                );
            }
            if let Some(class) = class {
                let wait = thaw
                    .map(|seconds| format!(", retrieval takes about {} h", seconds.div_ceil(3600)));
                say("class", format!("content is stored as {class}{}", wait.unwrap_or_default()));
            }
            Arc::new(place)
        }
        PlaceSpec::WebDav { tls, host } => {
            let target = targets::webdav(*tls, host, config)?;
            knock(&target.server, target.patience, say)?;
            let place = WebDavPlace::new(target)?;
            let told = place.look()?;
            say("TLS", if *tls { authority(config) } else { OPENLY.to_owned() });
            say("login", host.user.clone().unwrap_or_else(|| "without a user".to_owned()));
            say("path", format!("{} is a directory", host.path));
            clock(told);
            room(place.ask_room()?);
            Arc::new(place)
        }
        PlaceSpec::Ftp { tls, host } => {
            let place = FtpPlace::new(targets::ftp(*tls, host, config)?);
            by_ftp(&place, config, say)?;
            place.look_for_root()?;
            say("path", format!("{} is a directory", host.path));
            Arc::new(place)
        }
    })
}

/// Whom the server's certificate is from.
fn authority(config: &StoreConfig) -> String {
    match &config.access.authority {
        Some(file) => format!("certificate issued by the authority in {}", file.display()),
        None => "certificate issued by a known authority".to_owned(),
    }
}

/// Up to the login of a host.
fn by_sftp(place: &SftpPlace, say: &Say<'_>) -> Result<()> {
    Ok(place.connect(&|step| match step {
        SftpStep::Name { host, addresses } => {
            say("name", format!("{host} is {}", addresses.join(", ")));
        }
        SftpStep::Port { port, .. } => say("port", format!("{port} open")),
        SftpStep::HostKey { sha256, accepted } => {
            let how = if accepted { "accepted and saved" } else { "known" };
            say("host key", format!("{sha256}, {how}"));
        }
        SftpStep::Login { user, by } => say("login", format!("{user}, with {by}")),
    })?)
}

/// Up to the login of a server.
fn by_ftp(place: &FtpPlace, config: &StoreConfig, say: &Say<'_>) -> Result<()> {
    Ok(place.connect(&|step| match step {
        FtpStep::Name { host, addresses } => {
            say("name", format!("{host} is {}", addresses.join(", ")));
        }
        FtpStep::Port { port } => say("port", format!("{port} open")),
        FtpStep::Tls { is_on } => {
            say("TLS", if is_on { authority(config) } else { OPENLY.to_owned() });
        }
        FtpStep::Login { user } => say("login", user),
    })?)
}

/// Goes the way to a source on another host step by step, and reads there; nothing is written.
/// `told` hears of each step.
///
/// # Errors
/// The first step that fails, with what it means.
pub fn reach_source(
    source: &FarSource,
    source_hosts: &SourceHosts,
    accept_new: bool,
    told: &(dyn Fn(ReachStep) + Sync),
) -> Result<()> {
    let say = |step, found: String| told(ReachStep { step, found });
    let config = source_hosts.config(source)?;
    let files: Box<dyn FarFiles> = match &config.place {
        PlaceSpec::Sftp(host) => {
            let place = SftpPlace::new(targets::sftp(host, &config)?, accept_new);
            by_sftp(&place, &say)?;
            Box::new(place)
        }
        PlaceSpec::S3(bucket) => {
            let target = targets::s3(bucket, &config)?;
            knock(&target.endpoint, target.patience, &say)?;
            Box::new(S3Place::new(target)?)
        }
        PlaceSpec::WebDav { tls, host } => {
            let target = targets::webdav(*tls, host, &config)?;
            knock(&target.server, target.patience, &say)?;
            say("TLS", if *tls { authority(&config) } else { OPENLY.to_owned() });
            Box::new(WebDavPlace::new(target)?)
        }
        PlaceSpec::Ftp { tls, host } => {
            let place = FtpPlace::new(targets::ftp(*tls, host, &config)?);
            by_ftp(&place, &config, &say)?;
            Box::new(place)
        }
        PlaceSpec::Directory(_) | PlaceSpec::Drive(_) => return Ok(()),
    };
    let facts = files.facts("")?;
    let first = match facts.kind {
        FarKind::Directory => {
            let names = files.names("")?;
            say("path", format!("a directory with {} entries", names.len()));
            let mut below = names.into_iter();
            below.find(|entry| entry.facts.kind == FarKind::File).map(|entry| entry.name)
        }
        _ => {
            say("path", format!("a file of {} bytes", facts.size));
            Some(String::new())
        }
    };
    if let Some(path) = first {
        let begun = Instant::now();
        let read = files.part(&path, 0, PROBE as u64)?.bytes.len();
        let took = begun.elapsed().as_millis();
        say("read", format!("{read} bytes of a file in {took} ms"));
    }
    Ok(())
}

/// What is said where nothing is encrypted on the way.
const OPENLY: &str = "none: the password is sent unencrypted";

/// Looks whether a server's name has an address and its port answers.
fn knock(server: &str, patience: Duration, say: &Say<'_>) -> Result<()> {
    let (scheme, host) = server.split_once("://").unwrap_or(("https", server));
    let usual = if scheme == "http" { 80 } else { 443 };
    let (host, port) = match host.rsplit_once(':') {
        Some((host, port)) if !port.contains(']') => (host, port.parse().unwrap_or(usual)),
        _ => (host, usual),
    };
    let host = host.trim_matches(['[', ']']);
    let failed = |why: String, hint: &str| {
        PlaceError::because(
            Operation::Reach,
            format!("{host}:{port}"),
            PlaceErrorKind::Unreachable,
            why,
        )
        .with_hint(hint)
    };
    let addresses: Vec<_> = (host, port)
        .to_socket_addrs()
        .map_err(|error| {
            let hint = "check the spelling of the host name, and DNS on this machine";
            failed(format!("the name {host} does not resolve: {error}"), hint)
        })?
        .collect();
    let shown: Vec<_> = addresses.iter().map(|address| address.ip().to_string()).collect();
    say("name", format!("{host} is {}", shown.join(", ")));
    let mut last = None;
    for address in &addresses {
        match TcpStream::connect_timeout(address, patience) {
            Ok(_) => {
                say("port", format!("{port} open"));
                return Ok(());
            }
            Err(error) => last = Some(error),
        }
    }
    Err(match last {
        Some(error) if error.kind() == io::ErrorKind::ConnectionRefused => failed(
            format!("nothing listens on port {port}"),
            "is the service running, on this port?",
        ),
        Some(error) => failed(
            format!("port {port} cannot be reached: {error}"),
            "is the host up, and does the firewall allow this port?",
        ),
        None => failed("it does not resolve".to_owned(), "check the spelling of the host"),
    }
    .into())
}

/// Writes an object, reads it back, and takes it away again.
pub(crate) fn try_out(place: &dyn Place, say: &Say<'_>) -> Result<()> {
    let mut random = [0u8; 8];
    getrandom::fill(&mut random).map_err(|error| Refusal::NoRandomness(error.to_string()))?;
    let suffix: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
    let failed = |what: &str| {
        PlaceError::because(Operation::Reach, place.describe(), PlaceErrorKind::Failed, what)
    };
    let name = ObjectName::new(format!("unfinished/trial-{suffix}")).map_err(|_| failed("name"))?;
    let seed = u64::from_le_bytes(random);
    let bytes: Vec<u8> = (0..PROBE as u64)
        .map(|at| (at.wrapping_mul(seed | 1).wrapping_add(at >> 7) >> 24) as u8)
        .collect();
    let rate = |begun: Instant| {
        let seconds = begun.elapsed().as_secs_f64().max(1e-6);
        format!("{:.1} MiB/s", PROBE as f64 / seconds / f64::from(1 << 20))
    };
    let is_new = place.begin_trial()?;
    let begun = Instant::now();
    let result = place.create(&name, &bytes).and_then(|()| {
        say("write", rate(begun));
        let begun = Instant::now();
        let mut back = Vec::new();
        place.read(&name, Extent::Within(PROBE as u64), &mut back)?;
        if back != bytes {
            return Err(failed("reading back gave other bytes than were written"));
        }
        say("read back", rate(begun));
        match place.create(&name, b"other") {
            Err(error) if error.kind == PlaceErrorKind::Exists => {
                say("no overwrite", "existing objects are not overwritten".to_owned());
                Ok(())
            }
            Err(error) => Err(error),
            Ok(()) => {
                Err(failed("the server overwrites existing objects: a store is not safe there"))
            }
        }
    });
    let deleted = place.delete(&name);
    let ended = if is_new { place.end_trial() } else { Ok(()) };
    result?;
    deleted?;
    ended?;
    say("delete", "the test file is removed".to_owned());
    Ok(())
}
