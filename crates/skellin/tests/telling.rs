//! Telling by the commands: a mail server that others have written, webhooks and pings over a real
//! line, the desktop's bus; what does not go out is said, noted, and delays nothing.

use crate::{servers, world};

use std::{
    fs,
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    path::PathBuf,
    process::{Child, Command, Stdio},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use servers::Server;
use world::{
    World,
    common::{content, write},
};

/// A request as a web server got it: its first line, its headers and its body.
#[derive(Clone, Debug, Default)]
struct Got {
    line: String,
    headers: String,
    body: String,
}

/// A web server that answers every request with a status.
struct Web {
    port: u16,
    got: Arc<Mutex<Vec<Got>>>,
}

impl Web {
    fn start(status: &'static str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let got = Arc::new(Mutex::new(Vec::new()));
        let into = Arc::clone(&got);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                into.lock().unwrap().extend(answer(stream, status));
            }
        });
        Self { port, got }
    }

    fn got(&self) -> Vec<Got> {
        self.got.lock().unwrap().clone()
    }
}

fn answer(mut stream: TcpStream, status: &str) -> Option<Got> {
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut got = Got::default();
    reader.read_line(&mut got.line).ok()?;
    let mut length = 0;
    loop {
        let mut header = String::new();
        reader.read_line(&mut header).ok()?;
        if let Some(told) = header.to_ascii_lowercase().strip_prefix("content-length:") {
            length = told.trim().parse().ok()?;
        }
        if header.trim().is_empty() {
            break;
        }
        got.headers.push_str(&header);
    }
    let mut body = vec![0; length];
    reader.read_exact(&mut body).ok()?;
    got.body = String::from_utf8(body).ok()?;
    let words = "no room on the board";
    write!(
        stream,
        "HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{words}",
        words.len()
    )
    .ok()?;
    Some(got)
}

/// The letters a server got, in their order.
fn letters(server: &Server) -> Vec<String> {
    let names = (1..).map(|number| server.path(&format!("mail-{number}")));
    names.map_while(|path| fs::read_to_string(path).ok()).collect()
}

struct Station {
    world: World,
}

impl Station {
    fn new(tell: &str) -> Self {
        let world = World::new();
        write(&world.path("ridge/gauge.csv"), content(1, 9000));
        let source = world.path("ridge").display().to_string();
        let text = format!(
            "sources = [\"{source}\"]\nstore = \"oak\"\nmachine = \"hut\"\n[tell]\n{tell}\n"
        );
        world.plan("readings", &text);
        write(&world.path("secret"), "two terns");
        world::private(&world.path("secret"));
        Self { world }
    }

    fn channels(&self, text: &str) {
        let secret = self.world.path("secret").display().to_string();
        write(&self.world.path("config/channels.toml"), text.replace("SECRET", &secret));
    }

    fn source(&self) -> PathBuf {
        self.world.path("ridge")
    }

    /// Takes the source away, or puts it back.
    fn toggle(&self) {
        let away = self.world.path("away");
        match away.exists() {
            true => fs::rename(away, self.source()).unwrap(),
            false => fs::rename(self.source(), away).unwrap(),
        }
    }
}

#[test]
fn failures_are_mailed_once_and_so_is_their_end() {
    let server = Server::smtp(true);
    let station = Station::new("failure = [\"duty-mail\"]");
    let world = &station.world;
    station.channels(&format!(
        "[duty-mail]\nmail = \"duty@ridge.example\"\nserver = \"smtp://hut@localhost:{}\"\npassword = {{ file = \"SECRET\" }}\nca = \"{}\"\n",
        server.port,
        server.path("ca.pem").display()
    ));
    world.done(&["plan", "check"]);
    let told = world.done(&["tell", "duty-mail", "--test"]);
    assert!(told.contains("duty-mail notified: duty@ridge.example"), "{told}");
    world.done(&["run", "readings"]);
    assert_eq!(letters(&server).len(), 1, "a good run tells nobody");
    station.toggle();
    for _ in 0..3 {
        let (status, said) = world.fail(&["run", "readings"]);
        assert!(status == 7 && !said.contains("not told"), "{status}: {said}");
    }
    station.toggle();
    world.done(&["run", "readings"]);
    world.done(&["run", "readings"]);
    let letters = letters(&server);
    assert_eq!(letters.len(), 3, "{letters:#?}");
    assert!(letters[0].contains("Subject: A trial from Skellin"), "{}", letters[0]);
    let failed = &letters[1];
    for part in [
        "login: hut",
        "tls: True",
        "to: duty@ridge.example",
        "Subject: readings failed on hut",
        "is suddenly empty or missing",
        "last good run",
        "to do",
        "skellin journal --run",
    ] {
        assert!(failed.contains(part), "{part}: {failed}");
    }
    assert!(letters[2].contains("Subject: readings recovered on hut"), "{}", letters[2]);
    assert!(letters[2].contains("3 times"), "{}", letters[2]);
    let (_, run) = world.json(&["journal", "readings"]);
    let failed =
        run["entries"].as_array().unwrap().iter().rev().find(|run| run["status"] == "guarded");
    let number = failed.unwrap()["number"].to_string();
    let (_, run) = world.json(&["journal", "--run", &number]);
    assert!(
        run["told"][0]["sent"].is_string() && run["told"][0]["channel"] == "duty-mail",
        "{run}"
    );
}

