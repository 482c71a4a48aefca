//! Mail (RFC 5321, RFC 5322): by a server with TLS, or by the machine's own `sendmail`.

use std::{path::Path, time::Duration};

use lettre::{
    Message as Mail, SendmailTransport, SmtpTransport, Transport,
    message::{Mailbox, header::ContentType},
    transport::smtp::{
        authentication::Credentials,
        client::{Certificate, Tls, TlsParameters},
        extension::ClientId,
    },
};
use skellin_plan::{MailServer, SecretSource};

use crate::{journal::Message, secrets::read_secret};

/// A message as a letter.
pub(super) struct Letter<'a> {
    pub to: &'a str,
    pub from: Option<&'a str>,
    pub machine: &'a str,
    pub message: &'a Message,
}

impl Letter<'_> {
    fn mail(&self) -> Result<Mail, String> {
        let wrong =
            |error: &dyn std::fmt::Display| format!("the mail could not be written: {error}");
        let domain = self.to.rsplit_once('@').map_or("localhost", |(_, domain)| domain);
        let made = format!("skellin-{}@{domain}", host_label(self.machine));
        let from = self.from.unwrap_or(&made);
        let mailbox = |address: &str, name: Option<String>| {
            address
                .parse()
                .map(|address| Mailbox::new(name, address))
                .map_err(|error| wrong(&error))
        };
        Mail::builder()
            .from(mailbox(from, Some(format!("Skellin on {}", self.machine)))?)
            .to(mailbox(self.to, None)?)
            .subject(&self.message.subject)
            .header(ContentType::TEXT_PLAIN)
            .body(self.message.body.clone())
            .map_err(|error| wrong(&error))
    }
}

/// A machine's name as a part of an address.
fn host_label(machine: &str) -> String {
    let fine = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' };
    machine.chars().map(fine).collect()
}

/// Sends a letter.
///
/// # Errors
/// Why it did not go out.
pub(super) fn send(
    letter: &Letter<'_>,
    server: &MailServer,
    password: Option<&SecretSource>,
    ca: Option<&Path>,
    patience: Duration,
) -> Result<(), String> {
    let mail = letter.mail()?;
    let MailServer::Smtp { user, host, port, tls_at_once } = server else {
        let sent = SendmailTransport::new().send(&mail);
        return sent.map_err(|error| format!("sendmail of this machine failed: {}", chain(&error)));
    };
    let mut tls = TlsParameters::builder(host.clone());
    if let Some(ca) = ca {
        let text = std::fs::read(ca).map_err(|error| format!("{}: {error}", ca.display()))?;
        let certificate = Certificate::from_pem(&text)
            .map_err(|error| format!("{} holds no certificate: {error}", ca.display()))?;
        tls = tls.add_root_certificate(certificate);
    }
    let tls = tls.build().map_err(|error| chain(&error))?;
    let tls = if *tls_at_once { Tls::Wrapper(tls) } else { Tls::Required(tls) };
    let mut transport = SmtpTransport::builder_dangerous(host.as_str())
        .port(*port)
        .tls(tls)
        .hello_name(ClientId::Domain(host_label(letter.machine)))
        .timeout(Some(patience));
    if let (Some(user), Some(source)) = (user, password) {
        let secret = read_secret(source, "the mail server").map_err(|error| error.to_string())?;
        let secret =
            String::from_utf8(secret.to_vec()).map_err(|_| "the password is no text".to_owned())?;
        transport = transport.credentials(Credentials::new(user.clone(), secret));
    }
    transport.build().send(&mail).map(drop).map_err(|error| explain(server, &error, patience))
}

/// A failure with what to do about it.
fn explain(
    server: &MailServer,
    error: &lettre::transport::smtp::Error,
    patience: Duration,
) -> String {
    let is_slow = error.is_timeout() || is_would_block(error);
    let words = match is_slow {
        true => format!("no answer came within {} s", patience.as_secs()),
        false => chain(error),
    };
    let login = error.status().is_some_and(|status| status.to_string() == "535");
    let remedy = if login {
        "; is the user in `server` right, and the password?"
    } else if words.contains("certificate") || words.contains("UnknownIssuer") {
        "; if its authority is your own, name it: ca = \"/path/to/authority.pem\""
    } else if words.contains("STARTTLS") {
        "; nothing is sent without TLS: smtps:// begins with it at once"
    } else if is_slow || words.contains("refused") {
        "; is it up, and is the port the one for submission (587, or 465 with smtps://)?"
    } else {
        ""
    };
    format!("the mail server {server}: {words}{remedy}")
}

/// Whether a time limit of the socket was reached, which the kernel tells in other words.
fn is_would_block(error: &lettre::transport::smtp::Error) -> bool {
    let mut source = std::error::Error::source(error);
    while let Some(cause) = source {
        let kind = cause.downcast_ref::<std::io::Error>().map(std::io::Error::kind);
        if matches!(kind, Some(std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut)) {
            return true;
        }
        source = cause.source();
    }
    false
}

/// A failure and its causes, each once.
fn chain(error: &dyn std::error::Error) -> String {
    let mut words = error.to_string();
    let mut source = error.source();
    while let Some(cause) = source {
        let told = cause.to_string();
        if !words.contains(&told) {
            words.push_str(&format!(": {told}"));
        }
        source = cause.source();
    }
    words
}
