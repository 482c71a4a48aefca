//! A system in a directory, as a container: a command in it, or started as a machine.

use std::{
    fs,
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, bail, ensure};

/// A system in a directory, with the store mounted.
pub(super) struct Container<'a> {
    pub tree: &'a Path,
    pub store: &'a Path,
}

/// One that is up; it is ended when this goes out of scope.
pub(super) struct Started {
    child: Child,
}

impl Container<'_> {
    /// Nothing of the host gets in, so that the tree holds what was put there.
    fn command(&self) -> Command {
        let mut command = Command::new("systemd-nspawn");
        let bind = format!("--bind={}:/mnt/oak", self.store.display());
        command.args(["--quiet", "--register=no", "--keep-unit", "--console=pipe"]);
        command.args(["--resolv-conf=off", "--timezone=off", "--link-journal=no"]);
        command.args([&bind, "--directory"]).arg(self.tree);
        command.stdin(Stdio::null());
        command
    }

    /// What a command says, in the system at rest.
    pub fn run(&self, line: &str) -> Result<String> {
        let output = self.command().args(["/bin/sh", "-ec", line]).output()?;
        said(line, &output)
    }

    /// Starts the system with its own first process.
    pub fn boot(&self) -> Result<Started> {
        let mut command = self.command();
        command.arg("--boot").stdout(Stdio::null()).stderr(Stdio::null());
        Ok(Started { child: command.spawn()? })
    }
}

fn said(line: &str, output: &std::process::Output) -> Result<String> {
    let (out, err) =
        (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    ensure!(output.status.success(), "`{line}` ended with {}: {out}{err}", output.status);
    Ok(out.into_owned())
}

impl Started {
    /// The first process in the container, once there is one.
    fn leader(&self) -> Result<Option<u32>> {
        let own = self.child.id();
        let children = format!("/proc/{own}/task/{own}/children");
        let children = fs::read_to_string(children).context("the container has ended")?;
        Ok(children.split_whitespace().next().and_then(|first| first.parse().ok()))
    }

    fn inside(&self, line: &str) -> Result<std::process::Output> {
        let Some(leader) = self.leader()? else { bail!("the container is not up yet") };
        let leader = leader.to_string();
        Ok(Command::new("nsenter")
            .args(["--target", &leader, "--all", "/bin/sh", "-ec", line])
            .stdin(Stdio::null())
            .output()?)
    }

    /// What a command says, in the running system.
    pub fn run(&self, line: &str) -> Result<String> {
        said(line, &self.inside(line)?)
    }

    /// Waits for something to become true.
    pub fn wait_until(
        &self,
        patience: Duration,
        what: &str,
        is_true: impl Fn() -> Result<bool>,
    ) -> Result<()> {
        let begun = Instant::now();
        loop {
            let now = is_true();
            match now {
                Ok(true) => return Ok(()),
                _ if begun.elapsed() < patience => {}
                Ok(false) => bail!("waited {} s in vain until {what}", patience.as_secs()),
                Err(error) => return Err(error.context(format!("until {what}"))),
            }
            std::thread::sleep(Duration::from_millis(500));
        }
    }

    /// Waits until the system is up with its goal reached; what it says of itself.
    pub fn wait_for_system(&self, patience: Duration) -> Result<String> {
        self.wait_until(patience, "multi-user.target is reached", || {
            let goal = self.inside("systemctl is-active multi-user.target")?;
            Ok(goal.status.success())
        })?;
        let is_up = self.inside("systemctl is-system-running --wait")?;
        let state = String::from_utf8_lossy(&is_up.stdout).trim().to_owned();
        if state != "running" {
            let failed = self.inside("systemctl list-units --failed --no-legend --plain")?;
            bail!("the system is {state}: {}", String::from_utf8_lossy(&failed.stdout));
        }
        Ok(state)
    }

    /// Has it end by itself.
    pub fn power_off(mut self) -> Result<()> {
        // The command may be ended before it can say so.
        let _ = self.inside("systemctl poweroff");
        let begun = Instant::now();
        while self.child.try_wait()?.is_none() {
            ensure!(begun.elapsed() < Duration::from_secs(60), "the container does not end");
            std::thread::sleep(Duration::from_millis(100));
        }
        Ok(())
    }
}

impl Drop for Started {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
