//! SFTP against a real OpenSSH server: the suite, and each failure with its remedy.

use crate::common;

use std::{
    fs,
    sync::Arc,
    time::{Duration, Instant},
};

use common::{
    conforms, ends_when_given_up,
    far::{MODIFIED, laid_down, reads_as_it_lies},
    keeps_to_limits, name, says,
    sshd::{Sshd, private},
};
use skellin_place::{
    FarFiles, FarKind, Hop, Place, PlaceError, PlaceErrorKind, Retries, RetryingPlace, SftpPlace,
    SftpStep, SftpTarget, Throttles,
};
use skellin_standins::{
    Pace, Wire,
    sftp::{Account, SimulatedSftp},
};
use zeroize::Zeroizing;

const FOLDERS: &[&str] = &["data", "index"];

/// The failure of opening a place, which says why and what to do.
fn refusal(target: SftpTarget) -> PlaceError {
    let error = SftpPlace::open(target).expect_err("is refused");
    assert!(error.hint.is_some(), "{error}");
    error
}

#[test]
fn a_real_server_conforms() {
    let server = Sshd::start();
    let place = SftpPlace::prepare(server.target("deep/er/store"), FOLDERS).expect("prepares");
    conforms(&(Arc::new(place) as Arc<dyn Place>));
    let left = fs::read_dir(server.path("deep/er/store/unfinished")).expect("is there");
    assert_eq!(left.count(), 0);
    // Preparing what is there changes nothing, and opening finds it.
    SftpPlace::prepare(server.target("deep/er/store"), FOLDERS).expect("is there already");
    let place = SftpPlace::open(server.target("deep/er/store")).expect("opens");
    assert_eq!(place.listing("data").expect("lists").len(), 3);
    assert!(place.room().is_some_and(|(free, all)| 0 < free && free <= all));
    let age = |age: u64| {
        fs::write(server.path("deep/er/store/unfinished/0123"), "half").expect("writes");
        place.sweep(age).expect("sweeps");
        server.path("deep/er/store/unfinished/0123").exists()
    };
    assert!(age(3600) && !age(0), "what a crash has left goes by its age");
    keeps_to_limits(|throttles| {
        let target = SftpTarget { throttles, ..server.target("deep/er/store") };
        Arc::new(SftpPlace::open(target).expect("opens"))
    });
}

#[test]
fn the_stand_in_conforms_and_refuses() {
    let folder = tempfile::tempdir().expect("a directory");
    let account =
        || Account { user: "keeper".to_owned(), password: "two terns".to_owned(), key: None };
    let key = folder.path().join("host.key");
    let start = || SimulatedSftp::start(folder.path().join("files"), account(), &key, None);
    let server = start().expect("starts");
    let known = folder.path().join("known_hosts");
    let port = server.address().port();
    fs::write(&known, server.known_as("127.0.0.1", port)).expect("writes");
    let target = SftpTarget {
        hop: Hop {
            name: "127.0.0.1".to_owned(),
            address: "127.0.0.1".to_owned(),
            port,
            user: "keeper".to_owned(),
            identities: Vec::new(),
            agent: false,
            password: Some("two terns".to_owned().into()),
            identity_passphrase: None,
            known_hosts: vec![known],
        },
        via: Vec::new(),
        path: "/srv/oak".to_owned(),
        connections: 2,
        patience: Duration::from_secs(20),
        throttles: Throttles::default(),
    };
    let place = SftpPlace::prepare(target.clone(), FOLDERS).expect("prepares");
    let place: Arc<dyn Place> = Arc::new(place);
    conforms(&place);
    let mut wrong = target.clone();
    wrong.hop.password = Some("open sesame".to_owned().into());
    says(&refusal(wrong), PlaceErrorKind::Login, "the password", "the right account");
    // What opens a key is never sent, though this server would take it.
    let mut quiet = target.clone();
    quiet.hop.identity_passphrase = quiet.hop.password.take();
    says(&refusal(quiet), PlaceErrorKind::Login, "tried: nothing", "identity = ");
    server.trouble(|trouble| trouble.read_only = true);
    let error = place.create(&name("data/b"), b"x").expect_err("may not write");
    assert_eq!(error.kind, PlaceErrorKind::Refused, "{error}");
    server.trouble(|trouble| (trouble.read_only, trouble.room) = (false, Some(9_500_000)));
    assert!(place.create(&name("data/b"), &[1; 900_000]).is_err(), "no room");
    place.create(&name("data/b"), b"x").expect("there is room for this");
    // Started again, it is the host it was.
    let before = server.sha256();
    drop(server);
    assert_eq!(start().expect("starts").sha256(), before);
}

