//! What to set up on the far side of a store's place, ready to paste.

use skellin_plan::{BucketSpec, HostSpec, PlaceSpec, StoreConfig};

use super::error::CliError;

/// The lines for a store's place; `key`: the public key that shall be let in, as a line.
pub(super) fn lines(config: &StoreConfig, key: Option<&str>) -> Result<String, CliError> {
    let name = &config.name;
    match &config.place {
        PlaceSpec::Directory(path) => Ok(format!(
            "# As the user who runs skellin, with the medium mounted:\nmkdir -p {0}\nchmod 700 {0}\n# then: skellin store create {name}\n",
            quoted(&path.display().to_string()),
        )),
        PlaceSpec::Drive(_) => Ok(drives(config)),
        PlaceSpec::Sftp(host) => sftp(name, host, key),
        PlaceSpec::S3(bucket) => Ok(policy(config, bucket)),
        PlaceSpec::WebDav { host, .. } | PlaceSpec::Ftp { host, .. } => Ok(login(config, host)),
    }
}

/// Each drive mounted once, and a store made on it.
fn drives(config: &StoreConfig) -> String {
    let mut text = "# With a drive mounted, as a user who may write there; the directory is the one it is mounted at:\n".to_owned();
    match config.rotation.drives.as_slice() {
        [] => text.push_str(&format!("skellin store create {} --on /media/DRIVE\n", config.name)),
        drives => {
            for drive in drives {
                text.push_str(&format!(
                    "skellin store create {} --on /media/DRIVE --drive {drive}\n",
                    config.name
                ));
            }
            text.push_str("# All with the same passphrase. From then on each drive is recognized wherever it is mounted.\n");
        }
    }
    text
}

/// The smallest policy that serves a store in a bucket.
fn policy(config: &StoreConfig, bucket: &BucketSpec) -> String {
    let below = match bucket.prefix.as_str() {
        "" => "*".to_owned(),
        prefix => format!("{prefix}/*"),
    };
    let endpoint = config.access.objects.endpoint.as_deref().unwrap_or("https://host");
    let lock = match config.access.objects.lock {
        Some(_) => ", \"s3:PutObjectRetention\"",
        None => "",
    };
    format!(
        "# At {endpoint}: a bucket of its own{with_lock}, and a key that can do no more than this there.\n\
         # The bucket: {name}. The policy of the key:\n\
         {{\n  \"Version\": \"2012-10-17\",\n  \"Statement\": [\n\
         \u{20}   {{\"Effect\": \"Allow\", \"Action\": [\"s3:ListBucket\", \"s3:ListBucketMultipartUploads\"], \"Resource\": \"arn:aws:s3:::{name}\"}},\n\
         \u{20}   {{\"Effect\": \"Allow\", \"Action\": [\"s3:GetObject\", \"s3:PutObject\", \"s3:DeleteObject\", \"s3:AbortMultipartUpload\"{lock}], \"Resource\": \"arn:aws:s3:::{name}/{below}\"}}\n\
         \u{20} ]\n}}\n\
         # Here, readable for the user who runs skellin alone (chmod 600): a file with two lines,\n\
         #   id = \"…\"\n#   secret = \"…\"\n\
         # named in stores.toml: credentials = {{ file = \"…\" }}\n\
         # then: skellin store reach {store} && skellin store create {store}\n",
        name = bucket.bucket,
        with_lock = if lock.is_empty() { "" } else { ", with object lock enabled" },
        store = config.name,
    )
}

/// What an account on a file server needs.
fn login(config: &StoreConfig, host: &HostSpec) -> String {
    let (port, user) = (host.port, host.user.as_deref().unwrap_or("an account"));
    let port = match (&config.place, port) {
        (_, Some(port)) => port,
        (PlaceSpec::WebDav { tls: true, .. }, None) => 443,
        (PlaceSpec::WebDav { .. }, None) => 80,
        _ => 21,
    };
    let more = match &config.place {
        PlaceSpec::Ftp { .. } => " and the ports of passive transfers",
        _ => "",
    };
    let openly = match config.place.is_in_the_open() {
        true => "# The connection is not encrypted: use it only on a network you trust.\n",
        false => "",
    };
    format!(
        "# On {host}: {user} that may list, read, write, rename and delete in {path}, and nowhere else.\n\
         # The firewall lets in: tcp port {port}{more}, from this machine.\n{openly}\
         # Here, readable for the user who runs skellin alone (chmod 600): a file with the password,\n\
         # named in stores.toml: password = {{ file = \"…\" }}\n\
         # then: skellin store reach {store} && skellin store create {store}\n",
        host = host.host,
        path = quoted(&host.path),
        store = config.name,
    )
}

