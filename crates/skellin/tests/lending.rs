//! What is lent, to real clients: OpenSSH's sftp and curl. And to those who want more.

use crate::world;

use std::{
    fs,
    io::{BufReader, Read as _, Write as _},
    net::TcpStream,
    os::unix::fs::PermissionsExt as _,
    path::Path,
    process::{Child, Command, Output, Stdio},
    time::{Duration, Instant},
};

use serde_json::Value;
use world::World;
use world::common::{content, settle, write};

fn world() -> World {
    let world = World::new();
    for number in 0..30 {
        write(
            &world.path(&format!("ridge/{}/gauge {number}.csv", number % 3)),
            content(number, 2000),
        );
    }
    write(&world.path("ridge/long.dat"), content(1000, 3_000_000));
    write(&world.path("ridge/empty"), "");
    write(&world.path("ridge/<b>&ü.txt"), "terns");
    let odd = <std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(b"caf\xE9.txt");
    write(&world.path("ridge").join(odd), "odd");
    std::os::unix::fs::symlink("long.dat", world.path("ridge/link")).unwrap();
    std::os::unix::fs::symlink("../../../../../etc/passwd", world.path("ridge/up")).unwrap();
    std::os::unix::fs::symlink("/etc/passwd", world.path("ridge/out")).unwrap();
    std::os::unix::fs::symlink("..", world.path("ridge/0/round")).unwrap();
    let sparse = fs::File::create(world.path("ridge/sparse")).unwrap();
    sparse.set_len(5_000_000).unwrap();
    world.usual_plan("");
    settle(&world.path("ridge"));
    world.done(&["run", "readings"]);
    world
}

/// Something that is lent.
struct Lent {
    child: Child,
    events: BufReader<std::process::ChildStderr>,
    told: Value,
}

impl Lent {
    fn start(world: &World, arguments: &[&str]) -> Self {
        let mut all = vec!["lend", "readings@newest", "--json", "--progress", "json"];
        all.extend(arguments);
        let mut command = world.command(&all);
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut events = BufReader::new(child.stderr.take().unwrap());
        let told = next(&mut events, "lent");
        Self { child, events, told }
    }

    fn text(&self, key: &str) -> &str {
        self.told[key].as_str().unwrap()
    }

    fn port(&self) -> String {
        self.text("sftp").rsplit(':').next().unwrap().to_owned()
    }

    /// OpenSSH's client, with the host key that was told.
    fn sftp(&self, world: &World, password: &str, batch: &str) -> Output {
        let (ask, known, script) = (world.path("ask"), world.path("known"), world.path("batch"));
        write(&ask, format!("#!/bin/sh\necho '{password}'\n"));
        fs::set_permissions(&ask, fs::Permissions::from_mode(0o700)).unwrap();
        write(&known, format!("[127.0.0.1]:{} {}\n", self.port(), self.text("public-key")));
        write(&script, batch);
        let strict = format!("UserKnownHostsFile={}", known.display());
        Command::new("sftp")
            .args(["-F", "/dev/null", "-P", &self.port(), "-o", &strict])
            .args(["-o", "StrictHostKeyChecking=yes", "-o", "NumberOfPasswordPrompts=1"])
            // A batch keeps it from asking, unless this comes first.
            .args(["-o", "BatchMode=no", "-b"])
            .arg(&script)
            .arg("lent@127.0.0.1")
            .env("SSH_ASKPASS", &ask)
            .env("SSH_ASKPASS_REQUIRE", "force")
            .stdin(Stdio::null())
            .output()
            .unwrap()
    }

    fn curl(&self, arguments: &[&str], path: &str) -> Output {
        let login = format!("lent:{}", self.text("password"));
        let address = format!("{}{path}", self.text("web"));
        let mut command = Command::new("curl");
        command.args(["-sS", "--path-as-is", "-u", &login]).args(arguments).arg(address);
        command.output().unwrap()
    }

    /// Waits until it has ended: its status and what it said at last.
    fn end(mut self) -> (Option<i32>, Value) {
        let mut said = String::new();
        self.child.stdout.take().unwrap().read_to_string(&mut said).unwrap();
        let status = self.child.wait().unwrap().code();
        (status, serde_json::from_str(&said).unwrap())
    }

    fn interrupt(self) -> (Option<i32>, Value) {
        let pid = rustix::process::Pid::from_child(&self.child);
        rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
        self.end()
    }
}

/// The next event of a kind.
fn next(events: &mut impl std::io::BufRead, wanted: &str) -> Value {
    loop {
        let mut line = String::new();
        assert!(events.read_line(&mut line).unwrap() > 0, "it ended before {wanted}");
        let value: Value = serde_json::from_str(&line).unwrap();
        if value["event"] == wanted {
            return value;
        }
    }
}

