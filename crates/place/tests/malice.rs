//! Servers that mean harm: what they claim is never made room for, what does not end is ended, and
//! what they see of a request is of no use to them.

use crate::common;

use std::{
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use common::name;
use skellin_place::{
    Extent, FtpPlace, FtpTarget, Hop, Place, PlaceErrorKind, S3Key, S3Login, S3Place, S3Style,
    S3Target, SftpPlace, SftpTarget, Throttles,
};
use skellin_standins::sftp::{Account, SimulatedSftp};

/// Answers each connection with `answer`, which is told the head of the request. The port.
fn http(answer: impl Fn(&str, &mut TcpStream) + Send + Sync + 'static) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("binds");
    let port = listener.local_addr().expect("an address").port();
    let answer = Arc::new(answer);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let answer = Arc::clone(&answer);
            std::thread::spawn(move || {
                let mut lines = BufReader::new(stream.try_clone().expect("clones"));
                let mut head = String::new();
                while !head.ends_with("\r\n\r\n") && lines.read_line(&mut head).unwrap_or(0) > 0 {}
                let length = head.lines().find_map(|line| {
                    line.to_ascii_lowercase().strip_prefix("content-length: ")?.parse().ok()
                });
                let mut body = vec![0; length.unwrap_or(0)];
                let _ = lines.read_exact(&mut body);
                let mut stream = stream;
                answer(&head, &mut stream);
            });
        }
    });
    port
}

fn s3(port: u16, patience: Duration) -> S3Place {
    let key =
        S3Key { id: "hut".to_owned(), secret: "gull and tern".to_owned().into(), token: None };
    S3Place::new(S3Target {
        endpoint: format!("http://127.0.0.1:{port}"),
        bucket: "ridge".to_owned(),
        prefix: "hut".to_owned(),
        region: "north-1".to_owned(),
        style: S3Style::Path,
        login: S3Login::Key(key),
        part_size: 5 << 20,
        class: None,
        thaw: None,
        lock: None,
        connections: 1,
        patience,
        authority: None,
        throttles: Throttles::default(),
    })
    .expect("an address")
}

/// The most memory this process has used so far, in bytes.
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").expect("reads");
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).expect("a peak");
    line.split_whitespace().nth(1).expect("a number").parse::<u64>().expect("a number") << 10
}

const PATIENT: Duration = Duration::from_secs(20);

#[test]
fn what_does_not_end_is_ended_and_never_kept() {
    let claims = ["content-length: 4611686018427387904\r\n", "transfer-encoding: chunked\r\n"];
    let before = peak();
    for claim in claims {
        for status in ["200 OK", "403 Forbidden", "500 Internal Server Error"] {
            let port = http(move |_, stream| {
                let head = format!("HTTP/1.1 {status}\r\n{claim}\r\n");
                let piece = vec![b'x'; 1 << 16];
                let mut sent = stream.write_all(head.as_bytes());
                while sent.is_ok() {
                    sent = match claim.contains("chunked") {
                        true => stream
                            .write_all(format!("{:x}\r\n", piece.len()).as_bytes())
                            .and_then(|()| stream.write_all(&piece))
                            .and_then(|()| stream.write_all(b"\r\n")),
                        false => stream.write_all(&piece),
                    };
                }
            });
            let place = s3(port, PATIENT);
            let begun = Instant::now();
            let error = place.fetch(&name("data/a"), 100_000).expect_err("has no end");
            assert_eq!(error.kind, PlaceErrorKind::Long, "{status} {claim}: {error}");
            let part = Extent::Range { offset: 5, length: 10 };
            if status == "403 Forbidden" {
                assert!(place.read(&name("data/a"), part, &mut Vec::new()).is_err());
            }
            assert!(place.listing("data").is_err(), "nor has a listing");
            assert!(begun.elapsed() < Duration::from_secs(15), "{:?}", begun.elapsed());
        }
    }
    let grown = peak() - before;
    assert!(grown < 200 << 20, "{} MiB were made room for", grown >> 20);
}

#[test]
fn listings_that_repeat_themselves_or_mean_to_fill_memory_are_given_up() {
    let port = http(|_, stream| {
        let body = "<ListBucketResult><IsTruncated>true</IsTruncated><Contents><Key>hut/data/a</Key><Size>1</Size></Contents><NextContinuationToken>again</NextContinuationToken></ListBucketResult>";
        let _ = write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n{body}", body.len());
    });
    let error = s3(port, PATIENT).listing("data").expect_err("has no end");
    assert!(error.to_string().contains("does not end"), "{error}");
    let port = http(|_, stream| {
        let body =
            "<ListBucketResult>".to_owned() + &"<a/>".repeat(3 << 20) + "</ListBucketResult>";
        let _ = write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n{body}", body.len());
    });
    let error = s3(port, PATIENT).listing("data").expect_err("is too large");
    assert!(error.to_string().contains("too large"), "{error}");
    let port = http(|_, stream| {
        let body = "<a>".repeat(100_000);
        let _ = write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n{body}", body.len());
    });
    assert!(s3(port, PATIENT).listing("data").is_err(), "is too deep");
}

#[test]
fn a_byte_now_and_then_is_not_waited_for_without_end() {
    let port = http(|_, stream| {
        let mut sent = stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 100000\r\n\r\n");
        while sent.is_ok() {
            sent = stream.write_all(b"x");
            std::thread::sleep(Duration::from_millis(60));
        }
    });
    let begun = Instant::now();
    let error = s3(port, Duration::from_millis(200)).fetch(&name("data/a"), 1 << 20);
    assert_eq!(error.expect_err("is too slow").kind, PlaceErrorKind::Slow);
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
}

