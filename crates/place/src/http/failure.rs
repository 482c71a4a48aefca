//! Why no answer came.

use std::{error::Error as _, io, time::Duration};

use crate::{Operation, PlaceError, PlaceErrorKind};

/// What a certificate that is not trusted means, and what to do.
pub(crate) fn certificate_reason(error: &rustls::Error) -> (String, &'static str) {
    use rustls::CertificateError as Flaw;
    let rustls::Error::InvalidCertificate(flaw) = error else {
        return (
            format!("cannot set up an encrypted connection: {error}"),
            "is this the port of a TLS server?",
        );
    };
    match flaw {
        Flaw::UnknownIssuer => (
            "its certificate was issued by an unknown authority".to_owned(),
            "if the authority is your own: ca = \"/path/to/authority.pem\"",
        ),
        Flaw::Expired | Flaw::ExpiredContext { .. } => (
            "its certificate has expired".to_owned(),
            "renew the certificate; check the clock of this machine",
        ),
        Flaw::NotValidYet | Flaw::NotValidYetContext { .. } => {
            ("its certificate is not valid yet".to_owned(), "check the clock of this machine")
        }
        Flaw::NotValidForName | Flaw::NotValidForNameContext { .. } => (
            "its certificate is for another name".to_owned(),
            "use the host name in the certificate",
        ),
        other => (
            format!("its certificate is not trusted: {other:?}"),
            "check the certificate on the server",
        ),
    }
}

/// A failure of TLS inside one of input and output.
pub(crate) fn is_certificate(error: &io::Error) -> Option<&rustls::Error> {
    error.get_ref()?.downcast_ref()
}

/// A failure in words, without the address, which may hold a signature.
pub(super) fn told(
    operation: Operation,
    subject: &str,
    server: &str,
    patience: Duration,
    error: &ureq::Error,
) -> PlaceError {
    let because = |kind, reason: String| PlaceError::because(operation, subject, kind, reason);
    let tls = |error: &rustls::Error| {
        let (reason, hint) = certificate_reason(error);
        because(PlaceErrorKind::Certificate, reason).with_hint(hint)
    };
    let nameless = || {
        because(PlaceErrorKind::Unreachable, format!("the host name of {server} does not resolve"))
            .with_hint("check the spelling of the host name, and DNS on this machine")
    };
    match error {
        ureq::Error::HostNotFound => nameless(),
        ureq::Error::Timeout(_) => {
            because(PlaceErrorKind::Slow, format!("no answer within {} s", patience.as_secs()))
                .with_hint("is the host up, and the network?")
        }
        ureq::Error::Rustls(error) => tls(error),
        ureq::Error::Io(error) => {
            if let Some(flaw) = is_certificate(error) {
                return tls(flaw);
            }
            match error.kind() {
                io::ErrorKind::ConnectionRefused => {
                    because(PlaceErrorKind::Unreachable, "nothing listens on its port".to_owned())
                        .with_hint("is the service running, on this port?")
                }
                io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock => because(
                    PlaceErrorKind::Slow,
                    format!("no answer within {} s", patience.as_secs()),
                ),
                io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable => {
                    because(PlaceErrorKind::Unreachable, format!("it cannot be reached: {error}"))
                        .with_hint("is the host up, and the network?")
                }
                // The standard library has no kind of its own for it.
                _ if error.to_string().starts_with("failed to lookup address") => nameless(),
                _ => because(PlaceErrorKind::Cut, format!("the connection was lost: {error}")),
            }
        }
        ureq::Error::ConnectionFailed => {
            because(PlaceErrorKind::Unreachable, "it cannot be reached".to_owned())
        }
        ureq::Error::Protocol(error) => {
            because(PlaceErrorKind::Cut, format!("the answer is incomplete: {error}"))
                .with_hint("is this the port of an HTTP server?")
        }
        ureq::Error::Tls(why) => because(PlaceErrorKind::Certificate, (*why).to_owned()),
        // Others carry no address either, but for the one that says it is wrong.
        ureq::Error::BadUri(_) => {
            because(PlaceErrorKind::Failed, "its address is not valid".to_owned())
        }
        other => {
            let deeper = other.source().map(|source| format!(": {source}")).unwrap_or_default();
            because(PlaceErrorKind::Failed, format!("{other}{deeper}"))
        }
    }
}