#[test]
fn ordinary_clients_fetch_what_was_backed_up() {
    let world = world();
    let lent = Lent::start(&world, &["--for", "10 min"]);
    let to = world.path("fetched");
    fs::create_dir(&to).unwrap();
    let get = lent.sftp(&world, lent.text("password"), &format!("get -r /ridge/0 {0}/0\nget /ridge/long.dat {0}/long.dat\nget /ridge/link {0}/link\nget /ridge/sparse {0}/sparse\nls -la /ridge\n", to.display()));
    let said = String::from_utf8_lossy(&get.stdout).into_owned();
    assert!(get.status.success(), "{said}{}", String::from_utf8_lossy(&get.stderr));
    assert!(said.contains("caf\\xE9.txt") && said.contains("<b>&ü.txt"), "{said}");
    for (name, of) in [("long.dat", "long.dat"), ("link", "long.dat"), ("sparse", "sparse")] {
        let (ours, theirs) =
            (fs::read(to.join(name)).unwrap(), fs::read(world.path("ridge").join(of)).unwrap());
        assert!(ours == theirs, "{name}");
    }
    for number in (0..30).step_by(3) {
        let name = format!("0/gauge {number}.csv");
        assert_eq!(
            fs::read(to.join(&name)).unwrap(),
            fs::read(world.path("ridge").join(&name)).unwrap()
        );
    }
    // curl: whole, a part, listings.
    let all = lent.curl(&[], "ridge/long.dat").stdout;
    assert!(all == fs::read(world.path("ridge/long.dat")).unwrap());
    let part = lent.curl(&["-r", "1000000-1999999"], "ridge/long.dat").stdout;
    assert!(part == all[1_000_000..2_000_000]);
    assert!(lent.curl(&["-r", "-5"], "ridge/long.dat").stdout == all[all.len() - 5..]);
    assert_eq!(lent.curl(&[], "ridge/%3Cb%3E&%C3%BC.txt").stdout, b"terns");
    assert_eq!(lent.curl(&[], "ridge/caf%5CxE9.txt").stdout, b"odd");
    assert_eq!(lent.curl(&[], "ridge/empty").stdout, b"");
    let found = lent.curl(&["-X", "PROPFIND", "-H", "Depth: 1"], "ridge/").stdout;
    let found = String::from_utf8(found).unwrap();
    assert!(found.contains("<D:href>/ridge/%3Cb%3E%26%C3%BC.txt</D:href>"), "{found}");
    assert!(found.contains("<D:getcontentlength>3000000</D:getcontentlength>"), "{found}");
    assert!(found.contains("<D:href>/ridge/0/</D:href>") && !found.contains("passwd"), "{found}");
    let page = String::from_utf8(lent.curl(&[], "ridge/").stdout).unwrap();
    assert!(page.contains("&lt;b&gt;&amp;ü.txt") && !page.contains("<b>"), "{page}");
    let (status, ended) = lent.interrupt();
    assert_eq!((status, &ended["status"]), (Some(130), &"interrupted".into()));
    let visits = ended["visits"].as_array().unwrap();
    let is_told = |via: &str, path: &str| {
        visits.iter().any(|visit| visit["via"] == via && visit["path"] == path)
    };
    assert!(is_told("sftp", "/ridge/long.dat") && is_told("webdav", "/ridge/empty"), "{ended}");
    let part = visits.iter().find(|visit| visit["bytes"] == 1_000_000).unwrap();
    assert_eq!(part["of"], 3_000_000);
}

#[test]
fn one_file_and_one_directory_are_lent_by_themselves() {
    let world = world();
    let file = world.path("ridge/long.dat").display().to_string();
    let lent = Lent::start(&world, &[&file, "--no-web"]);
    assert!(lent.told["web"].is_null());
    let listed = lent.sftp(&world, lent.text("password"), "ls -1 /\nls -1 /../../etc\n");
    let said = String::from_utf8_lossy(&listed.stdout).into_owned();
    assert!(said.contains("long.dat") && !said.contains("gauge"), "{said}");
    lent.interrupt();
    let directory = world.path("ridge/1").display().to_string();
    let lent = Lent::start(&world, &[&directory]);
    assert!(
        lent.curl(&[], "gauge%201.csv").stdout
            == fs::read(world.path("ridge/1/gauge 1.csv")).unwrap()
    );
    lent.interrupt();
}

