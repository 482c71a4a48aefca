//! `plan new`: a plan drafted, explained, dry-run, and saved after review.

use std::{
    io::{self, IsTerminal},
    path::PathBuf,
};

use clap::Args;
use serde_json::json;
use skellin_engine::{
    Configuration, Draft, NewStore, Passphrase, RunOptions, read_secret, trial_store,
};
use skellin_plan::{FORMS, PlaceSpec, PlanDraft, SecretSource, StoreDraft};

use super::{context::Context, error::CliError, output, run};
use crate::exit::Exit;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin plan new /srv/readings --store oak\n  skellin plan new /srv/readings --store oak --at /mnt/oak --run \"daily at 21:40\"\n\nNothing is written before you have confirmed the review."
)]
pub(super) struct NewArgs {
    /// Files and directories to back up
    #[arg(required = true, value_name = "PATH")]
    sources: Vec<PathBuf>,
    /// The store: one of stores.toml, or a new name
    #[arg(long, value_name = "NAME")]
    store: String,
    /// The directory of a new store
    #[arg(long, value_name = "DIR")]
    at: Option<PathBuf>,
    /// File with the passphrase of the new store; otherwise it is asked for
    #[arg(long, value_name = "FILE", requires = "at")]
    passphrase_file: Option<PathBuf>,
    /// Name of the plan; default: from the first path
    #[arg(long)]
    name: Option<String>,
    /// What it is for
    #[arg(long, value_name = "TEXT", default_value = "")]
    about: String,
    /// A rule, such as "skip *.part"; repeatable
    #[arg(long = "rule", value_name = "RULE")]
    rules: Vec<String>,
    /// Schedule, such as "daily at 21:40"
    #[arg(long, value_name = "WHEN", default_value = "")]
    run: String,
    /// Save without asking
    #[arg(long)]
    yes: bool,
    /// Save the passphrase of the store in a key file (0600), for scheduled runs
    #[arg(long)]
    keep_passphrase: bool,
}

pub(super) fn new(
    context: &Context,
    configuration: &Configuration,
    args: &NewArgs,
) -> Result<Exit, CliError> {
    let (mut draft, passphrase) = draft(context, configuration, args)?;
    let checked = draft.check(configuration);
    let Some(plan) = checked.plan.filter(|_| checked.mistakes.is_empty()) else {
        let mistakes: Vec<String> =
            checked.mistakes.iter().map(|(what, hint)| format!("{what}\n  → {hint}")).collect();
        let message =
            format!("the draft has mistakes; nothing was written\n{}", mistakes.join("\n"));
        return Err(CliError::usage(message, "correct it and try again"));
    };
    context.catch_signals();
    let machine = crate::machine::machine_name();
    let orchestrator = context.orchestrator(configuration, None, &machine);
    let options = RunOptions { dry_run: true, ..RunOptions::default() };
    let foretold = orchestrator.run(&plan, options, || match draft.store {
        Some(_) => Ok(trial_store()?),
        None => context.open_store(configuration, &plan.store, false),
    })?;
    if !context.global.json && !context.global.quiet {
        output::text(&review(configuration, &draft, &checked.notes)?);
        output::text(&run::as_text(&plan, &foretold, false));
    }
    let key = key_to_keep(context, configuration, args, &draft)?;
    match (&key, &mut draft.store) {
        (Some(key), Some(store)) => {
            (store.draft.key_file, store.write_key) = (Some(key.clone()), true);
        }
        (Some(_), None) => draft.known_key.clone_from(&key),
        (None, _) => {}
    }
    if !args.yes && !agreed(context)? {
        context.print(|| json!({"saved": null}), || "Nothing was written.\n".to_owned());
        return Ok(Exit::Failed);
    }
    let passphrase = match draft.known_key {
        Some(_) => Some(context.ask_passphrase(&format!("Passphrase of store {}", plan.store))?),
        None => passphrase,
    };
    draft.save(configuration, passphrase.as_ref(), jiff::Timestamp::now().as_millisecond())?;
    let (path, name) = (draft.plan_path(configuration), &plan.name);
    context.print(
        || {
            json!({"saved": path.display().to_string(), "plan": name, "store": plan.store,
                "key": key.as_ref().map(|key| key.display().to_string())})
        },
        || {
            let kept = key.as_ref().map_or(String::new(), |key| {
                format!("The passphrase is saved in {}, readable only by you.\n", key.display())
            });
            let starts = match plan.schedule {
                Some(_) => "  → skellin timers install starts it on schedule\n",
                None => "",
            };
            format!("Saved as {}.\n{kept}  → skellin run {name}\n{starts}", path.display())
        },
    );
    Ok(Exit::Done)
}

