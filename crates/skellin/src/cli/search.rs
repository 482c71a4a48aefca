//! `search`: paths in any snapshot.

use std::{
    ffi::OsString,
    sync::{
        Mutex,
        atomic::{AtomicU64, Ordering},
    },
};

use clap::Args;
use jiff::{Timestamp, tz::TimeZone};
use serde_json::{Value, json};
use skellin_engine::history::{Hit, Which, series};
use skellin_plan::{Query, When};
use skellin_store::{Store, StoreError};

use super::{
    WhichStore,
    context::Context,
    error::CliError,
    history::{file_time, kind},
    output::{self, json_path},
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    override_usage = "skellin search [OPTIONS] [PLAN] <PATTERN>",
    after_help = "Examples:\n  skellin search register\n  skellin search readings '*.csv' --over '1 MiB' --newer '3 days'\n  skellin search ringing '*' --gone --since '1 week ago'\n\nA word is part of a name, in upper or lower case. A pattern with *, ?, [ or / is one of rules:\n* stays within a name, ** spans directories, one that begins with / is a full path."
)]
pub(super) struct SearchArgs {
    /// The plan, if only its snapshots are to be searched; a word or a pattern
    #[arg(value_name = "PLAN and PATTERN", num_args = 1..=2, required = true)]
    what: Vec<OsString>,
    /// Only what the newest snapshot has no more, latest deleted first
    #[arg(long)]
    gone: bool,
    /// Only snapshots taken since then
    #[arg(long, value_name = "WHEN")]
    since: Option<String>,
    /// Only snapshots taken until then
    #[arg(long, value_name = "WHEN")]
    until: Option<String>,
    /// Only this kind: file, dir, link, device, pipe
    #[arg(long, value_name = "KIND")]
    kind: Option<String>,
    /// Only files larger than this
    #[arg(long, value_name = "SIZE")]
    over: Option<String>,
    /// Only files smaller than this
    #[arg(long, value_name = "SIZE")]
    under: Option<String>,
    /// Only files modified longer ago
    #[arg(long, value_name = "DURATION")]
    older: Option<String>,
    /// Only files modified less long ago
    #[arg(long, value_name = "DURATION")]
    newer: Option<String>,
    /// Only what belongs to this user, by name or number
    #[arg(long, value_name = "USER")]
    owner: Option<String>,
    #[command(flatten)]
    which: WhichStore,
}

impl SearchArgs {
    fn query(&self, now: Timestamp) -> Result<(Option<String>, Query), CliError> {
        let text = |given: &OsString| {
            let text = given.to_str().map(str::to_owned);
            let hint = "give the part of it that is UTF-8";
            text.ok_or_else(|| CliError::usage("the pattern is not UTF-8".to_owned(), hint))
        };
        let (plan, pattern) = match self.what.as_slice() {
            [plan, pattern] => (Some(text(plan)?), text(pattern)?),
            _ => (None, text(self.what.first().unwrap_or(&OsString::new()))?),
        };
        let conditions = [
            ("kind", &self.kind),
            ("over", &self.over),
            ("under", &self.under),
            ("older", &self.older),
            ("newer", &self.newer),
            ("owner", &self.owner),
        ];
        let given: Vec<(&str, &str)> = conditions
            .iter()
            .filter_map(|(word, given)| Some((*word, given.as_deref()?)))
            .collect();
        let query = Query::new(Some(&pattern), &given, now.as_second()).map_err(|why| {
            CliError::usage(why, "skellin search --help shows patterns and conditions")
        })?;
        Ok((plan, query))
    }
}

fn moment(text: Option<&str>, now: Timestamp) -> Result<Option<i64>, CliError> {
    let Some(text) = text else { return Ok(None) };
    match When::parse(text, now, &TimeZone::system()) {
        Ok(When::At(at)) => Ok(Some(at.as_millisecond())),
        Ok(When::Newest) => Ok(None),
        Err(error) => Err(CliError::usage(
            format!("`{}` is not a time", words::harmless(text)),
            format!("{error}; for example: yesterday, 10 nov 21:40"),
        )),
    }
}

