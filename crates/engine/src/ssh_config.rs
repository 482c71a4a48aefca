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

/// More files are not included within each other, as OpenSSH has it.
const DEEPEST: usize = 16;

/// Conditions, all of which have to hold, and words with their values.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Block {
    /// Patterns of hosts.
    conditions: Vec<Vec<String>>,
    lines: Vec<(String, String)>,
}

/// The configuration: blocks of lines, each for some hosts.
#[derive(Clone, Debug, Default)]
pub(crate) struct SshConfig {
    home: PathBuf,
    blocks: Vec<Block>,
}

impl SshConfig {
    /// The user's configuration, then the machine's; what is not there tells nothing.
    pub fn read(home: &Path) -> Self {
        let mut config = Self { home: home.to_path_buf(), blocks: Vec::new() };
        for file in [home.join(".ssh/config"), PathBuf::from("/etc/ssh/ssh_config")] {
            config.include(&file, &[], 0);
        }
        config
    }

    /// Reads a file whose lines hold where these conditions do.
    fn include(&mut self, file: &Path, conditions: &[Vec<String>], depth: usize) {
        let Some(base) = file.parent().filter(|_| depth <= DEEPEST) else { return };
        if let Ok(text) = std::fs::read_to_string(file) {
            self.parse(&text, base, conditions, depth);
        }
    }

    fn parse(&mut self, text: &str, base: &Path, conditions: &[Vec<String>], depth: usize) {
        let block = |more: Option<Vec<String>>| {
            let conditions = conditions.iter().cloned().chain(more).collect();
            Block { conditions, lines: Vec::new() }
        };
        self.blocks.push(block(None));
        for line in text.lines().map(str::trim) {
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let end = line.find(|c: char| c.is_whitespace() || c == '=').unwrap_or(line.len());
            let (word, rest) = line.split_at(end);
            let value = rest.trim_start_matches(|c: char| c.is_whitespace() || c == '=').trim();
            match word.to_ascii_lowercase().as_str() {
                "host" => self.blocks.push(block(Some(words(value)))),
                "match" => self.blocks.push(block(Some(matched(value)))),
                "include" => {
                    let now = self.blocks.last().map_or(Vec::new(), |last| last.conditions.clone());
                    for pattern in words(value) {
                        for file in included(&self.home, base, &pattern) {
                            self.include(&file, &now, depth + 1);
                        }
                    }
                    // What follows holds where it did before.
                    self.blocks.push(Block { conditions: now, lines: Vec::new() });
                }
                word => {
                    if let Some(Block { lines, .. }) = self.blocks.last_mut() {
                        lines.push((word.to_owned(), value.trim_matches('"').to_owned()));
                    }
                }
            }
        }
    }

    /// What is told of a host: for each word the first line counts.
    pub fn of(&self, host: &str) -> Told {
        let mut told = Told::default();
        let holds =
            |block: &&Block| block.conditions.iter().all(|patterns| is_meant(patterns, host));
        let blocks = self.blocks.iter().filter(holds);
        let (mut jumped, mut put) = (false, Vec::new());
        for (word, value) in blocks.flat_map(|block| &block.lines) {
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

/// The words of a value, which may be quoted.
fn words(value: &str) -> Vec<String> {
    shlex::split(value).unwrap_or_else(|| value.split_whitespace().map(str::to_owned).collect())
}

/// The hosts that the conditions of `Match` mean. Conditions we do not look into hold for nothing.
fn matched(value: &str) -> Vec<String> {
    let listed = |patterns: &str| patterns.split(',').map(str::to_owned).collect();
    let words = words(value);
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    match words.as_slice() {
        ["all"] => listed("*"),
        ["host" | "originalhost", patterns] => listed(patterns),
        _ => Vec::new(),
    }
}

/// The files that an `Include` names, sorted: relative to where the file lies, with `*` and `?` in the
/// last part.
fn included(home: &Path, base: &Path, pattern: &str) -> Vec<PathBuf> {
    let path = match pattern.strip_prefix("~/") {
        Some(below) => home.join(below),
        None => base.join(pattern),
    };
    let (Some(folder), Some(name)) =
        (path.parent(), path.file_name().and_then(|name| name.to_str()))
    else {
        return Vec::new();
    };
    if !name.contains(['*', '?']) {
        return vec![path];
    }
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let meant = entries.filter(|entry| {
        let found = entry.file_name();
        let found = found.as_encoded_bytes();
        // As the shell has it: what begins with a dot has to be asked for.
        (!found.starts_with(b".") || name.starts_with('.')) && fits(name.as_bytes(), found)
    });
    let mut files: Vec<PathBuf> = meant.map(|entry| entry.path()).collect();
    files.sort();
    files
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

    fn parsed(home: &str, text: &str) -> SshConfig {
        let mut config = SshConfig { home: home.into(), blocks: Vec::new() };
        config.parse(text, Path::new("/nowhere"), &[], 0);
        config
    }

    #[test]
    fn the_first_line_for_a_host_counts() {
        let text = "User everybody\n\n# the harbour office\nHost pier pier-*\n  HostName = %h.ridge.example\n  Port 2222\n  IdentityFile ~/.ssh/pier\n  IdentityFile /etc/keys/pier\n  ProxyJump keeper@mast:2022, hut\nHost * !mast\n  Port 22\n  User \"last\"\n  HostKeyAlias shared\nMatch user root\n  User nobody\nHost mast\n  ProxyJump none\n";
        let config = parsed("/home/keeper", text);
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
        assert_eq!(parsed("/", "").of("x"), Told::default());
    }

    #[test]
    fn files_are_included_where_they_are_named_and_as_far_as_they_hold() {
        let home = tempfile::tempdir().expect("a directory");
        let write = |name: &str, text: &str| {
            let file = home.path().join(".ssh").join(name);
            std::fs::create_dir_all(file.parent().expect("a parent")).expect("makes");
            std::fs::write(file, text).expect("writes");
        };
        write(
            "config",
            "Include config.d/*.conf\nHost mast\n  Include mast\n  Port 2022\nMatch originalhost hut\n  User warden\nMatch all\n  User last\nInclude config\n",
        );
        write("config.d/b.conf", "Host pier\n  User second\n  Port 22\n");
        write("config.d/a.conf", "Host pier\n  User first\n");
        write("config.d/.c.conf", "Host pier\n  User hidden\n");
        write("config.d/notes.txt", "User nobody\n");
        // What a file within a block says holds for no other host, whatever it says itself.
        write("mast", "User keeper\nHost *\n  HostName harbour\n");
        let config = SshConfig::read(home.path());
        let of = |host: &str| {
            let told = config.of(host);
            (told.user.unwrap_or_default(), told.port, told.address.unwrap_or_default())
        };
        assert_eq!(of("pier"), ("first".to_owned(), Some(22), String::new()));
        assert_eq!(of("mast"), ("keeper".to_owned(), Some(2022), "harbour".to_owned()));
        assert_eq!(of("hut"), ("warden".to_owned(), None, String::new()));
        assert_eq!(of("other"), ("last".to_owned(), None, String::new()));
    }
}
