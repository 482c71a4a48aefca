//! A simulated SSH server that does nothing but SFTP (draft-ietf-secsh-filexfer-02), in this
//! process, on loopback, its files in a directory.

mod files;

use std::{
    collections::HashMap,
    fmt, fs, io,
    net::{Ipv4Addr, SocketAddr},
    os::unix::fs::OpenOptionsExt as _,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use russh::{
    Channel, ChannelId,
    keys::{HashAlg, PrivateKey, ssh_key::private::Ed25519Keypair},
    server::{
        Auth, ChannelOpenHandle, Config, Handler, Msg, Session, VerifiedPublicKey, run_stream,
    },
};
use tokio::{net::TcpListener, runtime::Runtime};

use files::Files;

/// Who is let in.
#[derive(Clone, Debug)]
pub struct Account {
    /// The user's name.
    pub user: String,
    /// The password.
    pub password: String,
    /// A public key that is let in as well, as one line.
    pub key: Option<String>,
}

/// What is wrong with the server, if anything; may be changed at any time.
#[derive(Clone, Debug, Default)]
pub struct SftpTrouble {
    /// There is room for so many bytes in all.
    pub room: Option<u64>,
    /// Nothing may be written.
    pub read_only: bool,
    /// Every file is told to have so many bytes.
    pub claims: Option<u64>,
}

#[derive(Debug)]
struct Shared {
    root: PathBuf,
    account: Account,
    trouble: Mutex<SftpTrouble>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A running server; it ends when this is dropped.
pub struct SimulatedSftp {
    shared: Arc<Shared>,
    address: SocketAddr,
    host_key: PrivateKey,
    runtime: Option<Runtime>,
}

impl fmt::Debug for SimulatedSftp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SimulatedSftp({})", self.address)
    }
}

/// The server's own key, made once and kept in a file.
fn host_key(file: &Path) -> io::Result<PrivateKey> {
    let seed: [u8; 32] = match fs::read(file) {
        Ok(bytes) => bytes.try_into().map_err(|_| io::ErrorKind::InvalidData)?,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let mut seed = [0; 32];
            getrandom::fill(&mut seed).map_err(io::Error::other)?;
            let mut options = fs::OpenOptions::new();
            let mut file = options.write(true).create_new(true).mode(0o600).open(file)?;
            io::Write::write_all(&mut file, &seed)?;
            seed
        }
        Err(error) => return Err(error),
    };
    Ok(PrivateKey::from(Ed25519Keypair::from_seed(&seed)))
}

impl SimulatedSftp {
    /// Starts a server whose files lie below a directory, on this port or any. `key`: the file its
    /// own key is kept in, made if it is not there.
    ///
    /// # Errors
    /// If the port is taken, or the directory or the key cannot be made.
    pub fn start(
        root: impl Into<PathBuf>,
        account: Account,
        key: &Path,
        port: Option<u16>,
    ) -> io::Result<Self> {
        let root = root.into();
        fs::create_dir_all(&root)?;
        let host_key = host_key(key)?;
        let config = Config {
            auth_rejection_time: std::time::Duration::ZERO,
            keys: vec![host_key.clone()],
            nodelay: true,
            window_size: 16 << 20,
            maximum_packet_size: 65_535,
            ..Config::default()
        };
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .thread_name("sftp server")
            .enable_all()
            .build()?;
        let listening = TcpListener::bind((Ipv4Addr::LOCALHOST, port.unwrap_or(0)));
        let listener = runtime.block_on(listening)?;
        let address = listener.local_addr()?;
        let shared = Arc::new(Shared { root, account, trouble: Mutex::default() });
        runtime.spawn(listen(listener, Arc::new(config), Arc::clone(&shared)));
        Ok(Self { shared, address, host_key, runtime: Some(runtime) })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The line of a file of known hosts by which this server is known under a name and a port.
    #[must_use]
    pub fn known_as(&self, host: &str, port: u16) -> String {
        let key = self.host_key.public_key().to_openssh().unwrap_or_default();
        format!("[{host}]:{port} {key}\n")
    }

    /// The hash by which people compare its key.
    #[must_use]
    pub fn sha256(&self) -> String {
        self.host_key.public_key().fingerprint(HashAlg::Sha256).to_string()
    }

    /// Changes what is wrong with it.
    pub fn trouble(&self, change: impl FnOnce(&mut SftpTrouble)) {
        change(&mut locked(&self.shared.trouble));
    }
}

impl Drop for SimulatedSftp {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            // Whoever is still connected is left to itself.
            runtime.shutdown_background();
        }
    }
}

async fn listen(listener: TcpListener, config: Arc<Config>, shared: Arc<Shared>) {
    while let Ok((stream, _)) = listener.accept().await {
        let _ = stream.set_nodelay(true);
        let client = Client { shared: Arc::clone(&shared), channels: HashMap::new() };
        let config = Arc::clone(&config);
        tokio::spawn(async move {
            // Whoever called may hang up at any time.
            if let Ok(session) = run_stream(config, stream, client).await {
                let _ = session.await;
            }
        });
    }
}

/// One who called.
struct Client {
    shared: Arc<Shared>,
    channels: HashMap<ChannelId, Channel<Msg>>,
}

impl Handler for Client {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        let account = &self.shared.account;
        Ok(match user == account.user && password == account.password {
            true => Auth::Accept,
            false => Auth::reject(),
        })
    }

    async fn auth_publickey(
        &mut self,
        user: &str,
        key: VerifiedPublicKey<'_>,
    ) -> Result<Auth, russh::Error> {
        let Account { user: own, key: known, .. } = &self.shared.account;
        let known = known.as_ref().and_then(|line| russh::keys::PublicKey::from_openssh(line).ok());
        let fits = known.is_some_and(|known| known.key_data() == key.public_key.key_data());
        Ok(if user == own && fits { Auth::Accept } else { Auth::reject() })
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), russh::Error> {
        self.channels.insert(channel.id(), channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(
        &mut self,
        id: ChannelId,
        name: &str,
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        match self.channels.remove(&id).filter(|_| name == "sftp") {
            Some(channel) => {
                session.channel_success(id)?;
                let files = Files::new(Arc::clone(&self.shared));
                tokio::spawn(russh_sftp::server::run(channel.into_stream(), files));
            }
            None => session.channel_failure(id)?,
        }
        Ok(())
    }
}
