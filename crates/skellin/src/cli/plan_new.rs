//! `plan new`: a plan drafted, explained, rehearsed, and saved after review.

use std::{
    io::{self, IsTerminal},
    path::PathBuf,
};

use clap::Args;
use serde_json::json;
use skellin_engine::{Configuration, Draft, Passphrase, RunOptions, read_secret, trial_store};
use skellin_plan::{FORMS, PlaceSpec, PlanDraft, SecretSource, StoreDraft};

use super::{context::Context, error::CliError, output, run};
use crate::exit::Exit;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin plan new /srv/readings --store oak\n  skellin plan new /srv/readings --store oak --at /mnt/oak --run \"daily at 21:40\"\n\nNothing is written before you have seen the review and said yes."
)]
pub(super) struct NewArgs {
    /// Files and directories to protect
    #[arg(required = true, value_name = "PATH")]
    sources: Vec<PathBuf>,
    /// The store, one of stores.toml or a new one
    #[arg(long, value_name = "NAME")]
    store: String,
    /// The directory of a new store
    #[arg(long, value_name = "DIR")]
    at: Option<PathBuf>,
    /// The new store's passphrase, in this file; asked for twice otherwise
    #[arg(long, value_name = "FILE", requires = "at")]
    passphrase_file: Option<PathBuf>,
    /// The plan's name; by the first path otherwise
    #[arg(long)]
    name: Option<String>,
    /// What it is for
    #[arg(long, value_name = "TEXT", default_value = "")]
    about: String,
    /// A rule, as in "skip *.part"; may be given many times
    #[arg(long = "rule", value_name = "RULE")]
    rules: Vec<String>,
    /// When it is to run, as in "daily at 21:40"
    #[arg(long, value_name = "WHEN", default_value = "")]
    run: String,
    /// Save without asking
    #[arg(long)]
    yes: bool,
}

pub(super) fn new(
    context: &Context,
    configuration: &Configuration,
    args: &NewArgs,
) -> Result<Exit, CliError> {
    let (draft, passphrase) = draft(context, configuration, args)?;
    let checked = draft.check(configuration);
    let Some(plan) = checked.plan.filter(|_| checked.mistakes.is_empty()) else {
        let mistakes: Vec<String> =
            checked.mistakes.iter().map(|(what, hint)| format!("{what}\n  → {hint}")).collect();
        let message =
            format!("the draft has mistakes; nothing was written\n{}", mistakes.join("\n"));
        return Err(CliError::usage(message, "change what is named and try again"));
    };
    context.catch_signals();
    let machine = crate::machine::machine_name();
    let conductor = context.conductor(configuration, None, &machine);
    let options = RunOptions { dry_run: true, ..RunOptions::default() };
    let rehearsed = conductor.run(&plan, options, || match draft.store {
        Some(_) => Ok(trial_store()?),
        None => context.open_store(configuration, &plan.store, false),
    })?;
    if !context.global.json && !context.global.quiet {
        output::text(&review(configuration, &draft, &checked.notes)?);
        output::text(&run::as_text(&plan, &rehearsed, false));
    }
    if !args.yes && !agreed(context)? {
        context.print(|| json!({"saved": null}), || "Nothing was written.\n".to_owned());
        return Ok(Exit::Failed);
    }
    draft.save(configuration, passphrase.as_ref(), jiff::Timestamp::now().as_millisecond())?;
    let (path, name) = (draft.plan_path(configuration), &plan.name);
    context.print(
        || json!({"saved": path.display().to_string(), "plan": name, "store": plan.store}),
        || format!("Saved as {}.\n  → skellin run {name}\n", path.display()),
    );
    Ok(Exit::Done)
}

fn draft(
    context: &Context,
    configuration: &Configuration,
    args: &NewArgs,
) -> Result<(Draft, Option<Passphrase>), CliError> {
    let mut sources = Vec::new();
    for source in &args.sources {
        if source.to_str().is_some_and(|text| text.contains("://")) {
            // On another host, where nothing is looked at before the rehearsal.
            sources.push(source.clone());
            continue;
        }
        let full = std::path::absolute(source);
        sources.push(full.map_err(|error| CliError::failed(error.to_string(), None))?);
    }
    let is_known = configuration.stores.names.contains(&args.store);
    let (store, passphrase) = match (&args.at, is_known) {
        (Some(_), true) => {
            return Err(CliError::usage(
                format!("there is a store `{}` already", args.store),
                "leave --at out to use it, or give the new one another name",
            ));
        }
        (None, false) => {
            return Err(CliError::usage(
                format!("no store `{}` stands in stores.toml", args.store),
                "say where a new one is to be: --at /mnt/oak",
            ));
        }
        (None, true) => (None, None),
        (Some(at), false) => {
            let place = std::path::absolute(at)
                .map_err(|error| CliError::failed(error.to_string(), None))?;
            let subject = format!("the store `{}`", args.store);
            let (passphrase, key_file) = match &args.passphrase_file {
                Some(file) => {
                    let file = std::path::absolute(file)
                        .map_err(|error| CliError::failed(error.to_string(), None))?;
                    (read_secret(&SecretSource::File(file.clone()), &subject)?, Some(file))
                }
                None => (context.ask_new_passphrase(&args.store)?, None),
            };
            (
                Some(StoreDraft {
                    name: args.store.clone(),
                    place: PlaceSpec::Directory(place),
                    key_file,
                    access: Vec::new(),
                }),
                Some(passphrase),
            )
        }
    };
    let name = args.name.clone().unwrap_or_else(|| PlanDraft::suggested_name(&sources[0]));
    let plan = PlanDraft {
        name,
        about: args.about.clone(),
        sources,
        store: args.store.clone(),
        rules: args.rules.clone(),
        schedule: args.run.clone(),
    };
    Ok((Draft { plan, store, write_key: false }, passphrase))
}

fn review(
    configuration: &Configuration,
    draft: &Draft,
    notes: &[String],
) -> Result<String, CliError> {
    let refused = |what: String| CliError::usage(what, "change the draft");
    let mut out = String::from("A plan has one of three forms; this one makes snapshots.\n");
    for (form, what) in FORMS {
        out.push_str(&format!("  {form:<10} {what}\n"));
    }
    let indented =
        |text: String| text.lines().map(|line| format!("  {line}\n")).collect::<String>();
    out.push_str(&format!("\n{}\n", draft.plan_path(configuration).display()));
    out.push_str(&indented(draft.plan.text().map_err(refused)?));
    if let Some(store) = &draft.store {
        let file = configuration.folders.config.join("stores.toml");
        out.push_str(&format!("\n{}, added at its end\n", file.display()));
        out.push_str(&indented(store.text().map_err(refused)?));
    }
    for note in notes {
        out.push_str(&format!("note: {note}\n"));
    }
    out.push('\n');
    Ok(out)
}

fn agreed(context: &Context) -> Result<bool, CliError> {
    if !io::stdin().is_terminal() || context.global.json {
        return Err(CliError::usage(
            "the draft is fine, and there is nobody to ask whether to save it",
            "look at it, then say --yes",
        ));
    }
    output::agreed("Save it? [y/N] ")
        .map_err(|error| CliError::failed(format!("the answer was not read: {error}"), None))
}
