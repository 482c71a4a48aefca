//! From a name to a session: the steps one by one, each with its own failure.

use std::{
    fmt, io,
    path::Path,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use russh::{
    MethodKind, MethodSet,
    client::{self, AuthResult, Handle},
    keys::{
        PrivateKeyWithHashAlg, PublicKey, PublicKeyOrCertificate,
        agent::{AgentIdentity, client::AgentClient},
        decode_secret_key,
    },
};
use tokio::{net::TcpStream, time::timeout};
use zeroize::Zeroizing;

use super::{
    target::{Hop, SftpTarget},
    trust::{self, Trust},
};
use crate::{
    Operation, PlaceError, PlaceErrorKind,
    own::{self, open_plain, read_up_to},
};

/// No private key is longer, in bytes.
const LONGEST_KEY: u64 = 64 << 10;

/// A step on the way to a host, done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SftpStep {
    /// The name has addresses.
    Name {
        /// The host.
        host: String,
        /// Its addresses.
        addresses: Vec<String>,
    },
    /// The port answers.
    Port {
        /// The host and the port.
        host: String,
        /// What the server calls itself.
        port: u16,
    },
    /// The host is who it should be.
    HostKey {
        /// The SHA-256 of its key.
        sha256: String,
        /// Whether it was not known before and has been accepted now.
        accepted: bool,
    },
    /// The login went through.
    Login {
        /// The user.
        user: String,
        /// By what.
        by: String,
    },
}

/// How to go about it.
pub(super) struct Connecting<'a> {
    /// Whether a host whose key is not known is accepted and saved.
    pub accept_new: bool,
    /// So long each step may take.
    pub patience: Duration,
    /// Told of each step.
    pub told: &'a (dyn Fn(SftpStep) + Sync),
}

/// What the server's key was found to be, for the words of the failure.
type Seen = Arc<Mutex<Option<(PublicKey, Trust)>>>;

pub(super) struct Client {
    hop: Hop,
    accept_new: bool,
    seen: Seen,
}

impl client::Handler for Client {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        key: &PublicKeyOrCertificate,
    ) -> Result<bool, russh::Error> {
        let PublicKeyOrCertificate::PublicKey { key, .. } = key else { return Ok(false) };
        let trust = trust::look(&self.hop, key);
        let is_fine = match trust {
            Trust::Known => true,
            Trust::New => self.accept_new,
            Trust::Changed { .. } | Trust::Revoked { .. } | Trust::Unclear { .. } => false,
        };
        *self.seen.lock().unwrap_or_else(PoisonError::into_inner) = Some((key.clone(), trust));
        Ok(is_fine)
    }
}

pub(super) type Session = Handle<Client>;

fn config(hop: &Hop) -> Arc<client::Config> {
    let mut config = client::Config {
        // A frozen connection is noticed by what is asked on it, and by these.
        keepalive_interval: Some(Duration::from_secs(15)),
        keepalive_max: 3,
        nodelay: true,
        window_size: 16 << 20,
        maximum_packet_size: 65_535,
        ..client::Config::default()
    };
    // A host that has several keys is asked for the one that is known.
    let known = trust::known_algorithms(hop);
    let mut order = config.preferred.key.to_vec();
    order.sort_by_key(|algorithm| !known.contains(algorithm));
    config.preferred.key = order.into();
    Arc::new(config)
}

fn failed(hop: &Hop, kind: PlaceErrorKind, reason: impl Into<String>) -> PlaceError {
    let subject = format!("{}:{}", hop.name, hop.port);
    PlaceError::because(Operation::Reach, subject, kind, reason)
}

