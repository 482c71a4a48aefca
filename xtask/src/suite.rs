//! Everything that has to pass.

use std::{os::unix::fs::MetadataExt, path::Path, process::Command};

use anyhow::{Context as _, Result, bail, ensure};

use crate::{cargo, dependencies, programs::run_all, root, say, secrets::watched};

/// Programs the tests drive, and the packages they come in.
const NEEDED: &[(&str, &str)] = &[
    ("tmux", "tmux"),
    ("sshd", "openssh-server"),
    ("ssh-keygen", "openssh-client"),
    ("sftp", "openssh-client"),
    ("curl", "curl"),
    ("pdftoppm", "poppler-utils"),
    ("qpdf", "qpdf"),
    ("openssl", "openssl"),
    ("dbus-daemon", "dbus"),
    ("dbus-monitor", "dbus"),
    ("systemd-analyze", "systemd"),
    ("python3", "python3"),
];
/// Servers that others have written, from PyPI: an object store, WebDAV, FTP with TLS, mail.
const SERVERS: &[&str] = &[
    "moto[server]==5.*",
    "wsgidav==4.*",
    "cheroot",
    "pyftpdlib==2.*",
    "pyopenssl",
    "aiosmtpd==1.*",
];

/// Installs what is missing, then runs all tests.
pub(crate) fn test() -> Result<()> {
    install_missing()?;
    install_servers()?;
    // The binary first: the tests of the commands and of the interface start it.
    run(cargo().args(["build", "--workspace", "--all-targets"]))?;
    // A packaged build has no demo.
    run(cargo().args(["check", "--package", "skellin", "--no-default-features"]))?;
    dependencies::check()?;
    let mut without = Vec::new();
    if !may_mount() {
        say("THIS MACHINE LETS NOBODY MOUNT: what needs it is left out");
        say(
            "  mounts within a source; a full and a read-only disk behind SFTP; a full state directory; little room, and no inodes; the recovery guide in an empty root",
        );
        without.push("SKELLIN_TESTS_WITHOUT_MOUNTS");
    }
    let is_root = std::fs::metadata("/proc/self").is_ok_and(|own| own.uid() == 0);
    if !is_root {
        say("NOT ROOT: what gives files to other accounts is left out");
    }
    if !may_hold_files() {
        say("THIS MACHINE LETS NOBODY HOLD FILES BACK: a source that hangs is left out");
        without.push("SKELLIN_TESTS_WITHOUT_HANGS");
    }
    let prepare = |command: &mut Command| {
        command.envs(without.iter().map(|name| (name, "1")));
    };
    watched(|print| run_all(&prepare, print))
}

/// Does to runs, verifications and restores what outages and signals do, on servers of three kinds, and
/// prints what came of it.
pub(crate) fn faults() -> Result<()> {
    install_missing()?;
    install_servers()?;
    run(cargo().args(["build", "--workspace", "--all-targets"]))?;
    let mut faults = cargo();
    faults.args(["test", "--package", "skellin", "--test", "tests", "faults::"]);
    faults.args(["--", "--ignored", "--nocapture"]);
    run(&mut faults)
}

/// Whether the kernel lets us keep others from opening a file (fanotify(7)).
fn may_hold_files() -> bool {
    let permission = "import ctypes, sys; sys.exit(ctypes.CDLL(None).fanotify_init(4, 0) < 0)";
    let probe = Command::new("python3").args(["-c", permission]).status();
    probe.is_ok_and(|status| status.success())
}

/// Whether something can be mounted in a name space of one's own.
fn may_mount() -> bool {
    let probe = ["--mount", "sh", "-c", "mount -t tmpfs none /mnt"];
    Command::new("unshare").args(probe).output().is_ok_and(|output| output.status.success())
}

fn install_missing() -> Result<()> {
    install(NEEDED)
}

/// Installs packages whose programs are missing.
pub(crate) fn install(needed: &[(&str, &str)]) -> Result<()> {
    let missing: Vec<&str> = needed
        .iter()
        .filter(|(program, _)| !is_installed(program))
        .map(|(_, package)| *package)
        .collect();
    if missing.is_empty() {
        return Ok(());
    }
    say(format!("installing {}", missing.join(", ")));
    if !rustix::process::geteuid().is_root() {
        bail!("the tests need {0}: sudo apt-get install {0}", missing.join(" "));
    }
    run(Command::new("apt-get").args(["update", "-q"]))?;
    run(Command::new("apt-get")
        .args(["install", "-q", "-y", "--no-install-recommends"])
        .args(&missing))
}

/// Puts the test servers into a Python of their own below `target`.
fn install_servers() -> Result<()> {
    let folder = root().join("target/servers");
    let python = folder.join("bin/python");
    let has_all = || {
        let asked = Command::new(&python)
            .args(["-c", "import moto.server, wsgidav, pyftpdlib, OpenSSL, aiosmtpd"])
            .output();
        asked.is_ok_and(|output| output.status.success())
    };
    if has_all() {
        return Ok(());
    }
    say("installing the test servers below target/servers");
    let make = |python: &str| {
        let mut make = Command::new(python);
        make.args(["-m", "venv", "--clear"]).arg(&folder);
        make
    };
    if !make("python3").output().is_ok_and(|output| output.status.success()) {
        // Some distributions keep this part of Python in a package of its own.
        run(Command::new("apt-get").args(["update", "-q"]))?;
        run(Command::new("apt-get").args([
            "install",
            "-q",
            "-y",
            "--no-install-recommends",
            "python3-venv",
        ]))?;
        run(&mut make("python3"))?;
    }
    run(Command::new(&python)
        .args(["-m", "pip", "install", "-q", "--disable-pip-version-check"])
        .args(SERVERS))?;
    ensure!(has_all(), "the test servers are installed and cannot be loaded");
    Ok(())
}

fn is_installed(program: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&path).any(|folder| Path::new(&folder).join(program).is_file())
}

fn run(command: &mut Command) -> Result<()> {
    let shown = format!("{command:?}");
    let status = command.status().with_context(|| format!("could not start {shown}"))?;
    ensure!(status.success(), "{shown} ended with {status}");
    Ok(())
}
