//! What went wrong is called what it is, with what to do about it and with the status that follows.

use crate::world;

use std::{
    fs,
    io::{Read as _, Write as _},
    net::{TcpListener, TcpStream},
    os::unix::fs::FileExt,
    process::{Command, Output},
    thread,
};

use world::{
    World,
    common::{content, settle, write},
};

fn station(files: u64) -> World {
    let world = World::new();
    for number in 0..files {
        write(&world.path(&format!("ridge/{number}")), content(2 * number, 9000));
    }
    settle(&world.path("ridge"));
    world.usual_plan("");
    world
}

fn text(output: &Output) -> String {
    format!(
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    )
}

#[test]
fn an_enter_command_that_is_gone_on_without_is_told_and_ends_with_4() {
    let world = station(3);
    world.plan(
        "readings",
        &format!(
            "sources = [\"{}\"]\nstore = \"oak\"\n[[around]]\nenter = [\"sh\", \"-c\", \"exit 7\"]\nleave = [\"true\"]\nif-enter-fails = \"go-on\"\n",
            world.path("ridge").display()
        ),
    );
    let output = world.output(&["run", "readings"]);
    let said = text(&output);
    assert_eq!(output.status.code(), Some(4), "{said}");
    assert!(said.contains("continued without: `sh -c exit 7`: exit status 7"), "{said}");
    assert!(said.contains("snapshot   "), "{said}");
    let (status, report) = world.json(&["run", "readings"]);
    assert_eq!((status, report["runs"][0]["status"].as_str()), (4, Some("exceptions")));
    assert!(report["runs"][0]["not-entered"][0].as_str().unwrap().contains("status 7"), "{report}");
    assert!(world.done(&["journal"]).contains("continued without"));
}

#[test]
fn a_sole_source_that_is_missing_is_asked_about() {
    let world = station(3);
    world.done(&["run", "readings"]);
    fs::rename(world.path("ridge"), world.path("away")).unwrap();
    let output = world.output(&["run", "readings"]);
    let said = text(&output);
    assert_eq!(output.status.code(), Some(7), "{said}");
    assert!(said.contains("is suddenly empty or missing") && said.contains("--agree"), "{said}");
    let output = world.output(&["run", "readings", "--dry-run"]);
    assert!(text(&output).contains("is suddenly empty or missing"), "{}", text(&output));
    // Of nothing no snapshot is made, whoever agrees.
    let (status, said) = world.fail(&["run", "readings", "--agree"]);
    assert!(status == 1 && said.contains("check mounts"), "{status}: {said}");
    fs::rename(world.path("away"), world.path("ridge")).unwrap();
    world.done(&["run", "readings"]);
    // Where there was nothing before, there is nothing to ask about.
    let fresh = station(1);
    fs::remove_dir_all(fresh.path("ridge")).unwrap();
    assert_eq!(fresh.fail(&["run", "readings"]).0, 1);
}

#[test]
fn advice_fits_what_is_damaged() {
    let world = station(30);
    world.done(&["run", "readings"]);
    for data in fs::read_dir(world.path("oak/data")).unwrap() {
        let file = fs::File::options().write(true).open(data.unwrap().path()).unwrap();
        let length = file.metadata().unwrap().len();
        for at in (300..length - 300).step_by(499) {
            file.write_all_at(&[0xa5; 7], at).unwrap();
        }
    }
    let back = world.path("back").display().to_string();
    let output = world.output(&["restore", "readings@newest", "--to", &back]);
    let said = text(&output);
    assert_eq!(output.status.code(), Some(3), "{said}");
    assert!(said.contains("skellin verify") && !said.contains("rule"), "{said}");
    // Both copies of what opens the store: to verify it would not help.
    for copy in ["skellin-store", "skellin-store.spare"] {
        write(&world.path(&format!("oak/{copy}")), b"SKELLIN\nrubbish that is long enough");
    }
    for command in [&["verify", "oak"][..], &["history", "readings"]] {
        let (status, said) = world.fail(command);
        assert_eq!(status, 3, "{said}");
        assert!(!said.contains("skellin verify"), "{said}");
        assert!(said.contains("put back an older copy"), "{said}");
    }
}

#[test]
fn a_file_system_without_inodes_is_called_that() {
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let world = station(40);
    world.done(&["run", "readings"]);
    let disk = world.path("disk");
    fs::create_dir(&disk).unwrap();
    let inside = |inodes: u32, script: &str| {
        let line = format!(
            "mount -t tmpfs -o size=40m,nr_inodes={inodes} none {disk} && {script}",
            disk = disk.display()
        );
        let mut command = Command::new("unshare");
        command.args(["--mount", "sh", "-c", &line]);
        for (name, value) in world.command(&[]).get_envs() {
            command.env(name, value.unwrap());
        }
        text(&command.output().unwrap())
    };
    let skellin = env!("CARGO_BIN_EXE_skellin");
    let said =
        inside(30, &format!("{skellin} restore readings@newest --to {}/back", disk.display()));
    assert!(said.contains("no free inodes left"), "{said}");
    assert!(said.contains("free space there"), "{said}");
    // The same behind a store.
    let script = format!(
        "cp -r {oak} {disk}/oak && sed -i 's#{oak}#{disk}/oak#' {config} && i=0; while touch {disk}/oak/unfinished/x$i; do i=$((i+1)); done 2>/dev/null; echo 1 >{ridge}/0; ls {disk}/oak/unfinished | wc -l; {skellin} run readings",
        oak = world.path("oak").display(),
        disk = disk.display(),
        config = world.path("config/stores.toml").display(),
        ridge = world.path("ridge").display(),
    );
    let said = inside(100, &script);
    assert!(said.contains("no free inodes left"), "store: {said}");
}