#[test]
fn what_is_seen_of_a_request_is_of_no_use() {
    let heads = Arc::new(Mutex::new(Vec::new()));
    let seen = Arc::clone(&heads);
    let port = http(move |head, stream| {
        seen.lock().expect("no panic").push(head.to_owned());
        let missing = if head.starts_with("HEAD") { "404 Not Found" } else { "200 OK" };
        let end = "content-length: 0\r\nconnection: close";
        let _ = write!(stream, "HTTP/1.1 {missing}\r\n{end}\r\n\r\n");
    });
    let place = s3(port, PATIENT);
    place.create(&name("data/a"), b"42 pairs").expect("creates");
    let part = Extent::Range { offset: 1, length: 3 };
    let _ = place.read(&name("data/a"), part, &mut Vec::new());
    let heads = heads.lock().expect("no panic");
    let put = heads.iter().find(|head| head.starts_with("PUT")).expect("was put");
    let get = heads.iter().find(|head| head.starts_with("GET")).expect("was read");
    for head in [put, get] {
        let address = head.lines().next().expect("a line").to_ascii_lowercase();
        assert!(!address.contains("signature") && !address.contains("credential"), "{address}");
        let head = head.to_ascii_lowercase();
        let signed = head.lines().find(|line| line.starts_with("authorization:")).expect("signed");
        for header in ["host", "x-amz-content-sha256", "x-amz-date"] {
            assert!(signed.contains(header), "{header}: {signed}");
        }
    }
    // What is sent is signed with it: other bytes are other requests.
    let body = put.to_ascii_lowercase();
    let told = body.lines().find_map(|line| line.strip_prefix("x-amz-content-sha256: "));
    let told = told.expect("its hash");
    let sha256 = ring::digest::digest(&ring::digest::SHA256, b"42 pairs");
    let sha256: String = sha256.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
    assert_eq!(told, sha256);
    let get = get.to_ascii_lowercase();
    assert!(get.lines().any(|line| line.starts_with("authorization:") && line.contains("range")));
}

#[test]
fn sizes_that_sftp_and_ftp_claim_are_limits_and_no_amounts() {
    let folder = tempfile::tempdir().expect("a directory");
    let account =
        Account { user: "keeper".to_owned(), password: "two terns".to_owned(), key: None };
    let key = folder.path().join("host.key");
    let server = SimulatedSftp::start(folder.path().join("files"), account, &key, None);
    let server = server.expect("starts");
    let (known, port) = (folder.path().join("known_hosts"), server.address().port());
    std::fs::write(&known, server.known_as("127.0.0.1", port)).expect("writes");
    let hop = Hop {
        name: "127.0.0.1".to_owned(),
        address: "127.0.0.1".to_owned(),
        port,
        user: "keeper".to_owned(),
        identities: Vec::new(),
        agent: false,
        password: Some("two terns".to_owned().into()),
        identity_passphrase: None,
        known_hosts: vec![known],
    };
    let target = SftpTarget {
        hop,
        via: Vec::new(),
        path: "/srv/oak".to_owned(),
        connections: 1,
        patience: PATIENT,
        throttles: Throttles::default(),
    };
    let place = SftpPlace::prepare(target, &["data"]).expect("prepares");
    place.create(&name("data/a"), b"42 pairs").expect("creates");
    server.trouble(|trouble| trouble.claims = Some(1 << 62));
    let before = peak();
    let error = place.fetch(&name("data/a"), 1 << 20).expect_err("claims too much");
    assert_eq!(error.kind, PlaceErrorKind::Long, "{error}");
    for extent in [Extent::Tail(8), Extent::Range { offset: 1 << 40, length: 8 }] {
        assert!(place.read(&name("data/a"), extent, &mut Vec::new()).is_err(), "{extent:?}");
    }
    let mut part = Vec::new();
    let extent = Extent::Range { offset: 3, length: 5 };
    place.read(&name("data/a"), extent, &mut part).expect("is there");
    assert_eq!(part, b"pairs");
    let port = ftp_that_claims("4611686018427387904");
    let target = FtpTarget {
        host: "127.0.0.1".to_owned(),
        port,
        tls: false,
        user: "keeper".to_owned(),
        password: Some("two terns".to_owned().into()),
        path: "/oak".to_owned(),
        connections: 1,
        patience: PATIENT,
        authority: None,
        throttles: Throttles::default(),
    };
    let place = FtpPlace::open(target).expect("opens");
    let error = place.fetch(&name("data/a"), 1 << 20).expect_err("claims too much");
    assert_eq!(error.kind, PlaceErrorKind::Long, "{error}");
    assert!(peak() - before < 64 << 20, "{} MiB", (peak() - before) >> 20);
}

/// An FTP server that has every file, each of this size. Its port.
fn ftp_that_claims(size: &'static str) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("binds");
    let port = listener.local_addr().expect("an address").port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut lines = BufReader::new(stream.try_clone().expect("clones")).lines();
            let mut stream = stream;
            let _ = stream.write_all(b"220 ready\r\n");
            while let Some(Ok(line)) = lines.next() {
                let command = line.split(' ').next().unwrap_or_default().to_ascii_uppercase();
                let answer = match command.as_str() {
                    "USER" => "331 password".to_owned(),
                    "PASS" => "230 in".to_owned(),
                    "PWD" => "257 \"/oak\" is here".to_owned(),
                    "SIZE" => format!("213 {size}"),
                    "QUIT" => "221 bye".to_owned(),
                    "FEAT" | "MLSD" | "EPSV" => "500 unknown".to_owned(),
                    _ => "200 fine".to_owned(),
                };
                let answer = if command == "CWD" { "250 fine".to_owned() } else { answer };
                if stream.write_all(format!("{answer}\r\n").as_bytes()).is_err() {
                    break;
                }
            }
        }
    });
    port
}
