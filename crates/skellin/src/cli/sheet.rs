//! `store sheet`: one page for the safe.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use serde_json::json;
use skellin_engine::{Configuration, EngineError, Passphrase, Passphrases, history, keep_secret};
use skellin_figures::{ForRecovery, Paper, RecoverySheet, Step};
use skellin_plan::{PlaceSpec, StoreConfig};
use skellin_store::{RecoveryCode, Store};

use super::{context::Context, error::CliError};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin store sheet oak --out oak.pdf\n  skellin store sheet offshore --out offshore.pdf --restore-only --paper letter\n\nA recovery code is made for the sheet, and added to the passphrases of the store. Print the file, then delete it."
)]
pub(super) struct SheetArgs {
    /// The store
    store: String,
    /// The file, which must not be there yet
    #[arg(long, value_name = "FILE.pdf")]
    out: PathBuf,
    /// The size of the paper
    #[arg(long, value_enum, default_value_t = Size::A4)]
    paper: Size,
    /// The code only restores: nothing can be written to the store with it
    #[arg(long, conflicts_with = "without_code")]
    restore_only: bool,
    /// No code: room to write a passphrase by hand
    #[arg(long)]
    without_code: bool,
}

#[derive(Clone, Copy, ValueEnum)]
enum Size {
    A4,
    Letter,
}

pub(super) fn sheet(context: &Context, args: &SheetArgs) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let config = configuration.store(&args.store)?;
    // Looked at before a code is made; that nothing is written over is seen to again in the end.
    if args.out.exists() {
        let what = format!("{} is there already", args.out.display());
        return Err(CliError::usage(what, "name another file, or delete it"));
    }
    let store = context.open_store(&configuration, &args.store, false)?;
    let now = jiff::Timestamp::now().as_millisecond();
    let mut sheet = RecoverySheet {
        store: args.store.clone(),
        id: store.header().store.to_string(),
        place: config.place.to_string(),
        access: access(config),
        machine: crate::machine::machine_name(),
        date: words::day(now),
        opens: None,
        plans: plans(&store)?,
        steps: steps(&config.place.to_string(), &store)?,
    };
    let paper = match args.paper {
        Size::A4 => Paper::A4,
        Size::Letter => Paper::Letter,
    };
    let slot = match args.without_code {
        true => {
            write(&sheet, paper, &args.out)?;
            None
        }
        false => Some(with_code(context, &configuration, (&mut sheet, paper), args, now)?),
    };
    let file = args.out.display().to_string();
    context.print(
        || json!({"store": args.store, "file": file, "added": slot}),
        || {
            let code = match &slot {
                Some(slot) => format!(
                    "It has a new recovery code, passphrase {} of the store, which is kept nowhere else.\n",
                    &slot[..slot.len().min(8)]
                ),
                None => String::new(),
            };
            format!("Recovery sheet of store {} written to {file}.\n{code}  → print it, delete the file, and try the sheet: skellin drill PLAN --lost-machine\n", args.store)
        },
    );
    Ok(Exit::Done)
}

/// Makes a code, writes the sheet with it, and takes the code back if that fails; the code's slot.
fn with_code(
    context: &Context,
    configuration: &Configuration,
    (sheet, paper): (&mut RecoverySheet, Paper),
    args: &SheetArgs,
    now: i64,
) -> Result<String, CliError> {
    let ask = || context.ask_passphrase(&format!("Passphrase of store {}", args.store));
    let opened = Passphrases::open::<CliError>(configuration, &args.store, &ask)?;
    let code = RecoveryCode::new().map_err(EngineError::from)?;
    let text = code.text();
    let secret = Passphrase::new(text.as_bytes().to_vec());
    let label = format!("recovery sheet of {}", words::day(now));
    let slot = match args.restore_only {
        true => opened.add_restore_only(&secret, Some(&label), now)?,
        false => opened.add(&secret, Some(&label), now)?,
    };
    let groups = text.split(|character: char| !character.is_alphanumeric()).collect::<Vec<_>>();
    sheet.opens = Some(ForRecovery {
        code: groups.join(" "),
        slot: slot.clone(),
        restore_only: args.restore_only,
    });
    if let Err(error) = write(sheet, paper, &args.out) {
        // Nobody has seen it.
        opened.revoke(&slot)?;
        return Err(error);
    }
    Ok(slot)
}

fn write(sheet: &RecoverySheet, paper: Paper, file: &Path) -> Result<(), CliError> {
    let pdf = sheet.pdf(paper).map_err(|error| {
        let what = format!("the sheet's code cannot be drawn: {error}");
        CliError::failed(what, Some("give the store a shorter place".to_owned()))
    })?;
    Ok(keep_secret(file, &Passphrase::new(pdf), false)?)
}

/// How the place is reached, without secrets.
fn access(config: &StoreConfig) -> Vec<String> {
    let access = &config.access;
    let mut lines = Vec::new();
    if let Some(identity) = &access.identity {
        lines.push(format!("key file {}", identity.display()));
    }
    if let Some(endpoint) = &access.objects.endpoint {
        lines.push(format!("endpoint {endpoint}"));
    }
    if let Some(region) = &access.objects.region {
        lines.push(format!("region {region}"));
    }
    match &config.place {
        PlaceSpec::Directory(_) | PlaceSpec::Drive(_) => {}
        PlaceSpec::S3(_) => lines.push("the bucket's access key is not on this sheet".to_owned()),
        _ => lines.push("the account's key or password is not on this sheet".to_owned()),
    }
    lines
}

/// Plans in the store, with machine and newest snapshot.
fn plans(store: &Store) -> Result<Vec<(String, String, String)>, CliError> {
    let mut newest = std::collections::BTreeMap::new();
    for snapshot in history::snapshots(store, None, |_, _| {})? {
        let of = (snapshot.plan.clone(), snapshot.machine.clone());
        let latest = newest.entry(of).or_insert(snapshot.started);
        *latest = snapshot.started.max(*latest);
    }
    let told = |((plan, machine), started)| (plan, machine, words::moment(started));
    Ok(newest.into_iter().map(told).collect())
}

fn steps(place: &str, store: &Store) -> Result<Vec<Step>, CliError> {
    let plans = plans(store)?;
    let plan = plans.first().map_or("PLAN", |(plan, ..)| plan);
    let place = shlex::try_quote(place).map_or_else(|_| place.to_owned(), Into::into);
    let step = |what: &str, command: Option<String>| Step { what: what.to_owned(), command };
    Ok(vec![
        step("Install Skellin. Where a passphrase is asked for, type the code above.", None),
        step("See what is there.", Some(format!("skellin history --place {place}"))),
        step(
            "Bring the plans and the descriptions of the stores back.",
            Some(format!("skellin restore --place {place} --plans")),
        ),
        step(
            "Restore the newest snapshot of a plan to a new directory.",
            Some(format!("skellin restore --place {place} {plan}@newest --to /srv/back")),
        ),
        step("Whole systems, single files and other cases: docs/RECOVERY.md.", None),
    ])
}
