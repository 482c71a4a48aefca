//! What the user's OpenSSH configuration tells of hosts (ssh_config(5)): aliases, users, ports,
//! keys, hosts to go through. What it says beyond that is not ours to follow.

use std::path::{Path, PathBuf};

/// A host to go through.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Jump {
    pub host: String,
    pub user: Option<String>,
    pub port: Option<u16>,
}

/// What is told of a host.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Told {
    pub address: Option<String>,
    pub key_alias: Option<String>,
    pub user: Option<String>,
    pub port: Option<u16>,
    pub identities: Vec<PathBuf>,
    pub jumps: Vec<Jump>,
}

/// Patterns of hosts, and words with their values.
type Block = (Vec<String>, Vec<(String, String)>);

/// The configuration: blocks of lines, each for some hosts.
#[derive(Clone, Debug, Default)]
pub(crate) struct SshConfig {
    home: PathBuf,
    blocks: Vec<Block>,
}

impl SshConfig {
    /// The user's configuration, then the machine's; what is not there tells nothing.
    pub fn read(home: &Path) -> Self {
        let files = [home.join(".ssh/config"), PathBuf::from("/etc/ssh/ssh_config")];
        let texts = files.iter().filter_map(|file| std::fs::read_to_string(file).ok());
        Self::parse(home, &texts.collect::<Vec<_>>().join("\nHost *\n"))
    }

    fn parse(home: &Path, text: &str) -> Self {
        let mut blocks = vec![(vec!["*".to_owned()], Vec::new())];
        for line in text.lines().map(str::trim) {
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let end = line.find(|c: char| c.is_whitespace() || c == '=').unwrap_or(line.len());
            let (word, rest) = line.split_at(end);
            let value = rest.trim_start_matches(|c: char| c.is_whitespace() || c == '=').trim();
            let value = value.trim_matches('"').to_owned();
            match word.to_ascii_lowercase().as_str() {
                "host" => {
                    let patterns = value.split_whitespace().map(str::to_owned).collect();
                    blocks.push((patterns, Vec::new()));
                }
                // Blocks with conditions we do not look into hold for nothing.
                "match" => blocks.push((Vec::new(), Vec::new())),
                word => {
                    if let Some((_, lines)) = blocks.last_mut() {
                        lines.push((word.to_owned(), value));
                    }
                }
            }
        }
        Self { home: home.to_path_buf(), blocks }
    }

    /// What is told of a host: for each word the first line counts.
    pub fn of(&self, host: &str) -> Told {
        let mut told = Told::default();
        let blocks = self.blocks.iter().filter(|(patterns, _)| is_meant(patterns, host));
        let (mut jumped, mut put) = (false, Vec::new());
        for (word, value) in blocks.flat_map(|(_, lines)| lines) {
            match word.as_str() {
                "hostname" => {
                    told.address.get_or_insert_with(|| value.replace("%h", host));
                }
                "hostkeyalias" => {
                    told.key_alias.get_or_insert_with(|| value.clone());
                }
                "user" => {
                    told.user.get_or_insert_with(|| value.clone());
                }
                "port" => told.port = told.port.or(value.parse().ok()),
                "identityfile" => {
                    let file = match value.strip_prefix("~/").or(value.strip_prefix("%d/")) {
                        Some(below) => self.home.join(below),
                        None => PathBuf::from(value),
                    };
                    put.push(file);
                }
                "proxyjump" if !jumped => {
                    jumped = true;
                    if value != "none" {
                        told.jumps = value.split(',').map(jump).collect();
                    }
                }
                _ => {}
            }
        }
        told.identities = put;
        told
    }
}

/// `user@host:port`
fn jump(text: &str) -> Jump {
    let text = text.trim().trim_start_matches("ssh://");
    let (user, rest) = match text.rsplit_once('@') {
        Some((user, rest)) => (Some(user.to_owned()), rest),
        None => (None, text),
    };
    match rest.rsplit_once(':').and_then(|(host, port)| Some((host, port.parse().ok()?))) {
        Some((host, port)) => Jump { host: host.to_owned(), user, port: Some(port) },
        None => Jump { host: rest.to_owned(), user, port: None },
    }
}

/// Whether some pattern fits a host and none with `!` does.
fn is_meant(patterns: &[String], host: &str) -> bool {
    let mut meant = false;
    for pattern in patterns {
        match pattern.strip_prefix('!') {
            Some(pattern) if fits(pattern.as_bytes(), host.as_bytes()) => return false,
            Some(_) => {}
            None => meant |= fits(pattern.as_bytes(), host.as_bytes()),
        }
    }
    meant
}

/// `*` for any characters, `?` for one.
fn fits(pattern: &[u8], host: &[u8]) -> bool {
    match (pattern.first(), host.first()) {
        (None, None) => true,
        (Some(b'*'), _) => {
            fits(&pattern[1..], host) || (!host.is_empty() && fits(pattern, &host[1..]))
        }
        (Some(b'?'), Some(_)) => fits(&pattern[1..], &host[1..]),
        (Some(p), Some(h)) if p.eq_ignore_ascii_case(h) => fits(&pattern[1..], &host[1..]),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_line_for_a_host_counts() {
        let text = "User everybody\n\n# the harbour office\nHost pier pier-*\n  HostName = %h.ridge.example\n  Port 2222\n  IdentityFile ~/.ssh/pier\n  IdentityFile /etc/keys/pier\n  ProxyJump keeper@mast:2022, hut\nHost * !mast\n  Port 22\n  User \"last\"\n  HostKeyAlias shared\nMatch user root\n  User nobody\nHost mast\n  ProxyJump none\n";
        let config = SshConfig::parse(Path::new("/home/keeper"), text);
        let jump = |host: &str, user: Option<&str>, port| Jump {
            host: host.to_owned(),
            user: user.map(str::to_owned),
            port,
        };
        assert_eq!(
            config.of("pier"),
            Told {
                address: Some("pier.ridge.example".to_owned()),
                key_alias: Some("shared".to_owned()),
                user: Some("everybody".to_owned()),
                port: Some(2222),
                identities: vec!["/home/keeper/.ssh/pier".into(), "/etc/keys/pier".into()],
                jumps: vec![jump("mast", Some("keeper"), Some(2022)), jump("hut", None, None)],
            }
        );
        assert_eq!(config.of("pier-2").address.as_deref(), Some("pier-2.ridge.example"));
        let mast = config.of("mast");
        assert_eq!((mast.port, mast.jumps), (None, Vec::new()));
        assert_eq!(config.of("pier2").port, Some(22));
        assert_eq!(SshConfig::parse(Path::new("/"), "").of("x"), Told::default());
    }
}
