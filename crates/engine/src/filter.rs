//! The rules applied to what is found on this machine.

use std::{
    ffi::{CStr, OsStr},
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
};

use skellin_plan::{Explanation, FarSource, Matcher, NameOnly, PathKind, RuleSet, Traits, Verdict};

use crate::{
    error::{EngineError, Result},
    metadata::{Facts, Owners, Sort},
    path::join,
    sources::{Origin, SourceDir},
};

/// The rules, ready for one source.
pub(crate) struct Filter {
    matcher: Matcher,
    origin: Origin,
    /// The file system the source lies on.
    device: u64,
    /// How many bytes of a full path name the host, which rules know nothing of.
    host: usize,
}

/// What conditions ask of a path that was looked at.
struct Seen<'a> {
    facts: &'a Facts,
    /// Whether the directory holds a name.
    holds: &'a dyn Fn(&str) -> bool,
    device: u64,
    owners: &'a Owners,
}

impl Traits for Seen<'_> {
    fn kind(&self) -> PathKind {
        match self.facts.sort() {
            Sort::Directory => PathKind::Directory,
            Sort::Link => PathKind::Link,
            Sort::Character | Sort::Block => PathKind::Device,
            Sort::Pipe => PathKind::Pipe,
            Sort::Socket => PathKind::Socket,
            Sort::File | Sort::Unknown => PathKind::File,
        }
    }

    fn size(&self) -> u64 {
        self.facts.size()
    }

    fn modified(&self) -> i64 {
        self.facts.modified().seconds
    }

    fn is_owned_by(&self, user: &str) -> bool {
        match user.parse::<u32>() {
            Ok(number) => self.facts.uid == number,
            Err(_) => self.owners.of(self.facts).user.as_deref() == Some(user),
        }
    }

    fn holds(&self, name: &str) -> bool {
        (self.holds)(name)
    }

    fn is_elsewhere(&self) -> bool {
        self.facts.identity().0 != self.device
    }
}

impl Filter {
    /// Of a source; `now` in milliseconds since 1970.
    ///
    /// # Errors
    /// If the rules cannot be made ready.
    pub fn new(rules: &RuleSet, origin: Origin, source: &Path, now: i64) -> Result<Self> {
        let path = source.as_os_str().as_bytes();
        let host = if origin.is_far() { FarSource::host_length(path) } else { 0 };
        let matcher =
            rules.matcher(&path[host..], now.div_euclid(1000)).map_err(EngineError::Rules)?;
        let device = match origin {
            Origin::Here => Facts::of_path(source, true).map_or(0, |facts| facts.identity().0),
            // No protocol tells it.
            Origin::Far(..) => 0,
        };
        Ok(Self { matcher, origin, device, host })
    }

    /// Where the source lies.
    pub fn origin(&self) -> &Origin {
        &self.origin
    }

    /// The verdict on the source itself.
    pub fn source(&self, path: &[u8], facts: &Facts, owners: &Owners) -> Verdict {
        let holds = |name: &str| {
            let inside = join(path, name.as_bytes());
            self.origin.facts(Path::new(OsStr::from_bytes(&inside)), false).is_ok()
        };
        let seen = Seen { facts, holds: &holds, device: self.device, owners };
        self.matcher.source(&path[self.host..], &seen)
    }

    /// The verdict on a name in an open directory, given the one on the directory.
    pub fn below(
        &self,
        parent: Verdict,
        path: &[u8],
        facts: &Facts,
        (at, name): (&SourceDir, &CStr),
        owners: &Owners,
    ) -> Verdict {
        let holds = |marker: &str| at.holds(name, marker);
        let seen = Seen { facts, holds: &holds, device: self.device, owners };
        self.matcher.below(parent, &path[self.host..], &seen)
    }

    /// Whether a skipped directory has to be entered, because a later `take` could fit below it.
    pub fn may_take_below(&self, verdict: Verdict, path: &[u8]) -> bool {
        self.matcher.may_take_below(verdict, &path[self.host..])
    }

    /// The verdict on any full path at or below the source, and all rules that held on the way.
    pub fn explain(&self, source: &Path, path: &Path, directory: bool) -> Explanation {
        let (prefix, source_there) = source.as_os_str().as_bytes().split_at(self.host);
        let there = path.as_os_str().as_bytes().get(self.host..).unwrap_or_default();
        let look = |here: &Path, directory: bool| -> Box<dyn Traits> {
            let full = [prefix, here.as_os_str().as_bytes()].concat();
            let full = PathBuf::from(OsStr::from_bytes(&full));
            match self.origin.facts(&full, full == source) {
                Ok(facts) => Box::new(Looked {
                    path: full,
                    origin: self.origin.clone(),
                    facts,
                    device: self.device,
                    owners: Owners::default(),
                }),
                Err(_) => Box::new(NameOnly { directory }),
            }
        };
        let path_of = |bytes| Path::new(OsStr::from_bytes(bytes));
        self.matcher.explain(path_of(source_there), path_of(there), directory, &look)
    }

    /// Whether a path lies on another file system than the source.
    pub fn is_elsewhere(&self, facts: &Facts) -> bool {
        facts.identity().0 != self.device
    }
}

/// As [`Seen`], of a full path, with all it needs.
struct Looked {
    path: PathBuf,
    origin: Origin,
    facts: Facts,
    device: u64,
    owners: Owners,
}

impl Looked {
    fn with<T>(&self, ask: impl FnOnce(&Seen<'_>) -> T) -> T {
        let holds = |name: &str| self.origin.facts(&self.path.join(name), false).is_ok();
        let (facts, owners) = (&self.facts, &self.owners);
        ask(&Seen { facts, holds: &holds, device: self.device, owners })
    }
}

impl Traits for Looked {
    fn kind(&self) -> PathKind {
        self.with(|seen| seen.kind())
    }

    fn size(&self) -> u64 {
        self.facts.size()
    }

    fn modified(&self) -> i64 {
        self.facts.modified().seconds
    }

    fn is_owned_by(&self, user: &str) -> bool {
        self.with(|seen| seen.is_owned_by(user))
    }

    fn holds(&self, name: &str) -> bool {
        self.with(|seen| seen.holds(name))
    }

    fn is_elsewhere(&self) -> bool {
        self.with(|seen| seen.is_elsewhere())
    }
}
