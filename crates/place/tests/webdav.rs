//! WebDAV against a server that others have written: the suite, and each refusal with its remedy.

use crate::common;

use std::{fs, sync::Arc, time::Duration};

use common::{
    conforms, ends_when_given_up,
    far::{MODIFIED, laid_down, reads_as_it_lies},
    keeps_to_limits, name, says,
    servers::Server,
};
use skellin_place::{
    FarFiles, Place, PlaceErrorKind, Retries, RetryingPlace, Throttles, WebDavPlace, WebDavTarget,
};
use skellin_standins::{Pace, Wire};

const FOLDERS: &[&str] = &["data", "index"];

fn target(server: &Server, tls: bool, path: &str) -> WebDavTarget {
    let scheme = if tls { "https" } else { "http" };
    WebDavTarget {
        server: format!("{scheme}://localhost:{}", server.port),
        path: format!("/dav/{path}"),
        user: Some("keeper".to_owned()),
        password: Some("two terns".to_owned().into()),
        connections: 4,
        patience: Duration::from_secs(20),
        authority: tls.then(|| server.path("ca.pem")),
        throttles: Throttles::default(),
    }
}

#[test]
fn a_server_of_others_conforms_over_tls_with_an_authority_of_ones_own() {
    let server = Server::webdav(true);
    let target = target(&server, true, "deep/er store");
    let place = WebDavPlace::prepare(target.clone(), FOLDERS).expect("prepares");
    conforms(&(Arc::new(place) as Arc<dyn Place>));
    let left = fs::read_dir(server.path("files/deep/er store/unfinished")).expect("is there");
    assert_eq!(left.count(), 0);
    WebDavPlace::prepare(target.clone(), FOLDERS).expect("is there already");
    let place = WebDavPlace::open(target.clone()).expect("opens");
    assert_eq!(place.listing("data").expect("lists").len(), 3);
    keeps_to_limits(|throttles| {
        Arc::new(WebDavPlace::open(WebDavTarget { throttles, ..target }).expect("opens"))
    });
    place.ask_room().expect("asks");
    let age = |age: u64| {
        let left = server.path("files/deep/er store/unfinished/0123");
        fs::write(&left, "half").expect("writes");
        place.sweep(age).expect("sweeps");
        left.exists()
    };
    assert!(age(3600) && !age(0), "what a crash has left goes by its age");
}

#[test]
fn each_refusal_has_its_reason_and_what_to_do() {
    use PlaceErrorKind::{Certificate, Cut, Failed, Login, Missing, NotFound, Unreachable};
    let server = Server::webdav(true);
    fs::create_dir_all(server.path("files/store")).expect("makes");
    let own = || target(&server, true, "store");
    WebDavPlace::open(own()).expect("opens");
    let refusal = |target: WebDavTarget| {
        let error = WebDavPlace::open(target).expect_err("is refused");
        assert!(!format!("{error} {:?}", error.hint).contains("terns"), "{error}");
        error
    };
    says(
        &refusal(WebDavTarget { authority: None, ..own() }),
        Certificate,
        "an unknown authority",
        "ca = ",
    );
    let other = Server::webdav(true);
    says(
        &refusal(WebDavTarget { authority: Some(other.path("ca.pem")), ..own() }),
        Certificate,
        "certificate",
        "",
    );
    let by_number = format!("https://127.0.0.1:{}", server.port);
    says(
        &refusal(WebDavTarget { server: by_number, ..own() }),
        Certificate,
        "for another name",
        "the host name",
    );
    says(
        &refusal(WebDavTarget { authority: Some(server.path("absent.pem")), ..own() }),
        Certificate,
        "absent.pem",
        "ca = ",
    );
    says(
        &refusal(WebDavTarget { password: Some("open sesame".to_owned().into()), ..own() }),
        Login,
        "accepts Basic; tried: keeper with the password",
        "password = ",
    );
    says(
        &refusal(WebDavTarget { user: None, ..own() }),
        Login,
        "tried: no user",
        "webdavs://user@host",
    );
    says(
        &refusal(WebDavTarget { path: "/dav/absent".to_owned(), ..own() }),
        Missing,
        "does not exist",
        "store create",
    );
    fs::write(server.path("files/file"), "x").expect("writes");
    says(
        &refusal(WebDavTarget { path: "/dav/file".to_owned(), ..own() }),
        Missing,
        "is not a directory",
        "store create",
    );
    let closed = "https://localhost:1".to_owned();
    says(
        &refusal(WebDavTarget { server: closed, ..own() }),
        Unreachable,
        "nothing listens",
        "service running",
    );
    let plain = format!("http://localhost:{}", server.port);
    let error = refusal(WebDavTarget { server: plain, ..own() });
    assert!(matches!(error.kind, Cut | Failed), "{:?}: {error}", error.kind);
    let place = WebDavPlace::new(own()).expect("a place");
    let error = place.create(&name("data/a"), b"x").expect_err("there are no folders");
    assert_eq!(error.kind, NotFound, "{error}");
}

#[test]
fn a_line_that_is_cut_or_frozen_is_noticed_and_made_anew() {
    let server = Server::webdav(false);
    let wire = Wire::to(server.port, Pace::default()).expect("a line");
    let through = |patience| WebDavTarget {
        server: format!("http://localhost:{}", wire.port()),
        patience,
        ..target(&server, false, "store")
    };
    let place = WebDavPlace::prepare(through(Duration::from_secs(20)), FOLDERS).expect("prepares");
    let pause = Duration::from_millis(1);
    let place = RetryingPlace::new(Arc::new(place), Retries { pause, ..Retries::default() });
    for number in 0..5 {
        wire.cut();
        let name = name(&format!("data/{number}"));
        place.create(&name, &vec![number; 500_000]).expect("creates all the same");
        wire.cut();
        assert!(place.fetch(&name, 1 << 30).expect("reads").iter().all(|byte| *byte == number));
    }
    let patient = WebDavPlace::open(through(Duration::from_secs(60))).expect("opens");
    ends_when_given_up(patient, &wire);
    let place = WebDavPlace::open(through(Duration::from_secs(1))).expect("opens");
    wire.freeze();
    let error = place.create(&name("data/c"), b"never").expect_err("no answer");
    assert_eq!(error.kind, PlaceErrorKind::Slow, "{error}");
    assert!(!server.path("files/store/data/c").exists());
}

#[test]
fn files_of_a_server_are_read_as_they_lie_there() {
    let server = Server::webdav(true);
    let tree = laid_down(&server.path("files/in it"));
    let files = WebDavPlace::new(target(&server, true, "in it")).expect("an address");
    let found = reads_as_it_lies(&files, &tree);
    assert!(found.values().all(|facts| facts.modified == MODIFIED as i64 && facts.tag.is_some()));
    // A source may be a single file.
    let one = WebDavPlace::new(target(&server, true, "in it/plain.csv")).expect("an address");
    assert_eq!(one.part("", 0, 99).expect("reads").bytes, tree["plain.csv"]);
    assert_eq!(one.facts("").expect("is there"), found["plain.csv"]);
}