#[test]
fn each_refusal_has_its_reason_and_what_to_do() {
    use PlaceErrorKind::{HostKey, Login, Missing, NewHost, Refused, Unreachable};
    let server = Sshd::start();
    let target = || server.target("data");
    assert!(SftpPlace::open(target()).is_ok());

    let mut nowhere = target();
    nowhere.hop.address = "no-such-host.invalid".to_owned();
    says(&refusal(nowhere), Unreachable, "does not resolve", "spelling of the host");
    let mut closed = target();
    closed.hop.port = 1;
    says(&refusal(closed), Unreachable, "nothing listens on port 1", "SSH service running");

    let mut stranger = target();
    stranger.hop.identities = vec![server.path("stranger")];
    let error = refusal(stranger);
    says(&error, Login, "the server accepts publickey, password", "authorized_keys");
    assert!(error.to_string().contains("tried: the key "), "{error}");
    let mut nothing = target();
    nothing.hop.identities.clear();
    says(&refusal(nothing), Login, "tried: nothing", "identity = ");
    let mut wrong = target();
    wrong.hop.identities.clear();
    wrong.hop.password = Some(Zeroizing::new("open sesame".to_owned()));
    let error = refusal(wrong);
    says(&error, Login, "the password", "the right account");
    assert!(!error.to_string().contains("sesame"), "{error}");

    private(&server.path("client"), 0o640);
    says(&refusal(target()), Login, "others can read it", "chmod 600");
    private(&server.path("client"), 0o600);
    let mut sealed = target();
    sealed.hop.identities = vec![server.path("sealed")];
    says(&refusal(sealed.clone()), Login, "cannot open key", "if it is encrypted");
    // What opens a key is no password: it is not sent, and the password opens no key.
    sealed.hop.password = Some(Zeroizing::new("two terns".to_owned()));
    says(&refusal(sealed.clone()), Login, "cannot open key", "if it is encrypted");
    sealed.hop.password = None;
    sealed.hop.identity_passphrase = Some(Zeroizing::new("two terns".to_owned()));
    assert!(SftpPlace::open(sealed).is_ok(), "a key that is encrypted");

    says(&refusal(server.target("absent")), Missing, "does not exist", "store create");
    fs::write(server.path("file"), "x").expect("writes");
    says(&refusal(server.target("file")), Missing, "is not a directory", "store create");

    fs::write(server.path("known_hosts"), "").expect("writes");
    let error = refusal(target());
    says(&error, NewHost, "unknown host key, SHA256:", "--accept-host-key");
    let accepting = SftpPlace::new(target(), true);
    let steps = std::sync::Mutex::new(Vec::new());
    accepting.connect(&|step| steps.lock().expect("no panic").push(step)).expect("is accepted");
    let steps = steps.into_inner().expect("no panic");
    assert!(matches!(
        steps.as_slice(),
        [
            SftpStep::Name { .. },
            SftpStep::Port { .. },
            SftpStep::HostKey { accepted: true, .. },
            SftpStep::Login { .. }
        ]
    ));
    assert!(SftpPlace::open(target()).is_ok(), "and is remembered");
    let other = fs::read_to_string(server.path("stranger.pub")).expect("a key");
    let known = format!("[127.0.0.1]:{} {other}", server.port);
    fs::write(server.path("known_hosts"), known).expect("writes");
    says(&refusal(target()), HostKey, "the host key has changed", "remove line 1 of");
    let error = SftpPlace::new(target(), true).connect(&|_| {}).expect_err("never accepted");
    assert_eq!(error.kind, HostKey);

    let no_files = Sshd::start_with("ForceCommand internal-sftp -R", "");
    let place = SftpPlace::open(no_files.target("data")).expect("opens");
    let error = place.create(&name("a"), b"x").expect_err("the server takes no writes");
    assert_eq!(error.kind, Refused);
}

