//! Files with the keys of known hosts, read whole (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT"). What
//! is not understood of a line never makes a host's key look new.

use std::{
    fs::OpenOptions,
    io::{self, Read as _, Seek as _, SeekFrom, Write as _},
    os::unix::fs::OpenOptionsExt as _,
    path::Path,
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use ring::hmac;

use crate::own::{open_plain, read_up_to};

/// No such file is longer, in bytes.
const LONGEST: u64 = 16 << 20;

/// What a line says of a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Says {
    /// It has this key, in the form in which it goes over the line.
    Key(Vec<u8>),
    /// This key is not to be trusted any more.
    Revoked(Vec<u8>),
    /// Something that is not understood.
    Unclear,
}

/// A line that names a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Line {
    /// Counted from 1.
    pub number: usize,
    pub says: Says,
}

/// The lines of a file that name a host; none if there is no file.
///
/// The error says why the file cannot be read: then nobody knows whether the host is known.
pub(super) fn lines_of(file: &Path, host: &str, port: u16) -> io::Result<Vec<Line>> {
    let bytes = match open_plain(file) {
        Ok(opened) => read_up_to(opened, LONGEST)?,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let lines = bytes.split(|byte| *byte == b'\n').enumerate();
    Ok(lines
        .filter_map(|(at, line)| Some(Line { number: at + 1, says: read(line, host, port)? }))
        .collect())
}

/// What a line says of a host; `None` if it does not name it.
fn read(line: &[u8], host: &str, port: u16) -> Option<Says> {
    let is_blank = |byte: &u8| matches!(byte, b' ' | b'\t' | b'\r');
    let mut words = line.split(is_blank).filter(|word| !word.is_empty()).peekable();
    if words.peek().is_none_or(|word| word.starts_with(b"#")) {
        return None;
    }
    let marker = words.next_if(|word| word.starts_with(b"@"));
    let hosts = words.next()?;
    if !names(hosts, host, port) {
        return None;
    }
    // The key of an authority is no key of the host's.
    if marker == Some(b"@cert-authority".as_slice()) {
        return None;
    }
    let key = (|| {
        let kind = words.next()?;
        let key = STANDARD.decode(words.next()?).ok()?;
        // The key begins with its kind (RFC 4253, section 6.6).
        let length = u32::from_be_bytes(*key.first_chunk()?) as usize;
        (key.get(4..4 + length)? == kind).then_some(key)
    })();
    Some(match (key, marker) {
        (Some(key), None) => Says::Key(key),
        (Some(key), Some(b"@revoked")) => Says::Revoked(key),
        _ => Says::Unclear,
    })
}

/// Whether a list of hosts names one: hashed, plain, or by patterns, of which one with `!` before it
/// takes it out again.
fn names(hosts: &[u8], host: &str, port: u16) -> bool {
    let host = host.to_ascii_lowercase();
    let full = if port == 22 { host } else { format!("[{host}]:{port}") };
    if let Some(hashed) = hosts.strip_prefix(b"|1|") {
        let parts = std::str::from_utf8(hashed).ok().and_then(|text| text.split_once('|'));
        let decoded = parts.and_then(|(salt, hash)| {
            Some((STANDARD.decode(salt).ok()?, STANDARD.decode(hash).ok()?))
        });
        // One that cannot be read may be this host's.
        let Some((salt, hash)) = decoded else { return true };
        let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, &salt);
        return hmac::verify(&key, full.as_bytes(), &hash).is_ok();
    }
    let mut named = false;
    for pattern in hosts.split(|byte| *byte == b',') {
        let (pattern, takes_out) = match pattern.strip_prefix(b"!") {
            Some(pattern) => (pattern, true),
            None => (pattern, false),
        };
        if fits(&pattern.to_ascii_lowercase(), full.as_bytes()) {
            if takes_out {
                return false;
            }
            named = true;
        }
    }
    named
}

