//! Keys of object stores, from where the configuration says they are.

use serde::Deserialize;
use skellin_place::{S3Key, S3Login};
use skellin_plan::{KeySource, SecretSource, StoreConfig};

use crate::{
    error::{EngineError, Result},
    secrets::{Passphrase, read_secret, read_whole_secret},
};

/// Where machines of a cloud ask for the key of their role.
const METADATA: &str = "http://169.254.169.254";

/// A key as a file or a command gives it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Told {
    id: String,
    secret: String,
    token: Option<String>,
}

/// The key a store's requests are signed with.
pub(super) fn login(config: &StoreConfig) -> Result<S3Login> {
    let subject = format!("the key of `{}`", config.name);
    let failed = |why: &str, hint: String| EngineError::Secret {
        subject: subject.clone(),
        why: why.to_owned(),
        hint,
    };
    let whole = |source| {
        let text = read_whole_secret(&source, &subject)?;
        let told =
            std::str::from_utf8(&text).ok().and_then(|text| toml::from_str::<Told>(text).ok());
        // What is wrong is not repeated: it may be the secret.
        let told = told.ok_or_else(|| {
            failed(
                "it does not contain a key",
                "write two lines: id = \"…\" and secret = \"…\"".to_owned(),
            )
        })?;
        let token = told.token.map(Into::into);
        Ok(S3Login::Key(S3Key { id: told.id, secret: told.secret.into(), token }))
    };
    match &config.access.objects.credentials {
        None => Err(failed(
            "not configured in stores.toml",
            "credentials = { file = \"…\" }, a file with id = \"…\" and secret = \"…\"".to_owned(),
        )),
        Some(KeySource::Instance) => Ok(S3Login::Instance(METADATA.to_owned())),
        Some(KeySource::File(path)) => whole(SecretSource::File(path.clone())),
        Some(KeySource::Command(words)) => whole(SecretSource::Command(words.clone())),
        Some(KeySource::Credential(name)) => whole(SecretSource::Credential(name.clone())),
        Some(KeySource::Keyring(name)) => whole(SecretSource::Keyring(name.clone())),
        Some(KeySource::Env(id, secret)) => {
            let text = |name: &String| -> Result<String> {
                let value: Passphrase = read_secret(&SecretSource::Env(name.clone()), &subject)?;
                Ok(String::from_utf8_lossy(&value).into_owned())
            };
            let key = S3Key { id: text(id)?, secret: text(secret)?.into(), token: None };
            Ok(S3Login::Key(key))
        }
    }
}
