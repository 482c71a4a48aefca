//! `passphrase`: the passphrases of a store.

use std::{path::PathBuf, sync::Arc};

use clap::{Args, Subcommand};
use serde_json::json;
use skellin_engine::{
    Configuration, EngineError, Passphrase, keep_secret, open_place, read_secret, weakness,
};
use skellin_place::Place;
use skellin_plan::{SecretSource, StoreConfig};
use skellin_store::{NewPassphrase, PassphraseCost, PassphraseSlot, Store};

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
        after_help = "Example: skellin passphrase add oak --label \"sealed envelope in the safe\"\n\nEach passphrase opens the whole store. The label is stored unencrypted."
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
    /// Accept a weak passphrase
    #[arg(long)]
    weak_passphrase: bool,
}

/// A store that is opened with a passphrase.
struct Opened<'a> {
    name: &'a str,
    config: &'a StoreConfig,
    place: Arc<dyn Place>,
    present: Passphrase,
}

impl Opened<'_> {
    fn error(&self, error: skellin_store::StoreError) -> CliError {
        EngineError::of_opening(error, self.name).into()
    }

    fn add(&self, new: &Passphrase, label: Option<&str>) -> Result<String, CliError> {
        let (cost, now) = (PassphraseCost::default(), jiff::Timestamp::now().as_second());
        let new = NewPassphrase { passphrase: new, label, cost, now };
        Store::add_passphrase(&*self.place, &self.present, new).map_err(|error| self.error(error))
    }

    fn own(&self) -> Result<PassphraseSlot, CliError> {
        let all = Store::passphrases(&*self.place, &self.present);
        let own = all.map_err(|error| self.error(error))?.into_iter().find(|slot| slot.is_own);
        own.ok_or_else(|| CliError::failed("the passphrase in use has no slot", None))
    }
}

pub(super) fn passphrase(context: &Context, command: PassphraseCommand) -> Result<Exit, CliError> {
    let configuration = context.configuration()?;
    match &command {
        PassphraseCommand::List { store } => list(context, &open(context, &configuration, store)?),
        PassphraseCommand::Add(args) => {
            let opened = open(context, &configuration, &args.store)?;
            let new = new_passphrase(context, args)?;
            let id = opened.add(&new, args.label.as_deref())?;
            context.print(
                || json!({"store": args.store, "added": id}),
                || {
                    format!(
                        "Passphrase {} added to store {}.\n{}",
                        short(&id),
                        args.store,
                        drives(&opened)
                    )
                },
            );
            Ok(Exit::Done)
        }
        PassphraseCommand::Change(args) => change(context, &configuration, args),
        PassphraseCommand::Revoke { store, id, yes } => {
            let opened = open(context, &configuration, store)?;
            let question = format!("Revoke passphrase {id} of store {store}? [y/N] ");
            if !yes && !output::agreed(&question).unwrap_or(false) {
                return Err(CliError::guarded("nothing was revoked", "confirm, or add --yes"));
            }
            let revoked = Store::revoke_passphrase(&*opened.place, &opened.present, id)
                .map_err(|error| opened.error(error))?;
            context.print(
                || json!({"store": store, "revoked": revoked}),
                || format!("Passphrase {} revoked.\n{}", short(&revoked), drives(&opened)),
            );
            Ok(Exit::Done)
        }
    }
}

fn open<'a>(
    context: &Context,
    configuration: &'a Configuration,
    name: &'a str,
) -> Result<Opened<'a>, CliError> {
    let config = configuration.store(name)?;
    let place = open_place(config, &configuration.folders)?;
    // Whether there is a store shows before anybody types a passphrase.
    Store::header_at(&*place)?;
    let present = match &config.passphrase {
        Some(source) => read_secret(source, &format!("store `{name}`"))?,
        None => context.ask_passphrase(&format!("Passphrase of store {name}"))?,
    };
    Ok(Opened { name, config, place, present })
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
fn drives(opened: &Opened<'_>) -> String {
    match opened.config.rotation.drives.len() {
        0 | 1 => String::new(),
        _ => format!(
            "This was the drive at {}; repeat it with the other drives: {}.\n",
            opened.place.describe(),
            opened.config.rotation.drives.join(", ")
        ),
    }
}

fn list(context: &Context, opened: &Opened<'_>) -> Result<Exit, CliError> {
    let slots =
        Store::passphrases(&*opened.place, &opened.present).map_err(|error| opened.error(error))?;
    context.print(
        || {
            let value = |slot: &PassphraseSlot| {
                json!({"id": slot.id, "label": slot.label, "in-use": slot.is_own,
                    "added": slot.created.map(|created| words::rfc3339(created * 1000))})
            };
            json!({"store": opened.name, "passphrases": slots.iter().map(value).collect::<Vec<_>>()})
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

fn change(
    context: &Context,
    configuration: &Configuration,
    args: &AddArgs,
) -> Result<Exit, CliError> {
    let opened = open(context, configuration, &args.store)?;
    let old = opened.own()?;
    let own_file = match &opened.config.passphrase {
        Some(SecretSource::File(file)) => Some(file),
        _ => None,
    };
    if let Some(file) = own_file {
        let shares = |other: &&StoreConfig| {
            other.name != args.store
                && matches!(&other.passphrase, Some(SecretSource::File(theirs)) if theirs == file)
        };
        let others: Vec<&str> = configuration
            .stores
            .fine
            .values()
            .filter(shares)
            .map(|other| other.name.as_str())
            .collect();
        if !others.is_empty() {
            return Err(CliError::usage(
                format!("{} is also the key file of {}", file.display(), others.join(", ")),
                "give them a key file of their own in stores.toml first",
            ));
        }
    }
    let new = new_passphrase(context, args)?;
    let label = args.label.as_deref().or(old.label.as_deref());
    let id = opened.add(&new, label)?;
    let is_rotation = opened.config.rotation.drives.len() > 1;
    let finished = match (&opened.config.passphrase, own_file) {
        (None, _) if !is_rotation => true,
        (_, Some(file)) if !is_rotation => {
            keep_secret(file, &new, true)?;
            true
        }
        _ => false,
    };
    if finished {
        Store::revoke_passphrase(&*opened.place, &new, &old.id)
            .map_err(|error| opened.error(error))?;
    }
    context.print(
        || json!({"store": args.store, "added": id, "revoked": finished.then_some(&old.id)}),
        || match (finished, own_file) {
            (true, Some(file)) => {
                format!("Passphrase of store {} changed, and written to {}.\n", args.store, file.display())
            }
            (true, None) => format!("Passphrase of store {} changed.\n", args.store),
            (false, _) => format!(
                "Passphrase {} added; the old one still works.\n{}  → update what stores.toml reads the passphrase from, then: skellin passphrase revoke {} {}\n",
                short(&id),
                drives(&opened),
                args.store,
                short(&old.id)
            ),
        },
    );
    Ok(Exit::Done)
}
