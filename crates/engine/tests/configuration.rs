//! Where configuration, state and secrets come from.

use crate::common;

use std::{fs, os::unix::fs::PermissionsExt, path::PathBuf};

use common::{scratch, write};
use linux_keyutils::{KeyRing, KeyRingIdentifier};
use skellin_engine::{Configuration, EngineError, Folders, PlanLock, Refusal, read_secret};
use skellin_plan::SecretSource;

fn folders(
    set: &[(&str, &str)],
    config: Option<&str>,
    is_root: bool,
) -> skellin_engine::Result<Folders> {
    let env = |name: &str| {
        set.iter().find(|(key, _)| *key == name).map(|(_, value)| PathBuf::from(value))
    };
    Folders::find(config.map(PathBuf::from), &env, is_root)
}

#[test]
fn folders_follow_the_option_the_environment_and_the_user() {
    let root = folders(&[], None, true).unwrap();
    assert_eq!(root.config, PathBuf::from("/etc/skellin"));
    assert_eq!((root.state, root.cache), ("/var/lib/skellin".into(), "/var/cache/skellin".into()));
    let user = folders(&[("HOME", "/home/keeper")], None, false).unwrap();
    assert_eq!(user.config, PathBuf::from("/home/keeper/.config/skellin"));
    assert_eq!(user.state, PathBuf::from("/home/keeper/.local/state/skellin"));
    let xdg = folders(
        &[("HOME", "/h"), ("XDG_CONFIG_HOME", "/x"), ("XDG_CACHE_HOME", "/y")],
        None,
        false,
    )
    .unwrap();
    assert_eq!((xdg.config, xdg.cache), ("/x/skellin".into(), "/y/skellin".into()));
    let own = folders(
        &[("SKELLIN_CONFIG", "/a"), ("SKELLIN_STATE", "/b"), ("SKELLIN_CACHE", "/c")],
        Some("/d"),
        false,
    )
    .unwrap();
    assert_eq!(
        own,
        Folders {
            config: "/d".into(),
            state: "/b".into(),
            cache: "/c".into(),
            look_in: Vec::new(),
            drives: None,
        }
    );
    assert!(matches!(folders(&[], None, false), Err(EngineError::Refused(Refusal::NoHome { .. }))));
}

#[test]
fn a_configuration_keeps_mistakes_with_their_files() {
    let folder = scratch();
    let path = |below: &str| folder.path().join(below);
    let find = || Folders {
        config: folder.path().into(),
        state: path("state"),
        cache: path("cache"),
        look_in: Vec::new(),
        drives: None,
    };
    let empty = Configuration::load(find()).unwrap();
    assert!(empty.plans.is_empty() && empty.stores.fine.is_empty());
    assert!(empty.plan_file("x").unwrap_err().hint().unwrap().contains("there are no plans yet"));
    write(&path("stores.toml"), "[oak]\nplace = \"/mnt/oak\"\n[elm]\nplace = 3\n");
    write(&path("plans/readings.toml"), "sources = [\"/srv\"]\nstore = \"oak\"\n");
    // A store with a mistake is still one that a plan may name.
    write(&path("plans/ringing.toml"), "sources = [\"/srv\"]\nstore = \"elm\"\n");
    write(&path("plans/Bad Name.toml"), "sources = [\"/srv\"]\nstore = \"oak\"\n");
    write(&path("plans/notes.txt"), "no plan");
    let loaded = Configuration::load(find()).unwrap();
    let names: Vec<_> =
        loaded.plans.iter().map(|plan| (plan.name.as_str(), plan.problems.len())).collect();
    assert_eq!(names, [("Bad Name", 1), ("readings", 0), ("ringing", 0)]);
    assert_eq!((loaded.stores.fine.len(), loaded.stores.problems.len()), (1, 1));
    assert!(loaded.store("oka").unwrap_err().hint().unwrap().contains("did you mean `oak`?"));
    fs::write(path("plans/readings.toml"), b"\xff\xfe").unwrap();
    let error = Configuration::load(find()).unwrap_err().to_string();
    assert!(error.contains("readings.toml") && error.contains("not UTF-8"), "{error}");
}

#[test]
fn secrets_are_first_lines_that_others_cannot_read() {
    let folder = scratch();
    let key = folder.path().join("key");
    let read = |source: &SecretSource| read_secret(source, "the store `oak`");
    let file = SecretSource::File(key.clone());
    assert!(read(&file).unwrap_err().to_string().contains("cannot read the secret"));
    write(&key, "gulls\r\nmore");
    for mode in [0o644, 0o640, 0o601] {
        fs::set_permissions(&key, fs::Permissions::from_mode(mode)).unwrap();
        let error = read(&file).unwrap_err();
        assert!(error.hint().unwrap().starts_with("chmod 600"), "{mode:o}: {error}");
    }
    fs::set_permissions(&key, fs::Permissions::from_mode(0o400)).unwrap();
    assert_eq!(**read(&file).unwrap(), *b"gulls");
    let command = |words: &[&str]| {
        SecretSource::Command(words.iter().map(|word| (*word).to_owned()).collect())
    };
    assert_eq!(**read(&command(&["printf", "a b\nc"])).unwrap(), *b"a b");
    assert!(read(&command(&["true"])).unwrap_err().to_string().contains("it is empty"));
    assert!(
        read(&command(&["/nowhere/program"]))
            .unwrap_err()
            .hint()
            .unwrap()
            .contains("try it by hand")
    );
    assert!(read(&SecretSource::Env("SKELLIN_NO_SUCH_THING".to_owned())).is_err());
    let name = format!("skellin-test-{}", std::process::id());
    let keyring = SecretSource::Keyring(name.clone());
    let missing = read(&keyring).unwrap_err();
    assert!(missing.hint().unwrap().contains("keyctl padd user"), "{missing}");
    let ring = KeyRing::from_special_id(KeyRingIdentifier::Session, true).unwrap();
    let key = ring.add_key(&name, b"knots and dunlins\n").unwrap();
    assert_eq!(**read(&keyring).unwrap(), *b"knots and dunlins");
    key.invalidate().unwrap();
    assert!(read(&keyring).is_err());
}

#[test]
fn a_lock_is_for_one_plan_and_ends_with_its_holder() {
    let folder = scratch();
    let first = PlanLock::take(folder.path(), "readings").unwrap();
    assert!(
        matches!(PlanLock::take(folder.path(), "readings"), Err(EngineError::AlreadyRunning(plan)) if plan == "readings")
    );
    let other = PlanLock::take(folder.path(), "ringing").unwrap();
    drop((first, other));
    PlanLock::take(folder.path(), "readings").unwrap();
}