#[test]
fn nothing_is_changed_and_nobody_gets_out() {
    let world = world();
    let before = objects(&world.path("oak"));
    let lent = Lent::start(&world, &["--for", "10 min"]);
    let local = world.path("key").display().to_string();
    for attempt in [
        format!("put {local} /ridge/new"),
        format!("put {local} /ridge/long.dat"),
        "rm /ridge/long.dat".to_owned(),
        "mkdir /ridge/new".to_owned(),
        "rmdir /ridge/0".to_owned(),
        "rename /ridge/long.dat /ridge/other".to_owned(),
        "chmod 777 /ridge/long.dat".to_owned(),
        "symlink /etc/passwd /ridge/new".to_owned(),
        "ln /ridge/long.dat /ridge/new".to_owned(),
        format!("get /ridge/../../../etc/passwd {}", world.path("stolen").display()),
        format!("get /ridge/up {}", world.path("stolen").display()),
        format!("get /ridge/out {}", world.path("stolen").display()),
    ] {
        let tried = lent.sftp(&world, lent.text("password"), &attempt);
        assert!(!tried.status.success(), "{attempt}");
        assert!(!world.path("stolen").exists(), "{attempt}");
    }
    for (method, path) in [
        ("PUT", "ridge/new"),
        ("DELETE", "ridge/long.dat"),
        ("MKCOL", "ridge/new"),
        ("MOVE", "ridge/long.dat"),
        ("COPY", "ridge/long.dat"),
        ("PROPPATCH", "ridge/long.dat"),
        ("LOCK", "ridge/long.dat"),
        ("POST", "ridge/long.dat"),
    ] {
        let status = lent.curl(&["-X", method, "-o", "/dev/null", "-w", "%{http_code}"], path);
        assert_eq!(status.stdout, b"405", "{method}");
    }
    for path in [
        "../etc/passwd",
        "%2e%2e/%2e%2e/etc/passwd",
        "ridge/..%2f..%2fetc/passwd",
        "ridge/up",
        "ridge/out",
        "%00",
        "ridge/%ff",
    ] {
        let got = lent.curl(&["-w", "%{http_code}"], path).stdout;
        assert!(
            got.ends_with(b"404") || got.ends_with(b"400"),
            "{path}: {}",
            String::from_utf8_lossy(&got)
        );
    }
    let endless = lent.curl(&["-X", "PROPFIND", "-w", "%{http_code}"], "").stdout;
    assert!(String::from_utf8(endless).unwrap().ends_with("403"), "an endless depth is refused");
    lent.interrupt();
    assert_eq!(objects(&world.path("oak")), before, "nothing has come or gone");
}

fn objects(place: &Path) -> Vec<(std::path::PathBuf, u64)> {
    let mut found = Vec::new();
    for folder in fs::read_dir(place).unwrap().map(Result::unwrap) {
        if folder.file_type().unwrap().is_dir() {
            let entries = fs::read_dir(folder.path()).unwrap().map(Result::unwrap);
            found.extend(entries.map(|one| (one.path(), one.metadata().unwrap().len())));
        }
    }
    found.sort();
    found
}

#[test]
fn wrong_passwords_and_crowds_are_sent_away_and_it_ends_by_itself() {
    let world = world();
    let mut lent = Lent::start(&world, &["--for", "10 seconds"]);
    let begun = Instant::now();
    let wrong = lent.sftp(&world, "not this one", "ls /\n");
    assert!(!wrong.status.success());
    assert_eq!(next(&mut lent.events, "visit")["visit"]["what"], "wrong-password");
    let bare = Command::new("curl")
        .args(["-sS", "-o", "/dev/null", "-w", "%{http_code}", lent.text("web")])
        .output()
        .unwrap();
    assert_eq!(bare.stdout, b"401");
    // A crowd that says nothing: those beyond the limit are told of, and cost nobody inside anything.
    let address = lent.text("sftp").to_owned();
    let crowd: Vec<TcpStream> = (0..40).map(|_| TcpStream::connect(&address).unwrap()).collect();
    assert_eq!(next(&mut lent.events, "visit")["visit"]["what"], "too-many");
    drop(crowd);
    // It ends while somebody reads.
    let mut reader =
        TcpStream::connect(lent.text("web").trim_start_matches("http://").trim_end_matches('/'))
            .unwrap();
    reader.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let login = base64_of(&format!("lent:{}", lent.text("password")));
    write!(
        reader,
        "GET /ridge/sparse HTTP/1.1\r\nHost: here\r\nAuthorization: Basic {login}\r\n\r\n"
    )
    .unwrap();
    let (status, ended) = lent.end();
    assert_eq!((status, &ended["status"]), (Some(0), &"done".into()));
    assert!(begun.elapsed() >= Duration::from_secs(9));
    assert!(TcpStream::connect(&address).is_err(), "nobody listens any more");
    assert_eq!(world.fail(&["lend", "readings@newest", "--for", "8 days"]).0, 2);
    assert_eq!(world.fail(&["lend", "readings@newest", "/not/there"]).0, 2);
    assert_eq!(world.fail(&["lend", "readings@newest", "--address", "203.0.113.9"]).0, 1);
}

fn base64_of(text: &str) -> String {
    use base64::Engine as _;
    base64::prelude::BASE64_STANDARD.encode(text)
}

#[test]
fn a_store_that_rots_meanwhile_breaks_the_transfer_and_is_not_covered_up() {
    let world = world();
    let lent = Lent::start(&world, &["--for", "10 min"]);
    for container in fs::read_dir(world.path("oak/data")).unwrap() {
        let path = container.unwrap().path();
        let mut bytes = fs::read(&path).unwrap();
        let length = bytes.len();
        bytes[200..length - 200].iter_mut().for_each(|byte| *byte ^= 0x11);
        fs::write(&path, bytes).unwrap();
    }
    let got = lent.curl(&["-o", "/dev/null"], "ridge/long.dat");
    assert!(!got.status.success(), "a part is not taken for the whole");
    let to = world.path("part").display().to_string();
    let got = lent.sftp(&world, lent.text("password"), &format!("get /ridge/long.dat {to}\n"));
    assert!(!got.status.success());
    lent.interrupt();
}
