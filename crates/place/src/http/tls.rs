//! Which certificates count.

use std::{fs, path::Path, sync::Arc};

use rustls::pki_types::{CertificateDer, pem::PemObject};
use rustls_platform_verifier::BuilderVerifierExt;
use ureq::tls::{Certificate, RootCerts};

/// The certificates in a file of a private authority.
pub(crate) fn read_authority(file: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let shown = file.display();
    let text = fs::read(file).map_err(|error| format!("{shown}: {error}"))?;
    let found: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(&text).collect();
    match found {
        Ok(found) if !found.is_empty() => Ok(found),
        Ok(_) => Err(format!("{shown} contains no certificate")),
        Err(error) => Err(format!("{shown} contains no certificate: {error:?}")),
    }
}

/// The authorities an HTTPS server's certificate may be from.
pub(super) fn roots(authority: Option<&Path>) -> Result<RootCerts, String> {
    let Some(file) = authority else { return Ok(RootCerts::PlatformVerifier) };
    let certificates = read_authority(file)?;
    Ok(certificates.iter().map(|der| Certificate::from_der(der).to_owned()).into())
}

/// The same, for other protocols over TLS.
pub(crate) fn client_config(authority: Option<&Path>) -> Result<Arc<rustls::ClientConfig>, String> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?;
    let config = match authority {
        Some(file) => {
            let mut roots = rustls::RootCertStore::empty();
            for certificate in read_authority(file)? {
                roots.add(certificate).map_err(|error| format!("{}: {error}", file.display()))?;
            }
            builder.with_root_certificates(roots).with_no_client_auth()
        }
        None => builder
            .with_platform_verifier()
            .map_err(|error| error.to_string())?
            .with_no_client_auth(),
    };
    Ok(Arc::new(config))
}
