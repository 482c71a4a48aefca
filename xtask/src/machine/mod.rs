//! The proof that counts: a small Debian system is backed up as a whole, restored into an empty file
//! system, started there, and taken back to the exact moment after packages were added and files deleted.
//!
//! What docs/RECOVERY.md says of a whole system is followed to the letter.

mod container;
mod state;

use std::{
    fs,
    os::unix::fs::{PermissionsExt, symlink},
    path::{Path, PathBuf},
    process::Command,
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, bail, ensure};
use serde_json::Value;

use crate::{cargo, root, say, suite};
use container::Container;
use state::State;

/// Programs this takes, and the packages they come in.
const NEEDED: &[(&str, &str)] = &[
    ("debootstrap", "debootstrap"),
    ("systemd-nspawn", "systemd-container"),
    ("setcap", "libcap2-bin"),
    ("setfacl", "acl"),
];
const PASSPHRASE: &str = "terns over the pier";
/// A package without dependencies, and with files in many directories.
const PACKAGE: &str = "hello";
const PLAN: &str = "about = \"The whole machine\"\nsources = [\"/\"]\nstore = \"oak\"\nmachine = \"hut\"\nrules-from = [\"builtin:system\"]\nshrink = \"off\"\n[schedule]\nrun = \"every 1 minutes\"\n";
const STORES: &str =
    "[oak]\nplace = \"/mnt/oak/skellin\"\npassphrase = { file = \"/etc/skellin/oak.key\" }\n";
/// The directory that is left out of comparisons beside what the plan's rules exclude: the state, in which a
/// machine's own history goes on.
const OWN: &str = "var/lib/skellin";
/// So long a system may take to come up, or a timer to start a run.
const PATIENCE: Duration = Duration::from_secs(300);

pub(crate) fn machine() -> Result<()> {
    ensure!(rustix::process::geteuid().is_root(), "this starts a container: run it as root");
    suite::install(NEEDED)?;
    let begun = Instant::now();
    let step = |what: &str| say(format!("{:>5} s  {what}", begun.elapsed().as_secs()));
    let work = root().join("target/machine");
    let base = base(&work)?;
    step("a Debian system is there");
    let program = program()?;

    let (hut, store) = (work.join("hut"), work.join("store"));
    // What an earlier time left mounted.
    let _ = Command::new("umount").arg(work.join("new/root")).output();
    for folder in [&hut, &store, &work.join("new")] {
        remove(folder)?;
    }
    copy(&base, &hut)?;
    furnish(&hut, &program)?;
    fs::create_dir_all(&store)?;
    let machine = Container { tree: &hut, store: &store };
    machine.run("skellin store create oak --quiet")?;
    let started = machine.boot()?;
    started.wait_for_system(PATIENCE)?;
    started.run("skellin timers install --yes")?;
    started.power_off()?;
    step("the old machine was up, and its timers are installed");

    machine.run("skellin run system --quiet")?;
    let old = State::of(&hut)?;
    let history = machine.run("skellin history system --json")?;
    step(&format!("it is backed up: {}", newest(&history)?));

    // Following the guide, with an empty file system mounted where it says.
    let new = work.join("new");
    let _mounted = empty_file_system(&work, &new.join("root"))?;
    restore_by_the_guide(&new, &store, &program)?;
    let restored = new.join("root");
    let differing = old.differences(&State::of(&restored)?);
    ensure!(differing.is_empty(), "restored, but: {differing:#?}");
    step(&format!("restored into an empty file system, the same in all of {} paths", old.len()));

    let machine = Container { tree: &restored, store: &store };
    let started = machine.boot()?;
    let state = started.wait_for_system(PATIENCE)?;
    step(&format!("the restored machine is up: {state}"));
    let before = count(&started.run("skellin history system --json")?)?;
    started.wait_until(PATIENCE, "a timer starts a run", || {
        let now = started.run("skellin history system --json")?;
        Ok(count(&now)? > before)
    })?;
    let word = started.run("systemctl show -p Result --value skellin-look.service")?;
    ensure!(word.trim() == "success", "the service of the timer ended with {word}");
    started.power_off()?;
    step("its own timer has started a run, which made a snapshot");

    back_to_the_moment(&machine, &restored, &step)?;
    say("The machine came back.");
    Ok(())
}

