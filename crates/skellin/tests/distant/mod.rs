//! A station whose store lies on a server that others have written, at the end of a line of ours.

use std::{
    fs,
    os::unix::process::ExitStatusExt as _,
    process::{Child, Stdio},
    time::{Duration, Instant},
};

use rustix::process::{Pid, Signal, kill_process};
use skellin_standins::{Pace, Wire};

use crate::{
    servers::Server,
    sshd::{Sshd, user},
    world::{
        World,
        common::{self, content, settle, write},
        private,
    },
};

/// The kinds of servers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    Sftp,
    S3,
    WebDav,
}

pub const KINDS: [Kind; 3] = [Kind::Sftp, Kind::S3, Kind::WebDav];

enum Behind {
    Sshd(Box<Sshd>),
    Server(Server),
}

pub struct Distant {
    pub world: World,
    pub wire: Wire,
    behind: Behind,
}

const MIB: usize = 1 << 20;

impl Distant {
    /// A store there and a plan whose source has so many MiB of noise, in files of one each.
    pub fn new(kind: Kind, mib: u64, pace: Pace) -> Self {
        let world = World::bare();
        write(&world.path("key"), common::PASSPHRASE);
        private(&world.path("key"));
        let (behind, wire, more) = match kind {
            Kind::Sftp => {
                let server = Sshd::start();
                let wire = Wire::to(server.port, pace).unwrap();
                let known = fs::read_to_string(server.path("known_hosts")).unwrap();
                let through = format!("[127.0.0.1]:{}", wire.port());
                let known = known.replace(&format!("[127.0.0.1]:{}", server.port), &through);
                write(&server.path("known_through"), known);
                let more = format!(
                    "place = \"sftp://{}@127.0.0.1:{}{}\"\nidentity = \"{}\"\nknown-hosts = \"{}\"\n",
                    user(),
                    wire.port(),
                    server.path("store").display(),
                    server.path("client").display(),
                    server.path("known_through").display(),
                );
                (Behind::Sshd(Box::new(server)), wire, more)
            }
            Kind::S3 => {
                let server = Server::s3();
                let wire = Wire::to(server.port, pace).unwrap();
                write(&world.path("credentials"), "id = \"hut\"\nsecret = \"terns\"\n");
                private(&world.path("credentials"));
                let more = format!(
                    "place = \"s3://ridge/hut\"\nendpoint = \"http://127.0.0.1:{}\"\nregion = \"us-east-1\"\nstyle = \"path\"\ncredentials = {{ file = \"{}\" }}\n",
                    wire.port(),
                    world.path("credentials").display(),
                );
                (Behind::Server(server), wire, more)
            }
            Kind::WebDav => {
                let server = Server::webdav(false);
                let wire = Wire::to(server.port, pace).unwrap();
                write(&world.path("password"), "two terns");
                private(&world.path("password"));
                let more = format!(
                    "place = \"webdav://keeper@127.0.0.1:{}/dav/store\"\npassword = {{ file = \"{}\" }}\n",
                    wire.port(),
                    world.path("password").display(),
                );
                (Behind::Server(server), wire, more)
            }
        };
        world.stores(&format!(
            "[pier]\n{more}passphrase = {{ file = \"{}\" }}\n",
            world.path("key").display()
        ));
        for number in 0..mib {
            write(&world.path(&format!("ridge/{number}")), content(2 * number, MIB));
        }
        settle(&world.path("ridge"));
        let left = world.path("left").display().to_string();
        world.plan(
            "readings",
            &format!(
                "sources = [\"{}\"]\nstore = \"pier\"\n[[around]]\nenter = [\"true\"]\nleave = [\"touch\", \"{left}\"]\n",
                world.path("ridge").display()
            ),
        );
        world.done(&["store", "create", "pier"]);
        Self { world, wire, behind }
    }

    /// Ends the server with all its connections and starts it again.
    pub fn restart(&mut self) {
        let wire = &self.wire;
        match &mut self.behind {
            Behind::Sshd(server) => server.restart(),
            Behind::Server(server) => server.restart(|| wire.cut()),
        }
        wire.cut();
    }

    pub fn start(&self, arguments: &[&str]) -> Child {
        let mut command = self.world.command(arguments);
        command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }

    /// Starts a command, and waits until so many bytes went over the line.
    pub fn start_until(&self, arguments: &[&str], bytes: u64) -> Child {
        let carried = || {
            let (there, back) = self.wire.carried();
            there + back
        };
        let before = carried();
        let mut child = self.start(arguments);
        until("enough is carried", || {
            assert!(child.try_wait().unwrap().is_none(), "{arguments:?} ended too early");
            carried() >= before + bytes
        });
        child
    }
}

/// Waits until something holds.
pub fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(90), "it does not come: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Asks a process to end; its status as a shell tells it, and how long that took.
pub fn ask_to_end(child: &mut Child, signal: Signal) -> (Option<i32>, Duration) {
    let asked = Instant::now();
    kill_process(Pid::from_child(child), signal).unwrap();
    let ended = child.wait().unwrap();
    (ended.code().or(ended.signal().map(|signal| 128 + signal)), asked.elapsed())
}
