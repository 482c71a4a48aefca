//! What earlier runs tell of those to come. Reading leaves no trace: neither lock nor side file,
//! so that dry runs may do it. What a run of this very moment writes may be missed.

use std::path::Path;

use rusqlite::{Connection, OpenFlags, OptionalExtension, Row, params};
use skellin_plan::Effort;

fn connect(state: &Path) -> Option<Connection> {
    let path = state.join("journal.sqlite").canonicalize().ok()?;
    // The name becomes part of a URI, in which some characters mean something (RFC 3986).
    let name = path.to_str()?.replace('%', "%25").replace('?', "%3f").replace('#', "%23");
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    Connection::open_with_flags(format!("file:{name}?immutable=1"), flags).ok()
}

/// What the newest good runs of a plan into a store had to do, and how many seconds that took. A
/// journal that cannot be read teaches nothing.
pub(crate) fn past_runs(state: &Path, plan: &str, store: &str, most: usize) -> Vec<(Effort, f64)> {
    let read = || {
        let connection = connect(state)?;
        let sql = "SELECT new + changed + same + skipped, bytes_read, ended - started FROM work WHERE kind = 'run' AND plan = ?1 AND store = ?2 AND snapshot IS NOT NULL AND ended IS NOT NULL ORDER BY started DESC LIMIT ?3";
        let mut select = connection.prepare(sql).ok()?;
        let run = |row: &Row<'_>| {
            let number =
                |column| Ok::<_, rusqlite::Error>(row.get::<_, i64>(column)?.max(0) as u64);
            let effort = Effort { files: number(0)?, bytes: number(1)? };
            Ok((effort, row.get::<_, i64>(2)?.max(0) as f64 / 1000.0))
        };
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        select.query_map(params![plan, store, most], run).ok()?.collect::<Result<Vec<_>, _>>().ok()
    };
    read().unwrap_or_default()
}

/// How many paths each rule decided in the newest run of a plan that went through, by the rules'
/// texts; and when that run began, in milliseconds since 1970.
#[must_use]
pub fn rules_of_last_run(state: &Path, plan: &str) -> Option<(i64, Vec<(String, u64)>)> {
    let connection = connect(state)?;
    let sql = "SELECT id, started FROM work WHERE kind = 'run' AND plan = ?1 AND snapshot IS NOT NULL ORDER BY started DESC LIMIT 1";
    let newest = |row: &Row<'_>| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?));
    let (id, started) = connection.query_row(sql, [plan], newest).optional().ok()??;
    let mut select =
        connection.prepare("SELECT rule, decided FROM rule WHERE work = ?1 ORDER BY rowid").ok()?;
    let rule = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, i64>(1)?.max(0) as u64));
    let rules = select.query_map([id], rule).ok()?.collect::<Result<Vec<_>, _>>().ok()?;
    (!rules.is_empty()).then_some((started, rules))
}

/// The store that a drive of this name carried when it was here last.
pub(crate) fn store_on_drive(state: &Path, store: &str, drive: &str) -> Option<String> {
    let sql = "SELECT id FROM drive WHERE store = ?1 AND drive = ?2";
    connect(state)?.query_row(sql, [store, drive], |row| row.get(0)).optional().ok()?
}

#[cfg(test)]
mod tests {
    use super::{super::*, *};
    use crate::counts::{ByteCounts, FileCounts};

    #[test]
    fn good_runs_teach_and_reading_leaves_no_trace() {
        let folder = tempfile::tempdir().expect("a directory");
        let state = folder.path().join("odd ?name#");
        assert!(past_runs(&state, "readings", "oak", 9).is_empty() && !state.exists());
        let journal = Journal::open(&state).expect("a journal");
        let run = |plan, started, snapshot, rules: &[(&str, u64)]| {
            let beginning = Beginning {
                work: Work::Run,
                plan: Some(plan),
                store: "oak",
                machine: "hut",
                unattended: false,
                started,
            };
            let id = journal.begin(&beginning).expect("begins");
            let ending = Ending {
                snapshot,
                files: FileCounts { new: 3, same: 97, ..FileCounts::default() },
                bytes: ByteCounts { read: 5000, ..ByteCounts::default() },
                rules: rules.iter().map(|(text, count)| ((*text).to_owned(), *count)).collect(),
                ..Ending::at(started + 2500, Outcome::Done)
            };
            journal.finish(id, &ending).expect("ends");
        };
        run("readings", 1000, Some(skellin_store::RunId([1; 16])), &[("skip *.old", 9)]);
        run(
            "readings",
            5000,
            Some(skellin_store::RunId([2; 16])),
            &[("skip *.part", 3), ("skip .cache/", 0)],
        );
        run("readings", 9000, None, &[("skip *.part", 0)]);
        run("ringing", 9000, Some(skellin_store::RunId([3; 16])), &[]);
        drop(journal);
        let files = || {
            let listed =
                fs::read_dir(&state).expect("lists").map(|entry| entry.expect("one").path());
            let mut listed: Vec<_> = listed
                .filter(|path| path.is_file())
                .map(|path| (fs::read(&path).expect("reads"), path))
                .collect();
            listed.sort();
            listed
        };
        let before = files();
        let effort = Effort { files: 100, bytes: 5000 };
        assert_eq!(past_runs(&state, "readings", "oak", 9), [(effort, 2.5); 2]);
        assert_eq!(past_runs(&state, "readings", "pier", 9), []);
        let rules = vec![("skip *.part".to_owned(), 3), ("skip .cache/".to_owned(), 0)];
        assert_eq!(rules_of_last_run(&state, "readings"), Some((5000, rules)));
        assert_eq!(rules_of_last_run(&state, "ringing"), None);
        assert_eq!(files(), before);
    }
}
