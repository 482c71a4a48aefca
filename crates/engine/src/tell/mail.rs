//! Mail (RFC 5321, RFC 5322): by a server with TLS, or by the machine's own `sendmail`.

use std::{path::Path, time::Duration};

use lettre::{
    Message as Mail, SendmailTransport, Transport,
    message::{Mailbox, header::ContentType},
};
use skellin_place::{MailSubmission, submit_mail};
use skellin_plan::{MailServer, SecretSource};
use zeroize::Zeroizing;

use super::NotSent;
use crate::{journal::Message, secrets::read_secret};

/// A message as a letter.
pub(super) struct Letter<'a> {
    pub to: &'a str,
    pub from: Option<&'a str>,
    pub machine: &'a str,
    pub message: &'a Message,
}

impl Letter<'_> {
    fn mail(&self) -> Result<Mail, NotSent> {
        let wrong = |error: &dyn std::fmt::Display| NotSent::Letter(error.to_string());
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
) -> Result<(), NotSent> {
    let mail = letter.mail()?;
    let MailServer::Smtp { user, host, port, tls_at_once } = server else {
        let sent = SendmailTransport::new().send(&mail);
        return sent.map_err(|error| NotSent::Sendmail(chain(&error)));
    };
    let login = match (user, password) {
        (Some(user), Some(source)) => {
            let secret = read_secret(source, "the mail server").map_err(NotSent::Secret)?;
            let secret = String::from_utf8(secret.to_vec()).map_err(|_| NotSent::Password)?;
            Some((user.as_str(), Zeroizing::new(secret)))
        }
        _ => None,
    };
    let own_name = host_label(letter.machine);
    let submission = MailSubmission {
        host,
        port: *port,
        tls_at_once: *tls_at_once,
        authority: ca,
        login,
        own_name: &own_name,
        patience,
    };
    let envelope = mail.envelope();
    let address = |address: Option<&lettre::Address>| {
        address
            .map(ToString::to_string)
            .ok_or_else(|| NotSent::Letter("it has no recipient".to_owned()))
    };
    let (from, to) = (address(envelope.from())?, address(envelope.to().first())?);
    submit_mail(&submission, &from, &to, &mail.formatted()).map_err(|error| NotSent::Mail {
        server: server.to_string(),
        error,
        patience,
    })
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
