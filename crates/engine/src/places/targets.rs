//! Who a server is and how to log in, for each kind of place.

use std::{path::PathBuf, sync::Arc, time::Duration};

use jiff::Zoned;
use skellin_place::{
    FtpTarget, Hop, S3Style, S3Target, SftpTarget, Throttle, Throttles, WebDavTarget,
};
use skellin_plan::{BucketSpec, HostSpec, Limit, SecretSource, StoreConfig};
use zeroize::Zeroizing;

use super::keys;
use crate::{error::Result, secrets::read_secret, ssh_config::SshConfig};

/// So long each step of a connection, and each request, may take.
const PATIENCE: Duration = Duration::from_secs(20);
/// How many connections are made unless the store says otherwise.
const CONNECTIONS: usize = 4;
/// Larger objects are sent to an object store in parts of this size unless it says otherwise.
const PART: u64 = 16 << 20;
/// The region of servers that know none.
const REGION: &str = "us-east-1";

fn connections(config: &StoreConfig) -> usize {
    config.access.connections.map_or(CONNECTIONS, |count| count as usize)
}

fn secret(
    config: &StoreConfig,
    source: Option<&SecretSource>,
    what: &str,
) -> Result<Option<Zeroizing<String>>> {
    let Some(source) = source else { return Ok(None) };
    let secret = read_secret(source, &format!("the {what} of `{}`", config.name))?;
    Ok(Some(String::from_utf8_lossy(&secret).into_owned().into()))
}

fn password(config: &StoreConfig) -> Result<Option<Zeroizing<String>>> {
    secret(config, config.access.password.as_ref(), "login")
}

/// The limits of a store, by this machine's clock.
fn throttles(config: &StoreConfig) -> Throttles {
    let by_hour = |limit: &Option<Limit>| -> Option<Arc<Throttle>> {
        let limit = limit.clone()?;
        Some(Throttle::new(move || limit.at(Zoned::now().time())))
    };
    Throttles { up: by_hour(&config.access.up), down: by_hour(&config.access.down) }
}

/// A part of a bucket.
pub(crate) fn s3(spec: &BucketSpec, config: &StoreConfig) -> Result<S3Target> {
    let objects = &config.access.objects;
    Ok(S3Target {
        endpoint: objects.endpoint.clone().unwrap_or_default(),
        bucket: spec.bucket.clone(),
        prefix: spec.prefix.clone(),
        region: objects.region.clone().unwrap_or_else(|| REGION.to_owned()),
        style: if objects.host_style { S3Style::Host } else { S3Style::Path },
        login: keys::login(config)?,
        part_size: objects.part_size.unwrap_or(PART),
        class: objects.class.clone(),
        thaw: objects.thaw,
        lock: objects.lock,
        connections: connections(config),
        patience: PATIENCE,
        authority: config.access.authority.clone(),
        throttles: throttles(config),
    })
}

/// A collection of a WebDAV server.
pub(crate) fn webdav(tls: bool, spec: &HostSpec, config: &StoreConfig) -> Result<WebDavTarget> {
    let scheme = if tls { "https" } else { "http" };
    let host = config.access.address.as_ref().unwrap_or(&spec.host);
    let host = if host.contains(':') { format!("[{host}]") } else { host.clone() };
    let port = spec.port.map(|port| format!(":{port}")).unwrap_or_default();
    Ok(WebDavTarget {
        server: format!("{scheme}://{host}{port}"),
        path: spec.path.clone(),
        user: spec.user.clone(),
        password: password(config)?,
        connections: connections(config),
        patience: PATIENCE,
        authority: config.access.authority.clone(),
        throttles: throttles(config),
    })
}

/// A directory of an FTP server.
pub(crate) fn ftp(tls: bool, spec: &HostSpec, config: &StoreConfig) -> Result<FtpTarget> {
    Ok(FtpTarget {
        host: config.access.address.clone().unwrap_or_else(|| spec.host.clone()),
        port: spec.port.unwrap_or(21),
        tls,
        user: spec.user.clone().unwrap_or_else(own_name),
        password: password(config)?,
        path: spec.path.clone(),
        connections: connections(config),
        patience: PATIENCE,
        authority: config.access.authority.clone(),
        throttles: throttles(config),
    })
}

/// Who a host is and how to log in, by the store's keys, then by the user's OpenSSH configuration,
/// then as usual.
pub(crate) fn sftp(spec: &HostSpec, config: &StoreConfig) -> Result<SftpTarget> {
    let access = &config.access;
    let home = std::env::var_os("HOME").map(PathBuf::from).unwrap_or_default();
    let ssh = SshConfig::read(&home);
    let password = password(config)?;
    let identity_passphrase =
        secret(config, access.identity_passphrase.as_ref(), "key passphrase")?;
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
            address: access
                .address
                .clone()
                .filter(|_| own)
                .or(told.address.clone())
                .unwrap_or_else(|| alias.to_owned()),
            port: port.or(told.port).unwrap_or(22),
            user: user.map(str::to_owned).or(told.user.clone()).unwrap_or_else(own_name),
            // A key that is named is the one that is meant; the agent has others.
            agent: !own || access.identity.is_none(),
            identities,
            password: if own { password.clone() } else { None },
            identity_passphrase: if own { identity_passphrase.clone() } else { None },
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
        connections: connections(config),
        patience: PATIENCE,
        throttles: throttles(config),
    })
}

/// The name of the user who runs this.
fn own_name() -> String {
    let own = uzers::get_user_by_uid(rustix::process::geteuid().as_raw());
    own.map_or_else(|| "root".to_owned(), |user| user.name().to_string_lossy().into_owned())
}
