//! Handing a letter to a mail server: submission (RFC 6409) over SMTP (RFC 5321), with TLS at once
//! (RFC 8314) or after STARTTLS (RFC 3207), and a login (RFC 4954).
//!
//! Answers are read a byte at a time while the line is in clear, so that nothing somebody slipped in
//! before TLS is ever taken for an answer under it.

use std::{
    io::{self, Read, Write},
    net::{TcpStream, ToSocketAddrs},
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use rustls::{ClientConnection, StreamOwned, pki_types::ServerName};
use zeroize::Zeroizing;

use crate::http::{certificate_reason, client_config, is_certificate};

/// No line of an answer is longer, in bytes,
const LONGEST_LINE: usize = 2048;
/// nor has one more lines.
const MOST_LINES: usize = 100;

/// A mail server, and who submits there.
pub struct MailSubmission<'a> {
    /// Its name.
    pub host: &'a str,
    /// Its port.
    pub port: u16,
    /// Whether TLS begins at once, as against after STARTTLS. One of the two it is always.
    pub tls_at_once: bool,
    /// A file with the certificates of a private authority; else the machine's own count.
    pub authority: Option<&'a Path>,
    /// User and password, if the server wants to know.
    pub login: Option<(&'a str, Zeroizing<String>)>,
    /// How we call ourselves.
    pub own_name: &'a str,
    /// So long each answer may take.
    pub patience: Duration,
}

/// Why a letter was not taken.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MailError {
    /// The server cannot be reached, or the line broke.
    #[error("{0}")]
    Line(#[from] io::Error),
    /// No answer came in time.
    #[error("no answer in time")]
    Slow,
    /// Its certificate is not to be trusted.
    #[error("{0}")]
    Certificate(String),
    /// It offers no STARTTLS.
    #[error("it does not offer STARTTLS")]
    NoTls,
    /// It refused the login, in these words.
    #[error("it refused the login: {0}")]
    Login(String),
    /// It said something else than it should.
    #[error("it says {0}")]
    Said(String),
    /// Something of the letter cannot be sent.
    #[error("{0}")]
    Letter(String),
}

/// An answer: its code, and the words of its lines.
struct Answer {
    code: u16,
    lines: Vec<String>,
}

impl Answer {
    fn words(&self) -> String {
        format!("{} {}", self.code, self.lines.join(" "))
    }
}

/// A line to the server, in clear or not.
struct Line<S> {
    stream: S,
    until: Instant,
}

impl<S: Read + Write> Line<S> {
    fn read_line(&mut self) -> Result<String, MailError> {
        let (mut line, mut byte) = (Vec::new(), [0]);
        loop {
            if Instant::now() > self.until {
                return Err(MailError::Slow);
            }
            match self.stream.read(&mut byte) {
                Ok(0) => return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into()),
                Ok(_) if byte[0] == b'\n' => break,
                Ok(_) if line.len() < LONGEST_LINE => line.push(byte[0]),
                Ok(_) => return Err(MailError::Said("a line is too long".into())),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(of_line(error)),
            }
        }
        Ok(String::from_utf8_lossy(&line).trim_end().to_owned())
    }

    fn answer(&mut self) -> Result<Answer, MailError> {
        let mut lines = Vec::new();
        loop {
            let line = self.read_line()?;
            let code = line.get(..3).and_then(|code| code.parse().ok());
            let (Some(code), rest) = (code, line.get(3..).unwrap_or_default()) else {
                return Err(MailError::Said(format!("an invalid answer: {line}")));
            };
            lines.push(rest.get(1..).unwrap_or_default().to_owned());
            if !rest.starts_with('-') {
                return Ok(Answer { code, lines });
            }
            if lines.len() > MOST_LINES {
                return Err(MailError::Said("an answer with too many lines".to_owned()));
            }
        }
    }

    fn ask(&mut self, command: &str) -> Result<Answer, MailError> {
        self.stream.write_all(format!("{command}\r\n").as_bytes()).map_err(of_line)?;
        self.stream.flush().map_err(of_line)?;
        self.answer()
    }

    /// Asks, and insists on an answer that begins with this digit.
    fn demand(&mut self, command: &str, digit: u16) -> Result<Answer, MailError> {
        let answer = self.ask(command)?;
        match answer.code / 100 == digit {
            true => Ok(answer),
            false => Err(MailError::Said(answer.words())),
        }
    }

    fn greeting(&mut self) -> Result<(), MailError> {
        let answer = self.answer()?;
        match answer.code {
            220 => Ok(()),
            _ => Err(MailError::Said(answer.words())),
        }
    }

    fn login(
        &mut self,
        offers: &Answer,
        user: &str,
        password: &Zeroizing<String>,
    ) -> Result<(), MailError> {
        let ways = offers.lines.iter().find_map(|line| {
            line.get(..4).filter(|word| word.eq_ignore_ascii_case("AUTH"))?;
            Some(line[4..].to_ascii_uppercase())
        });
        let ways = ways.unwrap_or_default();
        let has = |way: &str| ways.split_whitespace().any(|offered| offered == way);
        let answer = if has("PLAIN") || !has("LOGIN") {
            let plain = Zeroizing::new(format!("\0{user}\0{}", password.as_str()));
            let words = Zeroizing::new(format!("AUTH PLAIN {}", STANDARD.encode(plain.as_bytes())));
            self.ask(&words)?
        } else {
            self.demand("AUTH LOGIN", 3)?;
            self.demand(&STANDARD.encode(user), 3)?;
            let words = Zeroizing::new(STANDARD.encode(password.as_bytes()));
            self.ask(&words)?
        };
        match answer.code {
            235 => Ok(()),
            _ => Err(MailError::Login(answer.words())),
        }
    }
}

