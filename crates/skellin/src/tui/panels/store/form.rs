//! What has to be known of each kind of place.

use skellin_plan::{DraftValue, PlaceSpec};

/// The kinds of places a store can be made at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::tui) enum Kind {
    Directory,
    Drive,
    Sftp,
    S3,
    WebDav,
    Ftp,
}

pub(in crate::tui) const KINDS: [(Kind, &str, &str); 6] = [
    (Kind::Directory, "directory", "another disk of this machine, or a mounted share"),
    (Kind::Drive, "drive", "an external drive, or several in rotation"),
    (Kind::Sftp, "server by SFTP", "a host with an SSH account"),
    (Kind::S3, "object storage", "a bucket on an S3 server"),
    (Kind::WebDav, "server by WebDAV", "a file server over HTTP"),
    (Kind::Ftp, "server by FTP", "an older file server; encrypted by TLS"),
];

/// Something that is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(in crate::tui) enum Ask {
    Name,
    Drives,
    Swap,
    Host,
    User,
    Identity,
    Password,
    Authority,
    Endpoint,
    Bucket,
    Region,
    Id,
    Secret,
}

impl Ask {
    pub fn is_secret(self) -> bool {
        matches!(self, Self::Password | Self::Secret)
    }

    /// Whether it has to be answered.
    pub fn is_needed(self) -> bool {
        matches!(
            self,
            Self::Name | Self::Host | Self::Endpoint | Self::Bucket | Self::Id | Self::Secret
        )
    }

    /// How it is called, and what to write.
    pub fn words(self, kind: Kind) -> (&'static str, &'static str) {
        match self {
            Self::Name => ("name", "name of the store: a-z, 0-9, - and _"),
            Self::Drives => {
                ("drives", "drives in rotation, such as oak-east oak-west; empty for one")
            }
            Self::Swap => ("swap", "when they are swapped, such as mondays; optional"),
            Self::Host if kind == Kind::Sftp => {
                ("host", "name or address, with :port if not 22; SSH aliases work")
            }
            Self::Host => ("host", "name or address, with :port if not the default"),
            Self::User => ("user", "account on the server; empty for your own"),
            Self::Identity => {
                ("key file", "private SSH key; empty for the agent and the default keys")
            }
            Self::Password if kind == Kind::Sftp => {
                ("password", "of the key file if you name one, else of the account; optional")
            }
            Self::Password => ("password", "of the account"),
            Self::Authority => ("authority", "certificate file of your own authority; optional"),
            Self::Endpoint => ("server", "address, such as https://objects.ridge.example"),
            Self::Bucket => ("bucket", "must exist"),
            Self::Region => ("region", "as on the server; empty for the default"),
            Self::Id => ("key id", "of a key for this bucket only"),
            Self::Secret => ("key secret", "saved in a file that only you can read"),
        }
    }
}

/// What is asked of a kind of place, in order.
pub(in crate::tui) fn asked(kind: Kind) -> &'static [Ask] {
    match kind {
        Kind::Directory => &[Ask::Name],
        Kind::Drive => &[Ask::Name, Ask::Drives, Ask::Swap],
        Kind::Sftp => &[Ask::Name, Ask::Host, Ask::User, Ask::Identity, Ask::Password],
        Kind::S3 => &[
            Ask::Name,
            Ask::Endpoint,
            Ask::Bucket,
            Ask::Region,
            Ask::Id,
            Ask::Secret,
            Ask::Authority,
        ],
        Kind::WebDav | Kind::Ftp => {
            &[Ask::Name, Ask::Host, Ask::User, Ask::Password, Ask::Authority]
        }
    }
}

/// Where browsing begins.
pub(in crate::tui) fn start(kind: Kind, home: &str) -> String {
    match kind {
        Kind::Directory => home.to_owned(),
        Kind::Sftp | Kind::Ftp => "~".to_owned(),
        Kind::WebDav => "/".to_owned(),
        Kind::S3 | Kind::Drive => String::new(),
    }
}

/// A directory below another.
pub(in crate::tui) fn below(folder: &str, name: &str) -> String {
    match folder {
        "" => name.to_owned(),
        folder if folder.ends_with('/') => format!("{folder}{name}"),
        folder => format!("{folder}/{name}"),
    }
}

/// The directory above; none above the topmost. Above that of the login lies the whole host.
pub(in crate::tui) fn above(folder: &str) -> Option<String> {
    match folder {
        "" | "/" => None,
        "~" => Some("/".to_owned()),
        folder => Some(match folder.rsplit_once('/') {
            Some(("", _)) => "/".to_owned(),
            Some((above, _)) => above.to_owned(),
            None => String::new(),
        }),
    }
}

