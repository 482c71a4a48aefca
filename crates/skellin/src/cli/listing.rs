//! The paths of a dry run, put in order: in memory while they are few, else sorted in pieces that lie in
//! a file without a name and are merged at the end.

use std::{
    cmp::Reverse,
    collections::BinaryHeap,
    fs::File,
    io::{self, BufReader, BufWriter, Read, Seek, Write},
    sync::{Mutex, PoisonError},
};

use skellin_engine::{Change, PathChange};

/// So many paths are sorted in memory.
const PIECE: usize = 100_000;

/// Paths that come in any order, and leave in that of their bytes.
#[derive(Default)]
pub(super) struct PathListing(Mutex<Sorter>);

#[derive(Default)]
struct Sorter {
    piece: Vec<PathChange>,
    pieces: Vec<BufReader<File>>,
    /// Set where no file takes a piece: all stay in memory then.
    stays: bool,
}

impl PathListing {
    /// Takes a path.
    pub fn push(&self, path: PathChange) {
        let mut sorter = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        sorter.piece.push(path);
        if sorter.piece.len() >= PIECE && !sorter.stays {
            sorter.spill();
        }
    }

    /// Hands over all paths in order.
    ///
    /// # Errors
    /// If what was put into files cannot be read back.
    pub fn each(self, visit: &mut dyn FnMut(PathChange)) -> io::Result<()> {
        let Sorter { mut piece, mut pieces, .. } =
            self.0.into_inner().unwrap_or_else(PoisonError::into_inner);
        piece.sort_by(|a, b| a.path.cmp(&b.path));
        let mut rest = piece.into_iter();
        // The number after the last piece is what is still in memory.
        let last = pieces.len();
        let mut next = |number: usize| match number {
            number if number == last => Ok(rest.next()),
            number => read(&mut pieces[number]),
        };
        let mut ahead = BinaryHeap::new();
        let mut waiting: Vec<Option<PathChange>> = Vec::with_capacity(last + 1);
        for number in 0..=last {
            let first = next(number)?;
            ahead.extend(first.as_ref().map(|first| Reverse((first.path.clone(), number))));
            waiting.push(first);
        }
        while let Some(Reverse((_, number))) = ahead.pop() {
            let following = next(number)?;
            ahead.extend(following.as_ref().map(|next| Reverse((next.path.clone(), number))));
            if let Some(path) = std::mem::replace(&mut waiting[number], following) {
                visit(path);
            }
        }
        Ok(())
    }
}

impl Sorter {
    fn spill(&mut self) {
        self.piece.sort_by(|a, b| a.path.cmp(&b.path));
        let written = || -> io::Result<BufReader<File>> {
            let mut out = BufWriter::new(tempfile::tempfile()?);
            self.piece.iter().try_for_each(|path| write(&mut out, path))?;
            let mut file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
            file.rewind()?;
            Ok(BufReader::new(file))
        };
        match written() {
            Ok(file) => {
                self.pieces.push(file);
                self.piece.clear();
            }
            // A full disk costs memory, and no path.
            Err(_) => self.stays = true,
        }
    }
}

const CHANGES: [Change; 5] =
    [Change::New, Change::Changed, Change::Gone, Change::Same, Change::Skipped];

fn write(out: &mut impl Write, path: &PathChange) -> io::Result<()> {
    let change = CHANGES.iter().position(|change| *change == path.change).unwrap_or(0) as u8;
    let rule = path.rule.map_or(0, |rule| rule as u64 + 1);
    out.write_all(&[change])?;
    out.write_all(&path.size.to_le_bytes())?;
    out.write_all(&rule.to_le_bytes())?;
    out.write_all(&(path.path.len() as u64).to_le_bytes())?;
    out.write_all(&path.path)
}

fn read(file: &mut BufReader<File>) -> io::Result<Option<PathChange>> {
    let mut change = [0];
    if file.read(&mut change)? == 0 {
        return Ok(None);
    }
    let mut number = || {
        let mut bytes = [0; 8];
        file.read_exact(&mut bytes).map(|()| u64::from_le_bytes(bytes))
    };
    let (size, rule, length) = (number()?, number()?, number()?);
    let mut path = vec![0; usize::try_from(length).map_err(io::Error::other)?];
    file.read_exact(&mut path)?;
    let change = CHANGES.get(usize::from(change[0])).copied().unwrap_or(Change::Same);
    let rule = rule.checked_sub(1).and_then(|rule| usize::try_from(rule).ok());
    Ok(Some(PathChange { path, change, size, rule }))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        /// Whatever is put into pieces and when, all paths come back in order, as they were.
        #[test]
        fn pieces_are_merged_in_order(
            paths in prop::collection::vec(
                (prop::collection::vec(any::<u8>(), 0..9), 0..5usize, any::<u64>(), prop::option::of(0..9usize)),
                0..60,
            ),
            every in 1..20usize,
        ) {
            let listing = PathListing::default();
            let mut expected: Vec<PathChange> = Vec::new();
            for (number, (path, change, size, rule)) in paths.into_iter().enumerate() {
                let one = PathChange { path, change: CHANGES[change], size, rule };
                listing.push(one.clone());
                expected.push(one);
                if number % every == 0 {
                    listing.0.lock().expect("no panic").spill();
                }
            }
            let key = |one: &PathChange| (one.path.clone(), one.size, one.rule, one.change as u8);
            let mut found = Vec::new();
            listing.each(&mut |one| found.push(one)).expect("readable");
            prop_assert!(found.windows(2).all(|two| two[0].path <= two[1].path));
            found.sort_by_key(key);
            expected.sort_by_key(key);
            prop_assert_eq!(found, expected);
        }
    }
}