/// Whether a text fits a pattern with `*` and `?`, in time that grows with their product.
fn fits(pattern: &[u8], text: &[u8]) -> bool {
    let (mut p, mut t) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p, t));
                p += 1;
            }
            Some(byte) if *byte == b'?' || *byte == text[t] => {
                p += 1;
                t += 1;
            }
            _ => match star {
                Some((at, from)) => {
                    star = Some((at, from + 1));
                    (p, t) = (at + 1, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|byte| *byte == b'*')
}

/// Adds a host's key to a file, which is made if need be.
pub(super) fn add(file: &Path, host: &str, port: u16, kind: &str, key: &[u8]) -> io::Result<()> {
    if let Some(folder) = file.parent() {
        use std::os::unix::fs::DirBuilderExt as _;
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    }
    let mut opened =
        OpenOptions::new().read(true).append(true).create(true).mode(0o600).open(file)?;
    let mut last = [b'\n'];
    if opened.metadata()?.len() > 0 {
        opened.seek(SeekFrom::End(-1))?;
        opened.read_exact(&mut last)?;
    }
    let break_before = if last == [b'\n'] { "" } else { "\n" };
    let name = if port == 22 { host.to_owned() } else { format!("[{host}]:{port}") };
    let line = format!("{break_before}{name} {kind} {}\n", STANDARD.encode(key));
    opened.write_all(line.as_bytes())?;
    opened.sync_all()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(seed: u8) -> Vec<u8> {
        let kind = b"ssh-ed25519";
        let mut key = (kind.len() as u32).to_be_bytes().to_vec();
        key.extend_from_slice(kind);
        key.extend_from_slice(&[0, 0, 0, 32]);
        key.extend_from_slice(&[seed; 32]);
        key
    }

    fn line(before: &str, seed: u8) -> String {
        format!("{before} ssh-ed25519 {} keeper", STANDARD.encode(key(seed)))
    }

    #[test]
    fn every_form_of_a_line_is_understood() {
        let (known, revoked) = (Some(Says::Key(key(1))), Some(Says::Revoked(key(1))));
        let unclear = Some(Says::Unclear);
        let cases: [(String, &str, u16, &Option<Says>); 18] = [
            (line("pier", 1), "pier", 22, &known),
            (line("PIER", 1), "pier", 22, &known),
            (line("pier", 1), "pier2", 22, &None),
            (line("pier", 1), "pier", 2222, &None),
            (line("[pier]:2222", 1), "pier", 2222, &known),
            (line("mast,pier", 1), "pier", 22, &known),
            (line("p?er,*.ridge.example", 1), "pier", 22, &known),
            (line("*.ridge.example", 1), "mast.ridge.example", 22, &known),
            (line("*,!pier", 1), "pier", 22, &None),
            (line("!pier,*", 1), "pier", 22, &None),
            (line("pier", 1).replace(' ', "\t"), "pier", 22, &known),
            (line("  pier", 1).replace(' ', "   "), "pier", 22, &known),
            (format!("{}\r", line("pier", 1)), "pier", 22, &known),
            (line("@revoked *", 1), "pier", 22, &revoked),
            (line("@cert-authority *", 1), "pier", 22, &None),
            (line("@strange pier", 1), "pier", 22, &unclear),
            ("pier ssh-ed25519 no/key".to_owned(), "pier", 22, &unclear),
            (format!("# {}", line("pier", 1)), "pier", 22, &None),
        ];
        for (text, host, port, expected) in cases {
            assert_eq!(&read(text.as_bytes(), host, port), expected, "{text}");
        }
        let latin = [line("pier", 1).as_bytes(), b" caf\xe9"].concat();
        assert_eq!(read(&latin, "pier", 22), known, "a comment may be in any encoding");
    }

    #[test]
    fn hashed_names_are_found_and_broken_ones_are_not_passed_over() {
        let salt = [7u8; 20];
        let key_of = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, &salt);
        let hash = hmac::sign(&key_of, b"[pier]:2222");
        let name = format!("|1|{}|{}", STANDARD.encode(salt), STANDARD.encode(hash.as_ref()));
        assert_eq!(read(line(&name, 3).as_bytes(), "pier", 2222), Some(Says::Key(key(3))));
        assert_eq!(read(line(&name, 3).as_bytes(), "pier", 22), None);
        assert_eq!(read(line("|1|%%|", 3).as_bytes(), "pier", 22), Some(Says::Key(key(3))));
    }

    #[test]
    fn what_is_added_is_found_with_its_line() {
        let folder = tempfile::tempdir().expect("a directory");
        let file = folder.path().join("below/known_hosts");
        assert_eq!(lines_of(&file, "pier", 22).expect("none yet"), []);
        add(&file, "pier", 22, "ssh-ed25519", &key(1)).expect("adds");
        std::fs::write(&file, std::fs::read_to_string(&file).expect("reads").trim_end())
            .expect("cuts");
        add(&file, "pier", 2222, "ssh-ed25519", &key(2)).expect("adds");
        let found = lines_of(&file, "pier", 2222).expect("reads");
        assert_eq!(found, [Line { number: 2, says: Says::Key(key(2)) }]);
        assert_eq!(lines_of(&file, "pier", 22).expect("reads").len(), 1);
        assert!(lines_of(folder.path(), "pier", 22).is_err(), "a directory knows nobody");
    }

    #[test]
    fn patterns_with_many_stars_end_soon() {
        let (pattern, text) = ("*a".repeat(40) + "b", "a".repeat(2000));
        assert!(!fits(pattern.as_bytes(), text.as_bytes()));
    }
}
