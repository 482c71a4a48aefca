//! What the server answers in XML.

use crate::http::{Element, flatten};

/// The first text of this name.
pub(super) fn text<'a>(answer: &'a [Element], name: &str) -> Option<&'a str> {
    answer.iter().find(|element| element.name == name).map(|element| element.text.as_str())
}

/// An object as a listing tells of it.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Object {
    pub name: String,
    pub size: u64,
    /// As the server writes it.
    pub modified: String,
    pub tag: Option<String>,
}

/// A page of a listing.
pub(super) struct Page {
    pub objects: Vec<Object>,
    /// Beginnings that names have in common, up to the next `/`.
    pub folders: Vec<String>,
    /// How to ask for the next page.
    pub next: Option<String>,
}

pub(super) fn page(xml: &[u8]) -> Result<Page, String> {
    let answer = flatten(xml)?;
    if answer.first().is_none_or(|element| element.name != "ListBucketResult") {
        return Err("the answer is not a listing".to_owned());
    }
    let (mut objects, mut folders) = (Vec::<Object>::new(), Vec::new());
    // How many have had both, their name and their size.
    let mut sized = 0;
    for Element { depth, name: element, text } in &answer {
        match (depth, element.as_str()) {
            (2, "Contents") => objects.push(Object::default()),
            (3, "Prefix") => folders.push(text.clone()),
            (3, field) => {
                let Some(object) = objects.last_mut() else { continue };
                match field {
                    "Key" => object.name.clone_from(text),
                    "LastModified" => object.modified.clone_from(text),
                    "ETag" => object.tag = Some(text.clone()),
                    "Size" => {
                        object.size = text
                            .parse()
                            .map_err(|_| format!("the listing has the size `{text}`"))?;
                        sized += 1;
                    }
                    _ => {}
                }
            }
            _ => {}
        }
    }
    if objects.iter().any(|object| object.name.is_empty()) || sized != objects.len() {
        return Err("the listing has an object without a name or a size".to_owned());
    }
    let is_cut = text(&answer, "IsTruncated") == Some("true");
    let next = text(&answer, "NextContinuationToken").map(str::to_owned);
    if is_cut && next.is_none() {
        return Err("the listing is incomplete".to_owned());
    }
    Ok(Page { objects, folders, next: next.filter(|_| is_cut) })
}

/// Uploads in parts that were begun: name, id, and when.
pub(super) fn uploads(xml: &[u8]) -> Result<Vec<(String, String, String)>, String> {
    let mut found = Vec::new();
    for Element { depth, name: element, text } in flatten(xml)? {
        match (depth, element.as_str()) {
            (2, "Upload") => found.push((String::new(), String::new(), String::new())),
            (3, field) => {
                if let Some((name, id, begun)) = found.last_mut() {
                    match field {
                        "Key" => *name = text,
                        "UploadId" => *id = text,
                        "Initiated" => *begun = text,
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn listings_are_read_and_torn_ones_refused() {
        let xml = b"<?xml version=\"1.0\"?>\n<ListBucketResult xmlns=\"x\"><IsTruncated>true</IsTruncated><Contents><Key>a/b&amp;c&#65;</Key><Size>12</Size></Contents><Contents><Key>d</Key><ETag>&quot;e&quot;</ETag><Size>0</Size></Contents><CommonPrefixes><Prefix>f/</Prefix></CommonPrefixes><NextContinuationToken>on &lt;</NextContinuationToken></ListBucketResult>";
        let page = page(xml).expect("a page");
        let shown = page.objects.iter().map(|object| (object.name.as_str(), object.size));
        assert_eq!(shown.collect::<Vec<_>>(), [("a/b&cA", 12), ("d", 0)]);
        assert_eq!(
            (page.objects[1].tag.as_deref(), page.folders),
            (Some("\"e\""), vec!["f/".to_owned()])
        );
        assert_eq!(page.next.as_deref(), Some("on <"));
        for cut in 1..xml.len() {
            assert!(super::page(&xml[..cut]).is_err(), "cut at {cut}");
        }
        for wrong in [
            "<Other/>",
            "<ListBucketResult><Contents><Size>1</Size></Contents></ListBucketResult>",
            "<ListBucketResult><Contents><Key>a</Key></Contents></ListBucketResult>",
            "<ListBucketResult><IsTruncated>true</IsTruncated></ListBucketResult>",
        ] {
            assert!(super::page(wrong.as_bytes()).is_err(), "{wrong}");
        }
    }
}
