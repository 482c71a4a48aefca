//! Object stores, WebDAV, drives and copies by the commands: each failure with its status, reason
//! and remedy, an intact store afterwards, and no secret anywhere it does not belong.

use crate::{servers, world};

use std::{
    fs,
    os::unix::ffi::OsStrExt,
    path::Path,
    process::Stdio,
    time::{Duration, Instant},
};

use servers::Server;
use skellin_standins::{
    Pace, Wire,
    s3::{Bucket, SimulatedS3},
};
use world::{
    World,
    common::{assert_same, content, settle, write},
};

const SECRET: &str = "k9-sandpiper-Secret-f3a1";

struct Offshore {
    world: World,
    server: SimulatedS3,
}

impl Offshore {
    /// A store in a bucket, with a plan.
    fn new() -> Self {
        let world = World::bare();
        let bucket = Bucket {
            name: "ridge".to_owned(),
            region: "north-1".to_owned(),
            id: "hut".to_owned(),
            secret: SECRET.to_owned(),
        };
        let server = SimulatedS3::start(world.path("bucket"), bucket, None).unwrap();
        secret(&world.path("key"), "knots and dunlins");
        secret(&world.path("credentials"), &format!("id = \"hut\"\nsecret = \"{SECRET}\"\n"));
        let offshore = Self { world, server };
        offshore.stores(&offshore.server.endpoint(), "ridge", "north-1");
        let source = offshore.world.path("ridge");
        for file in 0..30 {
            write(&source.join(format!("2026/{file}.csv")), content(file, 20_000));
        }
        let text = format!("sources = [\"{}\"]\nstore = \"offshore\"\n", source.display());
        offshore.world.plan("readings", &text);
        offshore
    }

    fn stores(&self, endpoint: &str, bucket: &str, region: &str) {
        self.world.stores(&format!(
            "[offshore]\nplace = \"s3://{bucket}/hut\"\nendpoint = \"{endpoint}\"\nregion = \"{region}\"\ncredentials = {{ file = \"{}\" }}\npassphrase = {{ file = \"{}\" }}\n",
            self.world.path("credentials").display(),
            self.world.path("key").display()
        ));
    }
}

fn secret(path: &Path, text: &str) {
    write(path, text);
    world::private(path);
}

