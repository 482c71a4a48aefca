//! Object stores: the suite against the stand-in and against one that others have written, and
//! each refusal with its remedy.

use crate::common;

use std::{sync::Arc, time::Duration};

use common::{
    conforms, ends_when_given_up,
    far::{Tree, reads_as_it_lies},
    keeps_to_limits, name, says,
    servers::Server,
};
use skellin_place::{
    FarFiles, Place, PlaceErrorKind, Retries, RetryingPlace, S3Key, S3Login, S3Place, S3Style,
    S3Target, Throttles,
};
use skellin_standins::{
    Pace, Wire,
    s3::{Bucket, SimulatedS3},
};

fn key(id: &str, secret: &str) -> S3Login {
    S3Login::Key(S3Key { id: id.to_owned(), secret: secret.to_owned().into(), token: None })
}

fn target(endpoint: String) -> S3Target {
    S3Target {
        endpoint,
        bucket: "ridge".to_owned(),
        prefix: "hut/oak".to_owned(),
        region: "north-1".to_owned(),
        style: S3Style::Path,
        login: key("hut", "gull and tern"),
        part_size: 5 << 20,
        class: None,
        thaw: None,
        lock: None,
        connections: 4,
        patience: Duration::from_secs(20),
        authority: None,
        throttles: Throttles::default(),
    }
}

fn start(folder: &tempfile::TempDir) -> SimulatedS3 {
    let bucket = Bucket {
        name: "ridge".to_owned(),
        region: "north-1".to_owned(),
        id: "hut".to_owned(),
        secret: "gull and tern".to_owned(),
    };
    SimulatedS3::start(folder.path(), bucket, None).expect("starts")
}

fn place(target: S3Target) -> Arc<dyn Place> {
    Arc::new(S3Place::new(target).expect("an address"))
}

#[test]
fn the_stand_in_conforms_and_keeps_its_objects() {
    let folder = tempfile::tempdir().expect("a directory");
    let server = start(&folder);
    let store = place(S3Target { class: Some("COOL".to_owned()), ..target(server.endpoint()) });
    conforms(&store);
    let classes = server.classes();
    assert!(
        !classes.is_empty()
            && classes
                .iter()
                .all(|(name, class)| name.starts_with("hut/oak/data/") && class == "COOL")
    );
    keeps_to_limits(|throttles| place(S3Target { throttles, ..target(server.endpoint()) }));
    store.delete(&name("data/limited")).expect("deletes");
    drop(server);
    let server = start(&folder);
    let store = place(target(server.endpoint()));
    assert_eq!(store.listing("data").expect("lists").len(), 3);
}

#[test]
fn a_server_of_others_conforms() {
    let server = Server::s3();
    let endpoint = format!("http://127.0.0.1:{}", server.port);
    let target = S3Target { region: "us-east-1".to_owned(), ..target(endpoint) };
    conforms(&place(target));
}

#[test]
fn what_is_there_is_kept_even_where_the_server_would_not() {
    let folder = tempfile::tempdir().expect("a directory");
    for knows in [false, true] {
        let server = start(&folder);
        server.trouble(|trouble| {
            trouble.writes_over = true;
            trouble.knows_no_conditions = !knows;
        });
        let store = place(target(server.endpoint()));
        let one = name(&format!("data/one-{knows}"));
        let large = name(&format!("data/large-{knows}"));
        for (name, length) in [(&one, 10), (&large, 6 << 20)] {
            store.create(name, &vec![1; length]).expect("creates");
            for _ in 0..2 {
                let error = store.create(name, &vec![2; length]).expect_err("is there");
                assert_eq!(error.kind, PlaceErrorKind::Exists);
            }
            assert!(store.fetch(name, 1 << 30).expect("reads").iter().all(|byte| *byte == 1));
        }
    }
}

