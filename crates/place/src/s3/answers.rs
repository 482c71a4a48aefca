//! What the server answers in XML.

use crate::http::{Element, flatten};

/// The first text of this name.
pub(super) fn text<'a>(answer: &'a [Element], name: &str) -> Option<&'a str> {
    answer.iter().find(|element| element.name == name).map(|element| element.text.as_str())
}

/// A page of a listing.
pub(super) struct Page {
    /// Names and sizes.
    pub objects: Vec<(String, u64)>,
    /// How to ask for the next page.
    pub next: Option<String>,
}

pub(super) fn page(xml: &[u8]) -> Result<Page, String> {
    let answer = flatten(xml)?;
    if answer.first().is_none_or(|element| element.name != "ListBucketResult") {
        return Err("the answer is no listing".to_owned());
    }
    let mut objects = Vec::new();
    let mut name = None;
    for Element { depth, name: element, text } in &answer {
        match (depth, element.as_str()) {
            (3, "Key") => name = Some(text.clone()),
            (3, "Size") => {
                let size =
                    text.parse().map_err(|_| format!("the listing has the size `{text}`"))?;
                objects.push((name.take().ok_or("the listing has a size without a name")?, size));
            }
            _ => {}
        }
    }
    let is_cut = text(&answer, "IsTruncated") == Some("true");
    let next = text(&answer, "NextContinuationToken").map(str::to_owned);
    if is_cut && next.is_none() {
        return Err("the listing goes on, and does not say where".to_owned());
    }
    Ok(Page { objects, next: next.filter(|_| is_cut) })
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
        let xml = b"<?xml version=\"1.0\"?>\n<ListBucketResult xmlns=\"x\"><IsTruncated>true</IsTruncated><Contents><Key>a/b&amp;c&#65;</Key><Size>12</Size></Contents><Contents><Key>d</Key><Size>0</Size></Contents><NextContinuationToken>on &lt;</NextContinuationToken></ListBucketResult>";
        let page = page(xml).expect("a page");
        assert_eq!(page.objects, [("a/b&cA".to_owned(), 12), ("d".to_owned(), 0)]);
        assert_eq!(page.next.as_deref(), Some("on <"));
        for cut in 1..xml.len() {
            assert!(super::page(&xml[..cut]).is_err(), "cut at {cut}");
        }
        for wrong in [
            "<Other/>",
            "<ListBucketResult><Contents><Size>1</Size></Contents></ListBucketResult>",
            "<ListBucketResult><IsTruncated>true</IsTruncated></ListBucketResult>",
        ] {
            assert!(super::page(wrong.as_bytes()).is_err(), "{wrong}");
        }
    }
}
