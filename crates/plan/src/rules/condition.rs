//! Conditions: what a rule asks of a path beside its name.

use crate::units::{parse_duration, parse_size};

/// What kind of thing a path is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PathKind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A character or block device.
    Device,
    /// A named pipe.
    Pipe,
    /// A socket.
    Socket,
}

/// What conditions ask of a path.
pub trait Traits {
    /// What it is.
    fn kind(&self) -> PathKind;
    /// Its size in bytes.
    fn size(&self) -> u64;
    /// When it was modified, in seconds since 1970.
    fn modified(&self) -> i64;
    /// Whether it belongs to a user, given by name or number.
    fn is_owned_by(&self, user: &str) -> bool;
    /// Whether it is a directory in which a name stands.
    fn holds(&self, name: &str) -> bool;
    /// Whether it lies on another file system than the source.
    fn is_elsewhere(&self) -> bool;
}

/// A path of which only the name is known, and whether it is a directory; no condition on
/// anything else holds for it.
#[derive(Clone, Copy, Debug)]
pub struct NameOnly {
    /// Whether it is a directory.
    pub directory: bool,
}

impl Traits for NameOnly {
    fn kind(&self) -> PathKind {
        if self.directory { PathKind::Directory } else { PathKind::File }
    }

    fn size(&self) -> u64 {
        0
    }

    fn modified(&self) -> i64 {
        0
    }

    fn is_owned_by(&self, _: &str) -> bool {
        false
    }

    fn holds(&self, _: &str) -> bool {
        false
    }

    fn is_elsewhere(&self) -> bool {
        false
    }
}

/// One condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Condition {
    Over(u64),
    Under(u64),
    /// Modified longer ago than so many seconds.
    OlderThan(u64),
    NewerThan(u64),
    Owner(String),
    Kind(PathKind),
    Holding(String),
    OtherFilesystems,
}

/// Words a condition begins with, `nocase` among them.
pub(crate) const WORDS: [&str; 9] =
    ["over", "under", "older", "newer", "owner", "kind", "holding", "other-filesystems", "nocase"];

const KINDS: [(&str, PathKind); 6] = [
    ("file", PathKind::File),
    ("dir", PathKind::Directory),
    ("link", PathKind::Link),
    ("device", PathKind::Device),
    ("pipe", PathKind::Pipe),
    ("socket", PathKind::Socket),
];

impl Condition {
    /// Reads a condition from the words after its first; how many of them it took. The error is
    /// the number of the word that is wrong (0 is the condition itself), and why.
    pub fn parse(first: &str, rest: &[&str]) -> Result<(Self, usize), (usize, String)> {
        let missing = |what: &str| Err((0, format!("`{first}` needs {what}")));
        // A number and its unit may be one word or two.
        let quantity = |from: usize| {
            let number = rest.get(from)?;
            let alone = number.bytes().all(|b| b.is_ascii_digit() || b == b'.');
            Some(match rest.get(from + 1).filter(|_| alone) {
                Some(unit) if !WORDS.contains(unit) => (format!("{number} {unit}"), 2),
                _ => ((*number).to_owned(), 1),
            })
        };
        match first {
            "over" | "under" => {
                let Some((text, taken)) = quantity(0) else {
                    return missing("a size, as in `over 2 GiB`");
                };
                let size = parse_size(&text).map_err(|why| (1, why))?;
                let condition = if first == "over" { Self::Over(size) } else { Self::Under(size) };
                Ok((condition, taken))
            }
            "older" | "newer" => {
                if rest.first() != Some(&"than") {
                    return missing(&format!("`than`, as in `{first} than 3 weeks`"));
                }
                let Some((text, taken)) = quantity(1) else {
                    return missing(&format!("a duration, as in `{first} than 3 weeks`"));
                };
                let age = parse_duration(&text).map_err(|why| (2, why))?;
                let condition =
                    if first == "older" { Self::OlderThan(age) } else { Self::NewerThan(age) };
                Ok((condition, taken + 1))
            }
            "owner" => match rest.first() {
                Some(name) => Ok((Self::Owner((*name).to_owned()), 1)),
                None => missing("a user, by name or number"),
            },
            "kind" => {
                let Some(word) = rest.first() else {
                    return missing("file, dir, link, device, pipe or socket");
                };
                match KINDS.iter().find(|(name, _)| name == word) {
                    Some((_, kind)) => Ok((Self::Kind(*kind), 1)),
                    None => Err((
                        1,
                        format!(
                            "`{word}` is not a kind: use file, dir, link, device, pipe or socket"
                        ),
                    )),
                }
            }
            "holding" => match rest.first() {
                Some(name) if name.contains('/') || *name == "." || *name == ".." => Err((
                    1,
                    "`holding` needs the name of an entry in the directory, without `/`".to_owned(),
                )),
                Some(name) => Ok((Self::Holding((*name).to_owned()), 1)),
                None => missing("a name, as in `holding CACHEDIR.TAG`"),
            },
            _ => Ok((Self::OtherFilesystems, 0)),
        }
    }

    /// Whether it holds for a path. `now`: seconds since 1970.
    pub fn holds(&self, of: &dyn Traits, now: i64) -> bool {
        let file = || of.kind() == PathKind::File;
        let age = || u64::try_from(now.saturating_sub(of.modified())).unwrap_or(0);
        match self {
            Self::Over(size) => file() && of.size() > *size,
            Self::Under(size) => file() && of.size() < *size,
            Self::OlderThan(seconds) => file() && age() > *seconds,
            Self::NewerThan(seconds) => file() && age() < *seconds,
            Self::Owner(name) => of.is_owned_by(name),
            Self::Kind(kind) => of.kind() == *kind,
            Self::Holding(name) => of.kind() == PathKind::Directory && of.holds(name),
            Self::OtherFilesystems => of.is_elsewhere(),
        }
    }
}