#[test]
fn each_failure_of_an_object_store_has_its_status_and_leaves_it_intact() {
    let Offshore { world, server } = &Offshore::new();
    let stores = |endpoint: &str, bucket: &str, region: &str| {
        let offshore = fs::read_to_string(world.path("config/stores.toml")).unwrap();
        let edit = |line: &str| match line.split_once(" = ") {
            Some(("place", _)) => format!("place = \"s3://{bucket}/hut\""),
            Some(("endpoint", _)) => format!("endpoint = \"{endpoint}\""),
            Some(("region", _)) => format!("region = \"{region}\""),
            _ => line.to_owned(),
        };
        let edited: Vec<_> = offshore.lines().map(edit).collect();
        world.stores(&format!("{}\n", edited.join("\n")));
    };
    let endpoint = server.endpoint();
    world.done(&["store", "create", "offshore"]);
    world.done(&["run", "readings"]);
    let credentials = format!("id = \"hut\"\nsecret = \"{SECRET}\"\n");
    let fails = |expected: i32, reason: &str, remedy: &str| {
        let (status, said) = world.fail(&["run", "readings"]);
        let holds = status == expected && said.contains(reason) && said.contains(remedy);
        assert!(holds, "{expected}, {reason}, {remedy} wanted, and it is {status}: {said}");
        assert!(!said.contains(SECRET), "{said}");
    };
    secret(&world.path("credentials"), "id = \"hut\"\nsecret = \"wrong\"\n");
    fails(5, "secret does not match", "check the secret");
    secret(&world.path("credentials"), "id = \"mast\"\nsecret = \"wrong\"\n");
    fails(5, "unknown key id", "check the id");
    secret(&world.path("credentials"), "id and secret");
    fails(2, "does not contain a key", "write two lines");
    fs::set_permissions(
        world.path("credentials"),
        std::os::unix::fs::PermissionsExt::from_mode(0o644),
    )
    .unwrap();
    fails(2, "others can read", "chmod 600");
    secret(&world.path("credentials"), &credentials);
    stores(&endpoint, "ridge", "south-2");
    fails(5, "in region north-1", "region = \"north-1\"");
    stores(&endpoint, "elsewhere", "north-1");
    fails(5, "the bucket does not exist", "store prepare");
    stores("http://127.0.0.1:1", "ridge", "north-1");
    fails(5, "nothing listens", "is the service running");
    stores(&endpoint, "ridge", "north-1");
    server.trouble(|trouble| trouble.clock = 86_400);
    fails(5, "is 23 h behind", "NTP");
    server.trouble(|trouble| (trouble.clock, trouble.room) = (0, Some(100)));
    write(&world.path("ridge/new.csv"), content(99, 90_000));
    fails(1, "no space left", "free space");
    server.trouble(|trouble| trouble.room = None);
    // A line that breaks off again and again is not noticed.
    let wire = Wire::to(server.address().port(), Pace { rate: Some(400_000), ..Pace::default() });
    let wire = wire.unwrap();
    stores(&format!("http://127.0.0.1:{}", wire.port()), "ridge", "north-1");
    let mut run = world.command(&["run", "readings"]).stdout(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    let mut cut = 0;
    while run.try_wait().unwrap().is_none() && begun.elapsed() < Duration::from_secs(120) {
        if wire.carried().0 > cut + 40_000 && cut < 50_000 {
            cut = wire.carried().0;
            wire.cut();
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    assert!(run.wait().unwrap().success() && cut > 0);
    stores(&endpoint, "ridge", "north-1");
    world.done(&["verify", "offshore"]);
    let back = world.path("back").display().to_string();
    world.done(&["restore", "readings@newest", "--to", &back]);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
}

#[test]
fn certificates_are_looked_at_and_passwords_travel_encrypted_or_not_unsaid() {
    let server = Server::webdav(true);
    let world = World::bare();
    secret(&world.path("key"), "knots and dunlins");
    secret(&world.path("password"), "two terns");
    let stores = |more: &str| {
        world.stores(&format!(
            "[harbour]\nplace = \"webdavs://keeper@localhost:{}/dav/store\"\npassword = {{ file = \"{}\" }}\npassphrase = {{ file = \"{}\" }}\n{more}\n[meadow]\nplace = \"ftp://keeper@127.0.0.1:1/store\"\n",
            server.port,
            world.path("password").display(),
            world.path("key").display()
        ));
    };
    stores("");
    let (status, said) = world.fail(&["store", "create", "harbour"]);
    assert!(status == 5 && said.contains("an unknown authority"), "{said}");
    stores(&format!("ca = \"{}\"", server.path("ca.pem").display()));
    world.done(&["store", "create", "harbour"]);
    let reached = world.done(&["store", "reach", "harbour"]);
    assert!(
        reached.contains("issued by the authority in") && reached.contains("read back"),
        "{reached}"
    );
    write(&world.path("ridge/notes.md"), "two terns on the pier\n");
    let source = world.path("ridge").display().to_string();
    world.plan("readings", &format!("sources = [\"{source}\"]\nstore = \"harbour\"\n"));
    world.done(&["run", "readings"]);
    world.done(&["verify", "harbour"]);
    secret(&world.path("password"), "three terns");
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 5 && said.contains("keeper with the password"), "{said}");
    assert!(!said.contains("three terns"), "{said}");
    let (_, doctor) = world.run(&["doctor"]);
    assert!(doctor.contains("the connection is not encrypted"), "{doctor}");
}

#[test]
fn drives_remind_of_their_turn() {
    let world = World::bare();
    secret(&world.path("key"), "knots and dunlins");
    // Whatever day it is, the swap was this morning.
    let today = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let day = today.strftime("%A").to_string().to_lowercase();
    world.stores(&format!(
        "[oak]\nplace = \"drive:/skellin\"\ndrives = [\"oak-east\", \"oak-west\"]\nswap = \"{day}s\"\npassphrase = {{ file = \"{}\" }}\n",
        world.path("key").display()
    ));
    write(&world.path("ridge/notes.md"), "a tern\n");
    settle(&world.path("ridge"));
    let source = world.path("ridge").display().to_string();
    world.plan("readings", &format!("sources = [\"{source}\"]\nstore = \"oak\"\n"));
    fs::create_dir_all(world.path("media/OAK1")).unwrap();
    let output = |arguments: &[&str]| {
        let drives = world.path("media");
        let output = world.command(arguments).env("SKELLIN_DRIVES", drives).output().unwrap();
        let said = String::from_utf8(output.stderr).unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap() + &said)
    };
    let on = world.path("media/OAK1").display().to_string();
    let create = |drive: &str| output(&["store", "create", "oak", "--on", &on, "--drive", drive]);
    assert!(output(&["store", "create", "oak"]).1.contains("--on DIR"));
    let (status, said) = create("oak-north");
    assert!(status == 2 && said.contains("has no drive `oak-north`"), "{said}");
    let (status, said) =
        output(&["store", "create", "oak", "--on", &source, "--drive", "oak-east"]);
    assert!(status == 2 && said.contains("nothing is mounted at"), "{said}");
    assert_eq!(create("oak-east").0, 0);
    let (status, said) = output(&["run", "readings"]);
    assert!(status == 0 && !said.contains("is next"), "{said}");
    // Last week's snapshot is on this drive: now it is the other's turn.
    let journal = rusqlite::Connection::open(world.path("state/journal.sqlite")).unwrap();
    journal.execute("UPDATE drive SET newest = newest - 7 * 86400000", []).unwrap();
    drop(journal);
    let (_, said) = output(&["doctor"]);
    assert!(said.contains("oak-west is next since") && said.contains("oak-east is here"), "{said}");
    let (status, said) = output(&["run", "readings"]);
    assert!(status == 0 && said.contains("oak-west is next"), "nothing is refused: {said}");
    fs::rename(world.path("media/OAK1"), world.path("pocket")).unwrap();
    let (status, said) = output(&["run", "readings"]);
    assert!(status == 5 && said.contains("no drive of it is here: oak-east, oak-west"), "{said}");
}

/// Whether a file or an argument of a process holds a text.
fn holds(bytes: &[u8], text: &str) -> bool {
    bytes.windows(text.len()).any(|window| window == text.as_bytes())
}

#[test]
fn no_secret_stands_in_process_lists_outputs_logs_or_files() {
    let Offshore { world, server } = &Offshore::new();
    let secrets = [SECRET, "knots and dunlins"];
    world.done(&["store", "create", "offshore"]);
    server.trouble(|trouble| trouble.delay = Duration::from_millis(60));
    let mut run = world
        .command(&["run", "readings", "-v", "--progress", "json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut looked = 0;
    while run.try_wait().unwrap().is_none() {
        for process in fs::read_dir("/proc").unwrap().flatten() {
            let is_process = process.file_name().as_bytes()[0].is_ascii_digit();
            let line = fs::read(process.path().join("cmdline")).unwrap_or_default();
            looked += usize::from(is_process && !line.is_empty());
            for secret in secrets {
                assert!(!holds(&line, secret), "{}", String::from_utf8_lossy(&line));
            }
        }
    }
    assert!(looked > 0);
    let output = run.wait_with_output().unwrap();
    assert!(output.status.success());
    let mut said = [output.stdout, output.stderr].concat();
    server.trouble(|trouble| trouble.delay = Duration::ZERO);
    for arguments in [
        &["store", "reach", "offshore"][..],
        &["store", "list"],
        &["store", "show", "offshore"],
        &["store", "prepare", "offshore"],
        &["plan", "check"],
        &["doctor"],
        &["journal"],
        &["history", "--json"],
    ] {
        let output = world.output(arguments);
        said.extend([output.stdout, output.stderr].concat());
    }
    for secret in secrets {
        assert!(!holds(&said, secret), "{}", String::from_utf8_lossy(&said));
    }
    let mut left = vec![world.folder.path().to_path_buf()];
    let mut files = 0;
    while let Some(folder) = left.pop() {
        for entry in fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                left.push(path);
            } else if path != world.path("key") && path != world.path("credentials") {
                let bytes = fs::read(&path).unwrap();
                files += 1;
                for secret in secrets {
                    assert!(!holds(&bytes, secret), "{}", path.display());
                }
            }
        }
    }
    assert!(files > 10, "{files} files were looked through");
}

#[test]
fn copies_are_made_by_command_and_after_runs_and_go_on_after_failures() {
    let Offshore { world, server } = &Offshore::new();
    let offshore = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let oak = format!(
        "[oak]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        world.path("oak").display(),
        world.path("key").display()
    );
    world.stores(&format!("{offshore}{oak}"));
    for store in ["offshore", "oak"] {
        world.done(&["store", "create", store]);
    }
    let source = world.path("ridge").display().to_string();
    let plan = |more: &str| {
        let text = format!("sources = [\"{source}\"]\nstore = \"oak\"\n{more}\n");
        world.plan("readings", &text);
    };
    plan("");
    world.done(&["run", "readings"]);
    plan("replicate = [\"oak\"]");
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 2 && said.contains("the store of this plan"), "{said}");
    plan("replicate = [\"offshore\"]");
    write(&world.path("ridge/notes.md"), "a second night\n");
    // The copy fails and the snapshot stands; the next run makes up for both.
    server.trouble(|trouble| trouble.room = Some(1000));
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 1 && said.contains("no space left"), "{status}: {said}");
    server.trouble(|trouble| trouble.room = None);
    write(&world.path("ridge/notes.md"), "a third night\n");
    let told = world.done(&["run", "readings"]);
    assert!(told.contains("oak → offshore: 3 snapshots copied, 0 already there"), "{told}");
    let (status, again) = world.json(&["replicate", "oak", "offshore"]);
    assert_eq!(
        (status, again["copied"].as_u64(), again["present"].as_u64()),
        (0, Some(0), Some(3))
    );
    let (status, none) = world.json(&["replicate", "oak", "offshore", "--plan", "ringing"]);
    assert_eq!((status, none["copied"].as_u64(), none["present"].as_u64()), (0, Some(0), Some(0)));
    let journal = world.done(&["journal"]);
    assert!(journal.contains("3 snapshots copied"), "{journal}");
    let (_, told) = world.json(&["history", "--store", "offshore"]);
    let (_, own) = world.json(&["history", "--store", "oak"]);
    let times = |told: &serde_json::Value| {
        let found = told["snapshots"].as_array().unwrap().iter();
        found.map(|snapshot| snapshot["time"].clone()).collect::<Vec<_>>()
    };
    assert_eq!(times(&told), times(&own));
    let back = world.path("back").display().to_string();
    world.done(&["restore", "readings@newest", "--store", "offshore", "--to", &back]);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
    let (status, said) = world.fail(&["replicate", "oak", "oak"]);
    assert!(status == 2 && said.contains("the same store"), "{said}");
    // A copy whose content is damaged where it is read is not made, and is named.
    let data = world.path("oak/data");
    for entry in fs::read_dir(data).unwrap() {
        let path = entry.unwrap().path();
        let mut bytes = fs::read(&path).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
        fs::write(&path, bytes).unwrap();
    }
    let fresh = format!(
        "[elm]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        world.path("elm").display(),
        world.path("key").display()
    );
    world.stores(&format!("{offshore}{oak}{fresh}"));
    world.done(&["store", "create", "elm"]);
    let (status, told) = world.run(&["replicate", "oak", "elm"]);
    assert!(
        status == 3 && told.contains("not copied") && told.contains("skellin verify oak"),
        "{told}"
    );
}

