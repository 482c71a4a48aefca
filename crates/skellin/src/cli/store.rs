//! `store`: the stores.

use std::{io::IsTerminal as _, sync::Arc};

use clap::Subcommand;
use serde_json::json;
use skellin_engine::{
    Configuration, EngineError, Passphrase, create_store, history, missing_mount, read_secret,
};
use skellin_plan::{FarSource, PlaceSpec, StoreConfig};
use skellin_store::Store;

use super::{WhichStore, context::Context, error::CliError, output};
use crate::{exit::Exit, words};

#[derive(Subcommand)]
pub(super) enum StoreCommand {
    /// List all stores
    List,
    /// Create a store at its place in stores.toml
    #[command(
        after_help = "Examples:\n  skellin store create oak\n  skellin store create oak --on /media/keeper/OAK1 --drive oak-east\n\nThe passphrase is read from where stores.toml says, or asked for.\nWithout the passphrase the store cannot be read: keep a copy of it elsewhere."
    )]
    Create {
        /// The store
        store: String,
        /// Mount point of the drive (for drive: places)
        #[arg(long, value_name = "DIR")]
        on: Option<std::path::PathBuf>,
        /// Name of the drive in the rotation
        #[arg(long, value_name = "NAME", requires = "on")]
        drive: Option<String>,
        /// Accept a weak passphrase
        #[arg(long)]
        weak_passphrase: bool,
        /// Create it even though a drive belongs there, or the store has held snapshots before
        #[arg(long)]
        here: bool,
    },
    /// Test the connection to a store, or to a source on another host, step by step
    #[command(
        after_help = "Examples:\n  skellin store reach pier\n  skellin store reach pier --accept-host-key\n  skellin store reach sftp://mast/var/records\n\nFor a store it writes a test file of 4 MiB, reads it back and deletes it; a source is only read. It stops at the\nfirst step that fails, with what to change."
    )]
    Reach {
        /// The store, or a source on another host as a plan names it
        store: String,
        /// Accept an unknown host key, and save it
        #[arg(long)]
        accept_host_key: bool,
    },
    /// Change the place of a store to which it was moved or copied
    #[command(
        after_help = "Example: cp -a /mnt/oak/. /mnt/elm/ && skellin store move oak /mnt/elm\n\nCopy the store first. This checks that the same store is at the new place and changes `place` in\nstores.toml; nothing is copied or deleted."
    )]
    Move {
        /// The store
        store: String,
        /// Its new place, as in stores.toml
        place: String,
    },
    /// Print what to set up on the server of a store
    #[command(
        after_help = "Examples:\n  skellin store prepare pier\n  skellin store prepare pier --key ~/.ssh/id_ed25519.pub\n\nIt only prints."
    )]
    Prepare {
        /// The store
        store: String,
        /// Public key to authorize
        #[arg(long, value_name = "FILE")]
        key: Option<std::path::PathBuf>,
    },
    /// Write the recovery sheet of a store, for the safe
    Sheet(super::sheet::SheetArgs),
    /// Show a store and its content
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
        StoreCommand::Move { store, place } => {
            let configuration = context.configuration()?;
            let ask = |moved: &StoreConfig| match &moved.passphrase {
                Some(source) => Ok(read_secret(source, &format!("store `{store}`"))?),
                None => context.ask_passphrase(&format!("Passphrase of store {store}")),
            };
            let place =
                skellin_engine::move_store::<CliError>(&configuration, &store, &place, &ask)?;
            context.print(
                || json!({"store": store, "place": place.to_string()}),
                || format!("Store {store} is now at {place}.\n"),
            );
            Ok(Exit::Done)
        }
        StoreCommand::Prepare { store, key } => {
            let configuration = context.configuration()?;
            let config = configuration.store(&store)?;
            let own = config.access.identity.as_ref().map(|file| file.with_extension("pub"));
            // A key that is named must be there; one that is guessed may be.
            let read = |file: &std::path::Path| std::fs::read_to_string(file);
            let text = match (&key, own) {
                (Some(file), _) => Some(read(file).map_err(|error| {
                    let what = format!("cannot read key {}: {error}", file.display());
                    CliError::usage(what, "name a file with a public key (its name ends in .pub)")
                })?),
                (None, own) => own.and_then(|file| read(&file).ok()),
            };
            let lines = super::prepare::lines(config, text.as_deref())?;
            context.print(|| json!({"store": store, "text": lines}), || lines.clone());
            Ok(Exit::Done)
        }
        StoreCommand::Sheet(args) => super::sheet::sheet(context, &args),
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
                    Ok(header) => format!("reachable, id {}", header.store.short()),
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
        Some(source) => read_secret(source, &format!("store `{name}`"))?,
        None => context.ask_new_passphrase(&format!("Passphrase for new store {name}"))?,
    };
    if let Some(why) = skellin_engine::weakness(&passphrase).filter(|_| !weak_is_fine) {
        let what = format!("the passphrase is weak: {why}");
        let asks = std::io::stdin().is_terminal() && !context.global.json;
        let agreed = asks
            && output::agreed(&format!(
                "{what}. Anybody with the store could guess it.\nUse it anyway? [y/N] "
            ))
            .map_err(|error| CliError::failed(format!("cannot read the answer: {error}"), None))?;
        if !agreed {
            let hint = "choose a few unrelated words; or add --weak-passphrase";
            return Err(CliError::guarded(what, hint));
        }
    }
    let now = jiff::Timestamp::now().as_millisecond();
    let (id, place) = create_store(config, on, &configuration.folders, &passphrase, now)?;
    context.print(
        || json!({"store": name, "id": id.to_string(), "place": config.place.to_string()}),
        || format!("Store {name} created at {}, id {}.\nWithout its passphrase it cannot be read: keep a copy of the passphrase elsewhere.\n", place.describe(), id.short()),
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
            "content": holdings.iter().map(|holding| json!({"folder": holding.folder, "objects": holding.objects, "bytes": holding.bytes})).collect::<Vec<_>>(),
            "newest": newest.map(|snapshot| words::rfc3339(snapshot.started))}),
        || {
            let newest = newest.map_or("none yet".to_owned(), |snapshot| format!("{} of {}", words::moment(snapshot.started), snapshot.plan));
            let rows: Vec<_> = holdings.iter().map(|holding| {
                let (folder, about) = words::holding(holding.folder);
                vec![folder.to_owned(), words::count(holding.objects), words::bytes(holding.bytes), about.to_owned()]
            }).collect();
            let table = output::table(&["folder", "objects", "bytes", "content"], &[1, 2], &rows);
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
            output::line(format!("✓ {:<12} {}", step.step, step.found));
        }
        steps.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(step);
    };
    let (result, to) = match name.contains("://") {
        true => {
            let source = FarSource::parse(name)
                .map_err(|why| CliError::usage(why, "give it as in the plan"))?;
            let source_hosts = &configuration.source_hosts;
            (skellin_engine::reach_source(&source, source_hosts, accept, &told), name.to_owned())
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
        || format!("{to}: all checks passed\n"),
    );
    Ok(Exit::Done)
}
