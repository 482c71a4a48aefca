//! Places as stores are configured: opened, prepared, and tried step by step.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

use skellin_place::{
    DirectoryPlace, Extent, Hop, ObjectName, Operation, Place, PlaceError, PlaceErrorKind, Retries,
    RetryingPlace, SftpPlace, SftpStep, SftpTarget,
};
use skellin_plan::{Access, PlaceSpec, SftpSpec, StoreConfig};
use skellin_store::{FOLDERS, Store, StoreError};

use crate::{
    error::{EngineError, Result},
    secrets::read_secret,
    ssh_config::SshConfig,
};

/// So long each step of a connection, and each request, may take.
const PATIENCE: Duration = Duration::from_secs(20);
/// How many connections are made unless the store says otherwise.
const CONNECTIONS: usize = 2;
/// So many bytes are written and read back to learn the speed of a place.
const PROBE: usize = 4 << 20;

/// The directory of a place that lies on this machine.
#[must_use]
pub fn local_directory(spec: &PlaceSpec) -> Option<&Path> {
    match spec {
        PlaceSpec::Directory(path) => Some(path),
        PlaceSpec::Sftp(_) => None,
    }
}

/// Opens the place of a store.
///
/// # Errors
/// If it cannot be reached.
pub fn open_place(config: &StoreConfig) -> Result<Arc<dyn Place>> {
    match &config.place {
        PlaceSpec::Directory(path) => Ok(Arc::new(DirectoryPlace::open(path.clone())?)),
        PlaceSpec::Sftp(spec) => {
            let place = SftpPlace::open(target(spec, &config.access, &config.name)?)?;
            Ok(Arc::new(RetryingPlace::new(Arc::new(place), Retries::default())))
        }
    }
}

/// Opens a place that no configuration names.
///
/// # Errors
/// If it cannot be reached.
pub fn open_place_alone(spec: PlaceSpec) -> Result<Arc<dyn Place>> {
    open_place(&alone(spec))
}

/// Makes a place ready for a new store that no configuration names yet.
///
/// # Errors
/// If it cannot be reached or written.
pub fn prepare_place_alone(spec: PlaceSpec) -> Result<Arc<dyn Place>> {
    prepare_place(&alone(spec))
}

fn alone(spec: PlaceSpec) -> StoreConfig {
    let name = spec.to_string();
    let access = Access::default();
    StoreConfig { name, place: spec, passphrase: None, price: None, access }
}

/// Makes a place ready for a new store.
///
/// # Errors
/// If it cannot be reached or written.
pub fn prepare_place(config: &StoreConfig) -> Result<Arc<dyn Place>> {
    match &config.place {
        PlaceSpec::Directory(path) => Ok(Arc::new(DirectoryPlace::prepare(path.clone(), FOLDERS)?)),
        PlaceSpec::Sftp(spec) => {
            let place = SftpPlace::prepare(target(spec, &config.access, &config.name)?, FOLDERS)?;
            Ok(Arc::new(RetryingPlace::new(Arc::new(place), Retries::default())))
        }
    }
}

/// Who a host is and how to log in, by the store's keys, then by the user's OpenSSH configuration,
/// then as usual.
fn target(spec: &SftpSpec, access: &Access, name: &str) -> Result<SftpTarget> {
    let home = std::env::var_os("HOME").map(PathBuf::from).unwrap_or_default();
    let ssh = SshConfig::read(&home);
    let password = match &access.password {
        Some(source) => {
            let secret = read_secret(source, &format!("the login of `{name}`"))?;
            Some(String::from_utf8_lossy(&secret).into_owned().into())
        }
        None => None,
    };
    let hop = |alias: &str, user: Option<&str>, port: Option<u16>, own: bool| {
        let told = ssh.of(alias);
        let mut identities: Vec<PathBuf> = Vec::new();
        if own {
            identities.extend(access.identity.clone());
        }
        if identities.is_empty() {
            identities.extend(told.identities.iter().filter(|file| file.is_file()).cloned());
        }
        if identities.is_empty() {
            let usual = ["id_ed25519", "id_ecdsa", "id_rsa"];
            let usual = usual.iter().map(|name| home.join(".ssh").join(name));
            identities.extend(usual.filter(|file| file.is_file()));
        }
        let known_hosts = match &access.known_hosts {
            Some(file) => vec![file.clone()],
            None => vec![home.join(".ssh/known_hosts"), PathBuf::from("/etc/ssh/ssh_known_hosts")],
        };
        Hop {
            name: told.key_alias.clone().unwrap_or_else(|| alias.to_owned()),
            address: told.address.clone().unwrap_or_else(|| alias.to_owned()),
            port: port.or(told.port).unwrap_or(22),
            user: user.map(str::to_owned).or(told.user.clone()).unwrap_or_else(own_name),
            // A key that is named is the one that is meant; the agent has others.
            agent: !own || access.identity.is_none(),
            identities,
            password: if own { password.clone() } else { None },
            known_hosts,
        }
    };
    let via = ssh.of(&spec.host).jumps;
    Ok(SftpTarget {
        hop: hop(&spec.host, spec.user.as_deref(), spec.port, true),
        via: via
            .iter()
            .map(|jump| hop(&jump.host, jump.user.as_deref(), jump.port, false))
            .collect(),
        path: spec.path.clone(),
        connections: access.connections.map_or(CONNECTIONS, |count| count as usize),
        patience: PATIENCE,
    })
}

