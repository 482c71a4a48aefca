//! `demo`: the made-up station on Fennick Ridge, with six weeks of nights behind it.

mod build;
mod compare;
mod far;
mod files;
mod servers;
mod steward;
mod story;
mod telling;

use std::path::{Path, PathBuf};

use clap::Args;
use skellin_engine::{Configuration, Folders};

use super::{context::Context, error::CliError, output};
use crate::exit::Exit;
use files::failed;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin demo\n  skellin demo --dir /tmp/ridge\n  skellin demo --headless\n\nThe same directory can be opened again and continues where it was left."
)]
pub(super) struct DemoArgs {
    /// Directory; default: a new temporary one
    #[arg(long, value_name = "DIR")]
    dir: Option<PathBuf>,
    /// Run the whole story as text, and exit
    #[arg(long, conflicts_with = "build_only")]
    headless: bool,
    /// Build it without opening the application
    #[arg(long)]
    build_only: bool,
}

pub(super) fn demo(context: &Context, args: &DemoArgs) -> Result<Exit, CliError> {
    let folder = match &args.dir {
        Some(folder) => std::path::absolute(folder).map_err(|error| failed(folder, &error))?,
        None => std::env::temp_dir().join(format!("skellin-demo-{}", std::process::id())),
    };
    if args.headless {
        return story::tell(context, &folder, args.dir.is_none());
    }
    let folders = folders(&folder);
    let built = folder.join("built");
    let _servers = match built.exists() {
        true => servers::Servers::reopen(&folder, &folders.config)?,
        false => {
            let servers = build::build(context, &folder, &folders)?;
            files::write(&built, "Opened again, this world goes on from where it was left.\n")?;
            servers
        }
    };
    if !context.global.quiet {
        output::line(format!("The demo station is in {}", folder.display()));
        output::line(format!(
            "To use it with commands: export SKELLIN_CONFIG={0}/config SKELLIN_STATE={0}/state SKELLIN_CACHE={0}/cache SKELLIN_DRIVES={0}/drives",
            folder.display()
        ));
    }
    if args.build_only {
        return Ok(Exit::Done);
    }
    let _steward = steward::Steward::start(&folder, &folders)?;
    Ok(crate::tui::open(&Configuration::load(folders)?, "hut".to_owned())?)
}

fn folders(folder: &Path) -> Folders {
    Folders {
        config: folder.join("config"),
        state: folder.join("state"),
        cache: folder.join("cache"),
        look_in: vec![folder.join("srv")],
        drives: Some(folder.join("drives")),
    }
}
