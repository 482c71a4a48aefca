//! A snapshot, or a part of it, lent for a while: over SFTP and WebDAV, to any ordinary client, and
//! read-only.

mod guard;
mod sftp;
mod view;
mod web;

use std::{
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
};

use tokio::runtime::Runtime;

pub use guard::{Deed, Teller, USER, Via, Visit, WRONG};
pub use view::View;

use guard::Guard;

/// Letters and digits that nobody takes for others.
const LETTERS: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";
/// Letters of a password, 5 bits each.
const LENGTH: usize = 16;

/// Where and to whom something is lent.
#[derive(Clone, Debug)]
pub struct Terms {
    /// The address to listen on.
    pub address: IpAddr,
    /// The port for SFTP; 0: any.
    pub sftp: u16,
    /// The port for WebDAV; 0: any. None: no WebDAV.
    pub web: Option<u16>,
    /// The password.
    pub password: String,
}

/// Something that is lent, until it is dropped.
pub struct Lending {
    /// Where SFTP is.
    pub sftp: SocketAddr,
    /// Where WebDAV is.
    pub web: Option<SocketAddr>,
    /// The hash by which people compare the SSH server's key.
    pub fingerprint: String,
    /// The SSH server's public key, as files of known hosts have it.
    pub public_key: String,
    runtime: Option<Runtime>,
}

impl Lending {
    /// Begins.
    ///
    /// # Errors
    /// If it cannot listen there.
    pub fn begin(view: View, terms: &Terms, tell: Teller) -> io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .thread_name("lend")
            .enable_all()
            .build()?;
        let (view, guard) = (Arc::new(view), Guard::new(&terms.password, tell));
        let at = (terms.address, terms.sftp);
        let ssh = sftp::listen(&runtime, at, Arc::clone(&view), Arc::clone(&guard))?;
        let web = match terms.web {
            Some(port) => Some(web::listen(&runtime, (terms.address, port), view, guard)?),
            None => None,
        };
        Ok(Self {
            sftp: ssh.address,
            web,
            fingerprint: ssh.fingerprint,
            public_key: ssh.public,
            runtime: Some(runtime),
        })
    }
}

impl Drop for Lending {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            // Whoever is here still is cut off.
            runtime.shutdown_background();
        }
    }
}

/// A password that nobody has had before: 80 bits, in groups.
///
/// # Errors
/// If the machine has no random numbers.
pub fn new_password() -> io::Result<String> {
    let mut random = [0; LENGTH];
    getrandom::fill(&mut random).map_err(io::Error::other)?;
    let letters: Vec<char> =
        random.iter().map(|byte| char::from(LETTERS[usize::from(byte % 32)])).collect();
    let groups: Vec<String> = letters.chunks(4).map(|group| group.iter().collect()).collect();
    Ok(groups.join("-"))
}