#[test]
fn each_refusal_has_its_reason_and_what_to_do() {
    use PlaceErrorKind::{Busy, Clock, Frozen, Full, Login, Missing, Refused, Unreachable};
    let folder = tempfile::tempdir().expect("a directory");
    let server = start(&folder);
    let own = || target(server.endpoint());
    let refusal = |target: S3Target| {
        let error = S3Place::new(target).and_then(|place| place.look()).expect_err("is refused");
        assert!(!format!("{error} {:?}", error.hint).contains("gull"), "{error}");
        error
    };
    let fine = S3Place::new(own()).expect("an address");
    assert_eq!(fine.look().expect("is there").as_deref(), Some("as the server's"));
    assert!(!fine.sees_other_buckets());

    says(
        &refusal(S3Target { login: key("mast", "gull"), ..own() }),
        Login,
        "unknown key id",
        "check the id",
    );
    says(
        &refusal(S3Target { login: key("hut", "gull"), ..own() }),
        Login,
        "secret does not match",
        "check the secret",
    );
    says(
        &refusal(S3Target { region: "south-2".to_owned(), ..own() }),
        Refused,
        "in region north-1, not south-2",
        "region = \"north-1\"",
    );
    says(
        &refusal(S3Target { bucket: "elsewhere".to_owned(), ..own() }),
        Missing,
        "the bucket does not exist",
        "store prepare",
    );
    let nowhere = |endpoint: &str| S3Target { endpoint: endpoint.to_owned(), ..own() };
    says(
        &refusal(nowhere("http://127.0.0.1:1")),
        Unreachable,
        "nothing listens",
        "service running",
    );
    says(
        &refusal(nowhere("http://no-such-host.invalid")),
        Unreachable,
        "does not resolve",
        "spelling",
    );
    says(&refusal(nowhere("pier")), Unreachable, "its endpoint is not an address", "endpoint");
    server.trouble(|trouble| trouble.clock = 3600);
    says(&refusal(own()), Clock, "machine is 59 min behind the server's", "NTP");
    server.trouble(|trouble| trouble.clock = -7 * 86_400);
    says(&refusal(own()), Clock, "machine is 7 days ahead of the server's", "NTP");
    server.trouble(|trouble| trouble.clock = 0);

    let store = place(S3Target { class: Some("DEEP".to_owned()), ..own() });
    server.trouble(|trouble| trouble.room = Some(100));
    for length in [200, 6 << 20] {
        let error = store.create(&name("data/a"), &vec![0; length]).expect_err("no room");
        says(&error, Full, "no space left", "quota");
    }
    assert_eq!(server.unended_uploads(), 0);
    assert!(store.listing("data").expect("lists").is_empty());
    server
        .trouble(|trouble| (trouble.room, trouble.frozen_class) = (None, Some("DEEP".to_owned())));
    store.create(&name("data/a"), b"cold").expect("creates");
    store.create(&name("index/a"), b"warm").expect("creates");
    assert_eq!(store.fetch(&name("index/a"), 1 << 30).expect("is at hand"), b"warm");
    says(
        &store.fetch(&name("data/a"), 1 << 30).expect_err("is frozen"),
        Frozen,
        "cold storage",
        "try again",
    );
    server.trouble(|trouble| trouble.busy = 3);
    assert_eq!(store.listing("index").expect_err("is busy").kind, Busy);
    let pause = Duration::from_millis(1);
    let patient = RetryingPlace::new(store, Retries { pause, ..Retries::default() });
    assert_eq!(patient.listing("index").expect("comes again").len(), 1);
}