#[test]
fn a_channel_hears_the_first_failure_after_it_was_named_and_no_end_it_knows_nothing_of() {
    let station = Station::new("");
    let world = &station.world;
    let (board, late) = (Web::start("200 OK"), Web::start("200 OK"));
    let events = |web: &Web| {
        let bodies = web.got().into_iter().map(|got| {
            let facts: serde_json::Value = serde_json::from_str(&got.body).unwrap();
            (facts["event"].as_str().unwrap().to_owned(), facts["over"].as_bool().unwrap())
        });
        bodies.collect::<Vec<_>>()
    };
    let tell = |line: &str| {
        let (source, tell) = (station.source(), format!("[tell]\n{line}\n"));
        let text = format!(
            "sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\n{tell}",
            source.display()
        );
        world.plan("readings", &text);
    };
    world.done(&["run", "readings"]);
    station.toggle();
    let fails = || assert_eq!(world.fail(&["run", "readings"]).0, 7);
    fails();
    station.channels(&format!(
        "[board]\nwebhook = \"http://127.0.0.1:{}/hook\"\n[late]\nwebhook = \"http://127.0.0.1:{}/hook\"\n",
        board.port, late.port
    ));
    tell("failure = [\"board\"]");
    fails();
    fails();
    assert_eq!(events(&board), [("failure".to_owned(), false)], "the first it could hear of, once");
    tell("failure = [\"board\", \"late\"]");
    station.toggle();
    world.done(&["run", "readings"]);
    assert_eq!(events(&board).last(), Some(&("failure".to_owned(), true)));
    assert!(events(&late).is_empty(), "{:?}", events(&late));
}

#[test]
fn mail_that_does_not_go_out_delays_nothing_and_is_noted_with_what_to_do() {
    let (server, open) = (Server::smtp(true), Server::smtp(false));
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let station = Station::new(
        "success = [\"wrong\", \"unknown\", \"open\", \"closed\", \"silent\", \"fine\"]",
    );
    let world = &station.world;
    write(&world.path("other"), "three terns");
    world::private(&world.path("other"));
    let mail = |name: &str, port: u16, more: &str| {
        format!(
            "[{name}]\nmail = \"duty@ridge.example\"\nserver = \"smtp://hut@localhost:{port}\"\n{more}\n"
        )
    };
    let ca = format!("ca = \"{}\"", server.path("ca.pem").display());
    let secret = "password = { file = \"SECRET\" }";
    station.channels(
        &[
            mail(
                "wrong",
                server.port,
                &format!("{ca}\npassword = {{ file = \"{}\" }}", world.path("other").display()),
            ),
            mail("unknown", server.port, secret),
            mail("open", open.port, &format!("{ca}\n{secret}")),
            mail("closed", closed, &format!("{ca}\n{secret}")),
            mail("silent", silent.local_addr().unwrap().port(), &format!("{ca}\n{secret}")),
            mail("fine", server.port, &format!("{ca}\n{secret}")),
        ]
        .concat(),
    );
    let begun = Instant::now();
    let (status, said) = world.fail(&["run", "readings"]);
    assert_eq!(status, 0, "{said}");
    // All of them beside each other: no longer than the slowest alone, and a bit.
    assert!(begun.elapsed() < Duration::from_secs(25), "{:?}", begun.elapsed());
    for (channel, reason) in [
        ("wrong", "check the user in `server`"),
        ("unknown", "ca ="),
        ("open", "never sent without TLS"),
        ("closed", "is it up"),
        ("silent", "is it up"),
    ] {
        let line = said.lines().find(|line| line.contains(&format!("{channel} not notified yet")));
        assert!(line.is_some_and(|line| line.contains(reason)), "{channel} {reason}: {said}");
    }
    assert!(!said.contains("terns"), "{said}");
    assert_eq!((letters(&server).len(), letters(&open).len()), (1, 0));
    let (_, run) = world.json(&["journal", "--run", "1"]);
    let told = run["told"].as_array().unwrap();
    let waiting = told.iter().filter(|one| one["sent"].is_null() && one["tries"] == 1);
    assert_eq!((told.len(), waiting.count()), (6, 5), "{run}");
    let text = world.done(&["journal", "--run", "1"]);
    assert!(
        text.contains("not sent yet") && text.contains("notifications:") && text.contains("reach"),
        "{text}"
    );
    // What waits is tried again by whoever runs next, not before its time.
    let (_, said) = world.fail(&["due", "--run"]);
    assert!(!said.contains("not told"), "{said}");
}

