//! Plans and stores being written: the text of their files.

use std::path::{Path, PathBuf};

use toml_edit::{Array, DocumentMut, InlineTable, Table, Value};

use crate::{edit::rules_value, places::PlaceSpec, plan::is_plan_name};

/// What the three forms of a backup are for.
pub const FORMS: [(&str, &str); 3] = [
    ("snapshots", "every version of every run, deduplicated and encrypted"),
    ("mirror", "a plain readable copy of the tree (not in this version yet)"),
    ("archive", "a dated tar file (not in this version yet)"),
];

/// A plan that is not saved yet.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PlanDraft {
    /// Its name.
    pub name: String,
    /// What it is for; may be empty.
    pub about: String,
    /// Full paths.
    pub sources: Vec<PathBuf>,
    /// Name of the store.
    pub store: String,
    /// Ready sets and files with rules, read before its own.
    pub rules_from: Vec<String>,
    /// Lines of rules.
    pub rules: Vec<String>,
    /// When it is to run; may be empty.
    pub schedule: String,
}

/// A store that is not saved yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoreDraft {
    /// Its name.
    pub name: String,
    /// Its place.
    pub place: PlaceSpec,
    /// The file its passphrase is kept in; asked for each time without one.
    pub key_file: Option<PathBuf>,
    /// How to get to the place: further keys of the store, in order.
    pub access: Vec<(&'static str, DraftValue)>,
}

/// What a key of a draft holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DraftValue {
    /// A text.
    Text(String),
    /// Several texts.
    Texts(Vec<String>),
    /// A secret in a file.
    SecretFile(PathBuf),
}

impl PlanDraft {
    /// The text of the plan's file.
    ///
    /// # Errors
    /// If a path cannot stand in a text file.
    pub fn text(&self) -> Result<String, String> {
        let mut plan = DocumentMut::new();
        let table = plan.as_table_mut();
        if !self.about.is_empty() {
            put(table, "about", self.about.as_str().into());
        }
        let sources =
            self.sources.iter().map(|source| path_text(source)).collect::<Result<Array, _>>()?;
        put(table, "sources", sources.into());
        put(table, "store", self.store.as_str().into());
        if !self.rules_from.is_empty() {
            put(table, "rules-from", self.rules_from.iter().collect::<Array>().into());
        }
        if !self.rules.is_empty() {
            put(table, "rules", rules_value(&self.rules.join("\n"))?);
        }
        if !self.schedule.is_empty() {
            let mut schedule = Table::new();
            schedule.insert("run", self.schedule.as_str().into());
            table.insert("schedule", schedule.into());
        }
        Ok(plan.to_string())
    }

    /// A name for a plan of these sources: the last part of the first, in letters a name may have.
    #[must_use]
    pub fn suggested_name(source: &Path) -> String {
        let base = source.file_name().map_or("machine".into(), |name| name.to_string_lossy());
        let mut name = String::new();
        for c in base.to_lowercase().chars() {
            match c {
                'a'..='z' | '0'..='9' | '-' | '_' => name.push(c),
                _ if name.ends_with('-') || name.is_empty() => {}
                _ => name.push('-'),
            }
        }
        name.truncate(64);
        let name = name.trim_end_matches('-');
        if is_plan_name(name) { name.to_owned() } else { "plan".to_owned() }
    }
}

impl StoreDraft {
    /// The store's table in `stores.toml`.
    ///
    /// # Errors
    /// If a path cannot stand in a text file.
    pub fn text(&self) -> Result<String, String> {
        let place: Value = match &self.place {
            PlaceSpec::Directory(path) => path_text(path)?.into(),
            other => other.to_string().into(),
        };
        let secret = |file: &Path| -> Result<Value, String> {
            Ok(InlineTable::from_iter([("file", path_text(file)?)]).into())
        };
        let mut store = Table::new();
        store.insert("place", place.into());
        for (key, value) in &self.access {
            let value: Value = match value {
                DraftValue::Text(value) => value.as_str().into(),
                DraftValue::Texts(values) => values.iter().collect::<Array>().into(),
                DraftValue::SecretFile(file) => secret(file)?,
            };
            store.insert(key, value.into());
        }
        if let Some(file) = &self.key_file {
            store.insert("passphrase", secret(file)?.into());
        }
        let mut stores = DocumentMut::new();
        stores.insert(&self.name, store.into());
        Ok(stores.to_string())
    }
}

/// The width of a key at the top of a plan, so that values stand below each other.
const KEY: usize = 7;

