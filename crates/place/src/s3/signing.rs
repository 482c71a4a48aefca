//! Signatures in headers, as the S3 protocol wants them (AWS Signature Version 4): an HMAC-SHA256
//! over the method, the address, every header that matters and the hash of what is sent. Nothing
//! of it stands in the address, so that one that is seen in a log is of no use.

use ring::{digest, hmac};

use super::target::S3Key;

/// What is signed.
pub(super) struct Unsigned<'a> {
    pub method: &'a str,
    /// Host and port as the request's header has them.
    pub host: &'a str,
    /// Path, escaped.
    pub path: &'a str,
    /// Query, escaped, sorted by name.
    pub query: &'a str,
    /// Names in small letters.
    pub headers: &'a [(&'a str, String)],
    pub body: &'a [u8],
    pub region: &'a str,
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn sha256(bytes: &[u8]) -> String {
    hex(digest::digest(&digest::SHA256, bytes).as_ref())
}

fn mac(key: &[u8], message: &str) -> hmac::Tag {
    hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, key), message.as_bytes())
}

/// Bytes that need no escaping stay, others become `%XX`; `keep` are further ones that stay.
pub(super) fn escaped(text: &str, keep: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for byte in text.bytes() {
        let plain = byte.is_ascii_alphanumeric() || b"-_.~".contains(&byte);
        if plain || keep.as_bytes().contains(&byte) {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
    }
    out
}

/// The headers that make it a signed request: date, hash of the body, token, signature.
pub(super) fn sign(
    unsigned: &Unsigned<'_>,
    key: &S3Key,
    now: jiff::Timestamp,
) -> Vec<(&'static str, String)> {
    let date = now.strftime("%Y%m%dT%H%M%SZ").to_string();
    let day = &date[..8];
    let body_hash = sha256(unsigned.body);
    let mut added = vec![("x-amz-content-sha256", body_hash.clone()), ("x-amz-date", date.clone())];
    if let Some(token) = &key.token {
        added.push(("x-amz-security-token", token.to_string()));
    }
    let mut headers: Vec<(&str, &str)> = vec![("host", unsigned.host)];
    headers
        .extend(unsigned.headers.iter().chain(&added).map(|(name, value)| (*name, value.trim())));
    headers.sort_unstable();
    let names = headers.iter().map(|(name, _)| *name).collect::<Vec<_>>().join(";");
    let lines: String = headers.iter().map(|(name, value)| format!("{name}:{value}\n")).collect();
    let Unsigned { method, path, query, region, .. } = unsigned;
    let request = format!("{method}\n{path}\n{query}\n{lines}\n{names}\n{body_hash}");
    let scope = format!("{day}/{region}/s3/aws4_request");
    let to_sign = format!("AWS4-HMAC-SHA256\n{date}\n{scope}\n{}", sha256(request.as_bytes()));
    let start = zeroize::Zeroizing::new(format!("AWS4{}", key.secret.as_str()));
    let mut signing = mac(start.as_bytes(), day);
    for part in [*region, "s3", "aws4_request"] {
        signing = mac(signing.as_ref(), part);
    }
    let signature = hex(mac(signing.as_ref(), &to_sign).as_ref());
    let id = &key.id;
    let authorization = format!(
        "AWS4-HMAC-SHA256 Credential={id}/{scope}, SignedHeaders={names}, Signature={signature}"
    );
    added.push(("authorization", authorization));
    added
}
