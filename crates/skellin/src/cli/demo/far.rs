//! The story's second half: a host, an object store, and drives that take turns.

use std::{fs, path::PathBuf};

use skellin_standins::Ridge;

use super::{
    compare,
    files::{PASSPHRASE, failed, private, write},
    servers::{Servers, passphrase},
    telling::Story,
};
use crate::{cli::error::CliError, words};

/// Tells it.
pub(super) fn tell(story: &mut Story<'_>) -> Result<(), CliError> {
    let world = story.path("");
    let servers = Servers::start(&world)?;
    let ridge = Ridge::new(story.path("srv"));
    let stores = story.path("config/stores.toml");
    let cannot = |error: std::io::Error| failed(&stores, &error);
    let before = fs::read_to_string(&stores).map_err(cannot)?;
    let pair = format!(
        "\n[pair]\nplace = \"drive:/skellin\"\ndrives = [\"oak-east\", \"oak-west\"]\nswap = \"mondays\"\n{}",
        passphrase(&world)
    );
    write(&stores, &format!("{before}{}{pair}", servers.stores(&world)?))?;
    for store in ["pier", "offshore", "pair"] {
        let text = format!(
            "sources = [\"{}\"]\nstore = \"{store}\"\nmachine = \"hut\"\n",
            ridge.ringing().display()
        );
        write(&story.path(&format!("config/plans/to-{store}.toml")), &text)?;
    }

    story.step("The connection is tested step by step; the host key is shown, and accepted once");
    let refused = story.refusal(&["store", "reach", "pier"], 5)?;
    story.hold(
        refused.contains(&servers.pier.sha256()),
        "an unknown host key is refused, and its SHA-256 shown",
    )?;
    let prepared = story.refusal(&["store", "reach", "pier", "--accept-host-key"], 5)?;
    story
        .hold(prepared.contains("does not exist"), "accepted; what is missing is the directory")?;
    for store in ["pier", "offshore"] {
        story.command(&["store", "create", store], true)?;
        let reached = story.command(&["store", "reach", store], true)?;
        let steps = reached["steps"].as_array().map_or(0, Vec::len);
        story.hold(steps >= 8, &format!("{store}: {steps} steps, all checks passed"))?;
    }

    story.step("A run to the host, one to the object store");
    for store in ["pier", "offshore"] {
        let plan = format!("to-{store}");
        let first = story.command(&["run", &plan], true)?;
        let second = story.command(&["run", &plan], true)?;
        let stored = first["runs"][0]["bytes"]["stored"].as_u64().unwrap_or(0);
        story.hold(
            stored > 0 && second["runs"][0]["bytes"]["new"] == 0,
            &format!("{store}: {} stored, then nothing new", words::bytes(stored)),
        )?;
    }

    story.step("The logger on the mast is read over SFTP, and changed only is read again");
    let mast = Servers::mast_files(&world);
    let at = jiff::Timestamp::now().as_millisecond() - 86_400_000;
    for night in 0..3 {
        Ridge::live_at_the_mast(&mast, night, at).map_err(|error| failed(&mast, &error))?;
    }
    write(&story.path("config/hosts.toml"), &servers.hosts(&world))?;
    let text = "sources = [\"sftp://mast/etc\", \"sftp://mast/var/records\"]\nstore = \"pier\"\nmachine = \"hut\"\nrules = \"skip *.spool\"\n";
    write(&story.path("config/plans/gateway.toml"), text)?;
    let source = "sftp://mast/var/records";
    let refused = story.refusal(&["run", "gateway"], 5)?;
    story.hold(
        refused.contains(&servers.mast.sha256()),
        "an unknown host key is refused here too",
    )?;
    let reached = story.command(&["store", "reach", source, "--accept-host-key"], true)?;
    let steps = reached["steps"].as_array().map_or(0, Vec::len);
    story.hold(steps == 6, &format!("{steps} steps, all checks passed"))?;
    let first = story.command(&["run", "gateway"], true)?;
    Ridge::live_at_the_mast(&mast, 3, at + 3_600_000).map_err(|error| failed(&mast, &error))?;
    let second = story.command(&["run", "gateway"], true)?;
    let (first, second) = (&first["runs"][0]["files"], &second["runs"][0]["files"]);
    story.hold(
        first["new"] == 16 && second["new"] == 4 && second["changed"] == 1 && second["same"] == 15,
        "16 files, then 4 new and 1 changed",
    )?;
    let out = story.path("restored-gateway");
    let to = out.display().to_string();
    story.command(&["restore", "gateway@newest", "--to", &to], true)?;
    for source in ["etc", "var/records"] {
        let name = source.rsplit('/').next().unwrap_or(source);
        compare::same(&mast.join(source), &out.join(name), &["queue.spool"])
            .map_err(|why| CliError::failed(format!("{source}: {why}"), None))?;
    }
    story.hold(true, "restored here, and the same")?;

    story.step("Snapshots are copied to other stores, of other keys");
    let held = story.command(&["history", "--store", "oak"], true)?;
    let held = held["snapshots"].as_array().map_or(0, Vec::len) as u64;
    for store in ["pier", "offshore"] {
        let copied = story.command(&["replicate", "oak", store], true)?;
        let again = story.command(&["replicate", "oak", store], true)?;
        story.hold(
            copied["copied"] == held && again["copied"] == 0 && again["present"] == held,
            &format!("{}, and nothing twice", words::counted(held, "snapshot", "snapshots")),
        )?;
    }

    story.step("Drives in rotation: each is recognized, and a missing one is reported");
    for drive in ["oak-east", "oak-west"] {
        let mount = plug(story, drive)?.display().to_string();
        story.command(&["store", "create", "pair", "--on", &mount, "--drive", drive], true)?;
        story.command(&["run", "to-pair"], true)?;
        let shown = story.command(&["history", "--store", "pair"], true)?;
        story.hold(
            shown["snapshots"].as_array().is_some_and(|found| found.len() == 1),
            &format!("{drive} has its own snapshot"),
        )?;
        unplug(story, drive)?;
    }
    let missed = story.refusal(&["run", "to-pair"], 5)?;
    story.hold(
        missed.contains("oak-east, oak-west"),
        "without a drive the run says which are missing",
    )?;
    plug(story, "oak-east")?;
    let back = story.command(&["run", "to-pair"], true)?;
    story.hold(
        back["runs"][0]["bytes"]["new"] == 0,
        "the drive that came back is up to date again",
    )?;

    story.step("Each of them restores");
    for store in ["pier", "offshore", "pair"] {
        let out = story.path(&format!("restored-{store}"));
        let (plan, to) = (format!("to-{store}@newest"), out.display().to_string());
        story.command(&["restore", &plan, "--store", store, "--to", &to], true)?;
        let source = ridge.ringing();
        let name = source.file_name().unwrap_or_default();
        let common = compare::same(&source, &out.join(name), &[])
            .map_err(|why| CliError::failed(format!("{store}: {why}"), None))?;
        let paths = words::counted(common.paths as u64, "path", "paths");
        story.hold(true, &format!("{store}: {paths}, {}, the same", words::bytes(common.bytes)))?;
        let verified = story.command(&["verify", store], true)?;
        let clean = verified["damage"].as_array().is_some_and(Vec::is_empty);
        story.hold(clean, &format!("{store}: no damage"))?;
    }

    story.step(
        "With the object store, its key and the passphrase an empty machine restores everything",
    );
    let access = story.path("in-my-hand.toml");
    let credentials = story.path("offshore.key");
    let text = format!(
        "endpoint = \"{}\"\nregion = \"north-1\"\ncredentials = {{ file = \"{}\" }}\n",
        servers.offshore.endpoint(),
        credentials.display()
    );
    write(&access, &text)?;
    let hand = story.path("far/in-my-hand.key");
    private(&hand, PASSPHRASE)?;
    let out = story.path("empty-machine/from-offshore");
    let [access, hand, to] = [&access, &hand, &out].map(|path| path.display().to_string());
    let place =
        ["--place", "s3://fennick-ridge/hut", "--access", &access, "--passphrase-file", &hand];
    story.command(&[&["restore", "readings@newest", "--to", &to], &place[..]].concat(), false)?;
    let source = ridge.readings();
    let common =
        compare::same(&source, &out.join(source.file_name().unwrap_or_default()), &[".cache"])
            .map_err(|why| CliError::failed(format!("offshore: {why}"), None))?;
    story.hold(true, &format!("{}, the same", words::counted(common.paths as u64, "path", "paths")))
}

/// A drive is plugged in: its directory appears among the mounted ones.
fn plug(story: &Story<'_>, drive: &str) -> Result<PathBuf, CliError> {
    let (mount, away) = (story.path("drives").join(drive), story.path("away").join(drive));
    let done = match away.exists() {
        true => fs::rename(&away, &mount),
        false => fs::create_dir_all(&mount),
    };
    done.map_err(|error| failed(&mount, &error))?;
    Ok(mount)
}

fn unplug(story: &Story<'_>, drive: &str) -> Result<(), CliError> {
    let (mount, away) = (story.path("drives").join(drive), story.path("away"));
    fs::create_dir_all(&away)
        .and_then(|()| fs::rename(&mount, away.join(drive)))
        .map_err(|error| failed(&mount, &error))
}