impl Connecting<'_> {
    /// Connects to a host, through others where that is asked for, and logs in.
    pub async fn go(&self, target: &SftpTarget) -> Result<Vec<Session>, PlaceError> {
        let mut sessions: Vec<Session> = Vec::new();
        for hop in target.via.iter().chain([&target.hop]) {
            let session = match sessions.last() {
                None => {
                    let stream = self.dial(hop).await?;
                    self.greet(hop, stream).await?
                }
                Some(before) => {
                    let opened = before.channel_open_direct_tcpip(
                        hop.address.clone(),
                        u32::from(hop.port),
                        "127.0.0.1",
                        0,
                    );
                    let channel = patient(hop, self.patience, opened).await?.map_err(|error| {
                        let what = format!("it cannot be reached from the jump host: {error}");
                        failed(hop, PlaceErrorKind::Unreachable, what)
                    })?;
                    self.greet(hop, channel.into_stream()).await?
                }
            };
            sessions.push(session);
        }
        // The last is the one to work with; the others carry it.
        sessions.reverse();
        Ok(sessions)
    }

    async fn dial(&self, hop: &Hop) -> Result<TcpStream, PlaceError> {
        let looked_up = tokio::net::lookup_host((hop.address.as_str(), hop.port));
        let addresses: Vec<_> = match patient(hop, self.patience, looked_up).await? {
            Ok(found) => found.collect(),
            Err(error) => {
                let what = format!("the name {} does not resolve: {error}", hop.address);
                let hint = "check the spelling of the host name, and DNS on this machine";
                return Err(failed(hop, PlaceErrorKind::Unreachable, what).with_hint(hint));
            }
        };
        (self.told)(SftpStep::Name {
            host: hop.address.clone(),
            addresses: addresses.iter().map(|address| address.ip().to_string()).collect(),
        });
        let stream = patient(hop, self.patience, TcpStream::connect(&*addresses)).await?.map_err(
            |error| {
                let (what, hint) = match error.kind() {
                    io::ErrorKind::ConnectionRefused => (
                        format!("nothing listens on port {}", hop.port),
                        "is the SSH service running there, on this port?",
                    ),
                    _ => (
                        format!("port {} cannot be reached: {error}", hop.port),
                        "is the host up, and does the firewall allow this port?",
                    ),
                };
                failed(hop, PlaceErrorKind::Unreachable, what).with_hint(hint)
            },
        )?;
        let _ = stream.set_nodelay(true);
        (self.told)(SftpStep::Port { host: hop.address.clone(), port: hop.port });
        Ok(stream)
    }

    /// Agrees on keys with a server, makes sure who it is, and logs in.
    async fn greet<S>(&self, hop: &Hop, stream: S) -> Result<Session, PlaceError>
    where
        S: tokio::io::AsyncRead + tokio::io::AsyncWrite + Unpin + Send + 'static,
    {
        let seen = Seen::default();
        let client =
            Client { hop: hop.clone(), accept_new: self.accept_new, seen: Arc::clone(&seen) };
        let connected =
            patient(hop, self.patience, client::connect_stream(config(hop), stream, client))
                .await?;
        let found = seen.lock().unwrap_or_else(PoisonError::into_inner).take();
        let mut session = match (connected, &found) {
            (Ok(session), _) => session,
            (Err(_), Some((key, Trust::New))) if !self.accept_new => {
                let what = format!("unknown host key, {}", trust::sha256(key));
                let hint = "compare it with the key on the host, then accept it: skellin store reach NAME --accept-host-key (for a source: its address)";
                return Err(failed(hop, PlaceErrorKind::NewHost, what).with_hint(hint));
            }
            (Err(_), Some((key, Trust::Changed { known, file, line }))) => {
                let what =
                    format!("the host key has changed: {} now, {known} before", trust::sha256(key));
                let hint = format!(
                    "this may be an attack; if the host was reinstalled, remove line {line} of {}",
                    file.display()
                );
                return Err(failed(hop, PlaceErrorKind::HostKey, what).with_hint(hint));
            }
            (Err(_), Some((key, Trust::Revoked { file, line }))) => {
                let what = format!("host key {} is revoked", trust::sha256(key));
                let hint = format!("see line {line} of {}; do not trust this host", file.display());
                return Err(failed(hop, PlaceErrorKind::HostKey, what).with_hint(hint));
            }
            (Err(_), Some((_, Trust::Unclear { why, file, line }))) => {
                let place = match line {
                    Some(line) => format!("line {line} of {}", file.display()),
                    None => file.display().to_string(),
                };
                let what = format!("cannot check the host key: {place}: {why}");
                let hint = format!("correct {place}, or remove it and accept the key again");
                return Err(failed(hop, PlaceErrorKind::HostKey, what).with_hint(hint));
            }
            (Err(russh::Error::Disconnect | russh::Error::HUP | russh::Error::IO(_)), _) => {
                let what = "it closed the connection before the login";
                let hint =
                    "is the server up, and does it allow this many connections (MaxStartups)?";
                return Err(failed(hop, PlaceErrorKind::Unreachable, what).with_hint(hint));
            }
            (Err(error), _) => {
                let what = format!("cannot set up the SSH connection: {error}");
                let hint = "is this the port of an SSH server?";
                return Err(failed(hop, PlaceErrorKind::Unreachable, what).with_hint(hint));
            }
        };
        if let Some((key, trust)) = found {
            let accepted = trust == Trust::New;
            if accepted {
                trust::learn(hop, &key).map_err(|why| {
                    failed(hop, PlaceErrorKind::HostKey, format!("cannot save the host key: {why}"))
                })?;
            }
            (self.told)(SftpStep::HostKey { sha256: trust::sha256(&key), accepted });
        }
        let by = login(hop, self.patience, &mut session).await?;
        (self.told)(SftpStep::Login { user: hop.user.clone(), by });
        Ok(session)
    }
}

