//! The story of a backup as text: every step is done by the program itself, as somebody at a shell
//! would, and held against what it must have done.

use std::{fs, path::Path};

use serde_json::Value;
use skellin_standins::Ridge;

use super::{
    build, compare,
    files::{PASSPHRASE, failed, private},
    folders,
    telling::Story,
};
use crate::{
    cli::{context::Context, error::CliError},
    exit::Exit,
    words,
};

/// Tells it in a directory; `remove`: nothing of it is left behind.
pub(super) fn tell(context: &Context, folder: &Path, remove: bool) -> Result<Exit, CliError> {
    if folder.join("config").exists() {
        return Err(CliError::usage(
            format!("{} already contains a demo", folder.display()),
            "choose another directory with --dir, or omit it",
        ));
    }
    let mut story = Story { context, folder: folder.to_path_buf(), step: 0 };
    let told = all(&mut story);
    if remove {
        // It lies among temporary files in any case.
        let _ = fs::remove_dir_all(folder);
    }
    told?;
    context.print(
        || serde_json::json!({"status": "done", "steps": story.step}),
        || format!("\nEvery step held ({} steps).\n", story.step),
    );
    Ok(Exit::Done)
}

/// Blanks a part of the largest file of a directory, as bad sectors would: two hundredths of it.
fn blank(folder: &Path) -> std::io::Result<()> {
    let mut largest = (0, folder.to_path_buf());
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        largest = largest.max((entry.metadata()?.len(), entry.path()));
    }
    let mut bytes = fs::read(&largest.1)?;
    let (from, length) = (bytes.len() / 3, bytes.len() / 50);
    bytes[from..from + length].fill(0);
    fs::write(&largest.1, bytes)
}