#[test]
fn limits_and_the_way_there_without_a_configuration() {
    let Offshore { world, server } = &Offshore::new();
    world.done(&["store", "create", "offshore"]);
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    world.stores(&format!("{stores}up = \"500 kB/s\"\n"));
    let begun = Instant::now();
    world.done(&["run", "readings"]);
    // About 600 kB that do not compress at 500 kB a second, less what a burst saves.
    assert!(begun.elapsed() > Duration::from_millis(500), "{:?}", begun.elapsed());
    let access = world.path("access.toml");
    let credentials = world.path("credentials").display().to_string();
    let keys = format!(
        "endpoint = \"{}\"\nregion = \"north-1\"\ncredentials = {{ file = \"{credentials}\" }}\n",
        server.endpoint()
    );
    write(&access, &keys);
    let (access, key) = (access.display().to_string(), world.path("key").display().to_string());
    let away = World::bare();
    let place = ["--place", "s3://ridge/hut", "--access", &access, "--passphrase-file", &key];
    let told = away.done(&[&["history"], &place[..]].concat());
    assert!(told.contains("readings"), "{told}");
    write(&world.path("access.toml"), format!("{keys}placce = \"x\"\n"));
    let (status, said) = away.fail(&[&["history"], &place[..]].concat());
    assert!(status == 2 && said.contains("access.toml:4:1") && said.contains("placce"), "{said}");
    let missing = away.path("nowhere.toml").display().to_string();
    let place = ["--place", "s3://ridge/hut", "--access", &missing];
    let (status, said) = away.fail(&[&["history"], &place[..]].concat());
    assert!(status == 2 && said.contains("cannot be read"), "{said}");
}

