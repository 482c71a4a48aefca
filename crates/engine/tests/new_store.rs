//! A store from what was typed to its first object: looked around at its place, tried, created, and
//! nothing left behind where that fails.

use crate::common;

use std::{fs, os::unix::fs::PermissionsExt, path::PathBuf, sync::Mutex};

use common::{scratch, write};
use skellin_engine::{Configuration, Folders, NewStore, Passphrase, folders_at, keep_secret};
use skellin_plan::{DraftValue, PlaceSpec, StoreDraft};
use skellin_standins::{
    s3::{Bucket, SimulatedS3},
    sftp::{Account, SimulatedSftp},
};
use tempfile::TempDir;

const PASSWORD: &str = "two terns";

/// A host and an object store, and a machine on which nothing is configured yet.
struct Harbour {
    folder: TempDir,
    sftp: SimulatedSftp,
    s3: SimulatedS3,
}

impl Harbour {
    fn start() -> Self {
        let folder = scratch();
        let path = |below: &str| folder.path().join(below);
        let (user, password) = ("keeper".to_owned(), PASSWORD.to_owned());
        let account = Account { user, password, key: None };
        let sftp = SimulatedSftp::start(path("host"), account, &path("host.key"), None).unwrap();
        let port = sftp.address().port();
        fs::write(path("known"), sftp.known_as("127.0.0.1", port)).unwrap();
        let bucket = Bucket {
            name: "ridge".to_owned(),
            region: "north-1".to_owned(),
            id: "hut".to_owned(),
            secret: PASSWORD.to_owned(),
        };
        let s3 = SimulatedS3::start(path("bucket"), bucket, None).unwrap();
        keep_secret(&path("config/keys/password"), &secret(PASSWORD), false).unwrap();
        let key = format!("id = \"hut\"\nsecret = \"{PASSWORD}\"");
        keep_secret(&path("config/keys/credentials"), &secret(&key), false).unwrap();
        Self { folder, sftp, s3 }
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    fn configuration(&self) -> Configuration {
        let folders = Folders {
            config: self.path("config"),
            state: self.path("state"),
            cache: self.path("cache"),
            drives: Some(self.path("drives")),
            ..Folders::default()
        };
        Configuration::load(folders).unwrap()
    }

    fn store(&self, name: &str, place: &str, access: Vec<(&'static str, DraftValue)>) -> NewStore {
        let draft = StoreDraft {
            name: name.to_owned(),
            place: PlaceSpec::parse(place, &|_: &str| None).unwrap(),
            key_file: Some(self.path(&format!("config/keys/{name}.key"))),
            access,
        };
        NewStore { draft, on: None, write_key: true }
    }

    fn on_host(&self, name: &str, path: &str) -> NewStore {
        let known = self.path("known").display().to_string();
        self.store(
            name,
            &format!("sftp://keeper@127.0.0.1:{}{path}", self.sftp.address().port()),
            vec![
                ("password", DraftValue::SecretFile(self.path("config/keys/password"))),
                ("known-hosts", DraftValue::Text(known)),
            ],
        )
    }

    fn in_bucket(&self, name: &str, path: &str) -> NewStore {
        self.store(
            name,
            &format!("s3://ridge{path}"),
            vec![
                ("endpoint", DraftValue::Text(self.s3.endpoint())),
                ("region", DraftValue::Text("north-1".to_owned())),
                ("credentials", DraftValue::SecretFile(self.path("config/keys/credentials"))),
            ],
        )
    }

    /// Creates a store; the steps that were told.
    fn create(&self, store: &NewStore) -> Result<Vec<&'static str>, String> {
        let steps = Mutex::new(Vec::new());
        let told = |step: skellin_engine::ReachStep| steps.lock().unwrap().push(step.step);
        let passphrase = secret("gulls over the ridge");
        let made = store.create(&self.configuration(), &passphrase, 1_790_000_000_000, &told);
        made.map_err(|error| error.to_string())?;
        Ok(steps.into_inner().unwrap())
    }
}

fn secret(text: &str) -> Passphrase {
    Passphrase::new(text.as_bytes().to_vec())
}

#[test]
fn one_looks_around_at_each_kind_of_place() {
    let harbour = Harbour::start();
    write(&harbour.path("host/srv/notes.txt"), "no directory");
    write(&harbour.path("host/srv/of others/x"), "x");
    let host = harbour.on_host("pier", "/srv/skellin").config().unwrap();
    assert_eq!(folders_at(&host, "/", false).unwrap(), ["srv"]);
    assert_eq!(folders_at(&host, "/srv", false).unwrap(), ["of others"]);
    assert_eq!(folders_at(&host, "~", false).unwrap(), ["srv"]);
    assert!(folders_at(&host, "/none", false).is_err());
    let bucket = harbour.in_bucket("offshore", "/hut").config().unwrap();
    assert_eq!(folders_at(&bucket, "", false).unwrap(), [""; 0]);
    harbour.create(&harbour.in_bucket("offshore", "/hut/deeper")).unwrap();
    assert_eq!(folders_at(&bucket, "", false).unwrap(), ["hut"]);
    assert_eq!(folders_at(&bucket, "hut", false).unwrap(), ["deeper"]);
}

#[test]
fn a_store_is_created_with_each_step_told_and_read_back_as_it_was_written() {
    let harbour = Harbour::start();
    fs::create_dir_all(harbour.path("disk")).unwrap();
    let local = harbour.store("oak", &harbour.path("disk/oak").display().to_string(), Vec::new());
    assert!(harbour.create(&local).unwrap().ends_with(&["passphrase", "store", "written"]));
    let steps = harbour.create(&harbour.on_host("pier", "/srv/deep/skellin")).unwrap();
    assert_eq!(&steps[..4], ["directory", "name", "port", "host key"]);
    let steps = harbour.create(&harbour.in_bucket("offshore", "/hut")).unwrap();
    assert!(steps.contains(&"read back") && steps.contains(&"login"), "{steps:?}");
    let configuration = harbour.configuration();
    assert_eq!(configuration.stores.problems, []);
    assert_eq!(configuration.stores.names, ["oak", "offshore", "pier"]);
    for name in ["oak", "pier", "offshore"] {
        let config = configuration.store(name).unwrap();
        let place = skellin_engine::open_place(config, &configuration.folders).unwrap();
        skellin_store::Store::header_at(&*place).unwrap();
        let key = fs::metadata(harbour.path(&format!("config/keys/{name}.key"))).unwrap();
        assert_eq!(key.permissions().mode() & 0o777, 0o600);
    }
}

#[test]
fn a_drive_becomes_one_of_several() {
    let harbour = Harbour::start();
    fs::create_dir_all(harbour.path("drives/east")).unwrap();
    let names = vec!["ash-east".to_owned(), "ash-west".to_owned()];
    let access = vec![("drives", DraftValue::Texts(names))];
    let mut store = harbour.store("ash", "drive:/skellin", access);
    store.on = Some((harbour.path("drives/east"), Some("ash-east".to_owned())));
    let steps = harbour.create(&store).unwrap();
    assert!(steps.contains(&"drive"), "{steps:?}");
    let mark = fs::read_to_string(harbour.path("drives/east/skellin/drive.txt")).unwrap();
    assert!(mark.contains("drive: ash-east"), "{mark}");
}

#[test]
fn what_fails_leaves_neither_a_key_nor_a_line() {
    let harbour = Harbour::start();
    let nothing_left = |name: &str| {
        let key = harbour.path(&format!("config/keys/{name}.key"));
        assert!(!key.exists() && !harbour.path("config/stores.toml").exists(), "{name}");
    };
    let refused = |store: &NewStore, reason: &str| {
        let said = harbour.create(store).unwrap_err();
        assert!(said.contains(reason) && !said.contains(PASSWORD), "{reason}: {said}");
    };
    refused(&harbour.on_host("Pier!", "/srv/x"), "is not a valid store name");
    write(&harbour.path("taken/file"), "x");
    let taken = harbour.path("taken").display().to_string();
    refused(&harbour.store("oak", &taken, Vec::new()), "is not empty");
    keep_secret(&harbour.path("config/keys/password"), &secret("wrong"), true).unwrap();
    refused(&harbour.on_host("pier", "/srv/x"), "login");
    nothing_left("pier");
    keep_secret(&harbour.path("config/keys/password"), &secret(PASSWORD), true).unwrap();
    harbour.sftp.trouble(|trouble| trouble.room = Some(10_000));
    refused(&harbour.on_host("pier", "/srv/x"), "could not create");
    nothing_left("pier");
    harbour.s3.trouble(|trouble| trouble.clock = 86_400);
    refused(&harbour.in_bucket("offshore", "/x"), "clock");
    nothing_left("offshore");
    // What was in the way is gone, and what was made at the place is used.
    harbour.sftp.trouble(|trouble| trouble.room = None);
    harbour.create(&harbour.on_host("pier", "/srv/x")).unwrap();
    refused(&harbour.on_host("pier", "/srv/y"), "there is already a store `pier`");
    refused(&harbour.on_host("pier-2", "/srv/x"), "there is already a store");
    assert!(!harbour.path("config/keys/pier-2.key").exists());
}

#[test]
fn a_secret_is_never_written_over_another() {
    let folder = scratch();
    let file = folder.path().join("keys/oak.password");
    keep_secret(&file, &secret("gulls"), false).unwrap();
    assert!(keep_secret(&file, &secret("terns"), false).is_err());
    assert_eq!(fs::read_to_string(&file).unwrap(), "gulls\n");
    keep_secret(&file, &secret("terns"), true).unwrap();
    assert_eq!(fs::read_to_string(&file).unwrap(), "terns\n");
    assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
}
