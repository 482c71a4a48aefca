//! systemd and cron as they are talked to.

use std::{
    io::Write,
    path::Path,
    process::{Command, Stdio},
};

use skellin_engine::timers::Setting;

use super::account;
use crate::cli::error::CliError;

/// Has systemd do something.
pub(super) fn systemctl(setting: &Setting<'_>, words: &[&str]) -> Result<(), CliError> {
    let mut command = Command::new("systemctl");
    if !setting.is_root {
        command.arg("--user");
    }
    let output = command.args(words).stdin(Stdio::null()).output();
    let output = output
        .map_err(|error| CliError::failed(format!("cannot start systemctl: {error}"), None))?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(CliError::failed(
        format!("systemctl {}: {said}", words.join(" ")),
        Some("try it by hand; the units are installed".to_owned()),
    ))
}

/// A crontab as people know it.
pub(super) fn crontab_name(file: Option<&Path>) -> String {
    file.map_or(format!("the crontab of {}", account()), |file| file.display().to_string())
}

/// A crontab, or a file in its place.
pub(super) fn read_crontab(file: Option<&Path>) -> Result<String, CliError> {
    let failed = |why: String| {
        CliError::failed(format!("{} cannot be read: {why}", crontab_name(file)), None)
    };
    match file {
        Some(file) => match std::fs::read_to_string(file) {
            Ok(text) => Ok(text),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
            Err(error) => Err(failed(error.to_string())),
        },
        None => {
            let output = Command::new("crontab").arg("-l").stdin(Stdio::null()).output();
            let output = output.map_err(|error| failed(error.to_string()))?;
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            match output.status.success() {
                true => Ok(String::from_utf8_lossy(&output.stdout).into_owned()),
                false if said.contains("no crontab") => Ok(String::new()),
                false => Err(failed(said.trim().to_owned())),
            }
        }
    }
}

/// Writes a crontab, or a file in its place.
pub(super) fn write_crontab(file: Option<&Path>, text: &str) -> Result<(), CliError> {
    let failed = |why: String| {
        CliError::failed(format!("{} cannot be written: {why}", crontab_name(file)), None)
    };
    match file {
        Some(file) if text.is_empty() => match std::fs::remove_file(file) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(failed(error.to_string()))
            }
            _ => Ok(()),
        },
        Some(file) => std::fs::write(file, text).map_err(|error| failed(error.to_string())),
        None => {
            let mut child = Command::new("crontab")
                .arg("-")
                .stdin(Stdio::piped())
                .stderr(Stdio::piped())
                .spawn()
                .map_err(|error| failed(error.to_string()))?;
            if let Some(mut input) = child.stdin.take() {
                input.write_all(text.as_bytes()).map_err(|error| failed(error.to_string()))?;
            }
            let output = child.wait_with_output().map_err(|error| failed(error.to_string()))?;
            match output.status.success() {
                true => Ok(()),
                false => Err(failed(String::from_utf8_lossy(&output.stderr).trim().to_owned())),
            }
        }
    }
}