/// A server that answers every upload with a refusal, and everything else as if nothing were there.
fn refusing(answer: &'static str) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let serve = move |mut stream: TcpStream| {
        let mut head = Vec::new();
        let mut byte = [0];
        while !head.ends_with(b"\r\n\r\n") {
            match stream.read(&mut byte) {
                Ok(1) => head.push(byte[0]),
                _ => return,
            }
        }
        let head = String::from_utf8_lossy(&head).to_lowercase();
        let length = head.lines().find_map(|line| line.strip_prefix("content-length: "));
        let length: u64 = length.and_then(|length| length.trim().parse().ok()).unwrap_or(0);
        let is_put = head.starts_with("put ");
        if is_put && answer.is_empty() {
            return;
        }
        std::io::copy(&mut (&mut stream).take(length), &mut std::io::sink()).unwrap();
        let answer = match head.split(' ').next() {
            Some("put") => answer,
            Some("propfind") => {
                "HTTP/1.1 207 Multi-Status\r\nConnection: close\r\nContent-Length: 246\r\n\r\n<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\"><D:response><D:href>/dav/store/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response></D:multistatus>"
            }
            Some("mkcol") => {
                "HTTP/1.1 201 Created\r\nConnection: close\r\nContent-Length: 0\r\n\r\n"
            }
            _ => "HTTP/1.1 404 Not Found\r\nConnection: close\r\nContent-Length: 0\r\n\r\n",
        };
        let _ = stream.write_all(answer.as_bytes());
    };
    thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            thread::spawn(move || serve(stream));
        }
    });
    port
}

#[test]
fn a_server_that_is_full_is_called_full_in_whatever_words_it_says_so() {
    let full = "HTTP/1.1 500 Internal Server Error\r\nConnection: close\r\nContent-Length: 52\r\n\r\n<p>OSError: [Errno 28] No space left on device</p>  ";
    for (answer, expected) in [
        (
            "HTTP/1.1 507 Insufficient Storage\r\nConnection: close\r\nContent-Length: 0\r\n\r\n",
            "free space there",
        ),
        (full, "free space there"),
        (
            "HTTP/1.1 500 Oh\r\nConnection: close\r\nContent-Length: 0\r\n\r\n",
            "the server may be full",
        ),
        ("", "the server may be full"),
    ] {
        let port = refusing(answer);
        let world = World::bare();
        write(&world.path("key"), "two terns over the pier");
        world::private(&world.path("key"));
        world.stores(&format!(
            "[pier]\nplace = \"webdav://127.0.0.1:{port}/dav/store\"\npatience = \"1 s\"\npassphrase = {{ file = \"{}\" }}\n",
            world.path("key").display()
        ));
        let (status, said) = world.fail(&["store", "create", "pier"]);
        assert!(said.contains(expected), "{answer:?}: {status}: {said}");
    }
}

#[test]
fn a_restore_that_restored_nothing_says_so_and_a_slip_in_a_path_is_told() {
    let world = station(3);
    write(&world.path("ridge/2026/gauges.csv"), "1.8");
    world.done(&["run", "readings"]);
    let back = world.path("back").display().to_string();
    let restore = ["restore", "readings@newest", "--to", &back];
    assert!(world.done(&restore).contains("restored"));
    let said = world.done(&restore);
    assert!(said.starts_with("nothing was restored: all 4 paths are already there"), "{said}");
    let (_, report) = world.json(&restore);
    assert_eq!((&report["restored"], &report["left"]), (&0.into(), &4.into()));
    // A path may be given as `versions` takes it: below a source, or from where one stands.
    assert_eq!(world.done(&["print", "readings@newest", "2026/gauges.csv"]), "1.8");
    let mut here = world.command(&["print", "readings@newest", "gauges.csv"]);
    let said = here.current_dir(world.path("ridge/2026")).output().unwrap();
    assert_eq!(said.stdout, b"1.8");
    let wrong = world.path("ridge/2026/gauge.csv").display().to_string();
    let (status, said) = world.fail(&[&restore[..], &[&wrong]].concat());
    assert_eq!(status, 2);
    assert!(said.contains("did you mean") && said.contains("ridge/2026/gauges.csv?"), "{said}");
    let (status, said) = world.fail(&["print", "readings@newest", "ridge/2062/gauges.csv"]);
    assert!(status == 2 && said.contains("ridge/2026?"), "{status}: {said}");
}
