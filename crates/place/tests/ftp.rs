//! FTP against a server that others have written: the suite, and each refusal with its remedy.

use crate::common;

use std::{fs, sync::Arc, time::Duration};

use common::{
    conforms, ends_when_given_up,
    far::{MODIFIED, laid_down, reads_as_it_lies},
    keeps_to_limits, name, says,
    servers::Server,
};
use skellin_place::{FarFiles, FtpPlace, FtpStep, FtpTarget, Place, PlaceErrorKind, Throttles};
use skellin_standins::{Pace, Wire};

const FOLDERS: &[&str] = &["data", "index"];

fn target(server: &Server, tls: bool, path: &str) -> FtpTarget {
    FtpTarget {
        host: "localhost".to_owned(),
        port: server.port,
        tls,
        user: "keeper".to_owned(),
        password: Some("two terns".to_owned().into()),
        path: path.to_owned(),
        connections: 4,
        patience: Duration::from_secs(20),
        authority: tls.then(|| server.path("ca.pem")),
        throttles: Throttles::default(),
    }
}

#[test]
fn a_server_of_others_conforms_in_the_open_and_over_tls() {
    std::thread::scope(|scope| {
        for tls in [false, true] {
            scope.spawn(move || {
                let server = Server::ftp(tls);
                let target = target(&server, tls, "/deep/er/store");
                let place = FtpPlace::prepare(target.clone(), FOLDERS).expect("prepares");
                conforms(&(Arc::new(place) as Arc<dyn Place>));
                let left = fs::read_dir(server.path("files/deep/er/store/unfinished"));
                assert_eq!(left.expect("is there").count(), 0);
                FtpPlace::prepare(target.clone(), FOLDERS).expect("is there already");
                let place = FtpPlace::open(target.clone()).expect("opens");
                assert_eq!(place.listing("data").expect("lists").len(), 3);
                let left = server.path("files/deep/er/store/unfinished/0123");
                fs::write(&left, "half").expect("writes");
                place.sweep(3600).expect("sweeps");
                assert!(left.exists(), "it may still be growing");
                place.sweep(0).expect("sweeps");
                assert!(!left.exists());
                keeps_to_limits(|throttles| {
                    Arc::new(FtpPlace::open(FtpTarget { throttles, ..target }).expect("opens"))
                });
            });
        }
    });
}

#[test]
fn two_machines_cannot_make_the_same_object() {
    let server = Server::ftp(false);
    let one = FtpPlace::prepare(target(&server, false, "store"), FOLDERS).expect("prepares");
    let other = FtpPlace::open(target(&server, false, "store")).expect("opens");
    let winners: usize = (0..20)
        .map(|round| {
            let name = name(&format!("data/{round}"));
            std::thread::scope(|scope| {
                let both = [&one, &other].map(|place| {
                    let name = &name;
                    scope.spawn(move || usize::from(place.create(name, &[round; 1000]).is_ok()))
                });
                both.into_iter().map(|writer| writer.join().expect("no panic")).sum::<usize>()
            })
        })
        .sum();
    assert_eq!(winners, 20);
}

#[test]
fn each_refusal_has_its_reason_and_what_to_do() {
    use PlaceErrorKind::{Certificate, Login, Missing, Refused, Slow, Unreachable};
    let server = Server::ftp(true);
    fs::create_dir_all(server.path("files/store")).expect("makes");
    let own = || target(&server, true, "/store");
    let refusal = |target: FtpTarget| {
        let error = FtpPlace::open(target).expect_err("is refused");
        assert!(!format!("{error} {:?}", error.hint).contains("terns"), "{error}");
        error
    };
    let steps = std::sync::Mutex::new(Vec::new());
    let place = FtpPlace::new(own());
    place.connect(&|step| steps.lock().expect("no panic").push(step)).expect("connects");
    assert!(matches!(
        steps.into_inner().expect("no panic").as_slice(),
        [
            FtpStep::Name { .. },
            FtpStep::Port { .. },
            FtpStep::Tls { is_on: true },
            FtpStep::Login { .. }
        ]
    ));
    says(&refusal(FtpTarget { authority: None, ..own() }), Certificate, "certificate", "ca = ");
    says(
        &refusal(FtpTarget { host: "127.0.0.1".to_owned(), ..own() }),
        Certificate,
        "certificate",
        "",
    );
    says(
        &refusal(FtpTarget { password: Some("open sesame".to_owned().into()), ..own() }),
        Login,
        "login as keeper refused",
        "password = ",
    );
    says(
        &refusal(FtpTarget { path: "/absent".to_owned(), ..own() }),
        Missing,
        "does not exist",
        "store create",
    );
    says(
        &refusal(FtpTarget { port: 1, ..own() }),
        Unreachable,
        "nothing listens on port 1",
        "FTP service",
    );
    says(
        &refusal(FtpTarget { host: "no-such-host.invalid".to_owned(), ..own() }),
        Unreachable,
        "does not resolve",
        "spelling",
    );
    let plain = Server::ftp(false);
    says(
        &refusal(FtpTarget { port: plain.port, ..own() }),
        Refused,
        "offers no TLS",
        "unencrypted",
    );
    FtpPlace::prepare(own(), FOLDERS).expect("prepares");
    let reader = FtpPlace::open(FtpTarget { user: "reader".to_owned(), ..own() }).expect("opens");
    let error = reader.create(&name("data/a"), b"x").expect_err("may not write");
    assert_eq!(error.kind, Refused, "{error}");

    let wire = Wire::to(server.port, Pace::default()).expect("a line");
    let patience = Duration::from_secs(1);
    let through = FtpTarget { port: wire.port(), patience, connections: 1, ..own() };
    let place = FtpPlace::open(through).expect("opens");
    place.create(&name("data/a"), b"before").expect("creates");
    wire.cut();
    let error = place.fetch(&name("data/a"), 1 << 30).expect_err("is cut");
    assert!(error.is_passing(), "{:?}: {error}", error.kind);
    assert_eq!(place.fetch(&name("data/a"), 1 << 30).expect("goes on"), b"before");
    let patient = FtpTarget { port: wire.port(), patience: Duration::from_secs(60), ..own() };
    ends_when_given_up(FtpPlace::open(patient).expect("opens"), &wire);
    wire.freeze();
    assert_eq!(place.fetch(&name("data/a"), 1 << 30).expect_err("no answer").kind, Slow);
}

#[test]
fn files_of_a_server_are_read_as_they_lie_there() {
    let server = Server::ftp(true);
    let tree = laid_down(&server.path("files/in it"));
    let files = FtpPlace::new(target(&server, true, "/in it"));
    let found = reads_as_it_lies(&files, &tree);
    assert!(found.values().all(|facts| facts.modified == MODIFIED as i64));
    let one = FtpPlace::new(target(&server, true, "/in it/plain.csv"));
    assert_eq!(one.part("", 0, 99).expect("reads").bytes, tree["plain.csv"]);
    assert_eq!(one.facts("").expect("is there"), found["plain.csv"]);
}