/// Waits for a step, but not for ever.
async fn patient<T>(
    hop: &Hop,
    patience: Duration,
    step: impl Future<Output = T>,
) -> Result<T, PlaceError> {
    timeout(patience, step).await.map_err(|_| {
        let what = format!("no answer within {} s", patience.as_secs());
        failed(hop, PlaceErrorKind::Slow, what).with_hint("is the host up, and the network?")
    })
}

/// What was tried, for the words of a refusal.
#[derive(Default)]
struct Tried(Vec<String>);

impl fmt::Display for Tried {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0.as_slice() {
            [] => f.write_str("nothing"),
            tried => f.write_str(&tried.join(", ")),
        }
    }
}

/// Logs in by whatever the server offers and the user has given; by what it worked.
async fn login(hop: &Hop, patience: Duration, session: &mut Session) -> Result<String, PlaceError> {
    let broke = |error: russh::Error| {
        failed(hop, PlaceErrorKind::Cut, format!("the login failed: {error}"))
    };
    let mut tried = Tried::default();
    let first =
        patient(hop, patience, session.authenticate_none(&hop.user)).await?.map_err(broke)?;
    let AuthResult::Failure { remaining_methods: mut offered, .. } = first else {
        return Ok("no authentication".to_owned());
    };
    let all = offered.clone();
    let ended = |tried: &Tried| {
        let what = format!("the connection was closed during the login; tried: {tried}");
        let hint =
            "a server that allows few attempts ends it like this: name one key (identity = \"…\")";
        failed(hop, PlaceErrorKind::Cut, what).with_hint(hint)
    };
    if all.is_empty() {
        // A server that refuses says what it accepts (RFC 4252, 5.1): this one, or the line, is gone.
        return Err(ended(&tried));
    }
    if offered.contains(&MethodKind::PublicKey) {
        for file in &hop.identities {
            let key = identity(hop, file)?;
            let hash = session.best_supported_rsa_hash().await.map_err(broke)?.flatten();
            let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
            let result = patient(hop, patience, session.authenticate_publickey(&hop.user, key))
                .await?
                .map_err(broke)?;
            match after(result, &mut offered) {
                true => return Ok(format!("the key {}", file.display())),
                false => tried.0.push(format!("the key {}", file.display())),
            }
        }
        if hop.agent
            && let Ok(mut agent) = AgentClient::connect_env().await
        {
            let identities = agent.request_identities().await.unwrap_or_default();
            let hash = session.best_supported_rsa_hash().await.map_err(broke)?.flatten();
            for held in identities {
                let AgentIdentity::PublicKey { key, comment } = held else { continue };
                let result = session
                    .authenticate_publickey_with(&hop.user, key, hash, &mut agent)
                    .await
                    .map_err(|error| {
                        failed(hop, PlaceErrorKind::Login, format!("the agent failed: {error}"))
                    })?;
                match after(result, &mut offered) {
                    true => return Ok(format!("the agent's key {comment}")),
                    false => tried.0.push(format!("the agent's key {comment}")),
                }
            }
        }
    }
    if let Some(password) = &hop.password {
        if offered.contains(&MethodKind::Password) {
            let answer = session.authenticate_password(&hop.user, password.as_str());
            let result = patient(hop, patience, answer).await?.map_err(broke)?;
            match after(result, &mut offered) {
                true => return Ok("the password".to_owned()),
                false => tried.0.push("the password".to_owned()),
            }
        }
        if offered.contains(&MethodKind::KeyboardInteractive) {
            match patient(hop, patience, interactive(hop, session, password))
                .await?
                .map_err(broke)?
            {
                true => return Ok("keyboard-interactive password".to_owned()),
                false => tried.0.push("keyboard-interactive password".to_owned()),
            }
        }
    }
    if has_ended(session, &offered).await {
        return Err(ended(&tried));
    }
    let offers: Vec<&str> = all.iter().map(<&str>::from).collect();
    let what = format!(
        "login as {} refused; the server accepts {}; tried: {tried}",
        hop.user,
        offers.join(", ")
    );
    let hint = if tried.0.is_empty() {
        "name a key (identity = \"…\") or a password (password = { file = \"…\" }) in stores.toml"
            .to_owned()
    } else {
        format!(
            "is {} the right account? Check authorized_keys there (content, owner, mode), or the password",
            hop.user
        )
    };
    Err(failed(hop, PlaceErrorKind::Login, what).with_hint(hint))
}

