//! The file that says where the stores are.

use std::{collections::BTreeMap, ops::Range, path::PathBuf};

use toml::de::DeValue;

use crate::{
    fields::{Fields, Reading, wrong_type},
    path::{Expand, expand},
    plan::is_plan_name,
    price::{self, Price},
    problem::Problem,
    secret::{self, SecretSource},
};

/// Where bytes lie.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PlaceSpec {
    /// A directory of this machine.
    Directory(PathBuf),
}

/// A store as configured.
#[derive(Clone, Debug, PartialEq)]
pub struct StoreConfig {
    /// Its name.
    pub name: String,
    /// Where it is.
    pub place: PlaceSpec,
    /// Where its passphrase comes from; asked for if this is missing.
    pub passphrase: Option<SecretSource>,
    /// What room there costs.
    pub price: Option<Price>,
}

const LATER: &[&str] = &[
    "drives",
    "swap",
    "parity",
    "site",
    "schedule",
    "identity",
    "known-hosts",
    "up",
    "down",
    "connections",
    "endpoint",
    "region",
    "style",
    "credentials",
    "part-size",
    "class",
    "thaw",
    "lock",
    "password",
    "ca",
];

impl PlaceSpec {
    /// Reads a place as people write it.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str, with: &dyn Expand) -> Result<Self, String> {
        if let Some((scheme, _)) = text.split_once(':').filter(|(scheme, _)| !scheme.contains('/'))
        {
            return Err(match scheme {
                "drive" | "sftp" | "s3" | "webdav" | "webdavs" | "ftp" | "ftps" => {
                    format!("this version reaches no `{scheme}:` places yet, only directories")
                }
                _ => format!("there are no places of the kind `{scheme}:`"),
            });
        }
        expand(text, with).map(Self::Directory).map_err(|problem| problem.to_string())
    }
}

/// What `stores.toml` says.
#[derive(Clone, Debug, Default)]
pub struct Stores {
    /// The stores that are fine, by name.
    pub fine: BTreeMap<String, StoreConfig>,
    /// All names, also of those that are not.
    pub names: Vec<String>,
    /// What is wrong.
    pub problems: Vec<Problem>,
}

/// Reads `stores.toml`.
#[must_use]
pub fn parse_stores(file: &str, text: &str, with: &dyn Expand) -> Stores {
    let mut reading = Reading::new(file, text);
    let mut stores = Stores::default();
    for (key, value) in reading.parse() {
        let (span, name) = (key.span(), key.into_inner().into_owned());
        stores.names.push(name.clone());
        if !is_plan_name(&name) {
            reading.problem(&span, format!("`{name}` is no name: use a-z, 0-9, - and _"));
        }
        let table = match value.get_ref() {
            DeValue::Table(table) => table.clone(),
            _ => {
                wrong_type(&mut reading, &name, &value, "a table, as in [oak]");
                continue;
            }
        };
        if let Some(store) =
            parse_store(&mut reading, &name, &span, Fields::new("a store", table), with)
        {
            stores.fine.insert(name, store);
        }
    }
    stores.problems = reading.problems;
    stores
}

fn parse_store<'t>(
    reading: &mut Reading<'t>,
    name: &str,
    span: &Range<usize>,
    mut fields: Fields<'t>,
    with: &dyn Expand,
) -> Option<StoreConfig> {
    let before = reading.problems.len();
    let place = match fields.text(reading, "place") {
        Some((text, span)) => match PlaceSpec::parse(&text, with) {
            Ok(place) => Some(place),
            Err(why) => {
                reading.problem(&span, why);
                None
            }
        },
        None => {
            if reading.problems.len() == before {
                let hint = "add place = \"/path/to/a/directory\"";
                reading.problem_with(span, format!("the store `{name}` has no place"), hint);
            }
            None
        }
    };
    let passphrase = fields
        .take("passphrase")
        .and_then(|value| secret::parse(reading, "passphrase", value, with));
    let price = fields.take("price").and_then(|value| price::parse(reading, &value));
    fields.finish(reading, LATER);
    let fine = reading.problems.len() == before;
    let name = name.to_owned();
    place.filter(|_| fine).map(|place| StoreConfig { name, place, passphrase, price })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> (BTreeMap<String, StoreConfig>, Vec<String>) {
        let nothing = |_: &str| None;
        let stores = parse_stores("stores.toml", text, &nothing);
        (stores.fine, stores.problems.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn a_store_at_a_directory() {
        let (stores, problems) =
            parse("[oak]\nplace = \"/mnt/oak\"\npassphrase = { file = \"/etc/oak.key\" }\n");
        assert_eq!(problems, Vec::<String>::new());
        let oak = &stores["oak"];
        assert_eq!(oak.place, PlaceSpec::Directory("/mnt/oak".into()));
        assert_eq!(oak.passphrase, Some(SecretSource::File("/etc/oak.key".into())));
    }

    #[test]
    fn all_mistakes_are_reported_at_once_and_no_secret_is_repeated() {
        let text = "[oak]\nplcae = \"/mnt/oak\"\npassphrase = \"gull and tern\"\n[Elm]\nplace = \"sftp://x\"\n[ash]\nplace = \"/a\"\nparity = \"3%\"\n";
        let (stores, problems) = parse(text);
        assert!(stores.is_empty());
        let all = problems.join("\n");
        for expected in [
            "stores.toml:2:1: a store has no key `plcae`",
            "did you mean `place`?",
            "stores.toml:1:2: the store `oak` has no place",
            "stores.toml:3:1: `passphrase` holds a secret in plain text",
            "{ file = \"…\" }",
            "stores.toml:4:2: `Elm` is no name",
            "stores.toml:5:9: this version reaches no `sftp:` places yet",
            "stores.toml:8:1: this version does not act on `parity` yet",
        ] {
            assert!(all.contains(expected), "{expected}\n{all}");
        }
        assert!(!all.contains("gull and tern"));
    }

    #[test]
    fn a_secret_has_one_way() {
        for (secret, expected) in [
            ("{}", "says nowhere"),
            ("{ env = \"A\", file = \"/b\" }", "more than one way"),
            ("{ keyring = \"oak\" }", "does not act on `keyring` yet"),
            ("{ command = [] }", "needs at least its program"),
            ("7", "must be a table"),
        ] {
            let (_, problems) = parse(&format!("[oak]\nplace = \"/a\"\npassphrase = {secret}\n"));
            assert!(problems.join("\n").contains(expected), "{secret}: {problems:?}");
        }
    }
}