#[test]
fn a_full_and_a_read_only_disk_are_told_apart_and_left_intact() {
    // Said aloud by those who start the tests where nobody may mount.
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let mounts = "mkdir $DIR/small $DIR/sealed-off; mount -t tmpfs -o size=1m none $DIR/small; mount -t tmpfs none $DIR/sealed-off; mkdir $DIR/sealed-off/data $DIR/sealed-off/unfinished; mount -o remount,ro $DIR/sealed-off";
    let server = Sshd::start_with("", mounts);
    let place = SftpPlace::prepare(server.target("small"), FOLDERS).expect("prepares");
    place.create(&name("data/a"), &[1; 400_000]).expect("there is room");
    let error = place.create(&name("data/b"), &[2; 4_000_000]).expect_err("there is no room");
    assert_eq!(error.kind, PlaceErrorKind::Full, "{error}");
    assert_eq!(place.listing("data").expect("lists").len(), 1);
    place.create(&name("data/c"), &[3; 300_000]).expect("the draft has made room again");
    let place = SftpPlace::open(server.target("sealed-off")).expect("opens");
    let error = place.create(&name("data/a"), b"x").expect_err("takes no writes");
    assert_eq!(error.kind, PlaceErrorKind::ReadOnly, "{error}");
}

#[test]
fn a_line_that_is_cut_or_frozen_is_noticed_and_made_anew() {
    let server = Sshd::start();
    let wire = Wire::to(server.port, Pace::default()).expect("a line");
    let through = |patience| {
        let mut target = server.target("data");
        // The key is known by the server's own port.
        let known = fs::read_to_string(server.path("known_hosts")).expect("reads");
        let own = format!("[127.0.0.1]:{}", wire.port());
        let known = known.replace(&format!("[127.0.0.1]:{}", server.port), &own);
        fs::write(server.path("known_through"), known).expect("writes");
        target.hop.port = wire.port();
        target.hop.known_hosts = vec![server.path("known_through")];
        target.connections = 1;
        target.patience = patience;
        SftpPlace::prepare(target, FOLDERS).expect("prepares")
    };
    let place = through(Duration::from_secs(20));
    place.create(&name("data/a"), b"before").expect("creates");
    wire.cut();
    // The first to find out may fail, but only so that it may try again.
    let fetched = place.fetch(&name("data/a"), 1 << 30).or_else(|error| {
        assert!(error.is_passing(), "{:?}: {error}", error.kind);
        place.fetch(&name("data/a"), 1 << 30)
    });
    assert_eq!(fetched.expect("goes on"), b"before");
    // With retries nothing is noticed at all.
    let pause = Duration::from_millis(1);
    let place = RetryingPlace::new(Arc::new(place), Retries { pause, ..Retries::default() });
    for number in 0..5 {
        wire.cut();
        let name = name(&format!("data/b{number}"));
        place.create(&name, &vec![number; 500_000]).expect("creates all the same");
        assert!(place.fetch(&name, 1 << 30).expect("reads").iter().all(|byte| *byte == number));
    }
    ends_when_given_up(through(Duration::from_secs(60)), &wire);
    let place = through(Duration::from_secs(1));
    wire.freeze();
    let error = place.create(&name("data/c"), b"never").expect_err("no answer");
    assert_eq!(error.kind, PlaceErrorKind::Slow, "{error}");
    assert!(!server.path("data/data/c").exists());
}

#[test]
fn a_host_is_reached_through_another() {
    let (far, near) = (Sshd::start(), Sshd::start());
    let mut target = far.target("data");
    target.via = vec![near.target("data").hop];
    let place = SftpPlace::prepare(target, FOLDERS).expect("prepares");
    place.create(&name("data/a"), b"through").expect("creates");
    assert_eq!(fs::read(far.path("data/data/a")).expect("is there"), b"through");
    assert!(near.log().contains("Accepted publickey"), "{}", near.log());
}

