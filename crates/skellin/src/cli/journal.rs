//! `journal`: what was run, restored and verified on this machine.

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{Exception, JournalEntry};
use skellin_store::hex;

use super::{
    context::Context,
    error::CliError,
    output::{self, json_path},
    run::exceptions_text,
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin journal\n  skellin journal readings --limit 7\n  skellin journal --run 42"
)]
pub(super) struct JournalArgs {
    /// Only what concerns this plan
    plan: Option<String>,
    /// One entry with all it has to say, by its number
    #[arg(long, value_name = "NUMBER")]
    run: Option<i64>,
    /// So many entries, the newest
    #[arg(long, value_name = "COUNT", default_value_t = 50)]
    limit: usize,
}

pub(super) fn journal(context: &Context, args: &JournalArgs) -> Result<Exit, CliError> {
    let Some(journal) = context.journal() else {
        return Err(CliError::failed("the journal cannot be opened", None));
    };
    let limit = if args.run.is_some() { usize::MAX } else { args.limit };
    let mut entries = journal.entries(args.plan.as_deref(), limit)?;
    if let Some(number) = args.run {
        entries.retain(|entry| entry.id == number);
        let Some(entry) = entries.first() else {
            let hint = "`skellin journal` shows the numbers";
            return Err(CliError::usage(format!("the journal has no entry {number}"), hint));
        };
        let exceptions = journal.exceptions(number)?;
        context.print(|| as_json(entry, Some(&exceptions)), || whole(entry, &exceptions));
        return Ok(Exit::Done);
    }
    context.print(
        || json!({"entries": entries.iter().map(|entry| as_json(entry, None)).collect::<Vec<_>>()}),
        || {
            if entries.is_empty() {
                return "The journal is empty: nothing was run, restored or verified on this machine yet.\n".to_owned();
            }
            let rows: Vec<_> = entries.iter().map(row).collect();
            let total = words::counted(rows.len() as u64, "entry", "entries");
            let head = ["number", "began", "work", "of", "took", "ended", ""];
            format!("{}{total}, newest first\n", output::table(&head, &[0, 4], &rows))
        },
    );
    Ok(Exit::Done)
}

fn row(entry: &JournalEntry) -> Vec<String> {
    vec![
        entry.id.to_string(),
        words::moment(entry.started),
        entry.work.word().to_owned(),
        entry.plan.clone().unwrap_or_else(|| entry.store.clone()),
        took(entry),
        entry.outcome.word().to_owned(),
        entry.words.clone().unwrap_or_else(|| words::deeds(entry)),
    ]
}

fn took(entry: &JournalEntry) -> String {
    entry.ended.map_or("–".to_owned(), |ended| words::span(ended - entry.started))
}

fn whole(entry: &JournalEntry, exceptions: &[Exception]) -> String {
    let mut out = format!(
        "number    {}\nwork      {} of {}\nstore     {}\nmachine   {}\nbegan     {}\ntook      {}\nended     {}\ndid       {}\n",
        entry.id,
        entry.work.word(),
        entry.plan.as_deref().unwrap_or(&entry.store),
        entry.store,
        entry.machine,
        words::moment(entry.started),
        took(entry),
        entry.outcome.word(),
        words::deeds(entry),
    );
    for (label, text) in [("said", &entry.words), ("do", &entry.hint)] {
        if let Some(text) = text {
            out.push_str(&format!("{label:<10}{text}\n"));
        }
    }
    if let Some(id) = &entry.snapshot {
        out.push_str(&format!("snapshot  {}\n", words::short_id(id)));
    }
    out.push_str(&exceptions_text(entry.exception_count, exceptions, true));
    out
}

fn as_json(entry: &JournalEntry, exceptions: Option<&[Exception]>) -> Value {
    let files = &entry.files;
    let mut value = json!({
        "number": entry.id, "work": entry.work.word(), "plan": entry.plan, "store": entry.store,
        "machine": entry.machine, "started": words::rfc3339(entry.started),
        "ended": entry.ended.map(words::rfc3339), "status": entry.outcome.word(),
        "snapshot": entry.snapshot.map(|id| hex(&id)),
        "files": {"new": files.new, "changed": files.changed, "gone": files.gone, "same": files.same, "skipped": files.skipped},
        "bytes": {"read": entry.bytes.read, "new": entry.bytes.new, "stored": entry.bytes.stored},
        "exception-count": entry.exception_count, "words": entry.words, "hint": entry.hint,
    });
    if let Some(exceptions) = exceptions {
        let list = exceptions.iter().map(
            |exception| json!({"path": json_path(&exception.path), "reason": exception.reason}),
        );
        value["exceptions"] = list.collect();
    }
    value
}
