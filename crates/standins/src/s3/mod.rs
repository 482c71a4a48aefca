//! A simulated object store that speaks as much of the S3 protocol as a place asks of it, in this
//! process, on loopback, its objects in a directory.

mod answer;
mod request;
mod shelf;

use std::{
    fmt, io,
    net::{Ipv4Addr, SocketAddr},
    path::PathBuf,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use http_body_util::{BodyExt as _, Full};
use hyper::{
    Request, Response,
    body::{Bytes, Incoming},
    server::conn::http1,
    service::service_fn,
};
use hyper_util::rt::TokioIo;
use tokio::{net::TcpListener, runtime::Runtime};

use answer::Answer;
use request::Asked;
use shelf::Shelf;

/// Who may come, and where the bucket is.
#[derive(Clone, Debug)]
pub struct Bucket {
    /// Its name.
    pub name: String,
    /// Its region.
    pub region: String,
    /// The id of the only key that is let in.
    pub id: String,
    /// The secret of that key.
    pub secret: String,
}

/// What is wrong with the server, if anything; may be changed at any time.
#[derive(Clone, Debug, Default)]
pub struct Trouble {
    /// How long every answer takes longer.
    pub delay: Duration,
    /// There is room for so many bytes in all.
    pub room: Option<u64>,
    /// So many requests are sent away with a word to come again.
    pub busy: u64,
    /// It writes over what is there though it was asked not to.
    pub writes_over: bool,
    /// It says that it does not know what it means not to write over what is there.
    pub knows_no_conditions: bool,
    /// Its clock is ahead by so many seconds, or behind.
    pub clock: i64,
    /// Objects of this class have to be thawed before they are read.
    pub frozen_class: Option<String>,
    /// What was asked to be thawed is still being thawed.
    pub thaws_long: bool,
}

#[derive(Debug)]
struct Shared {
    bucket: Bucket,
    shelf: Shelf,
    trouble: Mutex<Trouble>,
    asked: AtomicU64,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A running server; it ends when this is dropped.
pub struct SimulatedS3 {
    shared: Arc<Shared>,
    address: SocketAddr,
    runtime: Option<Runtime>,
}

impl SimulatedS3 {
    /// Starts a server with its objects below a directory, on this port or any.
    ///
    /// # Errors
    /// If the port is taken or the directory cannot be made.
    pub fn start(root: impl Into<PathBuf>, bucket: Bucket, port: Option<u16>) -> io::Result<Self> {
        let shelf = Shelf::open(root.into())?;
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .thread_name("object store")
            .enable_all()
            .build()?;
        let listening = TcpListener::bind((Ipv4Addr::LOCALHOST, port.unwrap_or(0)));
        let listener = runtime.block_on(listening)?;
        let address = listener.local_addr()?;
        let (trouble, asked) = (Mutex::default(), AtomicU64::new(0));
        let shared = Arc::new(Shared { bucket, shelf, trouble, asked });
        runtime.spawn(listen(listener, Arc::clone(&shared)));
        Ok(Self { shared, address, runtime: Some(runtime) })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Its address for clients.
    #[must_use]
    pub fn endpoint(&self) -> String {
        format!("http://{}", self.address)
    }

    /// How many requests it has answered.
    #[must_use]
    pub fn asked(&self) -> u64 {
        self.shared.asked.load(Ordering::Relaxed)
    }

    /// Changes what is wrong with it.
    pub fn trouble(&self, change: impl FnOnce(&mut Trouble)) {
        change(&mut locked(&self.shared.trouble));
    }

    /// The storage classes of all objects, by name; those without one are not told.
    #[must_use]
    pub fn classes(&self) -> Vec<(String, String)> {
        self.shared.shelf.classes()
    }

    /// How many uploads in parts were begun and not ended.
    #[must_use]
    pub fn unended_uploads(&self) -> usize {
        self.shared.shelf.uploads().len()
    }
}

impl fmt::Debug for SimulatedS3 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SimulatedS3({})", self.address)
    }
}

impl Drop for SimulatedS3 {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            // Whoever is still connected is left to itself.
            runtime.shutdown_background();
        }
    }
}

async fn listen(listener: TcpListener, shared: Arc<Shared>) {
    while let Ok((stream, _)) = listener.accept().await {
        let _ = stream.set_nodelay(true);
        let shared = Arc::clone(&shared);
        let serve = service_fn(move |request| serve(request, Arc::clone(&shared)));
        let connection = http1::Builder::new().serve_connection(TokioIo::new(stream), serve);
        tokio::spawn(async move {
            // Whoever asked may be gone.
            let _ = connection.await;
        });
    }
}

async fn serve(
    request: Request<Incoming>,
    shared: Arc<Shared>,
) -> Result<Response<Full<Bytes>>, hyper::Error> {
    let trouble = locked(&shared.trouble).clone();
    if !trouble.delay.is_zero() {
        tokio::time::sleep(trouble.delay).await;
    }
    let (parts, body) = request.into_parts();
    // A connection that broke off in the middle has asked nothing.
    let body = body.collect().await?.to_bytes();
    shared.asked.fetch_add(1, Ordering::Relaxed);
    let clock = trouble.clock;
    let answering = tokio::task::spawn_blocking(move || match Asked::read(&parts, body) {
        Some(asked) => answer(&asked, &shared, &trouble),
        None => Answer::error(400, "InvalidRequest", "this is no request"),
    });
    let answer = answering.await;
    let answer = answer.unwrap_or_else(|_| Answer::error(500, "InternalError", "it broke down"));
    Ok(answer.into_response(clock))
}

fn answer(asked: &Asked, shared: &Shared, trouble: &Trouble) -> Answer {
    if let Some(refusal) = asked.refusal(&shared.bucket, trouble) {
        return refusal;
    }
    let mut current = locked(&shared.trouble);
    if current.busy > 0 {
        current.busy -= 1;
        return Answer::error(503, "SlowDown", "please come again");
    }
    drop(current);
    shared.shelf.answer(asked, &shared.bucket, trouble)
}