#[test]
fn files_of_a_host_are_read_as_they_lie_there() {
    use std::os::unix::{
        ffi::OsStrExt,
        fs::{MetadataExt, PermissionsExt, symlink},
    };
    let server = Sshd::start();
    let root = server.path("in it");
    let tree = laid_down(&root);
    let files = SftpPlace::new(server.target("in it"), false);
    let found = reads_as_it_lies(&files, &tree);
    let own = fs::metadata(root.join("plain.csv")).expect("is there");
    for facts in found.values() {
        assert_eq!(facts.modified, MODIFIED as i64);
        assert_eq!(facts.mode, Some(own.permissions().mode() & 0o7777));
        assert_eq!(facts.owner, Some((own.uid(), own.gid())));
    }
    let one = SftpPlace::new(server.target("in it/plain.csv"), false);
    assert_eq!(one.part("", 0, 99).expect("reads").bytes, tree["plain.csv"]);
    assert_eq!(one.facts("").expect("is there"), found["plain.csv"]);
    // Links are told as links and not followed; a source that is one means what it points to.
    symlink("../elsewhere", root.join("link")).expect("links");
    assert_eq!(files.facts("link").expect("is there").kind, FarKind::Link);
    assert_eq!(files.link("link").expect("tells"), "../elsewhere");
    symlink(&root, server.path("current")).expect("links");
    let linked = SftpPlace::new(server.target("current"), false);
    assert_eq!(linked.facts("").expect("is there").kind, FarKind::Directory);
    // A name that is no text is told, and why it cannot be read.
    let odd = root.join(std::ffi::OsStr::from_bytes(b"gull\xff"));
    fs::write(odd, "x").expect("writes");
    let names = files.names("").expect("lists");
    let odd = names.iter().find(|entry| entry.name.starts_with("gull")).expect("is told");
    let error = files.part(&odd.name, 0, 9).expect_err("cannot be asked for");
    assert!(error.to_string().contains("not UTF-8"), "{error}");
}

/// Requests that are sent into a connection that is just ending are answered by nobody; that is noticed
/// at once, and not when their time is over.
#[test]
fn a_connection_that_was_reset_is_made_anew_at_once() {
    let server = Sshd::start();
    let wire = Wire::to(server.port, Pace::default()).expect("a line");
    let known = fs::read_to_string(server.path("known_hosts")).expect("a key");
    let through = format!("[127.0.0.1]:{}", wire.port());
    let known = known.replace(&format!("[127.0.0.1]:{}", server.port), &through);
    fs::write(server.path("known_hosts"), known).expect("writes");
    let mut target = server.target("data");
    target.hop.port = wire.port();
    let place: Arc<dyn Place> = Arc::new(SftpPlace::prepare(target, FOLDERS).expect("prepares"));
    let place = RetryingPlace::new(place, Retries::default());
    let bytes = vec![7; 3 << 20];
    for round in 0..12 {
        let begun = Instant::now();
        std::thread::scope(|scope| {
            let created = scope.spawn(|| place.create(&name(&format!("data/{round}")), &bytes));
            // At another point each time: while it is opened, written, renamed.
            let before = wire.carried().0;
            while wire.carried().0 < before + round * 290_000 && !created.is_finished() {
                std::thread::yield_now();
            }
            wire.cut();
            created.join().expect("no panic").expect("in the end");
        });
        assert!(begun.elapsed() < Duration::from_secs(10), "{round}: {:?}", begun.elapsed());
    }
}

/// A line that ends while somebody logs in refuses nobody: it is tried again, and no password is blamed.
#[test]
fn a_line_that_breaks_during_the_login_is_no_refusal() {
    let folder = tempfile::tempdir().expect("a directory");
    let (user, password) = ("keeper".to_owned(), "two terns".to_owned());
    let account = Account { user: user.clone(), password: password.clone(), key: None };
    let files = folder.path().join("files");
    let server = SimulatedSftp::start(files, account, &folder.path().join("host.key"), None);
    let server = server.expect("starts");
    let wire = Wire::to(server.address().port(), Pace::default()).expect("a line");
    let known = folder.path().join("known_hosts");
    fs::write(&known, server.known_as("127.0.0.1", wire.port())).expect("writes");
    let target = SftpTarget {
        hop: Hop {
            name: "127.0.0.1".to_owned(),
            address: "127.0.0.1".to_owned(),
            port: wire.port(),
            user,
            identities: Vec::new(),
            agent: false,
            password: Some(password.into()),
            identity_passphrase: None,
            known_hosts: vec![known],
        },
        via: Vec::new(),
        path: "/srv/oak".to_owned(),
        connections: 1,
        patience: Duration::from_secs(60),
        throttles: Throttles::default(),
    };
    let mut kinds = std::collections::BTreeSet::new();
    let mut opened = false;
    for bytes in (400..12_000).step_by(40) {
        wire.break_after(Some(bytes));
        match SftpPlace::prepare(target.clone(), FOLDERS) {
            Ok(_) => {
                opened = true;
                break;
            }
            Err(error) => {
                assert_ne!(error.kind, PlaceErrorKind::Login, "after {bytes} bytes: {error}");
                kinds.insert(format!("{:?}", error.kind));
            }
        }
    }
    assert!(opened && kinds.contains("Cut"), "every point up to the whole way: {kinds:?}");
}