/// Packages are added and files deleted; then everything is as it was.
fn back_to_the_moment(machine: &Container<'_>, tree: &Path, step: &dyn Fn(&str)) -> Result<()> {
    machine.run("skellin run system --quiet")?;
    let moment = State::of(tree)?;
    let snapshot = newest(&machine.run("skellin history system --json")?)?;
    machine.run(&format!("dpkg -i /opt/{PACKAGE}.deb >/dev/null"))?;
    machine.run(
        "rm -r /usr/share/doc /etc/motd; echo changed >> /etc/hosts; chmod 700 /usr/games; useradd -m visitor",
    )?;
    let changed = moment.differences(&State::of(tree)?).len();
    ensure!(changed > 50, "only {changed} paths were changed");
    let exactly = format!("skellin restore {snapshot} --in-place --extra remove");
    let foretold = machine.run(&format!("{exactly} --dry-run --json"))?;
    let foretold: Value = serde_json::from_str(&foretold)?;
    step(&format!(
        "{changed} paths differ after a package was added and files were deleted; a dry run foretells {} removed, {} replaced",
        foretold["removed"], foretold["replaced"]
    ));
    let done: Value = serde_json::from_str(&machine.run(&format!("{exactly} --agree --json"))?)?;
    ensure!(done["removed"] == foretold["removed"], "removed {}", done["removed"]);
    let differing = moment.differences(&State::of(tree)?);
    ensure!(differing.is_empty(), "taken back, but: {differing:#?}");
    step("taken back to the exact moment");
    let started = machine.boot()?;
    let state = started.wait_for_system(PATIENCE)?;
    started.power_off()?;
    step(&format!("and up again: {state}"));
    Ok(())
}

/// A minimal Debian system, made once.
fn base(work: &Path) -> Result<PathBuf> {
    let base = work.join("base");
    if base.join("etc/machine-is-whole").exists() {
        return Ok(base);
    }
    remove(&base)?;
    fs::create_dir_all(work)?;
    run(Command::new("debootstrap")
        .args(["--variant=minbase", "--include=systemd,systemd-sysv,dbus,adduser", "stable"])
        .arg(&base)
        .stdout(std::process::Stdio::null()))?;
    fs::write(base.join("etc/machine-is-whole"), "")?;
    Ok(base)
}

/// The program, as it would be installed.
fn program() -> Result<PathBuf> {
    run(cargo().args(["build", "--package", "skellin", "--locked"]))?;
    let stripped = root().join("target/machine/skellin");
    run(Command::new("strip").arg("-o").arg(&stripped).arg(root().join("target/debug/skellin")))?;
    Ok(stripped)
}

/// Puts into the old machine what people have there, and what a restore is likely to lose.
fn furnish(hut: &Path, program: &Path) -> Result<()> {
    fs::copy(program, hut.join("usr/bin/skellin"))?;
    let config = hut.join("etc/skellin");
    fs::create_dir_all(config.join("plans"))?;
    fs::write(config.join("oak.key"), PASSPHRASE)?;
    fs::set_permissions(config.join("oak.key"), fs::Permissions::from_mode(0o600))?;
    fs::write(config.join("stores.toml"), STORES)?;
    fs::write(config.join("plans/system.toml"), PLAN)?;
    fs::write(hut.join("etc/hostname"), "hut\n")?;
    fs::create_dir_all(hut.join("mnt/oak"))?;
    let odd = hut.join("srv/odd");
    fs::create_dir_all(&odd)?;
    fs::copy(hut.join("bin/true"), odd.join("raw"))?;
    run(Command::new("setcap").arg("cap_net_raw+ep").arg(odd.join("raw")))?;
    fs::write(odd.join("shared"), "notes")?;
    run(Command::new("setfacl").args(["-m", "u:1234:rw,g:4321:r"]).arg(odd.join("shared")))?;
    run(Command::new("setfacl").args(["-d", "-m", "u:1234:rwx"]).arg(&odd))?;
    fs::hard_link(odd.join("shared"), hut.join("srv/second-name"))?;
    symlink("/no/where", odd.join("dangling"))?;
    let sparse = fs::File::create(odd.join("sparse"))?;
    sparse.set_len(64 << 20)?;
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"island", 32 << 20)?;
    let deb = root().join("target/machine").join(format!("{PACKAGE}.deb"));
    if !deb.exists() {
        let folder = root().join("target/machine/package");
        fs::create_dir_all(&folder)?;
        run(Command::new("apt-get").args(["download", "-q", PACKAGE]).current_dir(&folder))?;
        let fetched = fs::read_dir(&folder)?.next().context("a package")??.path();
        fs::rename(fetched, &deb)?;
    }
    fs::create_dir_all(hut.join("opt"))?;
    fs::copy(deb, hut.join("opt").join(format!("{PACKAGE}.deb")))?;
    Ok(())
}

