//! `store`: the stores.

use std::{io::IsTerminal as _, sync::Arc};

use clap::Subcommand;
use serde_json::json;
use skellin_engine::{
    Configuration, EngineError, Passphrase, history, missing_mount, prepare_drive, prepare_place,
    read_secret,
};
use skellin_plan::{FarSource, PlaceSpec, StoreConfig};
use skellin_store::{Creation, PassphraseCost, Store};

use super::{WhichStore, context::Context, error::CliError, output};
use crate::{exit::Exit, words};

#[derive(Subcommand)]
pub(super) enum StoreCommand {
    /// All stores of stores.toml
    List,
    /// Create a store at the place stores.toml gives it
    #[command(
        after_help = "Examples:\n  skellin store create oak\n  skellin store create oak --on /media/keeper/OAK1 --drive oak-east\n\nThe passphrase comes from where stores.toml says, else it is asked for twice.\nWithout the passphrase nobody can read the store, not even you: keep it elsewhere too."
    )]
    Create {
        /// The store
        store: String,
        /// Where the drive is mounted that shall carry it (for drive: places)
        #[arg(long, value_name = "DIR")]
        on: Option<std::path::PathBuf>,
        /// Which drive of the rotation it is
        #[arg(long, value_name = "NAME", requires = "on")]
        drive: Option<String>,
        /// Accept a weak passphrase
        #[arg(long)]
        weak_passphrase: bool,
        /// Create it even though a drive belongs there, or the store has held snapshots before
        #[arg(long)]
        here: bool,
    },
    /// Try the way to a store's place, or to a source on another host, step by step
    #[command(
        after_help = "Examples:\n  skellin store reach pier\n  skellin store reach pier --accept-host-key\n  skellin store reach sftp://mast/var/records\n\nAt a store it writes a trial of 4 MiB, reads it back and takes it away again; at a source it only reads. It stops at the first step\nthat fails, and says what to change there."
    )]
    Reach {
        /// The store, or a source on another host as a plan names it
        store: String,
        /// Accept a host whose key is not known yet, and remember the key
        #[arg(long)]
        accept_host_key: bool,
    },
    /// What to set up on the far side of a store's place, ready to paste
    #[command(
        after_help = "Examples:\n  skellin store prepare pier\n  skellin store prepare pier --key ~/.ssh/id_ed25519.pub\n\nIt prints and does nothing."
    )]
    Prepare {
        /// The store
        store: String,
        /// The public key that shall be let in
        #[arg(long, value_name = "FILE")]
        key: Option<std::path::PathBuf>,
    },
    /// What a store is and what it holds
    #[command(
        after_help = "Examples:\n  skellin store show oak\n  skellin store show --place /mnt/oak"
    )]
    Show {
        /// The store
        #[arg(required_unless_present = "place")]
        name: Option<String>,
        #[command(flatten)]
        which: WhichStore,
    },
}

pub(super) fn store(context: &Context, command: StoreCommand) -> Result<Exit, CliError> {
    match command {
        StoreCommand::List => Ok(list(context, &context.configuration()?)),
        StoreCommand::Create { store, on, drive, weak_passphrase, here } => {
            let on = on.as_deref().map(|on| (on, drive.as_deref()));
            let configuration = context.configuration()?;
            if !here && on.is_none() {
                refuse_in_place_of_a_drive(context, configuration.store(&store)?)?;
            }
            create(context, &configuration, &store, on, weak_passphrase)
        }
        StoreCommand::Prepare { store, key } => {
            let configuration = context.configuration()?;
            let config = configuration.store(&store)?;
            let own = config.access.identity.as_ref().map(|file| file.with_extension("pub"));
            // A key that is named must be there; one that is guessed may be.
            let read = |file: &std::path::Path| std::fs::read_to_string(file);
            let text = match (&key, own) {
                (Some(file), _) => Some(read(file).map_err(|error| {
                    let what = format!("the key {} cannot be read: {error}", file.display());
                    CliError::usage(what, "name a file with a public key (its name ends in .pub)")
                })?),
                (None, own) => own.and_then(|file| read(&file).ok()),
            };
            let lines = super::prepare::lines(config, text.as_deref())?;
            context.print(|| json!({"store": store, "text": lines}), || lines.clone());
            Ok(Exit::Done)
        }
        StoreCommand::Reach { store, accept_host_key } => {
            reach(context, &context.configuration()?, &store, accept_host_key)
        }
        StoreCommand::Show { name, which } => {
            let which = WhichStore { store: name.or(which.store.clone()), ..which };
            for (name, store) in context.stores(&which, None)? {
                show(context, &name, &store)?;
            }
            Ok(Exit::Done)
        }
    }
}

