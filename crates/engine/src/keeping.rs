//! Files of the configuration as snapshots keep them.

use std::path::{Component, Path};

use skellin_store::KeptFile;

/// No more directories lie above such a file.
const DEEPEST: usize = 8;

/// A file as it is kept; none if there is nothing in it or it lies elsewhere.
pub(crate) fn kept_file(config: &Path, path: &Path, text: &str) -> Option<KeptFile> {
    let name = path.strip_prefix(config).ok()?.to_str()?;
    (!text.is_empty() && is_plain(name))
        .then(|| KeptFile { name: name.to_owned(), text: text.to_owned() })
}

/// Whether a name leads to a file below the directory it is joined to.
pub(crate) fn is_plain(name: &str) -> bool {
    let parts: Vec<Component<'_>> = Path::new(name).components().collect();
    let plain = |part: &Component<'_>| matches!(part, Component::Normal(_));
    !name.ends_with('/') && (1..=DEEPEST).contains(&parts.len()) && parts.iter().all(plain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_name_leads_out_of_the_configuration() {
        for name in ["stores.toml", "plans/a.toml", "rules/deep/er.rules"] {
            assert!(is_plain(name), "{name}");
        }
        for name in
            ["", "/etc/passwd", "../a", "plans/../../a", "plans/", "./.", "a/b/c/d/e/f/g/h/i"]
        {
            assert!(!is_plain(name), "{name}");
        }
    }
}
