//! Other hosts as sources.

use std::{
    collections::{BTreeMap, HashMap},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
};

use rustix::io::Errno;
use skellin_place::{
    FarFiles, FarTarget, FtpPlace, RetryingFiles, S3Place, SftpPlace, SftpTarget, Waiting,
    WebDavPlace,
};
use skellin_plan::{FarSource, HostConfig, HostSpec, PlaceSpec, StoreConfig};

use super::{retries, targets};
use crate::{
    error::Result,
    metadata::Sort,
    refusal::Refusal,
    sources::{Origin, Trouble},
    waits::Awaited,
};

/// What sources lie on: this machine, and other hosts, each connected to once and kept.
#[derive(Debug, Default)]
pub struct SourceHosts {
    hosts: BTreeMap<String, HostConfig>,
    opened: Mutex<HashMap<PathBuf, Arc<dyn FarFiles>>>,
}

fn patient(config: &StoreConfig, files: impl FarFiles + 'static) -> Arc<dyn FarFiles> {
    Arc::new(RetryingFiles::new(files, retries(config)))
}

impl Awaited for SourceHosts {
    /// Of the host that has been waited for longest.
    fn waiting(&self) -> Option<Waiting> {
        let opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        opened.values().filter_map(|files| files.waiting()).max_by_key(|waiting| waiting.since)
    }

    fn give_up(&self) {
        let opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        opened.values().for_each(|files| files.give_up());
    }
}

impl SourceHosts {
    /// With hosts as they are configured.
    #[must_use]
    pub fn new(hosts: BTreeMap<String, HostConfig>) -> Self {
        Self { hosts, opened: Mutex::default() }
    }

    /// Where a source lies; a host is asked for nothing yet.
    pub(crate) fn of(&self, source: &Path) -> Result<Origin> {
        if source.is_absolute() {
            return Ok(Origin::Here);
        }
        let length = source.as_os_str().len();
        let mut opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(files) = opened.get(source) {
            return Ok(Origin::Far(Arc::clone(files), length));
        }
        let spec =
            FarSource::of(source).ok_or_else(|| Refusal::NotASource(source.to_path_buf()))?;
        let files = self.open(&spec)?;
        opened.insert(source.to_path_buf(), Arc::clone(&files));
        Ok(Origin::Far(files, length))
    }

    /// Tries whether a source can be read at all.
    ///
    /// # Errors
    /// Why it cannot.
    pub fn try_source(&self, source: &Path) -> Result<()> {
        let origin = self.of(source)?;
        let facts = origin.facts(source, true).map_err(|trouble| trouble.on(source))?;
        match (facts.sort(), &origin) {
            (Sort::Directory, _) => origin.open(source).map(drop),
            (_, Origin::Here) => std::fs::File::open(source)
                .map(drop)
                .map_err(|error| Trouble::Here(Errno::from_io_error(&error).unwrap_or(Errno::IO))),
            (_, Origin::Far(..)) => Ok(()),
        }
        .map_err(|trouble| trouble.on(source))
    }

    /// A directory of another host to which files can be restored, by its address: `sftp://pier/srv/back`.
    ///
    /// # Errors
    /// If it is no such address, or the host cannot be reached by it.
    pub fn target(&self, address: &Path) -> Result<Arc<dyn FarTarget>> {
        let spec =
            FarSource::of(address).ok_or_else(|| Refusal::NotASource(address.to_path_buf()))?;
        let config = self.config(&spec)?;
        match &config.place {
            PlaceSpec::Sftp(host) => {
                let place = SftpPlace::new(targets::sftp(host, &config)?, false);
                Ok(Arc::new(RetryingFiles::new(place, retries(&config))))
            }
            other => Err(Refusal::NotBySsh(other.clone()).into()),
        }
    }

    /// How commands of a plan reach a host; it is named as sources name it, `keeper@mast:2222`.
    pub(crate) fn command_target(&self, host: &str) -> Result<SftpTarget> {
        let address = format!("sftp://{host}/");
        let source =
            FarSource::of(Path::new(&address)).ok_or_else(|| Refusal::NotAHost(host.to_owned()))?;
        let config = self.config(&source)?;
        match &config.place {
            PlaceSpec::Sftp(told) => targets::sftp(told, &config),
            other => Err(Refusal::NotBySsh(other.clone()).into()),
        }
    }

    /// How the host of a source is reached.
    pub(super) fn config(&self, source: &FarSource) -> Result<StoreConfig> {
        let host = self.hosts.get(source.host()).cloned().unwrap_or_default();
        let with = |told: &HostSpec| HostSpec {
            user: told.user.clone().or_else(|| host.user.clone()),
            port: told.port.or(host.port),
            path: if told.path == "~" { ".".to_owned() } else { told.path.clone() },
            host: told.host.clone(),
        };
        let place = match source.place() {
            PlaceSpec::Sftp(told) => PlaceSpec::Sftp(with(told)),
            PlaceSpec::WebDav { tls, host } => PlaceSpec::WebDav { tls: *tls, host: with(host) },
            PlaceSpec::Ftp { tls, host } => PlaceSpec::Ftp { tls: *tls, host: with(host) },
            PlaceSpec::S3(bucket) if host.access.objects.endpoint.is_none() => {
                let name = &bucket.bucket;
                return Err(Refusal::NoBucket(name.clone()).into());
            }
            other => other.clone(),
        };
        let name = source.host().to_owned();
        Ok(StoreConfig { name, access: host.access, ..StoreConfig::at(place) })
    }

    fn open(&self, source: &FarSource) -> Result<Arc<dyn FarFiles>> {
        let config = self.config(source)?;
        Ok(match &config.place {
            PlaceSpec::Sftp(host) => {
                patient(&config, SftpPlace::new(targets::sftp(host, &config)?, false))
            }
            PlaceSpec::S3(bucket) => patient(&config, S3Place::new(targets::s3(bucket, &config)?)?),
            PlaceSpec::WebDav { tls, host } => {
                patient(&config, WebDavPlace::new(targets::webdav(*tls, host, &config)?)?)
            }
            PlaceSpec::Ftp { tls, host } => {
                patient(&config, FtpPlace::new(targets::ftp(*tls, host, &config)?))
            }
            PlaceSpec::Directory(_) | PlaceSpec::Drive(_) => {
                return Err(Refusal::NotFar(config.place.clone()).into());
            }
        })
    }
}
