//! Keys lent to a machine by the cloud it runs in, asked for at an address that only it reaches
//! (the instance metadata service, version 2, which wants a session token first).

use std::time::{Duration, SystemTime};

use zeroize::Zeroizing;

use super::target::S3Key;
use crate::{
    Operation, PlaceError, PlaceErrorKind, Throttles,
    http::{Ask, Http, Way},
};

const ROLES: &str = "/latest/meta-data/iam/security-credentials/";

/// Asks for the key of the machine's role, and how long it is good for.
pub(super) fn ask(address: &str, subject: &str) -> Result<(S3Key, Duration), PlaceError> {
    let failed = |why: String| {
        PlaceError::because(Operation::Reach, subject, PlaceErrorKind::Login, why).with_hint(
            "credentials = \"instance\" needs a cloud machine with a role; give it a role, or name a key",
        )
    };
    let way = Way {
        subject: address.to_owned(),
        authority: None,
        connections: 1,
        patience: Duration::from_secs(5),
        throttles: Throttles::default(),
    };
    let http = Http::new(&way)?;
    let fetch = |method: &str, path: &str, headers: Vec<(&str, String)>| {
        let url = format!("{}{path}", address.trim_end_matches('/'));
        let ask = Ask { method, most: 1 << 20, url: &url, headers, body: &[] };
        let answer = http
            .ask(Operation::Reach, subject, ask)
            .map_err(|error| failed(format!("cannot query the role of this machine: {error}")))?;
        match answer.is_fine() {
            true => Ok(Zeroizing::new(String::from_utf8_lossy(&answer.body).trim().to_owned())),
            false => {
                Err(failed(format!("this machine has no role: {path} answers {}", answer.status)))
            }
        }
    };
    let session = vec![("x-aws-ec2-metadata-token-ttl-seconds", "300".to_owned())];
    let token = fetch("PUT", "/latest/api/token", session)?;
    let with = || vec![("x-aws-ec2-metadata-token", token.to_string())];
    let role = fetch("GET", ROLES, with())?;
    let Some(role) = role.lines().next().filter(|role| !role.is_empty()) else {
        return Err(failed("this machine has no role".to_owned()));
    };
    let lent = fetch("GET", &format!("{ROLES}{role}"), with())?;
    let field = |name: &str| {
        let value: Option<serde_json::Value> = serde_json::from_str(&lent).ok();
        value?.get(name)?.as_str().map(str::to_owned)
    };
    let (Some(id), Some(secret)) = (field("AccessKeyId"), field("SecretAccessKey")) else {
        return Err(failed("the role of this machine gives no key".to_owned()));
    };
    let until = field("Expiration").and_then(|text| text.parse::<jiff::Timestamp>().ok());
    let good_for = until
        .and_then(|until| SystemTime::from(until).duration_since(SystemTime::now()).ok())
        .unwrap_or(Duration::from_secs(900));
    let key = S3Key { id, secret: secret.into(), token: field("Token").map(Into::into) };
    Ok((key, good_for))
}
