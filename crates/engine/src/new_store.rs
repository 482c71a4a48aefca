//! A new store, from what was typed to the first object at its place.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_place::{FarFiles, FarKind, FtpPlace, Place, S3Place, SftpPlace, WebDavPlace};
use skellin_plan::{
    BucketSpec, HostSpec, PlaceSpec, StoreConfig, StoreDraft, is_plan_name, parse_stores,
};
use skellin_store::{Creation, PassphraseCost, Store, StoreId};

use crate::{
    config::Configuration,
    error::{EngineError, Result},
    folders::Folders,
    places::{ReachStep, missing_mount, prepare_drive, prepare_place, reach, targets, try_out},
    refusal::{Advice, Refusal},
    secrets::Passphrase,
    whole_files::{append, replace_private, write_key},
};

/// A store in the making.
#[derive(Clone, Debug)]
pub struct NewStore {
    /// What will stand in `stores.toml`.
    pub draft: StoreDraft,
    /// For drives: where the drive is mounted, and its name in the rotation.
    pub on: Option<(PathBuf, Option<String>)>,
    /// Whether the passphrase is to be written into the store's key file, as against one that is
    /// there already.
    pub write_key: bool,
}

/// A drive a store is created on: where it is mounted, and its name in the rotation.
type Mounted<'a> = Option<(&'a Path, Option<&'a str>)>;

/// Makes a place ready for a store.
fn prepared(config: &StoreConfig, on: Mounted<'_>, folders: &Folders) -> Result<Arc<dyn Place>> {
    match on {
        Some((mount, drive)) => prepare_drive(config, mount, drive, folders),
        None => prepare_place(config),
    }
}

/// Creates a store at a place that is ready; `now` in milliseconds since 1970.
fn created(place: &dyn Place, passphrase: &Passphrase, now: i64) -> Result<StoreId> {
    let cost = PassphraseCost::of_this_machine()?;
    Ok(Store::create(place, passphrase, Creation { cost, now: now / 1000, ..Creation::default() })?)
}

/// Creates the store that a configuration names; `now` in milliseconds since 1970. Its id, and its
/// place.
///
/// # Errors
/// If there is one already, or if the place fails.
pub fn create_store(
    config: &StoreConfig,
    on: Mounted<'_>,
    folders: &Folders,
    passphrase: &Passphrase,
    now: i64,
) -> Result<(StoreId, Arc<dyn Place>)> {
    let place = prepared(config, on, folders)?;
    Ok((created(&*place, passphrase, now)?, place))
}

fn not_writable(problem: String) -> Refusal {
    Refusal::NotWritable { problem, advice: Advice::ChooseAnother }
}