fn list(context: &Context, configuration: &Configuration) -> Exit {
    let stores = &configuration.stores.fine;
    let state = |store: &StoreConfig| {
        let opened = skellin_engine::open_place(store, &configuration.folders)
            .map_err(|error| error.to_string());
        opened.and_then(|place| Store::header_at(&*place).map_err(|error| error.to_string()))
    };
    context.print(
        || {
            let value = |store: &StoreConfig| {
                let state = state(store);
                json!({"name": store.name, "place": store.place.to_string(), "reachable": state.is_ok(),
                    "id": state.as_ref().ok().map(|header| header.store.to_string()), "trouble": state.err()})
            };
            json!({"stores": stores.values().map(value).collect::<Vec<_>>()})
        },
        || {
            let rows: Vec<_> = stores.values().map(|store| {
                let state = match state(store) {
                    Ok(header) => format!("here, id {}", words::short_id(&header.store.0)),
                    Err(trouble) => trouble,
                };
                vec![store.name.clone(), store.place.to_string(), state]
            }).collect();
            if rows.is_empty() {
                return format!("There are no stores yet. Describe one in {}:\n  [oak]\n  place = \"/mnt/oak\"\n", configuration.folders.config.join("stores.toml").display());
            }
            let total = words::counted(rows.len() as u64, "store", "stores");
            format!("{}{total}\n", output::table(&["store", "place", "state"], &[], &rows))
        },
    );
    Exit::Done
}

/// Where a drive is missing, or the store was somewhere before, no other store is put in its place
/// unless somebody says so.
fn refuse_in_place_of_a_drive(context: &Context, config: &StoreConfig) -> Result<(), CliError> {
    let PlaceSpec::Directory(path) = &config.place else { return Ok(()) };
    let (what, hint) = if let Some(mount) = missing_mount(path) {
        let error = EngineError::Unmounted { path: path.clone(), mount };
        (error.to_string(), "mount the drive; or, for a store on this disk: --here".to_owned())
    } else {
        let held = context.journal().and_then(|journal| journal.last_stored(&config.name).ok()?);
        let Some(held) = held.filter(|_| !path.join("skellin-store").exists()) else {
            return Ok(());
        };
        (
            format!(
                "store {} held snapshots on {}, and {} holds none of it",
                config.name,
                words::moment(held),
                path.display()
            ),
            "mount its drive, or correct the path; for a new, empty store: --here".to_owned(),
        )
    };
    let asks = std::io::stdin().is_terminal() && !context.global.json;
    match asks
        && output::agreed(&format!("{what}.\nCreate it there anyway? [y/N] ")).unwrap_or(false)
    {
        true => Ok(()),
        false => Err(CliError::guarded(what, hint)),
    }
}