pub(super) fn search(context: &Context, args: &SearchArgs) -> Result<Exit, CliError> {
    let now = Timestamp::now();
    let (plan, query) = args.query(now)?;
    let (since, until) = (moment(args.since.as_deref(), now)?, moment(args.until.as_deref(), now)?);
    if let (Some(plan), None) = (&plan, &args.which.place) {
        context.configuration()?.plan_file(plan)?;
    }
    let stores = context.stores(&args.which, plan.as_deref())?;
    let named = plan.as_deref().map(|plan| context.series(plan));
    let which =
        Which { plan: named.as_deref(), machine: args.which.machine.as_deref(), since, until };
    context.catch_signals();
    let found = context.attending(&stores, || {
        let opened: Vec<&Store> = stores.iter().map(|(_, store)| &**store).collect();
        let damaged = AtomicU64::new(0);
        let all = series(&opened, which, &mut |listed, error| {
            damaged.fetch_add(1, Ordering::Relaxed);
            let when = words::moment(listed.started);
            context.progress.say(&format!("damaged: snapshot of {when}: {error}"));
        })?;
        let printer = Printer { context, renamed: context.renamed(), gone: args.gone };
        if context.global.json {
            output::json_list(&json!({}), "paths");
        }
        let (mut paths, mut snapshots) = (0, 0);
        for series in &all {
            snapshots += series.len() as u64;
            let about = (series.plan.as_str(), series.machine.as_str());
            let (count, gathered) = (Mutex::new(0u64), Mutex::new(Vec::new()));
            let heading = (all.len() > 1).then_some(about);
            let each = |hit: Hit| {
                // Held while it prints: the head comes before all others.
                let mut count = locked(&count);
                match args.gone {
                    // The last that went comes first: that is known at the end.
                    true => locked(&gathered).push(hit),
                    false => printer.print(about, &hit, (*count == 0).then_some(heading)),
                }
                *count += 1;
            };
            let lost = |path: &[u8], error: &StoreError| {
                damaged.fetch_add(1, Ordering::Relaxed);
                context.progress.say(&format!("damaged: {}: {error}", words::path(path)));
            };
            let is_cancelled = || context.cancel.is_cancelled();
            series.search(&opened, (&query, args.gone), &is_cancelled, &each, &lost)?;
            let mut gathered = std::mem::take(&mut *locked(&gathered));
            gathered.sort_by(|a, b| b.gone.cmp(&a.gone).then_with(|| a.path.cmp(&b.path)));
            for (number, hit) in gathered.iter().enumerate() {
                printer.print(about, hit, (number == 0).then_some(heading));
            }
            paths += *locked(&count);
        }
        Ok((paths, snapshots, damaged.into_inner()))
    });
    let (paths, snapshots, damaged) = found?;
    if context.global.json {
        context.json(json!({}));
    } else if !context.global.quiet {
        let total = words::counted(paths, "path", "paths");
        let searched = words::counted(snapshots, "snapshot", "snapshots");
        output::line(format!("{total} in {searched}"));
        if let (0, [word]) = (paths, args.what.as_slice())
            && word
                .to_str()
                .is_some_and(|word| context.lenient_configuration().plan_file(word).is_ok())
        {
            let plan = word.to_string_lossy();
            output::line(format!("→ {plan} is a plan: skellin search {plan} PATTERN"));
        }
    }
    Ok(if damaged > 0 { Exit::Damage } else { Exit::Done })
}

struct Printer<'a> {
    context: &'a Context,
    renamed: std::collections::BTreeMap<String, String>,
    gone: bool,
}

impl Printer<'_> {
    /// Prints a path; `head`: it is the first of its series, which is named if there are several.
    fn print(&self, (plan, machine): (&str, &str), hit: &Hit, head: Option<Option<(&str, &str)>>) {
        let plan = self.renamed.get(plan).map_or(plan, String::as_str);
        if self.context.global.json {
            output::json_item(&value(plan, machine, hit));
            return;
        }
        if self.context.global.quiet {
            return;
        }
        let mut lines = Vec::new();
        if let Some(named) = head {
            if named.is_some() {
                lines.push(format!("{} on {}", words::harmless(plan), words::harmless(machine)));
            }
            let when = if self.gone { "gone since" } else { "last seen" };
            lines.push(format!(
                "{:<17} {when:<17} {:>8} {:>9}  path",
                "first seen", "versions", "size"
            ));
        }
        let first = hit.spans.first().map_or(0, |span| span.first);
        let last = hit.spans.last().map_or(0, |span| span.last);
        let (when, mark) = match hit.gone {
            Some(gone) if self.gone => (words::moment(gone), ""),
            Some(_) => (words::moment(last), "  (deleted)"),
            None => ("in the newest".to_owned(), ""),
        };
        let slash = if hit.entry.kind() == skellin_store::Kind::Directory { "/" } else { "" };
        lines.push(format!(
            "{:<17} {when:<17} {:>8} {:>9}  {}{slash}{mark}",
            words::moment(first),
            words::count(hit.spans.len() as u64),
            words::bytes(hit.entry.size()),
            words::path(&hit.path)
        ));
        output::line(lines.join("\n"));
    }
}

fn value(plan: &str, machine: &str, hit: &Hit) -> Value {
    let first = hit.spans.first().map(|span| words::rfc3339(span.first));
    let last = hit.spans.last().map(|span| words::rfc3339(span.last));
    json!({"path": json_path(&hit.path), "plan": plan, "machine": machine, "kind": kind(hit.entry.kind()),
        "size": hit.entry.size(), "modified": file_time(hit.entry.modified), "first": first, "last": last,
        "versions": hit.spans.len(), "gone-since": hit.gone.map(words::rfc3339)})
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}