fn of_line(error: io::Error) -> MailError {
    if let Some(flaw) = is_certificate(&error) {
        return MailError::Certificate(certificate_reason(flaw).0);
    }
    match error.kind() {
        io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut => MailError::Slow,
        _ => MailError::Line(error),
    }
}

/// Hands a letter over. `letter` is the whole text, headers first.
///
/// # Errors
/// [`MailError`]; without an error the server has taken it.
pub fn submit_mail(
    server: &MailSubmission<'_>,
    from: &str,
    to: &str,
    letter: &[u8],
) -> Result<(), MailError> {
    let is_odd = |text: &str| text.contains(['\r', '\n', '<', '>', '\0']);
    if is_odd(from) || is_odd(to) {
        return Err(MailError::Letter("an address contains invalid characters".to_owned()));
    }
    let config = client_config(server.authority).map_err(MailError::Certificate)?;
    let name = ServerName::try_from(server.host.to_owned())
        .map_err(|_| MailError::Certificate(format!("{} is not a host name", server.host)))?;
    let addresses: Vec<_> = (server.host, server.port).to_socket_addrs()?.collect();
    let mut failed = io::Error::from(io::ErrorKind::AddrNotAvailable);
    let mut found = None;
    for address in addresses {
        match TcpStream::connect_timeout(&address, server.patience) {
            Ok(stream) => {
                found = Some(stream);
                break;
            }
            Err(error) => failed = error,
        }
    }
    let stream = found.ok_or(failed).map_err(of_line)?;
    stream.set_read_timeout(Some(server.patience))?;
    stream.set_write_timeout(Some(server.patience))?;
    let until = Instant::now() + server.patience * 10;
    let hello = format!("EHLO {}", server.own_name);
    let mut clear = Line { stream, until };
    if !server.tls_at_once {
        clear.greeting()?;
        let offers = clear.demand(&hello, 2)?;
        if !offers.lines.iter().any(|line| line.trim().eq_ignore_ascii_case("STARTTLS")) {
            return Err(MailError::NoTls);
        }
        clear.demand("STARTTLS", 2)?;
    }
    // Whatever else came in clear is taken for a part of the handshake, and breaks it.
    let connection = ClientConnection::new(Arc::clone(&config), name)
        .map_err(|error| MailError::Certificate(error.to_string()))?;
    let stream = StreamOwned::new(connection, clear.stream);
    let mut sealed = Line { stream, until };
    if server.tls_at_once {
        sealed.greeting()?;
    }
    let offers = sealed.demand(&hello, 2)?;
    if let Some((user, password)) = &server.login {
        sealed.login(&offers, user, password)?;
    }
    sealed.demand(&format!("MAIL FROM:<{from}>"), 2)?;
    sealed.demand(&format!("RCPT TO:<{to}>"), 2)?;
    sealed.demand("DATA", 3)?;
    sealed.stream.write_all(&stuffed(letter)).map_err(of_line)?;
    sealed.demand(".", 2)?;
    // It has been taken; that the server says goodbye is not needed.
    let _ = sealed.ask("QUIT");
    Ok(())
}

/// A letter with lines that end in CR LF, a dot before those that begin with one, and a last end.
fn stuffed(letter: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(letter.len() + 64);
    let text = letter.strip_suffix(b"\n").unwrap_or(letter);
    for line in text.split(|byte| *byte == b'\n') {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        if line.starts_with(b".") {
            out.push(b'.');
        }
        out.extend_from_slice(line);
        out.extend_from_slice(b"\r\n");
    }
    out
}

#[cfg(test)]
mod tests {
    use std::{io::BufRead as _, io::BufReader, net::TcpListener};

    use super::*;

    #[test]
    fn dots_and_line_ends_are_as_the_protocol_wants_them() {
        assert_eq!(stuffed(b"a\n.b\r\n\n..c\n"), b"a\r\n..b\r\n\r\n...c\r\n");
        assert_eq!(stuffed(b"a"), b"a\r\n");
    }

    /// A server that slips answers in behind its word for STARTTLS: none of them is believed.
    #[test]
    fn what_comes_before_tls_is_no_answer_under_it() {
        let listener = TcpListener::bind("127.0.0.1:0").expect("binds");
        let port = listener.local_addr().expect("an address").port();
        let server = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().expect("accepts");
            let mut lines = BufReader::new(stream.try_clone().expect("clones")).lines();
            stream.write_all(b"220 ready\r\n").expect("writes");
            lines.next().expect("EHLO").expect("reads");
            stream.write_all(b"250-mail\r\n250 STARTTLS\r\n").expect("writes");
            lines.next().expect("STARTTLS").expect("reads");
            let slipped =
                b"220 go\r\n250 AUTH PLAIN\r\n235 in\r\n250 a\r\n250 b\r\n354 c\r\n250 d\r\n";
            stream.write_all(slipped).expect("writes");
            // Whatever follows is a handshake, and no password in clear.
            let rest: Vec<u8> = {
                let mut bytes = vec![0; 5];
                let read = stream.read(&mut bytes).unwrap_or(0);
                bytes.truncate(read);
                bytes
            };
            rest
        });
        let submission = MailSubmission {
            host: "127.0.0.1",
            port,
            tls_at_once: false,
            authority: None,
            login: Some(("hut", Zeroizing::new("two terns".to_owned()))),
            own_name: "hut",
            patience: Duration::from_secs(5),
        };
        let sent = submit_mail(&submission, "a@ridge.example", "b@ridge.example", b"x");
        assert!(sent.is_err(), "{sent:?}");
        let after = server.join().expect("no panic");
        assert!(after.is_empty() || after.starts_with(&[22, 3]), "a TLS record: {after:?}");
    }
}
