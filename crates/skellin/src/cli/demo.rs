//! `demo`: the made-up station on Fennick Ridge, with some nights behind it.

use std::{
    fs, io,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use clap::Args;
use skellin_engine::{
    Cancel, Configuration, Event, Folders, MovedClock, RunRequest, prepare_place,
};
use skellin_plan::PlaceSpec;
use skellin_store::{Cache, Creation, PassphraseCost, Store};

use super::{context::Context, error::CliError, output};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Example: skellin demo --dir /tmp/ridge\n\nThe same directory can be opened again and goes on from where it was left."
)]
pub(super) struct DemoArgs {
    /// Where to build it; a new temporary directory otherwise
    #[arg(long, value_name = "DIR")]
    dir: Option<PathBuf>,
    /// Build it, but do not open the application
    #[arg(long)]
    build_only: bool,
}

/// Nights that are played.
const NIGHTS: i64 = 18;
const DAY: i64 = 86_400_000;
/// The demo's secret; it guards nothing.
const PASSPHRASE: &str = "gulls over the ridge";

pub(super) fn demo(context: &Context, args: &DemoArgs) -> Result<Exit, CliError> {
    let folder = match &args.dir {
        Some(folder) => std::path::absolute(folder).map_err(|error| failed(folder, &error))?,
        None => std::env::temp_dir().join(format!("skellin-demo-{}", std::process::id())),
    };
    let folders = Folders {
        config: folder.join("config"),
        state: folder.join("state"),
        cache: folder.join("cache"),
    };
    if !folders.config.join("stores.toml").exists() {
        build(context, &folder, &folders)?;
    }
    if !context.global.quiet {
        output::line(format!("The station's world is in {}", folder.display()));
        output::line(format!(
            "Commands find it with: export SKELLIN_CONFIG={0}/config SKELLIN_STATE={0}/state SKELLIN_CACHE={0}/cache",
            folder.display()
        ));
    }
    if args.build_only {
        return Ok(Exit::Done);
    }
    Ok(crate::tui::open(&Configuration::load(folders)?)?)
}

fn failed(path: &Path, error: &io::Error) -> CliError {
    CliError::failed(
        format!("the demo could not write {}: {error}", path.display()),
        Some("choose another directory with --dir".to_owned()),
    )
}

fn build(context: &Context, folder: &Path, folders: &Folders) -> Result<(), CliError> {
    let write = |path: &Path, text: &str| -> Result<(), CliError> {
        let made =
            path.parent().map_or(Ok(()), fs::create_dir_all).and_then(|()| fs::write(path, text));
        made.map_err(|error| failed(path, &error))
    };
    let (key, oak, ridge) = (folder.join("oak.key"), folder.join("oak"), folder.join("srv"));
    write(&key, PASSPHRASE)?;
    fs::set_permissions(&key, fs::Permissions::from_mode(0o600))
        .map_err(|error| failed(&key, &error))?;
    let (readings, ringing) = (ridge.join("readings"), ridge.join("ringing"));
    write(
        &folders.config.join("plans/readings.toml"),
        &format!(
            "about = \"Series and notes from the ridge\"\nsources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\nlabels = [\"field\"]\nrules = '''\nskip .cache/ *.part *~\n'''\n",
            readings.display()
        ),
    )?;
    write(
        &folders.config.join("plans/ringing.toml"),
        &format!(
            "about = \"Ringing sheets and the register\"\nsources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\n",
            ringing.display()
        ),
    )?;
    let place = prepare_place(&PlaceSpec::Directory(oak.clone()))?;
    let now = jiff::Timestamp::now().as_millisecond();
    let start = now - NIGHTS * DAY;
    let creation =
        Creation { cost: PassphraseCost::TRIVIAL, now: start / 1000, ..Creation::default() };
    Store::create(&*place, PASSPHRASE.as_bytes(), creation)?;
    // The stores last: with them the world counts as built.
    let stores = format!(
        "[oak]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        oak.display(),
        key.display()
    );
    write(&folders.config.join("stores.toml"), &stores)?;
    let configuration = Configuration::load(folders.clone())?;
    let cache = Cache::ReadWrite(folders.cache.clone());
    let store = Arc::new(Store::open(place, PASSPHRASE.as_bytes(), cache)?);
    let clock = MovedClock::at(start);
    let silent = |_: Event| {};
    for night in 0..NIGHTS {
        let tonight = evening(start + night * DAY).min(now - 3_600_000);
        live(&ridge, night, tonight - 3_600_000).map_err(|error| failed(&ridge, &error))?;
        clock.set(tonight);
        for file in &configuration.plans {
            // One night the machine was off, and ringing is not written down every day.
            let idle = night == 9 || (file.name == "ringing" && night % 3 == 1);
            let Some(plan) = file.plan.as_ref().filter(|_| !idle) else { continue };
            skellin_engine::run(
                &store,
                &RunRequest {
                    plan,
                    machine: "hut",
                    labels: &[],
                    dry_run: false,
                    list_paths: false,
                    keep_out: &[],
                    clock: &clock,
                    cancel: &Cancel::new(),
                    events: &silent,
                },
            )?;
        }
        context.progress.say(&format!(
            "night {} of {NIGHTS}: {}",
            night + 1,
            words::moment(evening(start + night * DAY))
        ));
    }
    Ok(())
}

