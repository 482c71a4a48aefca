//! Patterns: what stands in a rule, part by part.

use regex::escape;

/// Where a pattern begins to fit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Anchor {
    /// At the root of the file system (`/…`).
    Root,
    /// At the source (`./…`).
    Source,
    /// At every depth below the source.
    Anywhere,
}

/// One part between slashes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// `**`: any number of directories.
    Any,
    /// A name, as a regular expression on bytes.
    Name(String),
}

/// A pattern that was understood.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Pattern {
    pub anchor: Anchor,
    pub parts: Vec<Part>,
    /// Beside each part the name it stands for, if it is that of one name only.
    pub literals: Vec<Option<String>>,
    pub directories_only: bool,
    /// Whether upper and lower case are the same.
    pub nocase: bool,
}

/// One character other than `/`: a UTF-8 sequence where there is one, else a byte.
const CHARACTER: &str = r"(?:[\x00-\x2E\x30-\x7F]|[\xC2-\xDF][\x80-\xBF]|[\xE0-\xEF][\x80-\xBF]{2}|[\xF0-\xF4][\x80-\xBF]{3}|[\x80-\xFF])";

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str, nocase: bool) -> Result<Self, String> {
        let (anchor, rest) = match text {
            text if text.starts_with('/') => (Anchor::Root, &text[1..]),
            text if text.starts_with("./") => (Anchor::Source, &text[2..]),
            text => (Anchor::Anywhere, text),
        };
        let directories_only = rest.ends_with('/');
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        if rest.is_empty() && anchor == Anchor::Anywhere {
            return Err("an empty pattern matches nothing".to_owned());
        }
        let parts: Vec<Part> = if rest.is_empty() {
            Vec::new()
        } else {
            rest.split('/').map(|part| parse_part(part, nocase)).collect::<Result<_, _>>()?
        };
        let literal = |part: &str| {
            let is_plain = !part.contains(['*', '?', '[', '\\']);
            is_plain.then(|| part.to_owned())
        };
        let literals = rest.split('/').take(parts.len()).map(literal).collect();
        Ok(Self { anchor, parts, literals, directories_only, nocase })
    }

    /// The regular expression for paths that end in `/` if they are directories. `source` is the
    /// source's path without a final `/`, escaped.
    pub fn expression(&self, source: &str) -> String {
        let mut out = String::from("^");
        match self.anchor {
            Anchor::Root => {}
            Anchor::Source => out.push_str(source),
            Anchor::Anywhere => {
                out.push_str(source);
                out.push_str("(?:/[^/]+)*");
            }
        }
        // The source's own path is compared as it is.
        out.push_str(if self.nocase { "(?i:" } else { "(?:" });
        for (number, part) in self.parts.iter().enumerate() {
            match part {
                Part::Name(name) => {
                    out.push('/');
                    out.push_str(name);
                }
                // At the end `**` stands for what is below, not for the directory itself.
                Part::Any if number + 1 == self.parts.len() => out.push_str("(?:/[^/]+)+"),
                Part::Any => out.push_str("(?:/[^/]+)*"),
            }
        }
        out.push_str(if self.directories_only { ")/$" } else { ")/?$" });
        out
    }
}

fn parse_part(part: &str, nocase: bool) -> Result<Part, String> {
    if part.is_empty() {
        return Err("`//` matches nothing; write one `/`".to_owned());
    }
    if part == "**" {
        return Ok(Part::Any);
    }
    // A name is never empty, or `*` would fit the end of `directory/`.
    if part == "*" {
        return Ok(Part::Name("[^/]+".to_owned()));
    }
    if part == "." || part == ".." {
        return Err(format!("`{part}` never occurs in a path"));
    }
    let mut out = String::new();
    let mut characters = part.chars().peekable();
    while let Some(c) = characters.next() {
        match c {
            '*' if characters.peek() == Some(&'*') => {
                return Err("`**` stands alone between slashes; within a name write `*`".to_owned());
            }
            '*' => out.push_str("[^/]*"),
            '?' => out.push_str(CHARACTER),
            '[' => out.push_str(&parse_set(&mut characters)?),
            '\\' => match characters.next() {
                Some(next) => push_literal(&mut out, next, nocase),
                None => return Err("a pattern must not end with a backslash".to_owned()),
            },
            other => push_literal(&mut out, other, nocase),
        }
    }
    Ok(Part::Name(out))
}

/// A character as its bytes; beyond ASCII the expression knows no case, so that both are spelled
/// out.
fn push_literal(out: &mut String, c: char, nocase: bool) {
    if c.is_ascii() {
        out.push_str(&escape(c.encode_utf8(&mut [0; 4])));
        return;
    }
    let spelled =
        |text: String| -> String { text.bytes().map(|byte| format!("\\x{byte:02X}")).collect() };
    let mut forms = vec![spelled(c.to_string())];
    if nocase {
        forms.extend([spelled(c.to_lowercase().collect()), spelled(c.to_uppercase().collect())]);
        forms.dedup();
    }
    out.push_str(&format!("(?:{})", forms.join("|")));
}

/// A set, from after its `[`: single characters and ranges, inverted by a leading `!`.
fn parse_set(characters: &mut std::iter::Peekable<std::str::Chars<'_>>) -> Result<String, String> {
    let inverted = characters.next_if_eq(&'!').is_some();
    let mut members = Vec::new();
    loop {
        let unclosed = || "`[` is never closed by `]`".to_owned();
        let first = match characters.next().ok_or_else(unclosed)? {
            ']' if !members.is_empty() => break,
            ']' => return Err("an empty set `[]` matches nothing".to_owned()),
            '\\' => characters.next().ok_or_else(unclosed)?,
            c => c,
        };
        let mut last = first;
        if characters.peek() == Some(&'-') {
            characters.next();
            match characters.next().ok_or_else(unclosed)? {
                // A `-` before the end is a member.
                ']' => {
                    members.extend([(first, first), ('-', '-')]);
                    break;
                }
                c => last = c,
            }
        }
        if !first.is_ascii() || !last.is_ascii() {
            return Err("a set may contain ASCII characters only".to_owned());
        }
        if first > last {
            return Err(format!("the range `{first}-{last}` is reversed"));
        }
        members.push((first, last));
    }
    let range =
        |(first, last): &(char, char)| format!("\\x{:02X}-\\x{:02X}", *first as u32, *last as u32);
    let ranges: String = members.iter().map(range).collect();
    // Neither form ever fits a `/`.
    Ok(if inverted { format!("[^/{ranges}]") } else { format!("[{ranges}&&[^/]]") })
}
