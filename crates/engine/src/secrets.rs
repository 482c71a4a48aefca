//! Obtaining secrets from where the configuration says they are.

use std::{fs, io::Read, os::unix::fs::PermissionsExt, path::Path, process::Command};

use skellin_plan::SecretSource;
use zeroize::Zeroizing;

use crate::error::{EngineError, Result};

/// A passphrase, wiped when dropped.
pub type Passphrase = Zeroizing<Vec<u8>>;

/// Secrets are no longer than this.
const LONGEST: u64 = 64 << 10;

/// Reads a secret: the first line of what its source yields. `subject` names it in messages.
///
/// # Errors
/// [`EngineError::Secret`], with what to do.
pub fn read_secret(source: &SecretSource, subject: &str) -> Result<Passphrase> {
    let mut bytes = read_whole_secret(source, subject)?;
    if let Some(end) = bytes.iter().position(|b| matches!(b, b'\n' | b'\r')) {
        bytes.truncate(end);
    }
    if bytes.is_empty() {
        return Err(EngineError::Secret {
            subject: subject.to_owned(),
            why: "it is empty".to_owned(),
            hint: "an empty passphrase protects nothing".to_owned(),
        });
    }
    Ok(bytes)
}

/// Reads all lines of a secret.
///
/// # Errors
/// [`EngineError::Secret`], with what to do.
pub(crate) fn read_whole_secret(source: &SecretSource, subject: &str) -> Result<Passphrase> {
    let failed =
        |why: String, hint: String| EngineError::Secret { subject: subject.to_owned(), why, hint };
    let bytes: Passphrase = match source {
        SecretSource::File(path) => read_private(path, &failed)?,
        SecretSource::Credential(name) => {
            let Some(folder) = std::env::var_os("CREDENTIALS_DIRECTORY") else {
                let why = format!("systemd has handed over no credential {name}");
                let hint = format!(
                    "start it as a service with LoadCredentialEncrypted={name}:…, or name another way in stores.toml"
                );
                return Err(failed(why, hint));
            };
            read_private(&Path::new(&folder).join(name), &failed)?
        }
        SecretSource::Keyring(name) => read_key(name, &failed)?,
        SecretSource::Env(name) => match std::env::var_os(name) {
            Some(value) => Zeroizing::new(std::os::unix::ffi::OsStringExt::into_vec(value)),
            None => {
                let why = format!("the environment has no {name}");
                return Err(failed(why, format!("set {name}, or name another way in stores.toml")));
            }
        },
        SecretSource::Command(words) => {
            let (program, arguments) = words
                .split_first()
                .map_or(("", &[][..]), |(program, rest)| (program.as_str(), rest));
            let hint = || format!("try it by hand: {}", words.join(" "));
            let output =
                Command::new(program).args(arguments).stdin(std::process::Stdio::null()).output();
            let output = output.map_err(|error| failed(format!("{program}: {error}"), hint()))?;
            if !output.status.success() {
                let said = String::from_utf8_lossy(&output.stderr)
                    .lines()
                    .next()
                    .unwrap_or_default()
                    .to_owned();
                return Err(failed(
                    format!("{program} ended with {}: {said}", output.status),
                    hint(),
                ));
            }
            Zeroizing::new(output.stdout)
        }
    };
    Ok(bytes)
}

/// Reads a key from the keyrings of this session and this user.
fn read_key(name: &str, failed: &dyn Fn(String, String) -> EngineError) -> Result<Passphrase> {
    use linux_keyutils::{KeyError, KeyRing, KeyRingIdentifier as Ring};
    let refused = |error: KeyError| {
        failed(
            format!("the key {name} in the keyring cannot be read: {error}"),
            "let its owner read it: keyctl setperm".to_owned(),
        )
    };
    for ring in [Ring::Session, Ring::User] {
        let found = KeyRing::from_special_id(ring, false).and_then(|ring| ring.search(name));
        match found {
            Ok(key) => {
                let mut bytes = Zeroizing::new(vec![0; LONGEST as usize]);
                let length = key.read(&mut *bytes).map_err(refused)?;
                bytes.truncate(length);
                return Ok(bytes);
            }
            Err(KeyError::AccessDenied) => return Err(refused(KeyError::AccessDenied)),
            Err(_) => {}
        }
    }
    Err(failed(
        format!("the keyring has no key {name}"),
        format!("put it there once after each start: keyctl padd user {name} @u"),
    ))
}

/// Reads a file that nobody else can read.
fn read_private(path: &Path, failed: &dyn Fn(String, String) -> EngineError) -> Result<Passphrase> {
    let shown = path.display();
    let unreadable = |error: std::io::Error| {
        failed(format!("{shown}: {error}"), format!("put it into {shown}, readable for you alone"))
    };
    let file = fs::File::open(path).map_err(unreadable)?;
    let mode = file.metadata().map_err(unreadable)?.permissions().mode();
    if mode & 0o077 != 0 {
        let why = format!("others may read {shown} (mode {:o})", mode & 0o777);
        return Err(failed(why, format!("chmod 600 {shown}")));
    }
    let mut bytes = Zeroizing::new(Vec::with_capacity(256));
    file.take(LONGEST).read_to_end(&mut bytes).map_err(unreadable)?;
    Ok(bytes)
}
