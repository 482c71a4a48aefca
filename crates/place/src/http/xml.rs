//! Answers in XML.

use quick_xml::{Reader, events::Event};

/// An element of an answer.
#[derive(Debug)]
pub(crate) struct Element {
    /// How deep it stands; the outermost is 1.
    pub depth: usize,
    /// Its name, without a name space.
    pub name: String,
    /// The text directly in it.
    pub text: String,
}

/// Answers have no more elements than this,
const MOST_ELEMENTS: usize = 1 << 20;
/// nor are they deeper.
const DEEPEST: usize = 64;

/// An answer as its elements, in the order they begin.
pub(crate) fn flatten(xml: &[u8]) -> Result<Vec<Element>, String> {
    let text = std::str::from_utf8(xml).map_err(|_| "the answer is not text".to_owned())?;
    let mut reader = Reader::from_str(text);
    let (mut found, mut open): (Vec<Element>, Vec<usize>) = (Vec::new(), Vec::new());
    loop {
        if found.len() > MOST_ELEMENTS || open.len() > DEEPEST {
            return Err("the answer is too large".to_owned());
        }
        let broken = |error: &dyn std::fmt::Display| format!("the answer is not XML: {error}");
        match reader.read_event().map_err(|error| broken(&error))? {
            Event::Start(start) => {
                let name = start.local_name().as_ref().to_owned();
                open.push(found.len());
                found.push(Element { depth: open.len(), name, text: String::new() });
            }
            Event::Empty(start) => {
                let name = start.local_name().as_ref().to_owned();
                found.push(Element { depth: open.len() + 1, name, text: String::new() });
            }
            Event::Text(text) => {
                if let Some(at) = open.last() {
                    found[*at].text.push_str(&text);
                }
            }
            Event::CData(text) => {
                if let Some(at) = open.last() {
                    found[*at].text.push_str(&text);
                }
            }
            Event::GeneralRef(reference) => {
                if let Some(at) = open.last() {
                    let text = match reference.resolve_char_ref().map_err(|error| broken(&error))? {
                        Some(character) => character.to_string(),
                        None => quick_xml::escape::resolve_xml_entity(&reference)
                            .unwrap_or_default()
                            .to_owned(),
                    };
                    found[*at].text.push_str(&text);
                }
            }
            Event::End(_) => drop(open.pop()),
            Event::Eof if open.is_empty() => return Ok(found),
            Event::Eof => return Err("the answer is cut short".to_owned()),
            _ => {}
        }
    }
}
