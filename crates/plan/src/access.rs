//! How to get to a place and log in there: the keys of a store that say so, and for which kinds of
//! places each of them means something.

use std::{ops::Range, path::PathBuf};

use toml::de::DeValue;

use crate::{
    fields::{Fields, Reading, Value, wrong_type},
    limits::Limit,
    path::{Expand, expand},
    places::PlaceSpec,
    secret::{self, SecretSource},
    units::{parse_duration, parse_size},
};

/// How to get to a host and log in there.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Access {
    /// Where the host is found, if not by its name.
    pub address: Option<String>,
    /// A file with a private key.
    pub identity: Option<PathBuf>,
    /// The password.
    pub password: Option<SecretSource>,
    /// What opens the private key; it is never sent anywhere.
    pub identity_passphrase: Option<SecretSource>,
    /// A file with the keys of known hosts, instead of the user's.
    pub known_hosts: Option<PathBuf>,
    /// How many connections at most.
    pub connections: Option<u32>,
    /// How long a line that is away is waited for, in seconds.
    pub patience: Option<u64>,
    /// A file with the certificates of a private authority.
    pub authority: Option<PathBuf>,
    /// How fast is written.
    pub up: Option<Limit>,
    /// How fast is read.
    pub down: Option<Limit>,
    /// What only object stores have.
    pub objects: Objects,
}

/// What only object stores have.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Objects {
    /// The server: `https://host`.
    pub endpoint: Option<String>,
    /// The region requests are signed for.
    pub region: Option<String>,
    /// Whether the bucket stands in the name of the host, not in the path.
    pub host_style: bool,
    /// Where the key comes from.
    pub credentials: Option<KeySource>,
    /// Larger objects are sent in parts of this size, in bytes.
    pub part_size: Option<u64>,
    /// The storage class of content, as the server names it.
    pub class: Option<String>,
    /// How long it takes until content of that class can be read, in seconds.
    pub thaw: Option<u64>,
    /// How long nobody can delete what is written, in seconds.
    pub lock: Option<u64>,
}

/// Where the key of an object store comes from: an id and a secret.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeySource {
    /// A file with `id` and `secret` that others cannot read.
    File(PathBuf),
    /// Two environment variables: the id's, and the secret's.
    Env(String, String),
    /// What a command prints: `id` and `secret` as in a file.
    Command(Vec<String>),
    /// A credential that systemd hands to the service, as such a file.
    Credential(String),
    /// A key in the kernel's keyring, as such a file.
    Keyring(String),
    /// The machine's own role.
    Instance,
}

/// The smallest part servers take, but for the last one.
const SMALLEST_PART: u64 = 5 << 20;
const LARGEST_PART: u64 = 5 << 30;
/// In seconds.
const LONGEST_PATIENCE: u64 = 86_400;
const WAYS: &str = "write { file = \"…\" }, { env = [\"ID\", \"SECRET\"] }, { command = [\"…\"] }, { credential = \"…\" }, { keyring = \"…\" } or \"instance\"";

/// For which places a key means something, and how those are called.
type Kinds = (fn(&PlaceSpec) -> bool, &'static str);

const SFTP: Kinds = (|place| matches!(place, PlaceSpec::Sftp(_)), "sftp://");
const LOGIN: Kinds = (
    |place| matches!(place, PlaceSpec::Sftp(_) | PlaceSpec::WebDav { .. } | PlaceSpec::Ftp { .. }),
    "sftp://, webdavs:// or ftps://",
);
const TLS: Kinds = (
    |place| {
        matches!(
            place,
            PlaceSpec::S3(_)
                | PlaceSpec::WebDav { tls: true, .. }
                | PlaceSpec::Ftp { tls: true, .. }
        )
    },
    "s3://, webdavs:// or ftps://",
);
const FAR: Kinds = (
    |place| !matches!(place, PlaceSpec::Directory(_) | PlaceSpec::Drive(_)),
    "sftp://, s3://, webdavs:// or ftps://",
);
const S3: Kinds = (|place| matches!(place, PlaceSpec::S3(_)), "s3://");

struct Keys<'r, 't, 'w> {
    reading: &'r mut Reading<'t>,
    with: &'w dyn Expand,
    /// Keys that were there, and where.
    met: Vec<(&'static str, Range<usize>, Kinds)>,
}

impl<'t> Keys<'_, 't, '_> {
    fn text<T>(
        &mut self,
        fields: &mut Fields<'t>,
        key: &'static str,
        kinds: Kinds,
        read: impl FnOnce(&str, &dyn Expand) -> Result<T, String>,
    ) -> Option<T> {
        let (text, span) = fields.text(self.reading, key)?;
        self.met.push((key, span.clone(), kinds));
        match read(&text, self.with) {
            Ok(value) => Some(value),
            Err(why) => {
                self.reading.problem(&span, why);
                None
            }
        }
    }

    fn path(
        &mut self,
        fields: &mut Fields<'t>,
        key: &'static str,
        kinds: Kinds,
    ) -> Option<PathBuf> {
        self.text(fields, key, kinds, |text, with| {
            expand(text, with).map_err(|problem| problem.to_string())
        })
    }

    fn value(
        &mut self,
        fields: &mut Fields<'t>,
        key: &'static str,
        kinds: Kinds,
    ) -> Option<Value<'t>> {
        let value = fields.take(key)?;
        self.met.push((key, value.span(), kinds));
        Some(value)
    }
}