/// Step by step.
fn all(story: &mut Story<'_>) -> Result<(), CliError> {
    let now = jiff::Timestamp::now().as_millisecond();
    let ridge = Ridge::new(story.path("srv"));
    let cannot = |error: std::io::Error| failed(&story.folder, &error);
    ridge.live(0, now - 2 * 86_400_000).map_err(cannot)?;
    build::configure(&story.folder, &folders(&story.folder), now)?;
    story.say(&format!("The demo station is in {}", story.folder.display()));

    story.step("The plans are checked");
    let checked = story.command(&["plan", "check"], true)?;
    let none = checked["problems"].as_array().is_some_and(Vec::is_empty);
    story.hold(none, "no mistakes")?;

    story.step("A dry run says what would happen, and writes nothing");
    let before = story.listing("oak")?;
    let dry = story.command(&["run", "ringing", "readings", "--dry-run"], true)?;
    let (new, read) = (sum(&dry, "files", "new"), sum(&dry, "bytes", "read"));
    story.hold(
        new > 0,
        &format!(
            "{} would be new, {} to read",
            words::counted(new, "file", "files"),
            words::bytes(read)
        ),
    )?;
    story.hold(
        story.listing("oak")? == before && !story.path("state/journal.sqlite").exists(),
        "the store and the journal are as they were",
    )?;

    story.step("The first run");
    let first = story.command(&["run", "ringing", "readings"], true)?;
    let (stored, first_new) = (sum(&first, "bytes", "stored"), sum(&first, "bytes", "new"));
    story.hold(
        sum(&first, "files", "new") == new,
        &format!("{}, as foretold", words::counted(new, "new file", "new files")),
    )?;
    story.hold(
        all_done(&first) && stored > 0,
        &format!("two snapshots, {} stored", words::bytes(stored)),
    )?;

    story.step("A day passes: series grow, rows of the database change, a sheet is scanned");
    let cannot = |error: std::io::Error| failed(&story.folder, &error);
    ridge.live(1, now - 86_400_000).map_err(cannot)?;
    ridge.live(2, now - 3_600_000).map_err(cannot)?;
    let second = story.command(&["run", "ringing", "readings"], true)?;
    let (changed, second_new) = (sum(&second, "files", "changed"), sum(&second, "bytes", "new"));
    story.hold(
        changed > 0 && all_done(&second),
        &format!(
            "{} changed, {} new",
            words::counted(changed, "file", "files"),
            sum(&second, "files", "new")
        ),
    )?;
    story.hold(
        second_new > 0 && second_new * 4 < first_new,
        &format!(
            "only the difference was stored: {} new, after {} the first time",
            words::bytes(second_new),
            words::bytes(first_new)
        ),
    )?;

    story.step("A file is deleted by mistake and brought back");
    let register = ridge.ringing().join("register.csv");
    let cannot = |error: std::io::Error| failed(&register, &error);
    let (content, times) = (
        fs::read(&register).map_err(cannot)?,
        fs::metadata(&register).and_then(|metadata| metadata.modified()).map_err(cannot)?,
    );
    fs::remove_file(&register).map_err(cannot)?;
    let shown = register.display().to_string();
    let versions = story.command(&["versions", "ringing", &shown], true)?;
    let count = versions["versions"].as_array().map_or(0, Vec::len);
    story.hold(count == 2, "its two versions are known")?;
    story.command(&["restore", "ringing@newest", &shown, "--in-place"], true)?;
    let same = fs::read(&register).map_err(cannot)? == content
        && fs::metadata(&register).and_then(|metadata| metadata.modified()).map_err(cannot)?
            == times;
    story.hold(same, "it is back where it was, the same to the byte, with its time")?;

    story.step("One more run, and the store is verified");
    let third = story.command(&["run", "ringing", "readings"], true)?;
    story.hold(
        all_done(&third) && sum(&third, "bytes", "new") == 0,
        "nothing was new to the store",
    )?;
    let verified = story.command(&["verify", "oak"], true)?;
    let clean = verified["damage"].as_array().is_some_and(Vec::is_empty);
    story.hold(
        clean,
        &format!(
            "{} snapshots, {} read, no damage",
            verified["snapshots"],
            words::bytes(verified["bytes-read"].as_u64().unwrap_or(0))
        ),
    )?;

    story.step("A drill restores everything into scratch and compares it");
    let drilled = story.command(&["drill", "readings", "--sample", "all"], true)?;
    let files = &drilled["files"];
    let compared = files["compared"].as_u64().filter(|compared| *compared > 0);
    story.hold(
        compared.is_some() && files["compared"] == files["all"] && drilled["mismatch-count"] == 0,
        &format!("{} files came back as they were backed up", files["compared"]),
    )?;

    story.step("A part of the store is blanked, and mended by its parity");
    blank(&story.path("oak/data")).map_err(cannot)?;
    let damaged = story.ends(&["verify", "oak"], 3)?;
    let lost = damaged["damage"].as_array().map_or(&[][..], Vec::as_slice);
    let harmless = lost.iter().all(|damage| damage["files"].as_array().is_some_and(Vec::is_empty));
    story.hold(lost.len() == 1 && harmless, "the damage is found, and no file is lost by it")?;
    let repaired = story.ends(&["verify", "oak", "--repair"], 4)?;
    let verified = story.command(&["verify", "oak"], true)?;
    story.hold(
        repaired["repaired"] == 1 && verified["damage"].as_array().is_some_and(Vec::is_empty),
        "it is repaired, no damage is left",
    )?;

    story.step("Retention says why each snapshot stays, and a reclaim harms none");
    let foretold = story.command(&["expire", "readings", "--dry-run"], true)?;
    let retained = foretold["retained"].as_array().map_or(&[][..], Vec::as_slice);
    let explained =
        retained.iter().all(|one| one["because"].as_array().is_some_and(|why| !why.is_empty()));
    story.hold(
        retained.len() == 3 && explained,
        &format!(
            "all 3 snapshots stay, the oldest by `{}`",
            foretold["retained"][0]["because"][0].as_str().unwrap_or_default()
        ),
    )?;
    let reclaimed = story.command(&["reclaim", "oak"], true)?;
    let verified = story.command(&["verify", "oak"], true)?;
    story.hold(
        verified["damage"].as_array().is_some_and(Vec::is_empty),
        &format!("{} small containers became fewer, no damage", reclaimed["containers"]["moved"]),
    )?;

    story.step("An empty machine restores everything, with the place and the passphrase alone");
    let key = story.path("in-my-hand.key");
    private(&key, PASSPHRASE)?;
    let (place, key, back) = (
        story.path("oak").display().to_string(),
        key.display().to_string(),
        story.path("empty-machine/back"),
    );
    let to = back.display().to_string();
    for plan in ["ringing@newest", "readings@newest"] {
        story.command(
            &["restore", plan, "--to", &to, "--place", &place, "--passphrase-file", &key],
            false,
        )?;
    }
    for (source, skip) in
        [(ridge.ringing(), &[][..]), (ridge.readings(), &[".cache"][..]), (ridge.card(), &[][..])]
    {
        let name = source.file_name().unwrap_or_default();
        let common = compare::same(&source, &back.join(name), skip).map_err(|why| {
            CliError::failed(
                format!("step {} did not hold: {}: {why}", story.step, source.display()),
                None,
            )
        })?;
        story.hold(
            true,
            &format!(
                "{}: {}, {}, the same to the byte, with modes, owners and times",
                name.to_string_lossy(),
                words::counted(common.paths as u64, "path", "paths"),
                words::bytes(common.bytes)
            ),
        )?;
    }
    super::far::tell(story)
}

fn sum(said: &Value, group: &str, key: &str) -> u64 {
    let runs = said["runs"].as_array();
    runs.map_or(0, |runs| runs.iter().filter_map(|run| run[group][key].as_u64()).sum())
}

fn all_done(said: &Value) -> bool {
    said["runs"].as_array().is_some_and(|runs| {
        runs.len() == 2
            && runs.iter().all(|run| run["status"] == "done" && run["snapshot"].is_string())
    })
}