/// 21:40 of a day, in the machine's zone.
fn evening(milliseconds: i64) -> i64 {
    let zoned = words::zoned(milliseconds);
    let evening = zoned.with().hour(21).minute(40).second(0).subsec_nanosecond(0).build();
    evening.map_or(milliseconds, |zoned| zoned.timestamp().as_millisecond())
}

/// What happens on the ridge between two nights, up to a moment in milliseconds since 1970.
fn live(ridge: &Path, night: i64, moment: i64) -> io::Result<()> {
    let modified = std::time::UNIX_EPOCH
        + std::time::Duration::from_millis(u64::try_from(moment).unwrap_or(0));
    let put = |path: &str, text: &[u8], append: bool| -> io::Result<()> {
        let path = ridge.join(path);
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        let mut file = fs::OpenOptions::new()
            .create(true)
            .write(true)
            .append(append)
            .truncate(!append)
            .open(path)?;
        io::Write::write_all(&mut file, text)?;
        file.set_modified(modified)
    };
    let noise = |seed: &str, length: usize| {
        let mut state = seed.bytes().fold(0x9E37_79B9_7F4A_7C15u64, |sum, byte| {
            (sum ^ u64::from(byte)).wrapping_mul(0x0100_0000_01B3)
        });
        let mut bytes = vec![0; length];
        for part in bytes.chunks_mut(8) {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            part.copy_from_slice(&state.to_le_bytes()[..part.len()]);
        }
        bytes
    };
    for gauge in 1..=6 {
        let lines: String = (0..144)
            .map(|tick| {
                let value = (night * 144 + tick) * (gauge + 7) % 317;
                format!(
                    "day {night:03}, {:02}:{:02}, {}.{:02} m\n",
                    tick / 6,
                    tick % 6 * 10,
                    value / 100,
                    value % 100
                )
            })
            .collect();
        put(&format!("readings/2026/tide-gauge-{gauge:02}.csv"), lines.as_bytes(), true)?;
    }
    let mut dump = noise("dump", 1 << 20);
    for edit in 0..=night {
        let at = (edit as usize * 92_821) % (dump.len() - 64);
        dump[at..at + 64].copy_from_slice(&noise(&format!("edit {edit}"), 64));
    }
    put("readings/gauges.dump", &dump, false)?;
    put(
        "readings/notes.md",
        format!("Day {night}: wind from the north, two terns seen.\n").as_bytes(),
        true,
    )?;
    put("readings/.cache/tiles.bin", &noise(&format!("tiles {night}"), 200_000), false)?;
    if night % 3 != 1 {
        put(
            &format!("ringing/scans/sheet-{night:03}.png"),
            &noise(&format!("sheet {night}"), 150_000),
            false,
        )?;
        put(
            "ringing/register.csv",
            format!("ring {:05}, tern, adult, day {night}\n", 41_000 + night).as_bytes(),
            true,
        )?;
    }
    let happened = match night {
        4 => put("readings/panorama-render.tif", &noise("panorama", 12 << 20), false),
        // Deleted by mistake; the last days' snapshots do not have it any more.
        15 => fs::remove_file(ridge.join("ringing/register.csv")),
        17 => fs::remove_file(ridge.join("ringing/register.csv")).or(Ok(())),
        _ => Ok(()),
    };
    for folder in ["readings", "readings/2026", "readings/.cache", "ringing", "ringing/scans"] {
        fs::File::open(ridge.join(folder))?.set_modified(modified)?;
    }
    happened
}
