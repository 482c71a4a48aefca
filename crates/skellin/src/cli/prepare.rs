//! What to set up on the far side of a store's place, ready to paste.

use skellin_plan::{PlaceSpec, StoreConfig};

use super::error::CliError;

/// The lines for a store's place; `key`: the public key that shall be let in, as a line.
pub(super) fn lines(config: &StoreConfig, key: Option<&str>) -> Result<String, CliError> {
    let PlaceSpec::Sftp(spec) = &config.place else {
        let PlaceSpec::Directory(path) = &config.place else { return Ok(String::new()) };
        return Ok(format!(
            "# As the user who runs skellin, with the medium mounted:\nmkdir -p {0}\nchmod 700 {0}\n# then: skellin store create {1}\n",
            quoted(&path.display().to_string()),
            config.name
        ));
    };
    let user = spec.user.as_deref().unwrap_or("skellin");
    let port = spec.port.unwrap_or(22);
    let path = match spec.path.starts_with('/') {
        true => spec.path.clone(),
        false => format!("/home/{user}/{}", spec.path),
    };
    if !user.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.')) {
        let hint = "use a-z, 0-9, - and _ in the name of the account";
        return Err(CliError::usage(format!("`{user}` is no name for an account"), hint));
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
        name = config.name,
    ))
}

/// A word for the shell.
fn quoted(word: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '.' | '-' | '_');
    match !word.is_empty() && word.chars().all(is_plain) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', r"'\''")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn config(place: &str) -> StoreConfig {
        let text = format!("[pier]\nplace = \"{place}\"\n");
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
            r"install -d -o keeper -g keeper -m 700 '/srv/it'\''s here'",
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
    }
}
