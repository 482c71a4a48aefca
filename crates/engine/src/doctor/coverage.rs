//! What no plan takes: directories of this machine that hold much, recent or irreplaceable data
//! and lie in no source.

use std::{
    collections::HashSet,
    fs,
    path::{Path, PathBuf},
};

use skellin_plan::{Action, READY, RuleSet, Verdict};

use crate::{
    clock::Cancel,
    error::{EngineError, Result},
    filter::Filter,
    metadata::{Owners, Sort},
    sources::Origin,
    walk::{Filtering, Looked, through},
};

/// So many bytes are much.
const MUCH: u64 = 256 << 20;
/// What was changed within so many seconds is recent.
const RECENT: i64 = 30 * 86_400;
/// With fewer files than this recent changes say little: settings change all the time.
const FEWEST: u64 = 8;

/// Kinds of data that nothing can make again, by how the names of their files end.
const IRREPLACEABLE: [(&str, &[&str]); 6] = [
    (
        "documents",
        &["odt", "ods", "odp", "doc", "docx", "xls", "xlsx", "pdf", "tex", "txt", "md", "csv"],
    ),
    ("pictures", &["jpg", "jpeg", "heic", "tif", "tiff", "raw", "dng", "nef", "cr2", "png"]),
    ("recordings", &["wav", "flac", "mp3", "mp4", "mov", "mkv", "avi"]),
    ("databases", &["db", "sqlite", "sqlite3", "sql", "dump", "mdb"]),
    ("mail", &["mbox", "eml", "pst"]),
    ("keys", &["key", "pem", "gpg", "asc", "p12", "kdbx"]),
];

/// A directory in no plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gap {
    /// The directory.
    pub path: PathBuf,
    /// Files in it, without what programs make again by themselves.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// When one of them was last changed, in seconds since 1970.
    pub newest: i64,
    /// What most of its irreplaceable files are, and how many.
    pub holds: Option<(&'static str, u64)>,
    /// Whether there is more than was looked at.
    pub is_more: bool,
}

/// Where to look, and how deep directories are taken apart before they count as one.
fn usual_places() -> Vec<(PathBuf, usize)> {
    let mut places: Vec<(PathBuf, usize)> = [
        ("/home", 2),
        ("/root", 1),
        ("/srv", 1),
        ("/etc", 0),
        ("/opt", 1),
        ("/usr/local", 0),
        ("/var/lib", 1),
        ("/var/www", 1),
        ("/var/mail", 0),
        ("/var/spool/cron", 0),
    ]
    .into_iter()
    .map(|(path, depth)| (PathBuf::from(path), depth))
    .collect();
    for below in ["/mnt", "/media"] {
        // A mounted drive is looked at for itself.
        places.push((PathBuf::from(below), 2));
    }
    places
}

/// Looks for directories that lie in none of the sources. `look_in`: where; empty for the usual
/// places of this machine. `keep_out`: our own. At most `most` paths are looked at. `now` in
/// seconds since 1970.
///
/// # Errors
/// If it was cancelled.
pub fn gaps(
    sources: &[PathBuf],
    look_in: &[PathBuf],
    keep_out: &[PathBuf],
    most: u64,
    now: i64,
    cancel: &Cancel,
) -> Result<Vec<Gap>> {
    let places = match look_in {
        [] => usual_places(),
        paths => paths.iter().map(|path| (path.clone(), 1)).collect(),
    };
    // A source that is a link protects what it points to.
    let sources: Vec<PathBuf> = sources
        .iter()
        .flat_map(|source| [Some(source.clone()), source.canonicalize().ok()])
        .flatten()
        .collect();
    let mut open = Vec::new();
    for (place, depth) in places {
        apart(&place, depth, &sources, keep_out, &mut open);
    }
    let mut found = Vec::new();
    let mut left = most;
    let count = open.len() as u64;
    for (number, path) in open.into_iter().enumerate() {
        // Each may take its share of what is left, so that none starves the others.
        let share = left / (count - number as u64).max(1);
        let (gap, looked_at) = measure(&path, share, cancel)?;
        left -= looked_at.min(left);
        let matters = gap.bytes >= MUCH
            || gap.holds.is_some_and(|(_, files)| files >= FEWEST)
            || (gap.files >= FEWEST && now - gap.newest <= RECENT && now >= gap.newest);
        if matters {
            found.push(gap);
        }
    }
    found
        .sort_by_key(|gap| std::cmp::Reverse((gap.holds.map_or(0, |(_, files)| files), gap.bytes)));
    Ok(found)
}

/// Directories below a place that no source covers, taken apart as deep as told, or as deep as
/// sources lie below them.
fn apart(
    path: &Path,
    depth: usize,
    sources: &[PathBuf],
    keep_out: &[PathBuf],
    open: &mut Vec<PathBuf>,
) {
    let is_covered = sources.iter().chain(keep_out).any(|source| path.starts_with(source));
    let is_directory = fs::symlink_metadata(path).is_ok_and(|metadata| metadata.is_dir());
    if is_covered || !is_directory {
        return;
    }
    let holds_some = sources.iter().chain(keep_out).any(|source| source.starts_with(path));
    if depth == 0 && !holds_some {
        return open.push(path.to_path_buf());
    }
    let Ok(entries) = fs::read_dir(path) else { return };
    let mut below: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
    below.sort();
    for path in below {
        apart(&path, depth.saturating_sub(1), sources, keep_out, open);
    }
}

fn measure(path: &Path, most: u64, cancel: &Cancel) -> Result<(Gap, u64)> {
    let rules = format!("{}skip other-filesystems\n", READY[0].1);
    let (rules, _) = RuleSet::parse(&rules, READY[0].0);
    let filter = Filter::new(&rules, Origin::Here, path, 0)?;
    let mut gap = Gap {
        path: path.to_path_buf(),
        files: 0,
        bytes: 0,
        newest: i64::MIN,
        holds: None,
        is_more: false,
    };
    let (mut kinds, mut looked_at) = ([0u64; IRREPLACEABLE.len()], 0);
    let mut visit = |looked: &Looked| {
        let (path, facts) = (&looked.path, &looked.facts);
        looked_at += 1;
        if looked.verdict.action == Action::Take && facts.sort() == Sort::File {
            gap.files += 1;
            gap.bytes += facts.size();
            gap.newest = gap.newest.max(facts.modified().seconds);
            if let Some(kind) = kind(path) {
                kinds[kind] += 1;
            }
        }
        gap.is_more = looked_at >= most;
        !gap.is_more && !cancel.is_cancelled()
    };
    let (owners, keep_out) = (&Owners::default(), &HashSet::new());
    through(Filtering { filter: &filter, owners, keep_out }, path, Verdict::TAKEN, &mut visit);
    if cancel.is_cancelled() {
        return Err(EngineError::Cancelled);
    }
    let most_of = kinds.iter().enumerate().max_by_key(|(_, files)| **files);
    let sum = kinds.iter().sum();
    gap.holds = most_of.filter(|_| sum > 0).map(|(kind, _)| (IRREPLACEABLE[kind].0, sum));
    Ok((gap, looked_at))
}

/// The kind of irreplaceable data a path is.
fn kind(path: &[u8]) -> Option<usize> {
    let name = path.rsplit(|byte| *byte == b'/').next()?;
    let dot = name.iter().rposition(|byte| *byte == b'.').filter(|dot| *dot > 0)?;
    let end = std::str::from_utf8(&name[dot + 1..]).ok()?.to_ascii_lowercase();
    IRREPLACEABLE.iter().position(|(_, ends)| ends.contains(&end.as_str()))
}