fn create(
    context: &Context,
    configuration: &Configuration,
    name: &str,
    on: Option<(&std::path::Path, Option<&str>)>,
    weak_is_fine: bool,
) -> Result<Exit, CliError> {
    let config = configuration.store(name)?;
    let passphrase: Passphrase = match &config.passphrase {
        Some(source) => read_secret(source, &format!("the store `{name}`"))?,
        None => context.ask_new_passphrase(name)?,
    };
    if let Some(why) = skellin_engine::weakness(&passphrase).filter(|_| !weak_is_fine) {
        let what = format!("the passphrase is weak: {why}");
        let asks = std::io::stdin().is_terminal() && !context.global.json;
        let agreed = asks && output::agreed(&format!(
            "{what}. Whoever holds the store can try all of its kind.\nTake it all the same? [y/N] "
        ))
        .map_err(|error| CliError::failed(format!("no answer came: {error}"), None))?;
        if !agreed {
            let hint = "choose a few words that do not belong together; or say --weak-passphrase";
            return Err(CliError::guarded(what, hint));
        }
    }
    let place = match on {
        Some((mount, drive)) => prepare_drive(config, mount, drive, &configuration.folders)?,
        None => prepare_place(config)?,
    };
    let now = jiff::Timestamp::now().as_second();
    let creation = Creation { cost: PassphraseCost::default(), now, ..Creation::default() };
    let id = Store::create(&*place, &passphrase, creation)?;
    context.print(
        || json!({"store": name, "id": id.to_string(), "place": config.place.to_string()}),
        || format!("The store {name} was created at {}, id {}.\nWithout its passphrase nobody can read it: keep a copy of it elsewhere.\n", place.describe(), words::short_id(&id.0)),
    );
    Ok(Exit::Done)
}

fn show(context: &Context, name: &str, store: &Arc<Store>) -> Result<(), CliError> {
    let (usage, holdings) = (store.usage()?, store.holdings()?);
    let snapshots = history::snapshots(store, None, |_, _| {})?;
    let header = store.header();
    let newest = snapshots.last();
    context.print(
        || json!({"store": name, "id": header.store.to_string(), "place": store.place().describe(),
            "created": words::rfc3339(header.created * 1000), "snapshots": snapshots.len(),
            "containers": usage.containers, "bytes": usage.bytes,
            "holds": holdings.iter().map(|holding| json!({"folder": holding.folder, "objects": holding.objects, "bytes": holding.bytes})).collect::<Vec<_>>(),
            "newest": newest.map(|snapshot| words::rfc3339(snapshot.started))}),
        || {
            let newest = newest.map_or("none yet".to_owned(), |snapshot| format!("{} of {}", words::moment(snapshot.started), snapshot.plan));
            let rows: Vec<_> = holdings.iter().map(|holding| {
                let (folder, about) = words::holding(holding.folder);
                vec![folder.to_owned(), words::count(holding.objects), words::bytes(holding.bytes), about.to_owned()]
            }).collect();
            let table = output::table(&["folder", "objects", "bytes", "what it is"], &[1, 2], &rows);
            format!("store       {name}\nplace       {}\nid          {}\ncreated     {}\nsnapshots   {}, newest {newest}\ncontainers  {}, {}\n\n{table}",
                store.place().describe(), header.store, words::moment(header.created * 1000),
                words::count(snapshots.len() as u64), words::count(usage.containers), words::bytes(usage.bytes))
        },
    );
    Ok(())
}

fn reach(
    context: &Context,
    configuration: &Configuration,
    name: &str,
    accept: bool,
) -> Result<Exit, CliError> {
    let steps = std::sync::Mutex::new(Vec::new());
    let told = |step: skellin_engine::ReachStep| {
        if !context.global.json && !context.global.quiet {
            output::line(format!("✓ {:<10} {}", step.step, step.found));
        }
        steps.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(step);
    };
    let (result, to) = match name.contains("://") {
        true => {
            let source = FarSource::parse(name)
                .map_err(|why| CliError::usage(why, "name it as the plan does"))?;
            let grounds = &configuration.grounds;
            (skellin_engine::reach_source(&source, grounds, accept, &told), name.to_owned())
        }
        false => {
            let config = configuration.store(name)?;
            let reached = skellin_engine::reach(config, &configuration.folders, accept, &told);
            (reached, config.place.to_string())
        }
    };
    let steps = steps.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    result?;
    context.print(
        || {
            let step =
                |step: &skellin_engine::ReachStep| json!({"step": step.step, "found": step.found});
            json!({"store": name, "steps": steps.iter().map(step).collect::<Vec<_>>()})
        },
        || format!("Nothing is in the way to {to}.\n"),
    );
    Ok(Exit::Done)
}
