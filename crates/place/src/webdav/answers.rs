//! What a server tells of its files (RFC 4918, section 14).

use crate::http::{Element, flatten};

/// A member of a collection.
#[derive(Debug, Default)]
pub(super) struct Member {
    /// Its path on the server.
    pub path: String,
    pub name: String,
    pub is_folder: bool,
    pub size: Option<u64>,
    pub modified: Option<String>,
    /// What the server calls this state of its content.
    pub tag: Option<String>,
}

/// A path as people write it, from an address or a part of one.
fn decoded(href: &str) -> String {
    let path = match href.split_once("://") {
        Some((_, rest)) => rest.find('/').map_or("/", |at| &rest[at..]),
        None => href,
    };
    let (mut bytes, mut rest) = (Vec::new(), path.as_bytes());
    while let [first, after @ ..] = rest {
        let escaped = (*first == b'%').then(|| after.get(..2)).flatten();
        let value =
            escaped.and_then(|two| u8::from_str_radix(std::str::from_utf8(two).ok()?, 16).ok());
        bytes.push(value.unwrap_or(*first));
        rest = if value.is_some() { &after[2..] } else { after };
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// All but the collection at `own` itself.
pub(super) fn members(xml: &[u8], own: &str) -> Result<Vec<Member>, String> {
    let own = own.trim_end_matches('/');
    let mut found = all(xml)?;
    found.retain(|member| member.path.trim_end_matches('/') != own);
    Ok(found)
}

/// All that is told of, the collection itself with its members.
pub(super) fn all(xml: &[u8]) -> Result<Vec<Member>, String> {
    let answer = flatten(xml)?;
    if answer.first().is_none_or(|element| element.name != "multistatus") {
        return Err("the answer lists no files".to_owned());
    }
    let mut found: Vec<Member> = Vec::new();
    for Element { depth, name, text } in answer {
        match (depth, name.as_str()) {
            (2, "response") => found.push(Default::default()),
            (3, "href") => {
                if let Some(member) = found.last_mut() {
                    let path = decoded(text.trim());
                    let name = path.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
                    (member.name, member.path) = (name.to_owned(), path);
                }
            }
            _ => {
                if let Some(member) = found.last_mut() {
                    match name.as_str() {
                        "collection" => member.is_folder = true,
                        "getcontentlength" => member.size = text.trim().parse().ok(),
                        "getlastmodified" => member.modified = Some(text.trim().to_owned()),
                        "getetag" => member.tag = Some(text.trim().to_owned()),
                        _ => {}
                    }
                }
            }
        }
    }
    Ok(found)
}

/// Free and all bytes.
pub(super) fn room(xml: &[u8]) -> Option<(u64, u64)> {
    let answer = flatten(xml).ok()?;
    let number = |name: &str| {
        answer.iter().find(|element| element.name == name)?.text.trim().parse::<u64>().ok()
    };
    let free = number("quota-available-bytes")?;
    Some((free, free.saturating_add(number("quota-used-bytes").unwrap_or(0))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn members_are_told_without_the_collection_itself() {
        let xml = br#"<?xml version="1.0"?><D:multistatus xmlns:D="DAV:">
            <D:response><D:href>/dav/in%20dex/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop></D:propstat></D:response>
            <D:response><D:href>http://pier/dav/in%20dex/a%25b</D:href><D:propstat><D:prop><D:resourcetype/><D:getcontentlength>12</D:getcontentlength></D:prop></D:propstat></D:response>
            <D:response><D:href>/dav/in%20dex/deeper/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop></D:propstat></D:response></D:multistatus>"#;
        let found = members(xml, "/dav/in dex/").expect("members");
        let shown: Vec<_> = found.iter().map(|m| (m.name.as_str(), m.is_folder, m.size)).collect();
        assert_eq!(shown, [("a%b", false, Some(12)), ("deeper", true, None)]);
        assert!(members(b"<html/>", "").is_err() && members(&xml[..200], "").is_err());
        let xml = b"<multistatus><response><quota-available-bytes>7</quota-available-bytes><quota-used-bytes>3</quota-used-bytes></response></multistatus>";
        assert_eq!(room(xml), Some((7, 10)));
    }
}
