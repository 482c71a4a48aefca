//! The file that says how other hosts are reached as sources.

use std::collections::BTreeMap;

use toml::de::DeValue;

use crate::{
    access::{self, Access},
    fields::{Fields, Reading, wrong_type},
    path::Expand,
    problem::Problem,
};

/// A host as configured; an object store is named by its bucket.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostConfig {
    /// Who logs in there, if the source does not say.
    pub user: Option<String>,
    /// The port, if the source does not say.
    pub port: Option<u16>,
    /// How to get there and log in.
    pub access: Access,
}

/// What `hosts.toml` says.
#[derive(Clone, Debug, Default)]
pub struct Hosts {
    /// The hosts, by name.
    pub fine: BTreeMap<String, HostConfig>,
    /// What is wrong.
    pub problems: Vec<Problem>,
}

/// Reads `hosts.toml`.
#[must_use]
pub fn parse_hosts(file: &str, text: &str, with: &dyn Expand) -> Hosts {
    let mut reading = Reading::new(file, text);
    let mut fine = BTreeMap::new();
    for (key, value) in reading.parse() {
        let name = key.into_inner().into_owned();
        let DeValue::Table(table) = value.get_ref() else {
            wrong_type(&mut reading, &name, &value, "a table, as in [mast]");
            continue;
        };
        let before = reading.problems.len();
        let mut fields = Fields::new("a host", table.clone());
        let address = word(&mut reading, &mut fields, "address");
        let user = word(&mut reading, &mut fields, "user");
        let port = fields.count(&mut reading, "port", u16::MAX.into());
        let port = port.and_then(|port| u16::try_from(port).ok());
        let access = Access { address, ..access::parse(&mut reading, &mut fields, None, with) };
        fields.finish(&mut reading, &[]);
        if reading.problems.len() == before {
            fine.insert(name, HostConfig { user, port, access });
        }
    }
    Hosts { fine, problems: reading.problems }
}

fn word<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    key: &'static str,
) -> Option<String> {
    let (text, span) = fields.text(reading, key)?;
    let is_fine = |c: char| c.is_ascii_graphic() && !matches!(c, '@' | '/');
    if text.is_empty() || !text.chars().all(is_fine) {
        reading.problem(&span, format!("`{text}` is not a valid {key}"));
        return None;
    }
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SecretSource;

    #[test]
    fn hosts_are_read_and_mistakes_told_with_their_line() {
        let text = "[mast]\naddress = \"10.0.0.7\"\nuser = \"keeper\"\nport = 2222\nidentity = \"/etc/skellin/mast_ed25519\"\n\n[\"logger.ridge.example\"]\npassword = { env = \"LOGGER\" }\nconnections = 2\n";
        let hosts = parse_hosts("hosts.toml", text, &|_: &str| None);
        assert_eq!(hosts.problems, []);
        let mast = &hosts.fine["mast"];
        assert_eq!(
            (mast.access.address.as_deref(), mast.user.as_deref()),
            (Some("10.0.0.7"), Some("keeper"))
        );
        assert_eq!(mast.port, Some(2222));
        let logger = &hosts.fine["logger.ridge.example"];
        assert_eq!(logger.access.password, Some(SecretSource::Env("LOGGER".to_owned())));
        assert_eq!(logger.access.connections, Some(2));
        let wrong = "[mast]\naddress = \"keeper@mast\"\nport = 70000\nadress = \"x\"\npassword = \"gull\"\n[pier]\nuser = \"keeper\"\n";
        let hosts = parse_hosts("hosts.toml", wrong, &|_: &str| None);
        let told: Vec<_> =
            hosts.problems.iter().map(|problem| (problem.line, problem.message.as_str())).collect();
        assert_eq!(
            told.iter().map(|(line, _)| *line).collect::<Vec<_>>(),
            [2, 3, 5, 4],
            "{told:?}"
        );
        assert!(hosts.problems.iter().all(|problem| !format!("{problem:?}").contains("gull")));
        assert_eq!(hosts.fine.keys().collect::<Vec<_>>(), ["pier"], "others are as they were");
    }
}