#[test]
fn what_is_frozen_is_told_with_hours_and_price_and_asked_for_once() {
    let Offshore { world, server } = &Offshore::new();
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    world.stores(&format!(
        "{stores}class = \"DEEP\"\nthaw = \"12 hours\"\nprice = {{ currency = \"EUR\", gib-month = 0.002, fetch-gib = 20.0 }}\n"
    ));
    world.done(&["store", "create", "offshore"]);
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(
        status == 0 && said.contains("needs retrieval first, about 12 h and costs 20 EUR a GiB"),
        "{said}"
    );
    server.trouble(|trouble| {
        trouble.frozen_class = Some("DEEP".to_owned());
        trouble.thaws_long = true;
    });
    let to = world.path("back").display().to_string();
    let restore = ["restore", "readings@newest", "--to", &to];
    // Nobody is there to agree; nothing is asked for.
    let (status, said) = world.fail(&restore);
    assert!(
        status == 7 && said.contains("objects are in cold storage, class DEEP"),
        "{status}: {said}"
    );
    assert!(
        said.contains("about 12 h") && said.contains("EUR") && said.contains("--thaw"),
        "{said}"
    );
    let (status, said) = world.fail(&[&restore[..], &["--dry-run"]].concat());
    assert!(status == 0 && said.contains("about 12 h"), "{status}: {said}");
    let (status, again) = world.fail(&[&restore[..], &["--thaw"]].concat());
    assert!(
        status == 5
            && again.contains("requested retrieval")
            && again.contains("run the same command"),
        "{again}"
    );
    let (status, said) = world.fail(&restore);
    assert!(status == 5 && said.contains("more are already being retrieved"), "{status}: {said}");
    assert!(!world.path("back").exists());
    server.trouble(|trouble| trouble.thaws_long = false);
    world.done(&restore);
    assert_same(&world.path("ridge"), &world.path("back/ridge"));
}