fn put(table: &mut Table, key: &str, value: Value) {
    table.insert(key, value.into());
    if let Some(mut key) = table.key_mut(key) {
        let blanks = " ".repeat((KEY + 1).saturating_sub(key.len()).max(1));
        key.leaf_decor_mut().set_suffix(blanks);
    }
}

/// A path as a plan can hold it.
fn path_text(path: &Path) -> Result<String, String> {
    let text = path.to_str();
    let text = text.ok_or_else(|| {
        format!("{} is not UTF-8 and cannot be written in a plan", path.display())
    })?;
    if text.contains("${") || text.starts_with('~') {
        return Err(format!("{text} contains characters that a plan would expand"));
    }
    Ok(text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{parse_plan, parse_stores};
    use proptest::prelude::*;

    use crate::{OFTEN_SKIPPED, OftenSkipped};

    #[test]
    fn names_are_suggested_from_paths() {
        for (path, name) in [
            ("/srv/Readings", "readings"),
            ("/srv/Årets bilder (nye)", "rets-bilder-nye"),
            ("/", "machine"),
            ("/srv/§§", "plan"),
        ] {
            assert_eq!(PlanDraft::suggested_name(Path::new(path)), name);
        }
    }

    #[test]
    fn a_store_on_a_host_is_drafted_with_the_way_there() {
        let place = PlaceSpec::parse("sftp://keeper@pier:2222/srv/skellin", &|_: &str| None);
        let store = StoreDraft {
            name: "pier".to_owned(),
            place: place.expect("a place"),
            key_file: Some("/etc/skellin/keys/pier.key".into()),
            access: vec![
                ("identity", DraftValue::Text("/etc/skellin/pier_ed25519".to_owned())),
                ("password", DraftValue::SecretFile("/etc/skellin/keys/pier.password".into())),
            ],
        };
        let stores = parse_stores("f", &store.text().expect("a text"), &|_: &str| None);
        assert_eq!(stores.problems, []);
        let read = &stores.fine["pier"];
        assert_eq!(read.place, store.place);
        let file = crate::SecretSource::File("/etc/skellin/keys/pier.password".into());
        assert_eq!(read.access.password, Some(file));
        assert_eq!(read.access.identity, Some("/etc/skellin/pier_ed25519".into()));
    }

    proptest! {
        #[test]
        fn what_is_drafted_is_read_back(
            about in "\\PC{0,20}", parts in proptest::collection::vec("[^/\0$~\\pC]{1,12}", 1..4), control in any::<bool>(),
        ) {
            prop_assume!(parts.iter().all(|part| part != "." && part != ".."));
            let tail = if control { "/a\tb\"c\\d" } else { "" };
            let source = PathBuf::from(format!("/{}{tail}", parts.join("/")));
            let draft = PlanDraft {
                name: "readings".to_owned(), about: about.clone(), sources: vec![source.clone()], store: "oak".to_owned(),
                rules_from: OFTEN_SKIPPED.iter().filter_map(|(_, often)| match often {
                    OftenSkipped::Ready(name) => Some((*name).to_owned()),
                    OftenSkipped::Rule(_) => None,
                }).collect(),
                rules: OFTEN_SKIPPED.iter().filter_map(|(_, often)| match often {
                    OftenSkipped::Ready(_) => None,
                    OftenSkipped::Rule(rule) => Some((*rule).to_owned()),
                }).collect(), schedule: "daily at 21:40".to_owned(),
            };
            let nothing = |_: &str| None;
            let text = draft.text().expect("a text");
            let (plan, problems) = parse_plan("readings", "f", &text, &nothing, ["oak"]);
            prop_assert_eq!(problems, vec![]);
            let plan = plan.expect("a plan");
            prop_assert_eq!(plan.sources, vec![source.clone()]);
            prop_assert_eq!(plan.about.unwrap_or_default(), about);
            prop_assert!(draft.rules.iter().all(|rule| plan.rules.rules().iter().any(|read| read.text == *rule)));
            prop_assert!(plan.rules.rules().len() > draft.rules.len() + 10);
            prop_assert!(plan.schedule.is_some());
            let place = PlaceSpec::Directory(source.clone());
            let store = StoreDraft { name: "oak".to_owned(), place: place.clone(), key_file: Some(source), access: Vec::new() };
            let stores = parse_stores("f", &store.text().expect("a text"), &nothing);
            prop_assert_eq!(stores.problems, vec![]);
            prop_assert_eq!(&stores.fine["oak"].place, &place);
        }
    }
}
