//! `passphrase`: the passphrases of a store.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use serde_json::json;
use skellin_engine::{Changed, EngineError, Passphrase, Passphrases, read_secret, weakness};
use skellin_plan::SecretSource;
use skellin_store::{PassphraseSlot, RecoveryCode};

use super::{context::Context, error::CliError, output};
use crate::{exit::Exit, words};

#[derive(Subcommand)]
pub(super) enum PassphraseCommand {
    /// List the passphrases of a store
    #[command(after_help = "Example: skellin passphrase list oak")]
    List {
        /// The store
        store: String,
    },
    /// Add a passphrase
    #[command(
        after_help = "Examples:\n  skellin passphrase add oak --label \"sealed envelope in the safe\"\n  skellin passphrase add oak --recovery-code\n\nA recovery code is random, easy to type, and tells where it was mistyped. With --restore-only a passphrase\nreads and restores everything and can forge nothing; any other opens the whole store. The label is stored unencrypted."
    )]
    Add(AddArgs),
    /// Replace the passphrase in use
    #[command(
        after_help = "Example: skellin passphrase change oak\n\nThe new passphrase is added and tested, then written to the key file that stores.toml names (if it\nnames one), then the old one is revoked. Other passphrases stay."
    )]
    Change(AddArgs),
    /// Revoke a passphrase
    #[command(
        after_help = "Example: skellin passphrase revoke oak 3f9c01ab\n\nThe passphrase in use cannot be revoked, so that one always remains. Somebody who knew the\npassphrase and copied the store can still read that copy."
    )]
    Revoke {
        /// The store
        store: String,
        /// The id of the passphrase, or its first digits
        id: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Args)]
pub(super) struct AddArgs {
    /// The store
    store: String,
    /// Whose passphrase it is
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// File with the new passphrase; otherwise it is asked for
    #[arg(long, value_name = "FILE")]
    new_passphrase_file: Option<PathBuf>,
    /// Make up a recovery code instead, and print it once
    #[arg(long, conflicts_with_all = ["new_passphrase_file", "weak_passphrase"])]
    recovery_code: bool,
    /// It only restores: nothing can be written to the store with it
    #[arg(long)]
    restore_only: bool,
    /// Accept a weak passphrase
    #[arg(long)]
    weak_passphrase: bool,
}

impl AddArgs {
    fn label(&self) -> Option<&str> {
        match (&self.label, self.recovery_code, self.restore_only) {
            (Some(label), ..) => Some(label),
            (None, true, true) => Some("recovery code, restore only"),
            (None, true, false) => Some("recovery code"),
            (None, false, true) => Some("restore only"),
            (None, false, false) => None,
        }
    }

    fn add(
        &self,
        opened: &Passphrases<'_>,
        new: &Passphrase,
        now: i64,
    ) -> Result<String, EngineError> {
        match self.restore_only {
            true => opened.add_restore_only(new, self.label(), now),
            false => opened.add(new, self.label(), now),
        }
    }
}

pub(super) fn passphrase(context: &Context, command: &PassphraseCommand) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    let now = jiff::Timestamp::now().as_millisecond();
    let open = |store: &str| {
        let ask = || context.ask_passphrase(&format!("Passphrase of store {store}"));
        Passphrases::open::<CliError>(&configuration, store, &ask)
    };
    match command {
        PassphraseCommand::List { store } => list(context, store, &open(store)?.list()?),
        PassphraseCommand::Add(args) => {
            let opened = open(&args.store)?;
            if args.recovery_code {
                return recovery_code(context, args, &opened, now);
            }
            let new = new_passphrase(context, args)?;
            let id = args.add(&opened, &new, now)?;
            context.print(
                || json!({"store": args.store, "added": id}),
                || {
                    let (id, store) = (short(&id), &args.store);
                    format!("Passphrase {id} added to store {store}.\n{}", drives(&opened))
                },
            );
            Ok(Exit::Done)
        }
        PassphraseCommand::Change(args) => {
            if args.recovery_code || args.restore_only {
                let hint = "skellin passphrase add STORE adds one beside it";
                let what = "the passphrase in use stays a full one that you choose";
                return Err(CliError::usage(what, hint));
            }
            let opened = open(&args.store)?;
            let new = new_passphrase(context, args)?;
            let changed = opened.change(&new, args.label.as_deref(), now)?;
            let revoked = changed.is_revoked.then_some(&changed.old);
            context.print(
                || json!({"store": args.store, "added": changed.added, "revoked": revoked}),
                || change_text(&args.store, &changed, &opened),
            );
            Ok(Exit::Done)
        }
        PassphraseCommand::Revoke { store, id, yes } => {
            let opened = open(store)?;
            let question = format!("Revoke passphrase {id} of store {store}? [y/N] ");
            if !yes && !output::agreed(&question).unwrap_or(false) {
                return Err(CliError::guarded("nothing was revoked", "confirm, or add --yes"));
            }
            let revoked = opened.revoke(id)?;
            context.print(
                || json!({"store": store, "revoked": revoked}),
                || format!("Passphrase {} revoked.\n{}", short(&revoked), drives(&opened)),
            );
            Ok(Exit::Done)
        }
    }
}

