//! WebDAV (RFC 4918) and plain HTTP: everything may be read, nothing changed.

mod answers;

use std::{
    convert::Infallible,
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::Duration,
};

use base64::{Engine as _, prelude::BASE64_STANDARD};
use hyper::{
    Method, Request, Response, StatusCode,
    body::Incoming,
    header::{AUTHORIZATION, HeaderMap, RANGE},
    server::conn::http1,
    service::service_fn,
};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::{net::TcpListener, runtime::Runtime};

use crate::{
    guard::{Guard, Via},
    view::View,
};
use answers::{Body, Web};

/// A request has to be told within this time.
const REQUEST: Duration = Duration::from_secs(30);
/// The longest head of a request, in bytes.
const HEAD: usize = 16 << 10;

/// Begins to listen; the address.
pub(crate) fn listen(
    runtime: &Runtime,
    (address, port): (IpAddr, u16),
    view: Arc<View>,
    guard: Arc<Guard>,
) -> io::Result<SocketAddr> {
    let listener = runtime.block_on(TcpListener::bind((address, port)))?;
    let address = listener.local_addr()?;
    runtime.spawn(accept(listener, view, guard));
    Ok(address)
}

async fn accept(listener: TcpListener, view: Arc<View>, guard: Arc<Guard>) {
    loop {
        let Ok((stream, from)) = listener.accept().await else {
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        let Some(present) = guard.enter(from, Via::Web) else { continue };
        let (view, guard) = (Arc::clone(&view), Arc::clone(&guard));
        let serve = service_fn(move |request| {
            let (view, guard) = (Arc::clone(&view), Arc::clone(&guard));
            async move { Ok::<_, Infallible>(serve(&request, (view, guard, from))) }
        });
        let connection = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(REQUEST)
            .max_buf_size(HEAD)
            .serve_connection(TokioIo::new(stream), serve);
        tokio::spawn(async move {
            let _present = present;
            // Whoever asked may be gone.
            let _ = connection.await;
        });
    }
}

fn is_let_in(headers: &HeaderMap, guard: &Guard, from: SocketAddr) -> bool {
    let given = headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok());
    let coded = given.and_then(|given| given.strip_prefix("Basic "));
    let plain = coded.and_then(|coded| BASE64_STANDARD.decode(coded.trim()).ok());
    let text = plain.and_then(|plain| String::from_utf8(plain).ok());
    // Clients ask without a password first: that is no wrong one.
    text.as_deref()
        .and_then(|text| text.split_once(':'))
        .is_some_and(|(user, password)| guard.admits(user, password, (from, Via::Web)))
}

fn serve(
    request: &Request<Incoming>,
    (view, guard, from): (Arc<View>, Arc<Guard>, SocketAddr),
) -> Response<Body> {
    if !is_let_in(request.headers(), &guard, from) {
        return answers::ask_password();
    }
    let Some(path) = answers::decoded(request.uri().path()) else {
        return answers::plain(StatusCode::BAD_REQUEST, "the path is not valid\n");
    };
    let web = Web { view, guard, from, path };
    let range = request.headers().get(RANGE).and_then(|range| range.to_str().ok());
    match request.method() {
        &Method::GET => web.get(range, true),
        &Method::HEAD => web.get(None, false),
        &Method::OPTIONS => answers::options(),
        method if method.as_str() == "PROPFIND" => {
            let depth = request.headers().get("depth").and_then(|depth| depth.to_str().ok());
            web.properties(depth)
        }
        _ => answers::refused(),
    }
}
