//! Objects of a bucket seen as files: a `/` in a name separates directories.

use super::{
    S3Place,
    answers::{self, Page},
    asking::Method,
};
use crate::{
    Extent, FarEntry, FarFacts, FarFiles, FarKind, FarPart, Operation, PlaceError, PlaceErrorKind,
    far::{below, tag},
    http::{Answer, far_part, range_header, seconds_of},
};

const DIRECTORY: FarFacts =
    FarFacts { kind: FarKind::Directory, size: 0, modified: 0, mode: None, owner: None, tag: None };

fn told(answer: &Answer) -> FarFacts {
    FarFacts {
        kind: FarKind::File,
        size: answer.whole_size().unwrap_or(0),
        modified: answer.header("last-modified").and_then(seconds_of).unwrap_or(0),
        mode: None,
        owner: None,
        tag: answer.header("etag").map(tag),
    }
}

impl S3Place {
    fn far_object(&self, path: &str) -> String {
        below(&self.target.prefix, path)
    }

    fn page(&self, path: &str, query: &[(&str, &str)]) -> Result<Page, PlaceError> {
        let question = self.question(Operation::List, path, Method::Get, "", query);
        let answer = self.asking.demand(&question)?;
        answers::page(&answer.body).map_err(|why| {
            PlaceError::because(
                Operation::List,
                self.target.describe(),
                PlaceErrorKind::Failed,
                why,
            )
        })
    }
}

impl FarFiles for S3Place {
    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        self.asking.give_up();
    }

    fn facts(&self, path: &str) -> Result<FarFacts, PlaceError> {
        let object = self.far_object(path);
        if !object.is_empty() {
            let question = self.question(Operation::Read, path, Method::Head, &object, &[]);
            let answer = self.asking.ask(&question)?;
            if answer.is_fine() {
                return Ok(told(&answer));
            }
            if answer.status != 404 {
                return Err(self.asking.refusal(Operation::Read, path, &answer));
            }
        }
        // A directory is nothing but a beginning that names have.
        let prefix = if object.is_empty() { object } else { format!("{object}/") };
        let query = [("list-type", "2"), ("max-keys", "1"), ("prefix", prefix.as_str())];
        let page = self.page(path, &query)?;
        match page.objects.is_empty() && !prefix.is_empty() {
            true => Err(PlaceError::new(Operation::Read, path, PlaceErrorKind::NotFound)),
            false => Ok(DIRECTORY),
        }
    }

    fn names(&self, path: &str) -> Result<Vec<FarEntry>, PlaceError> {
        let object = self.far_object(path);
        let prefix = if object.is_empty() { object } else { format!("{object}/") };
        let (mut found, mut next): (Vec<FarEntry>, Option<String>) = (Vec::new(), None);
        let mut pages = 0;
        loop {
            let mut query =
                vec![("delimiter", "/"), ("list-type", "2"), ("prefix", prefix.as_str())];
            if let Some(token) = &next {
                query.insert(0, ("continuation-token", token.as_str()));
            }
            let page = self.page(path, &query)?;
            for object in page.objects {
                let Some(name) = object.name.strip_prefix(prefix.as_str()) else { continue };
                // Some programs mark a directory by an object of its name that holds nothing.
                if name.is_empty() {
                    continue;
                }
                let modified = object.modified.parse::<jiff::Timestamp>();
                let facts = FarFacts {
                    kind: FarKind::File,
                    size: object.size,
                    modified: modified.map_or(0, jiff::Timestamp::as_second),
                    mode: None,
                    owner: None,
                    tag: object.tag.as_deref().map(tag),
                };
                found.push(FarEntry { name: name.to_owned(), facts });
            }
            let folders = page.folders.iter().filter_map(|folder| {
                let name = folder.strip_prefix(prefix.as_str())?;
                Some(name.strip_suffix('/').unwrap_or(name).to_owned())
            });
            found.extend(folders.map(|name| FarEntry { name, facts: DIRECTORY }));
            next = self.next_page(path, next.as_deref(), page.next, &mut pages)?;
            if next.is_none() {
                return Ok(found);
            }
        }
    }

    fn link(&self, path: &str) -> Result<String, PlaceError> {
        let why = "object storage does not have links";
        Err(PlaceError::because(Operation::Read, path, PlaceErrorKind::Failed, why))
    }

    fn part(&self, path: &str, offset: u64, length: u64) -> Result<FarPart, PlaceError> {
        let object = self.far_object(path);
        let extent = Extent::Range { offset, length: length.max(1) };
        let headers = range_header(extent).map(|range| ("range", range)).into_iter().collect();
        let question = self.question(Operation::Read, path, Method::Get, &object, &[]);
        let answer =
            self.asking.ask(&super::Question { headers, most: length.max(1), ..question })?;
        if !answer.is_fine() && answer.status != 416 {
            return Err(self.asking.refusal(Operation::Read, path, &answer));
        }
        let facts = Some(told(&answer)).filter(|_| answer.is_fine());
        let bytes = far_part(offset, length, answer).map_err(|why| {
            PlaceError::because(Operation::Read, path, PlaceErrorKind::Failed, why)
        })?;
        Ok(FarPart { bytes, before: facts.clone(), after: facts })
    }
}