impl NewStore {
    /// The store as it will be read from `stores.toml`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn config(&self) -> Result<StoreConfig> {
        let text = self.draft.text().map_err(not_writable)?;
        let with = |name: &str| std::env::var(name).ok();
        let mut stores = parse_stores("stores.toml", &text, &with);
        match stores.problems.pop() {
            Some(problem) => {
                let hint = problem.hint.unwrap_or_else(|| "correct the input".to_owned());
                let (problem, advice) = (problem.message, Advice::AsTold(hint));
                Err(Refusal::NotWritable { problem, advice }.into())
            }
            None => Ok(stores.fine.remove(&self.draft.name).ok_or(Refusal::NoName)?),
        }
    }

    /// Looks for what is wrong before anything is done.
    ///
    /// # Errors
    /// The first thing that is wrong, with what to do.
    pub fn check(&self, configuration: &Configuration) -> Result<()> {
        let name = &self.draft.name;
        if !is_plan_name(name) {
            return Err(Refusal::NotAName { of: "store", name: name.clone() }.into());
        }
        if configuration.stores.names.contains(name) {
            return Err(Refusal::NameTaken { of: "store", name: name.clone() }.into());
        }
        if let PlaceSpec::Directory(path) = &self.draft.place
            && let Some(mount) = missing_mount(path)
        {
            return Err(EngineError::Unmounted { path: path.clone(), mount });
        }
        if let PlaceSpec::Directory(path) = &self.draft.place
            && has_entries(path)
        {
            return Err(Refusal::NotEmpty(path.clone()).into());
        }
        self.config().map(drop)
    }

    /// Makes the place ready, tries it, creates the store there, and adds it to `stores.toml`,
    /// which comes last; `told` hears of each step.
    ///
    /// # Errors
    /// The first step that fails. What was made at the place stays, and is used when it is tried
    /// again.
    pub fn create(
        &self,
        configuration: &Configuration,
        passphrase: &Passphrase,
        now: i64,
        told: &(dyn Fn(ReachStep) + Sync),
    ) -> Result<()> {
        self.check(configuration)?;
        let config = self.config()?;
        let say = |step, found: String| told(ReachStep { step, found });
        let on = self.on.as_ref().map(|(mount, drive)| (mount.as_path(), drive.as_deref()));
        let place = prepared(&config, on, &configuration.folders)?;
        say("directory", format!("{} is ready", place.describe()));
        match &self.on {
            // A drive is known by its store, which is not there yet.
            Some((mount, _)) => {
                say("drive", format!("mounted at {}", mount.display()));
                try_out(&*place, &say)?;
            }
            None => reach(&config, &configuration.folders, false, told)?,
        }
        let key_file = self.draft.key_file.as_ref().filter(|_| self.write_key);
        if let Some(file) = key_file {
            write_key(file, passphrase)?;
            say("passphrase", format!("saved in {}, readable only by you", file.display()));
        }
        let id = created(&*place, passphrase, now).inspect_err(|_| {
            // Without its store the key opens nothing.
            if let Some(file) = key_file {
                let _ = std::fs::remove_file(file);
            }
        })?;
        say("store", format!("created, id {id}"));
        let text = self.draft.text().map_err(not_writable)?;
        let file = configuration.folders.config.join("stores.toml");
        append(&file, &text)?;
        say("written", format!("[{}] in {}", self.draft.name, file.display()));
        Ok(())
    }
}

fn has_entries(path: &Path) -> bool {
    std::fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_some())
}

/// Puts a secret that was typed into a file only its owner can read. `replace`: whether the file is
/// one this was done with before.
///
/// # Errors
/// If there is such a file already, or it cannot be written.
pub fn keep_secret(file: &Path, secret: &Passphrase, replace: bool) -> Result<()> {
    match replace {
        true => replace_private(file, secret),
        false => write_key(file, secret),
    }
}

/// The directories at a place, sorted. `path`: a full path there, or one that begins with `~`, or
/// of a bucket what names begin with.
///
/// # Errors
/// If the place cannot be reached, or the directory not be read.
pub fn folders_at(config: &StoreConfig, path: &str, accept_new: bool) -> Result<Vec<String>> {
    let there = match path {
        "~" => ".".to_owned(),
        path => path.strip_prefix("~/").unwrap_or(path).to_owned(),
    };
    let at = |host: &HostSpec| HostSpec { path: there.clone(), ..host.clone() };
    let files: Box<dyn FarFiles> = match &config.place {
        PlaceSpec::Sftp(host) => {
            Box::new(SftpPlace::new(targets::sftp(&at(host), config)?, accept_new))
        }
        PlaceSpec::S3(bucket) => {
            let prefix = path.trim_matches('/').to_owned();
            let spec = BucketSpec { prefix, ..bucket.clone() };
            Box::new(S3Place::new(targets::s3(&spec, config)?)?)
        }
        PlaceSpec::WebDav { tls, host } => {
            Box::new(WebDavPlace::new(targets::webdav(*tls, &at(host), config)?)?)
        }
        PlaceSpec::Ftp { tls, host } => {
            Box::new(FtpPlace::new(targets::ftp(*tls, &at(host), config)?))
        }
        PlaceSpec::Directory(_) | PlaceSpec::Drive(_) => return Ok(Vec::new()),
    };
    let entries = files.names("")?.into_iter();
    let folders = entries.filter(|entry| entry.facts.kind == FarKind::Directory);
    let mut names: Vec<String> = folders.map(|entry| entry.name).collect();
    names.sort();
    Ok(names)
}
