//! Obtaining secrets from where the configuration says they are.

use std::{
    collections::BTreeSet,
    io::Read,
    path::Path,
    process::Command,
    sync::{Mutex, MutexGuard, PoisonError},
};

use skellin_place::own;
use skellin_plan::SecretSource;
use zeroize::Zeroizing;

use crate::{
    error::{EngineError, Result},
    ownership,
};

/// A passphrase, wiped when dropped.
pub type Passphrase = Zeroizing<Vec<u8>>;

/// Secrets are no longer than this.
const LONGEST: u64 = 64 << 10;

/// Variables of the environment that hold secrets, as the configuration names them.
static HIDDEN: Mutex<BTreeSet<String>> = Mutex::new(BTreeSet::new());

fn hidden() -> MutexGuard<'static, BTreeSet<String>> {
    HIDDEN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Notes the variables that a file of the configuration names as those of secrets: no command that
/// is run gets to see them.
pub(crate) fn hide_variables(text: &str) {
    let Ok(table) = toml::from_str::<toml::Table>(text) else { return };
    let mut ahead: Vec<&toml::Value> = table.values().collect();
    let mut names = hidden();
    while let Some(value) = ahead.pop() {
        match value {
            toml::Value::Table(table) => {
                match table.get("env") {
                    Some(toml::Value::String(name)) => drop(names.insert(name.clone())),
                    Some(toml::Value::Array(list)) => {
                        names
                            .extend(list.iter().filter_map(|name| Some(name.as_str()?.to_owned())));
                    }
                    _ => {}
                }
                ahead.extend(table.values());
            }
            toml::Value::Array(list) => ahead.extend(list),
            _ => {}
        }
    }
}

/// Keeps secrets of the environment from a command.
pub(crate) fn without_secrets(command: &mut Command) {
    for name in hidden().iter() {
        command.env_remove(name);
    }
}

/// Why a passphrase is weak, if it is: whoever holds the place can try millions a day.
#[must_use]
pub fn weakness(passphrase: &[u8]) -> Option<&'static str> {
    let text = String::from_utf8_lossy(passphrase);
    let distinct: BTreeSet<char> = text.chars().collect();
    if text.chars().count() < 10 {
        Some("it has fewer than 10 characters")
    } else if text.chars().all(|c| c.is_ascii_digit()) {
        Some("it has only digits")
    } else if distinct.len() < 5 {
        Some("it repeats a few characters")
    } else {
        None
    }
}

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
                let why = format!("systemd passed no credential {name}");
                let hint = format!(
                    "start it as a service with LoadCredentialEncrypted={name}:…, or configure another source"
                );
                return Err(failed(why, hint));
            };
            read_private(&Path::new(&folder).join(name), &failed)?
        }
        SecretSource::Keyring(name) => read_key(name, &failed)?,
        SecretSource::Env(name) => match std::env::var_os(name) {
            Some(value) => Zeroizing::new(std::os::unix::ffi::OsStringExt::into_vec(value)),
            None => {
                let why = format!("{name} is not set in the environment");
                return Err(failed(why, format!("set {name}, or configure another source")));
            }
        },
        SecretSource::Command(words) => {
            let (program, arguments) = words
                .split_first()
                .map_or(("", &[][..]), |(program, rest)| (program.as_str(), rest));
            let hint = || format!("try it by hand: {}", words.join(" "));
            let mut command = Command::new(program);
            command.args(arguments).stdin(std::process::Stdio::null());
            without_secrets(&mut command);
            let output = command.output();
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
            format!("cannot read key {name} in the keyring: {error}"),
            "allow its owner to read it: keyctl setperm".to_owned(),
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
        format!("no key {name} in the keyring"),
        format!("add it after each boot: keyctl padd user {name} @u"),
    ))
}

/// Reads a file that nobody else can read.
fn read_private(path: &Path, failed: &dyn Fn(String, String) -> EngineError) -> Result<Passphrase> {
    let shown = path.display();
    let unreadable = |error: std::io::Error| {
        failed(format!("{shown}: {error}"), format!("write it to {shown}, readable only by you"))
    };
    let file = own::open_plain(path).map_err(unreadable)?;
    if let Err((why, mend)) = own::is_private(&file).map_err(unreadable)? {
        return Err(failed(
            format!("{shown} is not safe to use: {why}"),
            format!("{mend} {shown}"),
        ));
    }
    if let Err(untrusted) = ownership::look(path).map_err(unreadable)? {
        let why = format!("{} is not safe to use: {}", untrusted.path.display(), untrusted.why);
        return Err(failed(why, untrusted.mend));
    }
    let mut bytes = Zeroizing::new(Vec::with_capacity(256));
    file.take(LONGEST).read_to_end(&mut bytes).map_err(unreadable)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weak_passphrases_are_known_by_their_look() {
        for weak in ["", "gull", "123456789", "1234567890123456", "abababababab"] {
            assert!(weakness(weak.as_bytes()).is_some(), "{weak}");
        }
        assert_eq!(weakness(b"terns over the pier"), None);
    }

    #[test]
    fn variables_of_secrets_are_found_wherever_they_stand() {
        hide_variables(
            "[oak]\npassphrase = { env = \"TEST_OAK\" }\n[offshore]\ncredentials = { env = [\"TEST_ID\", \"TEST_SECRET\"] }\n[[more]]\nkey = { env = \"TEST_MORE\" }\n",
        );
        let names = hidden();
        for name in ["TEST_OAK", "TEST_ID", "TEST_SECRET", "TEST_MORE"] {
            assert!(names.contains(name), "{name}");
        }
    }
}
