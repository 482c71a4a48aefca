//! The names of a directory of a source: what each is, and what becomes of it by the rules.

use std::{
    collections::HashSet,
    ffi::{CStr, CString},
    os::unix::ffi::OsStrExt,
    path::Path,
};

use skellin_plan::{Action, Verdict};

use crate::{
    filter::Filter,
    metadata::{Facts, Owners, Sort},
    path::join,
    sources::{SourceDir, Trouble},
};

/// By what names of a source are judged.
#[derive(Clone, Copy)]
pub(crate) struct Filtering<'a> {
    /// The rules.
    pub filter: &'a Filter,
    pub owners: &'a Owners,
    /// Directories of our own, by device and inode.
    pub keep_out: &'a HashSet<(u64, u64)>,
}

/// A name that was looked at.
pub(crate) struct Looked {
    pub name: CString,
    /// The full path.
    pub path: Vec<u8>,
    pub facts: Facts,
    pub verdict: Verdict,
    /// A directory of our own, which is never included.
    pub is_own: bool,
    /// Whether it is a directory that is gone into: it is included, or something below it may be.
    pub is_entered: bool,
}

impl Filtering<'_> {
    /// The verdict on a path at or below a source, by way of the directories above it.
    pub fn verdict_at(&self, source: &Path, path: &[u8]) -> Result<Verdict, Trouble> {
        let origin = self.filter.origin();
        let mut at = source.as_os_str().as_bytes().to_vec();
        let mut verdict = self.filter.source(&at, &origin.facts(source, true)?, self.owners);
        let rest = path.strip_prefix(at.as_slice()).unwrap_or_default();
        let parts: Vec<&[u8]> =
            rest.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).collect();
        let Some((last, above)) = parts.split_last() else { return Ok(verdict) };
        let mut directory = origin.open(source)?;
        for part in above {
            let Some(looked) = self.look((&at, verdict), &directory, part)? else { break };
            directory = directory.open(&looked.name)?;
            (verdict, at) = (looked.verdict, looked.path);
        }
        let looked = self.look((&at, verdict), &directory, last)?;
        Ok(looked.map_or(verdict, |looked| looked.verdict))
    }

    /// Looks at a name of an open directory; nothing if it can be none.
    pub fn look(
        &self,
        (path, verdict): (&[u8], Verdict),
        source_dir: &SourceDir,
        name: &[u8],
    ) -> Result<Option<Looked>, Trouble> {
        let Ok(name) = CString::new(name) else { return Ok(None) };
        let facts = source_dir.look(&name)?;
        Ok(Some(self.judged((path, verdict), source_dir, &name, facts)))
    }

    fn judged(
        &self,
        (path, verdict): (&[u8], Verdict),
        source_dir: &SourceDir,
        name: &CStr,
        facts: Facts,
    ) -> Looked {
        let path = join(path, name.to_bytes());
        let is_directory = facts.sort() == Sort::Directory;
        let is_own = is_directory && self.keep_out.contains(&facts.identity());
        let verdict = match is_own {
            true => Verdict { action: Action::Skip, rule: None },
            false => self.filter.below(verdict, &path, &facts, (source_dir, name), self.owners),
        };
        let is_entered = is_directory
            && !is_own
            && (verdict.action == Action::Take || self.filter.may_take_below(verdict, &path));
        Looked { name: name.to_owned(), path, facts, verdict, is_own, is_entered }
    }
}