/// The name of the user who runs this.
fn own_name() -> String {
    let own = uzers::get_user_by_uid(rustix::process::geteuid().as_raw());
    own.map_or_else(|| "root".to_owned(), |user| user.name().to_string_lossy().into_owned())
}

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
/// whose key is not known is accepted and remembered.
///
/// # Errors
/// The first step that fails, with what it means.
pub fn reach(
    config: &StoreConfig,
    accept_new: bool,
    told: &(dyn Fn(ReachStep) + Sync),
) -> Result<()> {
    let say = |step, found: String| told(ReachStep { step, found });
    let place: Arc<dyn Place> = match &config.place {
        PlaceSpec::Directory(path) => {
            let place = DirectoryPlace::open(path.clone())?;
            say("path", format!("{} is a directory", path.display()));
            Arc::new(place)
        }
        PlaceSpec::Sftp(spec) => {
            let target = target(spec, &config.access, &config.name)?;
            let path = target.path.clone();
            let place = SftpPlace::new(target, accept_new);
            place.connect(&|step| match step {
                SftpStep::Name { host, addresses } => {
                    say("name", format!("{host} is {}", addresses.join(", ")));
                }
                SftpStep::Port { port, .. } => say("port", format!("{port} answers")),
                SftpStep::HostKey { sha256, accepted } => {
                    let how = if accepted { "accepted and remembered" } else { "known" };
                    say("host key", format!("{sha256}, {how}"));
                }
                SftpStep::Login { user, by } => say("login", format!("{user}, by {by}")),
            })?;
            place.look_for_root()?;
            say("path", format!("{path} is a directory"));
            if let Some((free, all)) = place.room()? {
                say("room", format!("{} MiB free of {} MiB", free >> 20, all >> 20));
            }
            Arc::new(place)
        }
    };
    try_out(&*place, &say)?;
    match Store::header_at(&*place) {
        Ok(header) => say("store", format!("there is one, id {}", header.store)),
        Err(StoreError::NoStore(_)) => say("store", "none yet".to_owned()),
        Err(error) => return Err(error.into()),
    }
    Ok(())
}

/// Writes an object, reads it back, and takes it away again.
fn try_out(place: &dyn Place, say: &dyn Fn(&'static str, String)) -> Result<()> {
    let mut random = [0u8; 8];
    getrandom::fill(&mut random).map_err(|error| EngineError::Unknown {
        what: format!("the machine gives no random numbers: {error}"),
        hint: "try again later".to_owned(),
    })?;
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
    let begun = Instant::now();
    if let Err(error) = place.create(&name, &bytes) {
        // Without the folders of a store there is nothing to write into yet.
        if error.kind == PlaceErrorKind::NotFound {
            say("write", "not tried: no store has been created there yet".to_owned());
            return Ok(());
        }
        return Err(error.into());
    }
    say("write", rate(begun));
    let result = (|| {
        let begun = Instant::now();
        let mut back = Vec::new();
        place.read(&name, Extent::Whole, &mut back)?;
        if back != bytes {
            return Err(failed("what was written does not come back as it was"));
        }
        say("read back", rate(begun));
        match place.create(&name, b"other") {
            Err(error) if error.kind == PlaceErrorKind::Exists => {
                say("once only", "what is there is not written over".to_owned());
                Ok(())
            }
            Err(error) => Err(error),
            Ok(()) => Err(failed("the server writes over what is there: no store is safe there")),
        }
    })();
    let deleted = place.delete(&name);
    result?;
    deleted?;
    say("delete", "the trial is gone again".to_owned());
    Ok(())
}