#[test]
fn the_machines_own_sendmail_carries_mail_and_its_failure_is_said() {
    let station = Station::new("failure = [\"local\"]");
    let world = &station.world;
    station.channels("[local]\nmail = \"root@hut.ridge.example\"\nserver = \"sendmail\"\n");
    let (bin, letter) = (world.path("bin"), world.path("letter"));
    let sendmail = |script: &str| {
        write(&bin.join("sendmail"), format!("#!/bin/sh\n{script}\n"));
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        fs::set_permissions(bin.join("sendmail"), mode).unwrap();
    };
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    let tell = || world.command(&["tell", "local", "--test"]).env("PATH", &path).output().unwrap();
    sendmail(&format!("echo \"$@\" >{0}; cat >>{0}", letter.display()));
    assert!(tell().status.success());
    let text = fs::read_to_string(&letter).unwrap();
    assert!(text.lines().next().unwrap().contains("root@hut.ridge.example"), "{text}");
    assert!(text.contains("Subject: A trial from Skellin") && text.contains("it works"), "{text}");
    sendmail("echo no spool here >&2; exit 75");
    let output = tell();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.code() == Some(1) && said.contains("sendmail failed"), "{said}");
}

#[test]
fn webhooks_are_signed_pings_come_after_success_and_commands_are_run() {
    let (web, full) = (Web::start("204 No Content"), Web::start("507 Insufficient Storage"));
    let station = Station::new(
        "success = [\"board\", \"pulse\", \"own\"]\nfailure = [\"board\", \"pulse\", \"full\"]",
    );
    let world = &station.world;
    let log = world.path("log").display().to_string();
    station.channels(&format!(
        "[board]\nwebhook = \"http://127.0.0.1:{0}/hook\"\nkey = {{ file = \"SECRET\" }}\n[pulse]\nping = \"http://127.0.0.1:{0}/p/7f\"\n[full]\nwebhook = \"http://127.0.0.1:{1}/hook\"\n[own]\ncommand = [\"sh\", \"-c\", \"echo $SKELLIN_EVENT $SKELLIN_PLAN: $SKELLIN_SUBJECT >>{log}\"]\n",
        web.port, full.port
    ));
    world.done(&["run", "readings"]);
    let mut got = web.got();
    got.sort_by(|a, b| a.line.cmp(&b.line));
    assert_eq!(got.len(), 2, "{got:?}");
    assert!(got[0].line.starts_with("GET /p/7f "), "{got:?}");
    assert!(got[1].line.starts_with("POST /hook "), "{got:?}");
    let facts: serde_json::Value = serde_json::from_str(&got[1].body).unwrap();
    assert_eq!((&facts["event"], &facts["plan"]), (&"success".into(), &"readings".into()));
    // The signature is what openssl makes of the body and the key (RFC 2104).
    write(&world.path("body"), &got[1].body);
    let made = Command::new("openssl")
        .args(["dgst", "-sha256", "-hmac", "two terns", "-r"])
        .arg(world.path("body"))
        .output()
        .unwrap();
    let made = String::from_utf8(made.stdout).unwrap();
    let wanted = format!("x-skellin-signature: sha256={}", made.split(' ').next().unwrap());
    assert!(got[1].headers.contains(&wanted), "{wanted}: {}", got[1].headers);
    let said = fs::read_to_string(&log).unwrap();
    assert_eq!(said, "success readings: readings is done on hut\n");
    // After a failure the ping stays away, which is what tells whoever watches.
    station.toggle();
    let (_, said) = world.fail(&["run", "readings"]);
    assert!(said.contains("full not notified yet: the server answers 507: no room"), "{said}");
    let got = web.got();
    assert_eq!(got.len(), 3, "{got:?}");
    let facts: serde_json::Value = serde_json::from_str(&got[2].body).unwrap();
    assert_eq!((&facts["event"], &facts["over"]), (&"failure".into(), &false.into()));
    assert!(facts["message"].as_str().unwrap().contains("empty or missing"), "{facts}");
    // The ways out of mistakes.
    let (status, said) = world.fail(&["tell", "bord", "--test"]);
    assert!(status == 2 && said.contains("did you mean `board`?"), "{status}: {said}");
    let (status, text) = world.run(&["tell"]);
    assert!(status == 0 && text.contains("4 channels") && text.contains("readings"), "{text}");
    station.channels("[board]\nwebhok = \"x\"\n");
    let (status, text) = world.run(&["plan", "check"]);
    assert!(
        status == 2 && text.contains("channels.toml") && text.contains("did you mean `webhook`?"),
        "{text}"
    );
}