#[test]
fn a_line_that_is_cut_or_frozen_leaves_nothing_half_written() {
    let folder = tempfile::tempdir().expect("a directory");
    let server = start(&folder);
    let wire = Wire::to(server.address().port(), Pace::default()).expect("a line");
    let endpoint = format!("http://127.0.0.1:{}", wire.port());
    let pause = Duration::from_millis(1);
    let store = RetryingPlace::new(
        place(target(endpoint.clone())),
        Retries { pause, ..Retries::default() },
    );
    for number in 0..5 {
        wire.cut();
        let name = name(&format!("data/{number}"));
        store.create(&name, &vec![number; 6 << 20]).expect("creates all the same");
        wire.cut();
        assert!(store.fetch(&name, 1 << 30).expect("reads").iter().all(|byte| *byte == number));
    }
    // Cut in the middle of a large object, nothing of it is there, and what it left is swept.
    let slow = Wire::to(server.address().port(), Pace { rate: Some(8 << 20), ..Pace::default() });
    let slow = slow.expect("a line");
    let store = place(target(format!("http://127.0.0.1:{}", slow.port())));
    std::thread::scope(|scope| {
        let sending = scope.spawn(|| store.create(&name("data/torn"), &vec![9; 24 << 20]));
        while slow.carried().0 < 6 << 20 {
            std::thread::yield_now();
        }
        while !sending.is_finished() {
            slow.cut();
            std::thread::yield_now();
        }
        let error = sending.join().expect("no panic").expect_err("is cut");
        assert!(error.is_passing(), "{:?}: {error}", error.kind);
    });
    let store = place(target(server.endpoint()));
    assert_eq!(store.listing("data").expect("lists").len(), 5);
    // On a busy machine the request that ends the upload may slip through between two cuts.
    let left = server.unended_uploads();
    assert!(left <= 1, "{left} uploads");
    store.sweep(3600).expect("sweeps");
    assert_eq!(server.unended_uploads(), left, "it may still be growing");
    store.sweep(0).expect("sweeps");
    assert_eq!(server.unended_uploads(), 0);

    let patient = S3Target { patience: Duration::from_secs(60), ..target(endpoint.clone()) };
    ends_when_given_up(S3Place::new(patient).expect("an address"), &wire);
    let patience = Duration::from_secs(1);
    let store = place(S3Target { patience, ..target(endpoint) });
    store.listing("data").expect("lists");
    wire.freeze();
    let error = store.listing("data").expect_err("no answer");
    assert_eq!(error.kind, PlaceErrorKind::Slow, "{error}");
}

#[test]
fn objects_are_read_as_the_files_their_names_make() {
    let folder = tempfile::tempdir().expect("a directory");
    let (own, others) = (start(&folder), Server::s3());
    for endpoint in [own.endpoint(), format!("http://127.0.0.1:{}", others.port)] {
        let bucket = S3Place::new(target(endpoint.clone())).expect("an address");
        let mut tree = Tree::new();
        for (path, length) in
            [("plain", 30), ("data/a", 70_000), ("data/empty", 0), ("data/b/c", 6 << 20)]
        {
            tree.insert(path.to_owned(), (0..length).map(|at| (at % 251) as u8).collect());
        }
        for number in 0..1100 {
            tree.insert(format!("many/{number:04}"), vec![number as u8; 3]);
        }
        for (path, bytes) in &tree {
            bucket.create(&name(path), bytes).expect("creates");
        }
        let found = reads_as_it_lies(&bucket, &tree);
        assert!(found.values().all(|facts| facts.modified > 1_700_000_000 && facts.tag.is_some()));
        let prefix = "hut/oak/data/a".to_owned();
        let one =
            S3Place::new(S3Target { prefix, ..target(endpoint.clone()) }).expect("an address");
        assert_eq!(one.part("", 0, 99).expect("reads").bytes, tree["data/a"][..99]);
        assert_eq!(one.facts("").expect("is there"), found["data/a"]);
        // The whole bucket.
        let all = S3Place::new(S3Target { prefix: String::new(), ..target(endpoint) });
        let all = all.expect("an address");
        assert_eq!(all.names("").expect("lists").len(), 1);
        assert_eq!(all.names("hut/oak/data").expect("lists").len(), 3);
    }
}
