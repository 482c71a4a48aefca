//! A directory of a source gone through by the rules, by one who only looks.

use std::{ffi::CString, os::unix::ffi::OsStrExt, path::Path};

use skellin_plan::Verdict;

use super::filtering::{Filtering, Looked};
use crate::{depth::deepest, path::join, sources::SourceDir};

/// A directory on the way down, and those below it that are to be entered.
struct Frame {
    source_dir: SourceDir,
    path: Vec<u8>,
    ahead: Vec<(CString, Verdict)>,
}

/// Goes through a directory; `visit` is told of every name below, included or not, and says
/// whether to go on. Directories that nothing can be taken from are not entered, nor our own. What
/// cannot be looked at is passed over.
pub(crate) fn through(
    filtering: Filtering<'_>,
    start: &Path,
    verdict: Verdict,
    visit: &mut dyn FnMut(&Looked) -> bool,
) {
    let Ok(source_dir) = filtering.filter.origin().open(start) else { return };
    // Only those directories on the way down are open that have more to be entered, and few
    // enough to leave the rest of the program what it needs.
    let most = deepest(4);
    let mut frames = Vec::new();
    let mut next = Some((source_dir, start.as_os_str().as_bytes().to_vec(), verdict));
    loop {
        let Some((source_dir, path, verdict)) = next.take() else {
            let Some(Frame { source_dir, path, ahead }) = frames.last_mut() else { return };
            if let Some((name, verdict)) = ahead.pop() {
                let below = join(path, name.to_bytes());
                next = source_dir.open(&name).ok().map(|source_dir| (source_dir, below, verdict));
            }
            if ahead.is_empty() {
                frames.pop();
            }
            continue;
        };
        let mut ahead = Vec::new();
        let (names, _) = source_dir.names(usize::MAX);
        for name in names.iter() {
            let Ok(Some(looked)) = filtering.look((&path, verdict), &source_dir, name) else {
                continue;
            };
            if !visit(&looked) {
                return;
            }
            if looked.is_entered {
                ahead.push((looked.name, looked.verdict));
            }
        }
        if !ahead.is_empty() && frames.len() < most {
            frames.push(Frame { source_dir, path, ahead });
        }
    }
}