/// Where the passphrase is to be kept, if scheduled runs would have nobody to ask for it.
fn key_to_keep(
    context: &Context,
    configuration: &Configuration,
    args: &NewArgs,
    draft: &Draft,
) -> Result<Option<PathBuf>, CliError> {
    if draft.knows_passphrase(configuration)
        || (draft.plan.schedule.is_empty() && !args.keep_passphrase)
    {
        return Ok(None);
    }
    let store = &draft.plan.store;
    let key = configuration.folders.config.join("keys").join(format!("{store}.key"));
    let question = format!(
        "Scheduled runs cannot ask for the passphrase of store {store}.\nSave it in {}, readable only by you? [y/N] ",
        key.display()
    );
    let asks = !args.yes && io::stdin().is_terminal() && !context.global.json;
    if args.keep_passphrase || (asks && output::agreed(&question).unwrap_or(false)) {
        return Ok(Some(key));
    }
    context.progress.say("note: --keep-passphrase saves the passphrase for scheduled runs");
    Ok(None)
}

fn draft(
    context: &Context,
    configuration: &Configuration,
    args: &NewArgs,
) -> Result<(Draft, Option<Passphrase>), CliError> {
    let mut sources = Vec::new();
    for source in &args.sources {
        if source.to_str().is_some_and(|text| text.contains("://")) {
            // On another host, where nothing is looked at before the dry run.
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
                format!("there is already a store `{}`", args.store),
                "omit --at to use it, or choose another name",
            ));
        }
        (None, false) => {
            return Err(CliError::usage(
                format!("store `{}` is not in stores.toml", args.store),
                "for a new store add --at DIR",
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
                None => (
                    {
                        let prompt = format!("Passphrase for new store {}", args.store);
                        context.ask_new_passphrase(&prompt)?
                    },
                    None,
                ),
            };
            (
                Some(NewStore {
                    draft: StoreDraft {
                        name: args.store.clone(),
                        place: PlaceSpec::Directory(place),
                        key_file,
                        access: Vec::new(),
                    },
                    on: None,
                    write_key: false,
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
        rules_from: Vec::new(),
        rules: args.rules.clone(),
        schedule: args.run.clone(),
    };
    Ok((Draft { plan, store, ..Draft::default() }, passphrase))
}

fn review(
    configuration: &Configuration,
    draft: &Draft,
    notes: &[String],
) -> Result<String, CliError> {
    let refused = |what: String| CliError::usage(what, "change the draft");
    let mut out = String::from("A plan has one of three forms; this one makes snapshots:\n");
    for (form, what) in FORMS {
        out.push_str(&format!("  {form:<10} {what}\n"));
    }
    let indented =
        |text: String| text.lines().map(|line| format!("  {line}\n")).collect::<String>();
    out.push_str(&format!("\n{}\n", draft.plan_path(configuration).display()));
    out.push_str(&indented(draft.plan.text().map_err(refused)?));
    if let Some(store) = &draft.store {
        let file = configuration.folders.config.join("stores.toml");
        out.push_str(&format!("\n{}, appended\n", file.display()));
        out.push_str(&indented(store.draft.text().map_err(refused)?));
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
            "the draft is fine, but there is no terminal to confirm saving it",
            "review it, then add --yes",
        ));
    }
    output::agreed("Save it? [y/N] ")
        .map_err(|error| CliError::failed(format!("cannot read the answer: {error}"), None))
}