/// Reads the keys that tell how to get to a place.
pub(crate) fn parse<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    place: Option<&PlaceSpec>,
    with: &dyn Expand,
) -> Access {
    let mut keys = Keys { reading, with, met: Vec::new() };
    let identity = keys.path(fields, "identity", SFTP);
    let known_hosts = keys.path(fields, "known-hosts", SFTP);
    let authority = keys.path(fields, "ca", TLS);
    let password = keys
        .value(fields, "password", LOGIN)
        .and_then(|value| secret::parse(keys.reading, "password", value, with));
    let identity_passphrase = keys
        .value(fields, "identity-passphrase", SFTP)
        .and_then(|value| secret::parse(keys.reading, "identity-passphrase", value, with));
    let up = keys.text(fields, "up", FAR, |text, _| Limit::parse(text));
    let down = keys.text(fields, "down", FAR, |text, _| Limit::parse(text));
    let patience = keys.text(fields, "patience", FAR, |text, _| match parse_duration(text)? {
        seconds @ 1..=LONGEST_PATIENCE => Ok(seconds),
        _ => Err(format!("`{text}` is not a valid patience: 1 second to 1 day")),
    });
    let endpoint = keys.text(fields, "endpoint", S3, |text, _| endpoint(text));
    let region = keys.text(fields, "region", S3, |text, _| word(text));
    let class = keys.text(fields, "class", S3, |text, _| word(text));
    let host_style = keys.text(fields, "style", S3, |text, _| match text {
        "path" => Ok(false),
        "host" => Ok(true),
        _ => Err(format!("`{text}` is not a style: write \"path\" or \"host\"")),
    });
    let part_size = keys.text(fields, "part-size", S3, |text, _| match parse_size(text)? {
        size @ SMALLEST_PART..=LARGEST_PART => Ok(size),
        _ => Err(format!("`{text}` is not a part size: servers accept 5 MiB to 5 GiB")),
    });
    let thaw = keys.text(fields, "thaw", S3, |text, _| parse_duration(text));
    let lock = keys.text(fields, "lock", S3, |text, _| parse_duration(text));
    let credentials = keys
        .value(fields, "credentials", S3)
        .and_then(|value| key_source(keys.reading, value, with));
    let met = keys.met;
    let connections = fields.count(reading, "connections", 64);
    if let Some(place) = place {
        for (key, span, (holds, kinds)) in met {
            if !holds(place) {
                let what = format!("`{key}` does not apply to this place, {place}");
                reading.problem_with(&span, what, format!("remove it; it is for {kinds}"));
            }
        }
    }
    let host_style = host_style.unwrap_or(false);
    let objects =
        Objects { endpoint, region, host_style, credentials, part_size, class, thaw, lock };
    let address = None;
    Access {
        address,
        identity,
        password,
        identity_passphrase,
        known_hosts,
        connections,
        patience,
        authority,
        up,
        down,
        objects,
    }
}

fn endpoint(text: &str) -> Result<String, String> {
    let host = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    match host.map(|host| host.trim_end_matches('/')) {
        Some(host)
            if !host.is_empty()
                && !host.contains(['/', '@', '?', '#'])
                && !host.contains(char::is_whitespace) =>
        {
            Ok(text.trim_end_matches('/').to_owned())
        }
        Some(host) if host.contains('@') => Err("do not put a key into an address".to_owned()),
        _ => Err("write the server's address: https://host or https://host:port".to_owned()),
    }
}

fn word(text: &str) -> Result<String, String> {
    let is_fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    match !text.is_empty() && text.chars().all(is_fine) {
        true => Ok(text.to_owned()),
        false => Err(format!("`{text}` is not a valid name on a server")),
    }
}

fn key_source<'t>(
    reading: &mut Reading<'t>,
    value: Value<'t>,
    with: &dyn Expand,
) -> Option<KeySource> {
    let span = value.span();
    let table = match value.into_inner() {
        DeValue::Table(table) => table,
        DeValue::String(text) if text == "instance" => return Some(KeySource::Instance),
        other => {
            if let DeValue::String(_) = &other {
                // It may be a secret: the line is not repeated.
                let problem = reading.problem(&span, "`credentials` does not say where the key is");
                problem.text = "credentials = …".to_owned();
                problem.column = 1;
                problem.hint = Some(WAYS.to_owned());
            } else {
                let value = toml::Spanned::new(span, other);
                wrong_type(reading, "credentials", &value, "a table that says where the key is");
            }
            return None;
        }
    };
    if table.keys().any(|key| matches!(key.get_ref().as_ref(), "id" | "secret")) {
        let problem = reading.problem(&span, "`credentials` contains a secret in plain text");
        problem.text = "credentials = …".to_owned();
        problem.column = 1;
        problem.hint = Some(WAYS.to_owned());
        return None;
    }
    let mut fields = Fields::new("a key", table);
    let names = fields.texts_where_listed(reading, "env");
    if let Some(names) = names {
        fields.finish(reading, &[]);
        return match <[String; 2]>::try_from(names) {
            Ok([id, secret]) => Some(KeySource::Env(id, secret)),
            Err(_) => {
                reading.problem(&span, "`env` names two variables: the id's, and the secret's");
                None
            }
        };
    }
    match secret::parse_fields(reading, "credentials", &span, fields, with)? {
        SecretSource::File(path) => Some(KeySource::File(path)),
        SecretSource::Command(words) => Some(KeySource::Command(words)),
        SecretSource::Credential(name) => Some(KeySource::Credential(name)),
        SecretSource::Keyring(name) => Some(KeySource::Keyring(name)),
        SecretSource::Env(_) => {
            reading.problem(&span, "`env` names two variables: the id's, and the secret's");
            None
        }
    }
}