/// A bus of our own, with somebody on it who shows notifications; what was asked for is in `seen`.
struct Desktop {
    bus: Child,
    monitor: Child,
    address: String,
}

impl Drop for Desktop {
    fn drop(&mut self) {
        for child in [&mut self.monitor, &mut self.bus] {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

#[test]
fn the_desktop_is_asked_to_show_it() {
    let station = Station::new("failure = [\"screen\"]");
    let world = &station.world;
    station.channels("[screen]\ndesktop = true\n");
    let socket = world.path("bus").display().to_string();
    let mut bus = Command::new("dbus-daemon")
        .args(["--session", "--nofork", "--print-address"])
        .arg(format!("--address=unix:path={socket}"))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut address = String::new();
    BufReader::new(bus.stdout.take().unwrap()).read_line(&mut address).unwrap();
    let address = address.trim().to_owned();
    // A bus on which nobody shows anything: that is said, and what to do.
    let tell = |channel: &str| {
        let mut command = world.command(&["tell", channel, "--test"]);
        command.env("DBUS_SESSION_BUS_ADDRESS", &address).output().unwrap()
    };
    let seen = world.path("seen");
    let monitor = Command::new("dbus-monitor")
        .args(["--address", &address, "interface='org.freedesktop.Notifications'"])
        .stdout(fs::File::create(&seen).unwrap())
        .spawn()
        .unwrap();
    let desktop = Desktop { bus, monitor, address: address.clone() };
    // It listens as soon as it has said its name.
    let deadline = Instant::now() + Duration::from_secs(20);
    while !fs::read_to_string(&seen).unwrap().contains("NameAcquired") {
        assert!(Instant::now() < deadline, "nobody listens on {}", desktop.address);
        std::thread::yield_now();
    }
    let output = tell("screen");
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(
        output.status.code() == Some(1) && said.contains("does not show notifications"),
        "{said}"
    );
    while !fs::read_to_string(&seen).unwrap().contains("A trial from Skellin") {
        assert!(Instant::now() < deadline, "{}", fs::read_to_string(&seen).unwrap());
        std::thread::yield_now();
    }
    let shown = fs::read_to_string(&seen).unwrap();
    assert!(
        shown.contains("member=Notify") && shown.contains("If you can read it, it works"),
        "{shown}"
    );
    drop(desktop);
    let output = tell("screen");
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.code() == Some(1) && said.contains("is somebody logged in?"), "{said}");
}

#[test]
fn damage_and_its_end_are_told_and_so_is_a_drill_that_does_not_match() {
    let world = World::new();
    let web = Web::start("200 OK");
    write(
        &world.path("config/channels.toml"),
        format!("[board]\nwebhook = \"http://127.0.0.1:{}/hook\"\n", web.port),
    );
    write(&world.path("ridge/long.dat"), content(7, 200_000));
    let source = world.path("ridge");
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\n[tell]\ndamage = [\"board\"]\ndrill = [\"board\"]\n",
            source.display()
        ),
    );
    world.done(&["run", "readings"]);
    world.done(&["verify", "oak"]);
    assert!(web.got().is_empty(), "what is well is not told");
    let container = fs::read_dir(world.path("oak/data")).unwrap().next().unwrap().unwrap().path();
    let whole = fs::read(&container).unwrap();
    let mut bytes = whole.clone();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&container, bytes).unwrap();
    let told = |wanted: &str| {
        let got = web.got();
        let bodies = got.iter().map(|one| one.body.clone()).collect::<Vec<_>>();
        let last = bodies.last().cloned().unwrap_or_default();
        let value: serde_json::Value = serde_json::from_str(&last).unwrap_or_default();
        assert_eq!(value["event"], wanted, "{bodies:?}");
        (value["over"].as_bool().unwrap(), bodies.len())
    };
    assert_eq!(world.run(&["verify", "oak"]).0, 3);
    assert_eq!(told("damage"), (false, 1));
    // It is told once a day, whoever looks again.
    assert_eq!(world.run(&["verify", "oak"]).0, 3);
    assert_eq!(told("damage"), (false, 1));
    assert_eq!(world.run(&["drill", "readings", "--sample", "all"]).0, 3);
    assert_eq!(told("drill"), (false, 2));
    assert_eq!(world.run(&["verify", "oak", "--repair"]).0, 4);
    assert_eq!(told("damage"), (true, 3));
    world.done(&["drill", "readings", "--sample", "all"]);
    assert_eq!(told("drill"), (true, 4));
}