/// Whether a refusal is none, but the end of the connection: it offers nothing then, and the session
/// ends a moment after its answers do.
async fn has_ended(session: &Session, offered: &MethodSet) -> bool {
    let moments = if offered.is_empty() { 20 } else { 1 };
    for _ in 0..moments {
        if session.is_closed() {
            return true;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    false
}

/// Whether a proof was enough; else what the server offers now is noted.
fn after(result: AuthResult, offered: &mut MethodSet) -> bool {
    match result {
        AuthResult::Success => true,
        AuthResult::Failure { remaining_methods, .. } => {
            *offered = remaining_methods;
            false
        }
    }
}

async fn interactive(
    hop: &Hop,
    session: &mut Session,
    password: &str,
) -> Result<bool, russh::Error> {
    use client::KeyboardInteractiveAuthResponse as Response;
    let mut response =
        session.authenticate_keyboard_interactive_start(&hop.user, None::<String>).await?;
    loop {
        response = match response {
            Response::Success => return Ok(true),
            Response::Failure { .. } => return Ok(false),
            Response::InfoRequest { prompts, .. } => {
                // Only what is not shown while it is typed is a password.
                let answers = prompts
                    .iter()
                    .map(|prompt| if prompt.echo { String::new() } else { password.to_owned() });
                session.authenticate_keyboard_interactive_respond(answers.collect()).await?
            }
        };
    }
}

/// Reads a private key that nobody else can read.
fn identity(hop: &Hop, file: &Path) -> Result<russh::keys::PrivateKey, PlaceError> {
    let shown = file.display();
    let refused = |what: String| failed(hop, PlaceErrorKind::Login, what);
    let unreadable = |error: io::Error| {
        refused(format!("cannot read key {shown}: {error}"))
            .with_hint("check `identity`, and the permissions of the file")
    };
    let opened = open_plain(file).map_err(unreadable)?;
    own::is_private(&opened).map_err(unreadable)?.map_err(|(why, mend)| {
        refused(format!("key {shown} is not safe to use: {why}"))
            .with_hint(format!("{mend} {shown}"))
    })?;
    let text = Zeroizing::new(read_up_to(opened, LONGEST_KEY).map_err(unreadable)?);
    let text = std::str::from_utf8(&text)
        .map_err(|_| refused(format!("key {shown} is not a text file")))?;
    let passphrase = hop.identity_passphrase.as_ref().map(|passphrase| passphrase.as_str());
    decode_secret_key(text, None).or_else(|_| decode_secret_key(text, passphrase)).map_err(
        |error| {
            let hint = match passphrase {
                None => "if it is encrypted: identity-passphrase = { file = \"…\" }",
                Some(_) => "check identity-passphrase",
            };
            refused(format!("cannot open key {shown}: {error}")).with_hint(hint)
        },
    )
}
