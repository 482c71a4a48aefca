//! Files of a server as they lie there.

use super::{ASKED, Member, WebDavPlace, all};
use crate::{
    Extent, FarEntry, FarFacts, FarFiles, FarKind, FarPart, Operation, PlaceError, PlaceErrorKind,
    far::{below, tag},
    http::{Answer, far_part, range_header, seconds_of},
};

fn facts(member: &Member) -> FarFacts {
    FarFacts {
        kind: if member.is_folder { FarKind::Directory } else { FarKind::File },
        size: member.size.unwrap_or(0),
        modified: member.modified.as_deref().and_then(seconds_of).unwrap_or(0),
        mode: None,
        owner: None,
        tag: member.tag.as_deref().map(tag),
    }
}

impl WebDavPlace {
    /// What the server tells of a path, or of a collection and what is in it.
    fn told(&self, path: &str, full: &str, depth: &str) -> Result<Vec<Member>, PlaceError> {
        let headers = vec![("depth", depth.to_owned())];
        let answer = self.ask(Operation::List, path, "PROPFIND", full, headers, ASKED)?;
        let is_folder = || {
            let to = answer.header("location").unwrap_or_default();
            matches!(answer.status, 301 | 302 | 307 | 308) && to.ends_with('/')
        };
        if !full.ends_with('/') && is_folder() {
            return self.told(path, &format!("{full}/"), depth);
        }
        if answer.status != 207 {
            return Err(self.refusal(Operation::List, path, &answer));
        }
        all(&answer.body).map_err(|why| self.odd(path, &why))
    }

    fn odd(&self, path: &str, why: &str) -> PlaceError {
        PlaceError::because(Operation::Read, self.named(path), PlaceErrorKind::Failed, why)
    }
}

/// What the answer that holds a file's bytes tells of the file.
fn by_answer(answer: &Answer) -> Option<FarFacts> {
    Some(FarFacts {
        kind: FarKind::File,
        size: answer.whole_size()?,
        modified: answer.header("last-modified").and_then(seconds_of)?,
        mode: None,
        owner: None,
        tag: answer.header("etag").map(tag),
    })
}

impl FarFiles for WebDavPlace {
    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        self.http.give_up();
    }

    fn facts(&self, path: &str) -> Result<FarFacts, PlaceError> {
        let members = self.told(path, &below(&self.target.path, path), "0")?;
        members.first().map(facts).ok_or_else(|| self.odd(path, "the answer lists no file"))
    }

    fn names(&self, path: &str) -> Result<Vec<FarEntry>, PlaceError> {
        let own = below(&self.target.path, path);
        let own = own.trim_end_matches('/');
        let mut members = self.told(path, &format!("{own}/"), "1")?;
        members.retain(|member| member.path.trim_end_matches('/') != own);
        let entries = members.into_iter();
        Ok(entries.map(|member| FarEntry { facts: facts(&member), name: member.name }).collect())
    }

    fn link(&self, path: &str) -> Result<String, PlaceError> {
        Err(self.odd(path, "WebDAV does not have links"))
    }

    fn part(&self, path: &str, offset: u64, length: u64) -> Result<FarPart, PlaceError> {
        let full = below(&self.target.path, path);
        // This protocol knows no empty range.
        let extent = Extent::Range { offset, length: length.max(1) };
        let headers = range_header(extent).map(|range| ("range", range)).into_iter().collect();
        let asked = (("GET", full.as_str()), (headers, &[][..]));
        let answer = self.ask_up_to(length.max(1), Operation::Read, path, asked.0, asked.1)?;
        if !answer.is_fine() && answer.status != 416 {
            return Err(self.refusal(Operation::Read, path, &answer));
        }
        let told = by_answer(&answer).filter(|_| answer.is_fine());
        let bytes = far_part(offset, length, answer).map_err(|why| self.odd(path, &why))?;
        Ok(FarPart { bytes, before: told.clone(), after: told })
    }
}
