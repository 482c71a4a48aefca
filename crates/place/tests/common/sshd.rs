//! A real OpenSSH server for one test.

use std::{
    fs,
    net::{TcpListener, TcpStream},
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use skellin_place::{Hop, SftpTarget, Throttles};

/// A server on a port of its own, with keys of its own.
pub struct Sshd {
    pub child: Child,
    pub port: u16,
    pub folder: tempfile::TempDir,
}

fn free_port() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.local_addr().expect("an address").port()
}

fn keygen(path: &Path, passphrase: &str) {
    let made = Command::new("ssh-keygen")
        .args(["-q", "-t", "ed25519", "-N", passphrase, "-f"])
        .arg(path)
        .status()
        .expect("ssh-keygen is installed");
    assert!(made.success());
}

pub fn user() -> String {
    let output = Command::new("id").arg("-un").output().expect("id");
    String::from_utf8(output.stdout).expect("a name").trim().to_owned()
}

impl Sshd {
    pub fn start() -> Self {
        Self::start_with("", "")
    }

    /// With more lines of configuration, and with commands that are run before it in a name space
    /// of mounts of its own; `$DIR` is the server's directory.
    pub fn start_with(more: &str, before: &str) -> Self {
        let folder = tempfile::tempdir().expect("a directory");
        let path = |name: &str| folder.path().join(name);
        for key in ["host", "client", "stranger"] {
            keygen(&path(key), "");
        }
        keygen(&path("sealed"), "two terns");
        let allowed: String = ["client.pub", "sealed.pub"]
            .map(|name| fs::read_to_string(path(name)).expect("a key"))
            .concat();
        fs::write(path("authorized_keys"), allowed).expect("writes");
        fs::create_dir(path("data")).expect("makes");
        let port = free_port();
        let shown = folder.path().display();
        let text = format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey {shown}/host\nAuthorizedKeysFile {shown}/authorized_keys\nPidFile {shown}/pid\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPasswordAuthentication yes\nSubsystem sftp internal-sftp\nMaxStartups 100\n{more}\n"
        );
        fs::write(path("config"), text).expect("writes");
        let _ = fs::create_dir_all("/run/sshd");
        let sshd = ["/usr/sbin/sshd", "/usr/bin/sshd"]
            .into_iter()
            .find(|path| Path::new(path).exists())
            .expect("openssh-server is installed");
        let serve = format!("exec {sshd} -D -e -f {shown}/config");
        let mut command = match before {
            "" => Command::new("sh"),
            _ => {
                let mut command = Command::new("unshare");
                command.args(["--mount", "sh"]);
                command
            }
        };
        let log = fs::File::create(path("log")).expect("a log");
        let child = command
            .args(["-c", &format!("set -e; DIR={shown}; {before}\n{serve}")])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .expect("starts");
        let server = Self { child, port, folder };
        let deadline = Instant::now() + Duration::from_secs(20);
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(Instant::now() < deadline, "sshd does not answer: {}", server.log());
            std::thread::sleep(Duration::from_millis(10));
        }
        // The host's key is known, as after a first visit.
        let host = fs::read_to_string(server.path("host.pub")).expect("a key");
        let known = format!("[127.0.0.1]:{port} {host}");
        fs::write(server.path("known_hosts"), known).expect("writes");
        server
    }

    /// Ends the server and starts it again at the same port; what was connected stays so.
    pub fn restart(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let log = fs::File::options().append(true).open(self.path("log")).expect("a log");
        let config = self.path("config");
        let sshd = "exec $(command -v sshd || echo /usr/sbin/sshd) -D -e -f";
        self.child = Command::new("sh")
            .args(["-c", &format!("{sshd} {}", config.display())])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .expect("starts");
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn log(&self) -> String {
        fs::read_to_string(self.path("log")).unwrap_or_default()
    }

    /// A directory there, with the right key.
    pub fn target(&self, directory: &str) -> SftpTarget {
        SftpTarget {
            hop: Hop {
                name: "127.0.0.1".to_owned(),
                address: "127.0.0.1".to_owned(),
                port: self.port,
                user: user(),
                identities: vec![self.path("client")],
                agent: false,
                password: None,
                identity_passphrase: None,
                known_hosts: vec![self.path("known_hosts")],
            },
            via: Vec::new(),
            path: self.path(directory).display().to_string(),
            connections: 2,
            patience: Duration::from_secs(20),
            throttles: Throttles::default(),
        }
    }
}

impl Drop for Sshd {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub fn private(path: &Path, mode: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("sets the mode");
}
