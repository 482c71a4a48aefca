//! `explain`: the verdict on a path, and the rule and line behind it.

use std::path::PathBuf;

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::Reasons;
use skellin_plan::{Action, Plan, Rule};

use super::{context::Context, error::CliError, output::json_path};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin explain readings /srv/readings/.cache\n  skellin explain readings not-there-yet.part\n\nThe path need not exist: then only its name is compared, and no condition on size, age or owner holds."
)]
pub(super) struct ExplainArgs {
    /// The plan
    plan: String,
    /// The paths
    #[arg(required = true)]
    paths: Vec<PathBuf>,
}

pub(super) fn explain(context: &Context, args: &ExplainArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let plan = context.plan(&configuration, &args.plan)?;
    context.catch_signals();
    let now = jiff::Timestamp::now().as_millisecond();
    let mut all = Vec::new();
    for path in &args.paths {
        let full = match path.to_str().is_some_and(|path| path.contains("://")) {
            // A path of another host, as the plan's source names it.
            true => path.clone(),
            false => std::path::absolute(path)
                .map_err(|error| CliError::failed(error.to_string(), None))?,
        };
        let source_hosts = &configuration.source_hosts;
        all.push(skellin_engine::explain(&plan, source_hosts, &full, now, &context.cancel)?);
    }
    context.print(
        || json!({"paths": all.iter().map(|reasons| as_json(&plan, reasons)).collect::<Vec<_>>()}),
        || all.iter().map(|reasons| as_text(&plan, reasons)).collect::<Vec<_>>().join("\n"),
    );
    Ok(Exit::Done)
}

fn word(action: Action) -> &'static str {
    match action {
        Action::Take => "take",
        Action::Skip => "skip",
    }
}

fn rule(plan: &Plan, number: usize) -> &Rule {
    &plan.rules.rules()[number]
}

fn as_json(plan: &Plan, reasons: &Reasons) -> Value {
    use std::os::unix::ffi::OsStrExt;
    let told = |number: &usize| {
        let rule = rule(plan, *number);
        json!({"rule": rule.text, "file": rule.file, "line": rule.line})
    };
    let decides = reasons.verdict.rule.map(|number| rule(plan, number));
    let overruled = reasons.held.iter().filter(|number| Some(**number) != reasons.verdict.rule);
    json!({
        "path": json_path(reasons.path.as_os_str().as_bytes()),
        "verdict": word(reasons.verdict.action),
        "source": reasons.source.as_ref().map(|source| source.display().to_string()),
        "rule": decides.map(|rule| rule.text.clone()),
        "file": decides.map(|rule| rule.file.clone()),
        "line": decides.map(|rule| rule.line),
        "overruled": overruled.map(told).collect::<Vec<_>>(),
        "exists": reasons.exists,
        "below": reasons.below.map(|below| json!({"files": below.files, "bytes": below.bytes, "skipped": below.skipped})),
    })
}

fn as_text(plan: &Plan, reasons: &Reasons) -> String {
    words::reasons(plan, reasons).join("\n") + "\n"
}
