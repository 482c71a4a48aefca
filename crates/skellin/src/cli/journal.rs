//! `journal`: what was run, restored and verified on this machine.

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{Delivery, Exception, JournalEntry, StepRecord, Work, remedy, restore_remedy};

use super::{
    context::Context,
    error::CliError,
    output::{self, exception_json},
    run::exceptions_text,
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin journal\n  skellin journal readings --limit 7\n  skellin journal --run 42"
)]
pub(super) struct JournalArgs {
    /// Only this plan
    plan: Option<String>,
    /// Show the entry with this number in full
    #[arg(long, value_name = "NUMBER")]
    run: Option<i64>,
    /// Number of entries
    #[arg(long, value_name = "COUNT", default_value_t = 50)]
    limit: usize,
}

pub(super) fn journal(context: &Context, args: &JournalArgs) -> Result<Exit, CliError> {
    let journal = context.open_journal()?;
    if let Some(number) = args.run {
        let plan = args.plan.as_deref();
        let found = journal.entry(number)?;
        let Some(entry) = found.filter(|entry| plan.is_none() || entry.plan.as_deref() == plan)
        else {
            let hint = "skellin journal lists the numbers";
            return Err(CliError::usage(format!("no journal entry {number}"), hint));
        };
        let details = Details {
            exceptions: journal.exceptions(number)?,
            steps: journal.steps(number)?,
            deliveries: journal.deliveries(number)?,
        };
        context.print(|| as_json(&entry, Some(&details)), || whole(&entry, &details));
        return Ok(Exit::Done);
    }
    let entries = journal.entries(args.plan.as_deref(), args.limit)?;
    context.print(
        || json!({"entries": entries.iter().map(|entry| as_json(entry, None)).collect::<Vec<_>>()}),
        || {
            if entries.is_empty() {
                return "The journal is empty: no runs, restores or verifications on this machine yet.\n".to_owned();
            }
            let rows: Vec<_> = entries.iter().map(row).collect();
            let total = words::counted(rows.len() as u64, "entry", "entries");
            let head = ["number", "began", "work", "of", "took", "ended", ""];
            format!("{}{total}, newest first\n", output::table(&head, &[0, 4], &rows))
        },
    );
    Ok(Exit::Done)
}

/// What an entry has beside itself.
struct Details {
    exceptions: Vec<Exception>,
    steps: Vec<StepRecord>,
    deliveries: Vec<Delivery>,
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

fn whole(entry: &JournalEntry, details: &Details) -> String {
    let mut out = format!(
        "number    {}\nwork      {} of {}\nstore     {}\nmachine   {}, version {}\nstarted   {}\nduration  {}\nended     {}\nresult    {}\n",
        entry.id,
        entry.work.word(),
        entry.plan.as_deref().unwrap_or(&entry.store),
        entry.store,
        entry.machine,
        entry.version,
        words::moment(entry.started),
        took(entry),
        entry.outcome.word(),
        words::deeds(entry),
    );
    for (label, text) in [("message", &entry.words), ("to do", &entry.hint)] {
        if let Some(text) = text {
            out.push_str(&format!("{label:<10}{text}\n"));
        }
    }
    if let Some(id) = &entry.snapshot {
        out.push_str(&format!("snapshot  {}\n", id.short()));
    }
    if !details.steps.is_empty() {
        out.push_str("steps:\n");
    }
    for step in &details.steps {
        let took = step.ended.map_or("–".to_owned(), |ended| words::span(ended - step.started));
        let said = step.words.as_ref().map_or(String::new(), |words| format!(": {words}"));
        out.push_str(&format!(
            "  {:<10}{took:>10}  {:<12}{}{said}\n",
            step.kind,
            step.outcome.word(),
            words::path(step.subject.as_bytes())
        ));
        for line in step.output.iter().flat_map(|output| output.lines()) {
            out.push_str(&format!("      │ {}\n", words::path(line.as_bytes())));
        }
    }
    if !details.deliveries.is_empty() {
        out.push_str("notifications:\n");
    }
    for delivery in &details.deliveries {
        out.push_str(&format!(
            "  {:<16}{:<12}{}\n",
            delivery.channel,
            delivery.topic,
            words::delivery(delivery)
        ));
    }
    let remedy = match entry.work {
        Work::Restore => restore_remedy,
        _ => remedy,
    };
    out.push_str(&exceptions_text(entry.exception_count, &details.exceptions, true, remedy));
    out
}

fn as_json(entry: &JournalEntry, details: Option<&Details>) -> Value {
    let files = &entry.files;
    let mut value = json!({
        "number": entry.id, "work": entry.work.word(), "plan": entry.plan, "store": entry.store,
        "machine": entry.machine, "started": words::rfc3339(entry.started),
        "ended": entry.ended.map(words::rfc3339), "status": entry.outcome.word(),
        "snapshot": entry.snapshot.map(|id| id.to_string()),
        "files": {"new": files.new, "changed": files.changed, "gone": files.gone, "same": files.same, "skipped": files.skipped},
        "bytes": {"read": entry.bytes.read, "new": entry.bytes.new, "stored": entry.bytes.stored},
        "exception-count": entry.exception_count, "words": entry.words, "hint": entry.hint,
    });
    value["version"] = json!(entry.version);
    if let Some(details) = details {
        let list = details.exceptions.iter().map(exception_json);
        value["exceptions"] = list.collect();
        let list = details.steps.iter().map(|step| {
            json!({"kind": step.kind, "subject": step.subject, "started": words::rfc3339(step.started),
                "ended": step.ended.map(words::rfc3339), "status": step.outcome.word(),
                "message": step.words, "code": step.code, "output": step.output})
        });
        value["steps"] = list.collect();
        let list = details.deliveries.iter().map(|delivery| {
            json!({"channel": delivery.channel, "event": delivery.topic, "subject": delivery.subject,
                "sent": delivery.sent.map(words::rfc3339), "given-up": delivery.given_up,
                "tries": delivery.tries, "message": delivery.words})
        });
        value["told"] = list.collect();
    }
    value
}