/// The first command of the guide's block of a kind that has all of these words.
fn guide_command(words: &[&str]) -> Result<String> {
    let guide = fs::read_to_string(root().join("docs/RECOVERY.md"))?;
    let mut lines = guide.lines();
    while let Some(line) = lines.next() {
        if line == "```sh system" {
            let mut block = lines.by_ref().take_while(|line| *line != "```");
            if let Some(line) = block.find(|line| words.iter().all(|word| line.contains(word))) {
                return Ok(line.to_owned());
            }
        }
    }
    bail!("docs/RECOVERY.md has no command with {words:?}")
}

/// Where a file system is mounted until this goes out of scope.
struct Mounted(PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.0).status();
    }
}

/// A new file system with nothing on it.
fn empty_file_system(work: &Path, at: &Path) -> Result<Mounted> {
    let image = work.join("disk.img");
    fs::create_dir_all(at)?;
    let _ = fs::remove_file(&image);
    fs::File::create(&image)?.set_len(4 << 30)?;
    run(Command::new("mkfs.ext4").args(["-q", "-L", "system"]).arg(&image))?;
    run(Command::new("mount").args(["-o", "loop"]).arg(&image).arg(at))?;
    Ok(Mounted(at.to_owned()))
}

/// As the guide says, with nothing of the old machine but store and passphrase.
fn restore_by_the_guide(new: &Path, store: &Path, program: &Path) -> Result<()> {
    let command = guide_command(&["--place", "system@newest", "--to /mnt"])?;
    let script = format!(
        "set -e
         mount -t tmpfs none /mnt; mkdir -p /mnt/root /mnt/oak/skellin /mnt/program
         mount --bind {new}/root /mnt/root
         mount --bind {store}/skellin /mnt/oak/skellin
         mount --bind {bin} /mnt/program
         mount -t tmpfs none /root; printf %s '{PASSPHRASE}' > /root/store.key; chmod 600 /root/store.key
         export HOME=/root SKELLIN_CONFIG=/root/config SKELLIN_STATE=/root/state SKELLIN_CACHE=/root/cache PATH=/mnt/program:$PATH
         {command} --quiet",
        new = new.display(),
        store = store.display(),
        bin = program.parent().unwrap_or(program).display(),
    );
    run(Command::new("unshare").args(["--mount", "bash", "-c", &script]))
}

fn snapshots(history: &str) -> Result<Vec<Value>> {
    let document: Value = serde_json::from_str(history)?;
    Ok(document["snapshots"].as_array().cloned().unwrap_or_default())
}

fn count(history: &str) -> Result<usize> {
    Ok(snapshots(history)?.len())
}

/// The id of the snapshot that was made last.
fn newest(history: &str) -> Result<String> {
    let mut all = snapshots(history)?;
    all.sort_by_key(|one| one["time"].as_str().unwrap_or_default().to_owned());
    let newest = all.last().context("there is no snapshot")?;
    Ok(newest["id"].as_str().context("a snapshot has an id")?.to_owned())
}

fn remove(folder: &Path) -> Result<()> {
    match fs::remove_dir_all(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            Err(error).with_context(|| format!("cannot remove {}", folder.display()))
        }
        _ => Ok(()),
    }
}

fn copy(from: &Path, to: &Path) -> Result<()> {
    run(Command::new("cp").arg("-a").arg(from).arg(to))
}

fn run(command: &mut Command) -> Result<()> {
    let shown = format!("{command:?}");
    let status = command.status().with_context(|| format!("could not start {shown}"))?;
    ensure!(status.success(), "{shown} ended with {status}");
    Ok(())
}