/// The place, from what was answered and the directory that was chosen.
///
/// # Errors
/// What is wrong with it, in words.
pub(in crate::tui) fn place(
    kind: Kind,
    answer: &dyn Fn(Ask) -> String,
    path: &str,
) -> Result<PlaceSpec, String> {
    let path = match path {
        path if path.starts_with('~') => format!("/{path}"),
        path => path.to_owned(),
    };
    let user = match answer(Ask::User) {
        user if user.is_empty() => user,
        user => format!("{user}@"),
    };
    let host = answer(Ask::Host);
    let text = match kind {
        Kind::Directory => return Ok(PlaceSpec::Directory(path.into())),
        Kind::Drive => format!("drive:/{path}"),
        Kind::Sftp => format!("sftp://{user}{host}{path}"),
        Kind::WebDav => format!("webdavs://{user}{host}{path}"),
        Kind::Ftp => format!("ftps://{user}{host}{path}"),
        Kind::S3 => format!("s3://{}/{}", answer(Ask::Bucket), path.trim_start_matches('/')),
    };
    PlaceSpec::parse(&text, &|_: &str| None)
}

/// The keys that say how to get there. `secret`: the file of what was typed and not shown.
pub(in crate::tui) fn access(
    kind: Kind,
    answer: &dyn Fn(Ask) -> String,
    secret: Option<&std::path::Path>,
) -> Vec<(&'static str, DraftValue)> {
    let mut keys = Vec::new();
    for ask in asked(kind) {
        let text = answer(*ask);
        let key = match ask {
            Ask::Identity => "identity",
            Ask::Authority => "ca",
            Ask::Endpoint => "endpoint",
            Ask::Region => "region",
            Ask::Swap => "swap",
            Ask::Drives => {
                let drives: Vec<String> = text.split_whitespace().map(str::to_owned).collect();
                if !drives.is_empty() {
                    keys.push(("drives", DraftValue::Texts(drives)));
                }
                continue;
            }
            Ask::Password | Ask::Secret => {
                let key = match ask {
                    Ask::Secret => "credentials",
                    // What opens a key is never sent to a server as a password.
                    _ if !answer(Ask::Identity).is_empty() => "identity-passphrase",
                    _ => "password",
                };
                keys.extend(secret.map(|file| (key, DraftValue::SecretFile(file.to_path_buf()))));
                continue;
            }
            Ask::Name | Ask::Host | Ask::User | Ask::Bucket | Ask::Id => continue,
        };
        if !text.is_empty() {
            keys.push((key, DraftValue::Text(text)));
        }
    }
    keys
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_goes_up_to_the_top_and_down_again() {
        assert_eq!(above("/srv/oak").as_deref(), Some("/srv"));
        assert_eq!(above("/srv").as_deref(), Some("/"));
        assert_eq!((above("/"), above("")), (None, None));
        assert_eq!(above("~/a").as_deref(), Some("~"));
        assert_eq!(above("~").as_deref(), Some("/"));
        assert_eq!(above("hut/oak").as_deref(), Some("hut"));
        assert_eq!(above("hut").as_deref(), Some(""));
        for (folder, name, path) in [("/", "a", "/a"), ("", "a", "a"), ("~", "a", "~/a")] {
            assert_eq!(below(folder, name), path);
            assert_eq!(above(path).as_deref(), Some(folder));
        }
    }

    #[test]
    fn what_is_answered_makes_the_place() {
        let answer = |ask: Ask| match ask {
            Ask::User => "keeper".to_owned(),
            Ask::Host => "pier:2222".to_owned(),
            Ask::Bucket => "fennick-ridge".to_owned(),
            _ => String::new(),
        };
        for (kind, path, shown) in [
            (Kind::Sftp, "~/skellin", "sftp://keeper@pier:2222/~/skellin"),
            (Kind::Sftp, "/srv/skellin", "sftp://keeper@pier:2222/srv/skellin"),
            (Kind::WebDav, "/dav/oak", "webdavs://keeper@pier:2222/dav/oak"),
            (Kind::Ftp, "/oak", "ftps://keeper@pier:2222/oak"),
            (Kind::S3, "hut", "s3://fennick-ridge/hut"),
            (Kind::Drive, "skellin", "drive:/skellin"),
            (Kind::Directory, "/mnt/oak", "/mnt/oak"),
        ] {
            assert_eq!(place(kind, &answer, path).expect(shown).to_string(), shown);
        }
        assert!(place(Kind::Sftp, &|_| String::new(), "/x").is_err_and(|why| why.contains("host")));
    }
}