/// An account that can do nothing but SFTP.
fn sftp(name: &str, spec: &HostSpec, key: Option<&str>) -> Result<String, CliError> {
    let user = spec.user.as_deref().unwrap_or("skellin");
    let port = spec.port.unwrap_or(22);
    let path = match spec.path.starts_with('/') {
        true => spec.path.clone(),
        false => format!("/home/{user}/{}", spec.path),
    };
    if !user.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.')) {
        let hint = "use a-z, 0-9, - and _ in the name of the account";
        return Err(CliError::usage(format!("`{user}` is not a valid account name"), hint));
    }
    let key = key.unwrap_or("ssh-ed25519 AAAA… the public key of this machine").trim();
    let place = quoted(&path);
    let parent = quoted(path.rsplit_once('/').map_or("/", |(above, _)| above));
    Ok(format!(
        "# On {host}, as root: an account that can do nothing but SFTP.\n\
         useradd --create-home --shell /usr/sbin/nologin {user}\n\
         mkdir -p {parent}\n\
         install -d -o {user} -g {user} -m 700 {place}\n\
         install -d -o {user} -g {user} -m 700 /home/{user}/.ssh\n\
         echo {line} >> /home/{user}/.ssh/authorized_keys\n\
         chown {user}:{user} /home/{user}/.ssh/authorized_keys\n\
         chmod 600 /home/{user}/.ssh/authorized_keys\n\
         cat > /etc/ssh/sshd_config.d/{user}.conf <<'END'\n\
         Match User {user}\n    ForceCommand internal-sftp\n    AllowTcpForwarding no\n    X11Forwarding no\n    PasswordAuthentication no\nEND\n\
         sshd -t && systemctl reload ssh\n\
         # The firewall lets in: tcp port {port}, from this machine.\n\
         # The host's key, to compare when it is first seen:\n\
         ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub\n\
         \n\
         # Then here: skellin store reach {name} --accept-host-key && skellin store create {name}\n",
        host = spec.host,
        line = quoted(&format!("restrict {key}")),
    ))
}

/// A word for the shell.
fn quoted(word: &str) -> String {
    // No word of a configuration holds a NUL.
    shlex::try_quote(word).map_or_else(|_| String::new(), std::borrow::Cow::into_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn config(place: &str) -> StoreConfig {
        let more = match place.starts_with("s3:") {
            true => "endpoint = \"http://pier\"\ncredentials = \"instance\"\n",
            false => "",
        };
        let text = format!("[pier]\nplace = \"{place}\"\n{more}");
        let stores = skellin_plan::parse_stores("stores.toml", &text, &|_: &str| None);
        stores.fine.get("pier").expect("a store").clone()
    }

    #[test]
    fn what_is_pasted_is_what_was_meant() {
        let text =
            lines(&config("sftp://keeper@pier:2222/srv/it's here"), Some("ssh-ed25519 AAAAB me"))
                .expect("lines");
        for line in [
            "useradd --create-home --shell /usr/sbin/nologin keeper",
            r#"install -d -o keeper -g keeper -m 700 "/srv/it's here""#,
            "echo 'restrict ssh-ed25519 AAAAB me' >> /home/keeper/.ssh/authorized_keys",
            "    ForceCommand internal-sftp",
            "tcp port 2222",
            "skellin store reach pier --accept-host-key",
        ] {
            assert!(text.contains(line), "{line}\n{text}");
        }
        assert!(text.lines().all(|line| !line.starts_with("         ")), "{text}");
        let text = lines(&config("/mnt/oak drive"), None).expect("lines");
        assert!(text.contains("mkdir -p '/mnt/oak drive'"));
        assert!(lines(&config("sftp://a;b@pier/x"), None).is_err());
        let text = lines(&config("s3://fennick-ridge/hut"), None).expect("lines");
        let policy: String = text
            .lines()
            .filter(|line| !line.starts_with('#'))
            .map(|line| format!("{line}\n"))
            .collect();
        let policy: serde_json::Value = serde_json::from_str(&policy).expect("a policy");
        let second = &policy["Statement"][1];
        assert_eq!(second["Resource"], "arn:aws:s3:::fennick-ridge/hut/*");
        let text = lines(&config("ftp://keeper@pier/oak"), None).expect("lines");
        assert!(
            text.contains("tcp port 21 and the ports") && text.contains("on a network you trust")
        );
        let text = lines(&config("drive:/skellin"), None).expect("lines");
        assert!(text.contains("skellin store create pier --on /media/DRIVE\n"));
    }
}