/// Adds a recovery code, which is printed and kept nowhere.
fn recovery_code(
    context: &Context,
    args: &AddArgs,
    opened: &Passphrases<'_>,
    now: i64,
) -> Result<Exit, CliError> {
    let code = RecoveryCode::new().map_err(EngineError::from)?;
    let text = code.text();
    let id = args.add(opened, &Passphrase::new(text.as_bytes().to_vec()), now)?;
    let opens = if args.restore_only { "restores" } else { "opens the whole store" };
    context.print(
        || json!({"store": args.store, "added": id, "recovery-code": *text}),
        || {
            format!(
                "Recovery code of store {}:\n\n    {}\n\nIt {opens} wherever a passphrase is asked for, and is not shown again.\n  → write it down, keep it away from this machine, and try it: skellin drill PLAN --lost-machine\n{}",
                args.store,
                *text,
                drives(opened)
            )
        },
    );
    Ok(Exit::Done)
}

fn change_text(store: &str, changed: &Changed, opened: &Passphrases<'_>) -> String {
    match (&changed.file, changed.is_revoked) {
        (Some(file), _) => {
            format!("Passphrase of store {store} changed, and written to {}.\n", file.display())
        }
        (None, true) => format!("Passphrase of store {store} changed.\n"),
        (None, false) => format!(
            "Passphrase {} added; the old one still works.\n{}  → update where stores.toml reads the passphrase from, then: skellin passphrase revoke {store} {}\n",
            short(&changed.added),
            drives(opened),
            short(&changed.old)
        ),
    }
}

fn new_passphrase(context: &Context, args: &AddArgs) -> Result<Passphrase, CliError> {
    let new = match &args.new_passphrase_file {
        Some(file) => read_secret(&SecretSource::File(file.clone()), "the new passphrase")?,
        None => context.ask_new_passphrase(&format!("New passphrase for store {}", args.store))?,
    };
    match weakness(&new).filter(|_| !args.weak_passphrase) {
        Some(why) => {
            let hint = "choose a few unrelated words; or add --weak-passphrase";
            Err(CliError::guarded(format!("the passphrase is weak: {why}"), hint))
        }
        None => Ok(new),
    }
}

fn short(id: &str) -> &str {
    id.get(..8).unwrap_or(id)
}

/// Drives of a rotation are stores of their own.
fn drives(opened: &Passphrases<'_>) -> String {
    match opened.drives() {
        [] | [_] => String::new(),
        all => format!(
            "This was the drive at {}; repeat it with the other drives: {}.\n",
            opened.place(),
            all.join(", ")
        ),
    }
}

fn list(context: &Context, store: &str, slots: &[PassphraseSlot]) -> Result<Exit, CliError> {
    context.print(
        || {
            let value = |slot: &PassphraseSlot| {
                json!({"id": slot.id, "label": slot.label, "in-use": slot.is_own,
                    "added": slot.created.map(|created| words::rfc3339(created * 1000))})
            };
            json!({"store": store, "passphrases": slots.iter().map(value).collect::<Vec<_>>()})
        },
        || {
            let row = |slot: &PassphraseSlot| {
                let created = slot.created.map(|created| words::moment(created * 1000));
                vec![
                    short(&slot.id).to_owned(),
                    created.unwrap_or_default(),
                    if slot.is_own { "in use".to_owned() } else { String::new() },
                    words::path(slot.label.as_deref().unwrap_or_default().as_bytes()),
                ]
            };
            let rows: Vec<_> = slots.iter().map(row).collect();
            let total = words::counted(rows.len() as u64, "passphrase", "passphrases");
            format!("{}{total}\n", output::table(&["id", "added", "", "label"], &[], &rows))
        },
    );
    Ok(Exit::Done)
}
