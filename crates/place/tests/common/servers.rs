//! Servers that others have written, each started for one test.

use std::{
    fs,
    io::{BufRead, BufReader},
    net::TcpListener,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

/// The Python that has the servers; `cargo xtask test` makes it.
fn python() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/servers/bin/python");
    assert!(root.is_file(), "the test servers are not installed: run cargo xtask test once");
    root
}

/// A server on a port of its own, its files in a directory of its own.
pub struct Server {
    pub child: Child,
    pub port: u16,
    pub folder: tempfile::TempDir,
    script: &'static str,
    arguments: Vec<&'static str>,
}

impl Server {
    /// Starts a script, which prints its port once it listens. It gets the server's directory and
    /// what is given here as its arguments.
    fn start(script: &'static str, folder: tempfile::TempDir, arguments: &[&'static str]) -> Self {
        let (child, port) = Self::spawn(script, &folder, arguments, None);
        Self { child, port, folder, script, arguments: arguments.to_vec() }
    }

    /// Ends the server and starts it again at the same port, with the files it had. One that keeps
    /// everything in memory has none then. `gone` ends the connections to it that are held elsewhere,
    /// which would keep the port taken.
    pub fn restart(&mut self, gone: impl FnOnce()) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        gone();
        let deadline = Instant::now() + Duration::from_secs(120);
        while TcpListener::bind(("127.0.0.1", self.port)).is_err() {
            assert!(Instant::now() < deadline, "the port stays taken");
            std::thread::sleep(Duration::from_millis(20));
        }
        let port = Some(self.port);
        (self.child, _) = Self::spawn(self.script, &self.folder, &self.arguments, port);
    }

    fn spawn(
        script: &str,
        folder: &tempfile::TempDir,
        arguments: &[&str],
        port: Option<u16>,
    ) -> (Child, u16) {
        let mut child = Command::new(python())
            .args(["-c", script])
            .arg(folder.path())
            .args(arguments)
            .args(port.map(|port| port.to_string()))
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(fs::File::create(folder.path().join("log")).expect("a log"))
            .spawn()
            .expect("starts");
        let mut line = String::new();
        let output = child.stdout.take().expect("an output");
        BufReader::new(output).read_line(&mut line).expect("reads");
        let log = || fs::read_to_string(folder.path().join("log")).unwrap_or_default();
        let port = line.trim().parse().unwrap_or_else(|_| panic!("{line:?}: {}", log()));
        (child, port)
    }

    /// WebDAV, over TLS if so; the user `keeper` with the password `two terns`.
    pub fn webdav(tls: bool) -> Self {
        let folder = tempfile::tempdir().expect("a directory");
        fs::create_dir(folder.path().join("files")).expect("makes");
        authority(folder.path());
        Self::start(include_str!("webdav.py"), folder, &[if tls { "tls" } else { "open" }])
    }

    /// FTP, over TLS if so; the user `keeper` with the password `two terns`.
    pub fn ftp(tls: bool) -> Self {
        let folder = tempfile::tempdir().expect("a directory");
        fs::create_dir(folder.path().join("files")).expect("makes");
        authority(folder.path());
        Self::start(include_str!("ftp.py"), folder, &[if tls { "tls" } else { "open" }])
    }

    /// A mail server: with STARTTLS and a login (`hut` with the password `two terns`), or open and
    /// without TLS. Each letter goes into a file `mail-1`, `mail-2` … beside its log.
    pub fn smtp(tls: bool) -> Self {
        let folder = tempfile::tempdir().expect("a directory");
        authority(folder.path());
        Self::start(include_str!("smtp.py"), folder, &[if tls { "tls" } else { "open" }])
    }

    /// An object store with the bucket `ridge`.
    pub fn s3() -> Self {
        Self::start(include_str!("s3.py"), tempfile::tempdir().expect("a directory"), &[])
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// An authority, and a certificate of it for `localhost`.
fn authority(folder: &Path) {
    let openssl = |arguments: &[&str]| {
        let done = Command::new("openssl").args(arguments).current_dir(folder).output();
        let done = done.expect("openssl is installed");
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    let key = ["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes"];
    let made = [
        "req",
        "-x509",
        "-days",
        "30",
        "-subj",
        "/CN=Ridge",
        "-keyout",
        "ca.key",
        "-out",
        "ca.pem",
    ];
    openssl(&[made.as_slice(), &key].concat());
    let asked = ["req", "-subj", "/CN=localhost", "-keyout", "key.pem", "-out", "asked.pem"];
    openssl(&[asked.as_slice(), &key].concat());
    fs::write(folder.join("names"), "subjectAltName=DNS:localhost").expect("writes");
    openssl(&[
        "x509",
        "-req",
        "-in",
        "asked.pem",
        "-CA",
        "ca.pem",
        "-CAkey",
        "ca.key",
        "-days",
        "30",
        "-CAcreateserial",
        "-extfile",
        "names",
        "-out",
        "cert.pem",
    ]);
}
