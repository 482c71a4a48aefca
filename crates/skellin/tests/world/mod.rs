//! A configuration with a store and plans, and the program to use it.

pub(crate) use crate::common;

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Command, Output, Stdio},
};

use common::{create_store, scratch, write};
use serde_json::Value;

/// A configuration with a store and a plan, and the program to use it.
pub struct World {
    pub folder: tempfile::TempDir,
}

pub fn private(path: &Path) {
    fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
}

impl World {
    /// The store is made by the library, with a passphrase that is quick to try.
    pub fn new() -> Self {
        let world = Self::bare();
        let place =
            skellin_place::DirectoryPlace::prepare(world.path("oak"), skellin_store::FOLDERS)
                .unwrap();
        create_store(&place);
        write(&world.path("key"), common::PASSPHRASE);
        private(&world.path("key"));
        world.stores(&format!(
            "[oak]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
            world.path("oak").display(),
            world.path("key").display()
        ));
        world
    }

    pub fn bare() -> Self {
        let world = Self { folder: scratch() };
        fs::create_dir_all(world.path("config/plans")).unwrap();
        world
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    pub fn stores(&self, text: &str) {
        write(&self.path("config/stores.toml"), text);
    }

    pub fn plan(&self, name: &str, text: &str) {
        write(&self.path(&format!("config/plans/{name}.toml")), text);
    }

    pub fn usual_plan(&self, rules: &str) {
        let source = self.path("ridge");
        self.plan("readings", &format!("sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\nlabels = [\"field\"]\nrules = '''\n{rules}\n'''\n", source.display()));
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_skellin"));
        command
            .args(arguments)
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap())
            .env("TZ", "UTC")
            .env("SKELLIN_CONFIG", self.path("config"))
            .env("SKELLIN_STATE", self.path("state"))
            .env("SKELLIN_CACHE", self.path("cache"))
            .stdin(Stdio::null());
        command
    }

    pub fn output(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Status and stdout.
    pub fn run(&self, arguments: &[&str]) -> (i32, String) {
        let output = self.output(arguments);
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
    }

    pub fn json(&self, arguments: &[&str]) -> (i32, Value) {
        let (status, text) = self.run(&[arguments, &["--json"]].concat());
        assert_eq!(text.lines().count(), 1, "one document: {text}");
        (status, serde_json::from_str(&text).unwrap())
    }

    /// Stdout of a command that must end well.
    pub fn done(&self, arguments: &[&str]) -> String {
        let output = self.output(arguments);
        let said = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(0), "{arguments:?}: {said}");
        String::from_utf8(output.stdout).unwrap()
    }

    /// Status and stderr of a failure.
    pub fn fail(&self, arguments: &[&str]) -> (i32, String) {
        let output = self.output(arguments);
        (output.status.code().unwrap(), String::from_utf8(output.stderr).unwrap())
    }
}
