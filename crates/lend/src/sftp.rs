//! SFTP (draft-ietf-secsh-filexfer-02) over SSH: everything may be read, nothing changed.

mod files;

use std::{
    collections::HashMap,
    io,
    net::{IpAddr, SocketAddr},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use russh::{
    Channel, ChannelId, MethodKind, MethodSet,
    keys::{HashAlg, PrivateKey, ssh_key::private::Ed25519Keypair},
    server::{Auth, ChannelOpenHandle, Config, Handler, Msg, Session, run_stream},
};
use tokio::{net::TcpListener, runtime::Runtime};

use crate::{
    guard::{Deed, Guard, Via},
    view::View,
};
use files::Files;

/// Whoever has not logged in after this time is sent away.
const LOGIN: Duration = Duration::from_secs(30);
/// Whoever asks nothing for so long is sent away.
const IDLE: Duration = Duration::from_secs(10 * 60);
/// So many channels may be open on one connection.
const CHANNELS: usize = 4;

/// A server that listens.
pub(crate) struct Listening {
    pub address: SocketAddr,
    /// The hash by which people compare its key.
    pub fingerprint: String,
    /// Its public key, as files of known hosts have it.
    pub public: String,
}

/// Begins to listen.
pub(crate) fn listen(
    runtime: &Runtime,
    (address, port): (IpAddr, u16),
    view: Arc<View>,
    guard: Arc<Guard>,
) -> io::Result<Listening> {
    let mut seed = [0; 32];
    getrandom::fill(&mut seed).map_err(io::Error::other)?;
    let key = PrivateKey::from(Ed25519Keypair::from_seed(&seed));
    let fingerprint = key.public_key().fingerprint(HashAlg::Sha256).to_string();
    let public = key.public_key().to_openssh().map_err(io::Error::other)?;
    let config = Config {
        methods: MethodSet::from([MethodKind::Password].as_slice()),
        keys: vec![key],
        nodelay: true,
        auth_rejection_time: Duration::from_millis(500),
        auth_rejection_time_initial: Some(Duration::ZERO),
        max_auth_attempts: 4,
        inactivity_timeout: Some(IDLE),
        ..Config::default()
    };
    let listener = runtime.block_on(TcpListener::bind((address, port)))?;
    let address = listener.local_addr()?;
    runtime.spawn(accept(listener, Arc::new(config), view, guard));
    Ok(Listening { address, fingerprint, public })
}

async fn accept(listener: TcpListener, config: Arc<Config>, view: Arc<View>, guard: Arc<Guard>) {
    loop {
        // Too many open files, say: the next one may find room.
        let Ok((stream, from)) = listener.accept().await else {
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        let Some(present) = guard.enter(from, Via::Sftp) else { continue };
        let is_in = Arc::new(AtomicBool::new(false));
        let visitor = Visitor {
            view: Arc::clone(&view),
            guard: Arc::clone(&guard),
            from,
            is_in: Arc::clone(&is_in),
            channels: HashMap::new(),
        };
        let config = Arc::clone(&config);
        tokio::spawn(async move {
            let _present = present;
            let stays = async {
                // Whoever called may hang up at any time.
                if let Ok(session) = run_stream(config, stream, visitor).await {
                    let _ = session.await;
                }
            };
            let strangers = async {
                tokio::time::sleep(LOGIN).await;
                if is_in.load(Ordering::SeqCst) {
                    std::future::pending::<()>().await;
                }
            };
            tokio::select! {
                () = stays => {}
                () = strangers => {}
            }
        });
    }
}

/// One who called.
struct Visitor {
    view: Arc<View>,
    guard: Arc<Guard>,
    from: SocketAddr,
    is_in: Arc<AtomicBool>,
    channels: HashMap<ChannelId, Channel<Msg>>,
}

impl Handler for Visitor {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        if !self.guard.admits(user, password, (self.from, Via::Sftp)) {
            return Ok(Auth::reject());
        }
        self.is_in.store(true, Ordering::SeqCst);
        self.guard.tell(self.from, Via::Sftp, Deed::Came);
        Ok(Auth::Accept)
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), russh::Error> {
        if self.channels.len() >= CHANNELS {
            reply.reject(russh::ChannelOpenFailure::ResourceShortage).await;
            return Ok(());
        }
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
                let (view, guard) = (Arc::clone(&self.view), Arc::clone(&self.guard));
                let files = Files::new(view, guard, self.from);
                tokio::spawn(russh_sftp::server::run(channel.into_stream(), files));
            }
            None => session.channel_failure(id)?,
        }
        Ok(())
    }
}
