//! Why a path is included or excluded.

use std::{
    collections::HashSet,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
};

use skellin_plan::{Action, Plan, Verdict};

use crate::{
    clock::Cancel,
    error::{EngineError, Result},
    filter::Filter,
    metadata::{Owners, Sort},
    places::SourceHosts,
    preview::Looking,
    sources::Trouble,
    walk::{Filtering, Looked, through},
};

/// What the rules make of a path, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reasons {
    /// The full path.
    pub path: PathBuf,
    /// The source it belongs to; without one it is not included.
    pub source: Option<PathBuf>,
    /// The verdict.
    pub verdict: Verdict,
    /// Numbers of all rules that hold, in order; the last decides.
    pub held: Vec<usize>,
    /// Whether it is there now; if not, only its name was judged.
    pub exists: bool,
    /// For a directory, what is below.
    pub below: Option<Amounts>,
}

/// How much of a directory is included.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Amounts {
    /// Included paths that are no directories.
    pub files: u64,
    /// Bytes of included files.
    pub bytes: u64,
    /// Paths that a rule leaves out; a directory that is not entered counts once.
    pub skipped: u64,
}

/// The reasons for a full path, existing or not. `now` in milliseconds since 1970.
///
/// # Errors
/// If the rules cannot be made ready, or if it was cancelled while counting.
pub fn explain(
    plan: &Plan,
    source_hosts: &SourceHosts,
    path: &Path,
    now: i64,
    cancel: &Cancel,
) -> Result<Reasons> {
    let sources = plan.sources.iter().filter(|source| path.starts_with(source));
    let Some(source) = sources.max_by_key(|source| source.as_os_str().len()) else {
        return Ok(Reasons {
            path: path.to_path_buf(),
            source: None,
            verdict: Verdict { action: Action::Skip, rule: None },
            held: Vec::new(),
            exists: path.symlink_metadata().is_ok(),
            below: None,
        });
    };
    let origin = source_hosts.of(source)?;
    let filter = Filter::new(&plan.rules, origin, source, now)?;
    let facts = match filter.origin().facts(path, path == source).map_err(Trouble::of_the_way) {
        Ok(facts) => Some(facts),
        // That there is none is told; that it cannot be asked for is a failure.
        Err(Ok(failure)) => return Err(failure),
        Err(Err(_)) => None,
    };
    let directory = facts.as_ref().is_some_and(|facts| facts.sort() == Sort::Directory);
    let explanation = filter.explain(source, path, directory);
    let below = match directory {
        true => Some(count(&filter, path, explanation.verdict, &HashSet::new(), cancel)?),
        false => None,
    };
    Ok(Reasons {
        path: path.to_path_buf(),
        source: Some(source.clone()),
        verdict: explanation.verdict,
        held: explanation.held,
        exists: facts.is_some(),
        below,
    })
}

/// How much of all sources a plan includes; what was before does not matter.
///
/// # Errors
/// If the rules cannot be made ready, if a host cannot be reached, or if it was cancelled.
pub fn measure(looking: &Looking<'_>, cancel: &Cancel) -> Result<Amounts> {
    let (plan, own) = (looking.plan, looking.own());
    let mut sum = Amounts::default();
    for source in &plan.sources {
        let filter = looking.filter(source)?;
        let facts = match filter.origin().facts(source, true).map_err(Trouble::of_the_way) {
            Ok(facts) => facts,
            Err(Ok(failure)) => return Err(failure),
            Err(Err(_)) => continue,
        };
        let verdict = filter.source(source.as_os_str().as_bytes(), &facts, &Owners::default());
        if facts.sort() == Sort::Directory {
            let amounts = count(&filter, source, verdict, &own, cancel)?;
            sum.files += amounts.files;
            sum.bytes += amounts.bytes;
            sum.skipped += amounts.skipped;
        } else if verdict.action == Action::Take {
            sum.files += 1;
            sum.bytes += facts.size();
        } else {
            sum.skipped += 1;
        }
    }
    Ok(sum)
}

fn count(
    filter: &Filter,
    path: &Path,
    verdict: Verdict,
    own: &HashSet<(u64, u64)>,
    cancel: &Cancel,
) -> Result<Amounts> {
    let mut amounts = Amounts::default();
    let mut visit = |looked: &Looked| {
        match (looked.verdict.action, looked.facts.sort()) {
            // Its own paths are counted one by one.
            (Action::Skip, Sort::Directory) if looked.is_entered => {}
            (Action::Skip, _) => amounts.skipped += 1,
            (Action::Take, Sort::Directory | Sort::Socket) => {}
            (Action::Take, sort) => {
                amounts.files += 1;
                amounts.bytes += if sort == Sort::File { looked.facts.size() } else { 0 };
            }
        }
        !cancel.is_cancelled()
    };
    let enter = verdict.action == Action::Take
        || filter.may_take_below(verdict, path.as_os_str().as_bytes());
    if enter {
        let filtering = Filtering { filter, owners: &Owners::default(), keep_out: own };
        through(filtering, path, verdict, &mut visit);
    }
    match cancel.is_cancelled() {
        true => Err(EngineError::Cancelled),
        false => Ok(amounts),
    }
}
