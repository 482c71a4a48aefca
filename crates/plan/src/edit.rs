//! Rules added to the text of a plan; everything else in it stays as it is.

use toml::de::{DeTable, DeValue};

/// A plan's text with one more rule at the end of its own.
///
/// # Errors
/// Why it cannot be added, in words.
pub fn with_rule(text: &str, rule: &str) -> Result<String, String> {
    if rule.contains("'''") || rule.contains(['\n', '\r']) {
        return Err("such a rule cannot be written in a plan".to_owned());
    }
    let table = DeTable::parse(text)
        .map_err(|error| format!("the plan is not valid TOML: {}", error.message()))?;
    let found = table.get_ref().iter().find(|(key, _)| key.get_ref() == "rules");
    let Some((_, value)) = found else {
        let block = format!("rules = '''\n{rule}\n'''\n");
        let Some(at) = first_header(text, table.get_ref()) else {
            let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
            return Ok(format!("{text}{gap}{block}"));
        };
        return Ok(format!("{}{block}\n{}", &text[..at], &text[at..]));
    };
    let span = value.span();
    let raw = &text[span.clone()];
    let replaced = match (raw.strip_prefix("'''"), value.get_ref()) {
        (Some(inner), _) => {
            let inner = inner.strip_suffix("'''").ok_or("the rules are never closed")?;
            let gap = if inner.is_empty() || inner.ends_with('\n') { "" } else { "\n" };
            let begin = if inner.is_empty() { "\n" } else { "" };
            format!("'''{begin}{inner}{gap}{rule}\n'''")
        }
        (None, DeValue::String(rules)) if !rules.contains("'''") => {
            let rules = rules.trim_matches('\n');
            let gap = if rules.is_empty() { "" } else { "\n" };
            format!("'''\n{rules}{gap}{rule}\n'''")
        }
        _ => return Err("the rules of this plan have to be edited by hand".to_owned()),
    };
    Ok(format!("{}{replaced}{}", &text[..span.start], &text[span.end..]))
}

/// A file's text with a key set to a value, which is TOML itself: in a table, or at the top.
///
/// # Errors
/// Why it cannot be set, in words.
pub fn with_value(
    text: &str,
    table: Option<&str>,
    key: &str,
    value: &str,
) -> Result<String, String> {
    let parsed =
        DeTable::parse(text).map_err(|error| format!("not valid TOML: {}", error.message()))?;
    let top = parsed.get_ref();
    let (inner, header) = match table {
        None => (top, None),
        Some(name) => {
            let found = top.iter().find(|(key, _)| key.get_ref() == name);
            let (name, found) = found.ok_or_else(|| format!("there is no [{name}]"))?;
            let DeValue::Table(inner) = found.get_ref() else {
                return Err(format!("`{}` is not a table", name.get_ref()));
            };
            (inner, Some(name.span()))
        }
    };
    if let Some((_, before)) = inner.iter().find(|(known, _)| known.get_ref() == key) {
        let span = before.span();
        return Ok(format!("{}{value}{}", &text[..span.start], &text[span.end..]));
    }
    let line = format!("{key} = {value}\n");
    let at = match header {
        // Right below its header, which has a line of its own.
        Some(header) => {
            let line = text[..header.start].rfind('\n').map_or(0, |newline| newline + 1);
            if !text[line..].trim_start().starts_with('[') {
                return Err("a table within a line has to be edited by hand".to_owned());
            }
            text[header.end..].find('\n').map(|newline| header.end + newline + 1)
        }
        None => Some(first_header(text, top).unwrap_or(text.len())),
    };
    let at = at.unwrap_or(text.len());
    let gap = if at == 0 || text[..at].ends_with('\n') { "" } else { "\n" };
    Ok(format!("{}{gap}{line}{}", &text[..at], &text[at..]))
}

/// Where the first `[table]` of a file begins.
fn first_header(text: &str, table: &DeTable<'_>) -> Option<usize> {
    let headers = table.iter().filter_map(|(key, value)| {
        let is_table = matches!(value.get_ref(), DeValue::Table(_) | DeValue::Array(_));
        let line = text[..key.span().start].rfind('\n').map_or(0, |newline| newline + 1);
        (is_table && text[line..].trim_start().starts_with('[')).then_some(line)
    });
    headers.min()
}

/// A name as a pattern that fits just it, quoted where it has to be.
///
/// # Errors
/// If it cannot stand in a rule.
pub fn name_pattern(before: &str, name: &[u8], after: &str) -> Result<String, String> {
    let name = std::str::from_utf8(name).ok().filter(|name| !name.chars().any(char::is_control));
    let name = name.ok_or("this name contains bytes that cannot be written in a rule")?;
    let mut pattern = String::from(before);
    for c in name.chars() {
        if matches!(c, '*' | '?' | '[' | '\\' | '"') {
            pattern.push('\\');
        }
        pattern.push(c);
    }
    pattern.push_str(after);
    let is_word = crate::rules::needs_quotes(&pattern);
    let needs_quotes = is_word || pattern.contains(char::is_whitespace) || pattern.starts_with('#');
    Ok(if needs_quotes { format!("\"{pattern}\"") } else { pattern })
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use proptest::prelude::*;

    use super::*;
    use crate::{Action, NameOnly, RuleSet, Traits, parse_plan};

    #[test]
    fn a_rule_is_added_where_rules_stand_and_all_else_stays() {
        for (before, after) in [
            (
                "store = \"oak\"\nrules = '''\nskip a\n'''\n# end\n",
                "store = \"oak\"\nrules = '''\nskip a\nskip x\n'''\n# end\n",
            ),
            ("rules = '''skip a'''\n", "rules = '''skip a\nskip x\n'''\n"),
            ("rules = \"skip a\"  # ours\n", "rules = '''\nskip a\nskip x\n'''  # ours\n"),
            ("rules = ''\nstore = \"oak\"", "rules = '''\nskip x\n'''\nstore = \"oak\""),
            ("store = \"oak\"", "store = \"oak\"\nrules = '''\nskip x\n'''\n"),
            (
                "store = \"oak\"\n\n# when\n[schedule]\nrun = \"daily at 1:00\"\n",
                "store = \"oak\"\n\n# when\nrules = '''\nskip x\n'''\n\n[schedule]\nrun = \"daily at 1:00\"\n",
            ),
            (
                "sources = [\n\"/a\"]\n[[around]]\nenter = [\"x\"]\n",
                "sources = [\n\"/a\"]\nrules = '''\nskip x\n'''\n\n[[around]]\nenter = [\"x\"]\n",
            ),
        ] {
            assert_eq!(with_rule(before, "skip x").as_deref(), Ok(after), "{before}");
        }
        assert!(with_rule("rules = 3\n", "skip x").is_err());
        assert!(with_rule("rules = \n", "skip x").is_err());
        assert!(with_rule("", "skip '''").is_err());
    }

    #[test]
    fn a_value_is_set_where_it_belongs_and_nothing_else_changes() {
        for (text, table, key, after) in [
            ("store = \"oak\" # the pair\n", None, "store", "store = 7 # the pair\n"),
            ("a = 1\n[x]\nb = 2\n", None, "c", "a = 1\nc = 7\n[x]\nb = 2\n"),
            ("a = 1", None, "c", "a = 1\nc = 7\n"),
            ("[oak]\nplace = \"/a\"\n[elm]\n", Some("oak"), "place", "[oak]\nplace = 7\n[elm]\n"),
            (
                "# x\n[oak] # y\nplace = \"/a\"\n",
                Some("oak"),
                "key",
                "# x\n[oak] # y\nkey = 7\nplace = \"/a\"\n",
            ),
            ("[elm]\n[oak]", Some("oak"), "key", "[elm]\n[oak]\nkey = 7\n"),
        ] {
            assert_eq!(with_value(text, table, key, "7").as_deref(), Ok(after), "{text}");
        }
        assert!(with_value("[elm]\n", Some("oak"), "key", "7").is_err());
        assert!(with_value("oak = { place = 1 }\n", Some("oak"), "key", "7").is_err());
        assert!(with_value("oak = 1\n", Some("oak"), "key", "7").is_err());
        assert!(with_value("= 1\n", None, "key", "7").is_err());
    }

    proptest! {
        #[test]
        fn the_rules_before_stay_and_the_new_one_comes_last(
            old in prop::option::of("(skip x-[a-z]{1,5}\n|# note\n){0,4}"), table in any::<bool>(), comment in "[a-z ]{0,10}",
        ) {
            let rules = old.as_ref().map_or(String::new(), |old| format!("rules = '''\n{old}'''\n"));
            let tail = if table { "[schedule]\nrun = \"daily at 1:00\"\n" } else { "" };
            let text = format!("# {comment}\nsources = [\"/srv\"]\nstore = \"oak\"\n{rules}{tail}");
            let edited = with_rule(&text, "take new").expect("added");
            let parse = |text: &str| {
                let nothing = |_: &str| None;
                parse_plan("p", "f", text, &nothing, ["oak"]).0.expect("a plan")
            };
            let (before, after) = (parse(&text), parse(&edited));
            let texts = |plan: &crate::Plan| plan.rules.rules().iter().map(|rule| rule.text.clone()).collect::<Vec<_>>();
            let mut expected = texts(&before);
            expected.push("take new".to_owned());
            prop_assert_eq!(texts(&after), expected);
            prop_assert_eq!(before.schedule, after.schedule);
            prop_assert!(text.lines().all(|line| edited.lines().any(|other| other == line)));
        }

        #[test]
        fn a_name_becomes_a_pattern_that_fits_it_and_no_other(name in "[^/\\pC]{1,10}", other in "[a-z*]{1,4}") {
            prop_assume!(name != "." && name != ".." && name != "**" && name.trim() == name);
            let pattern = name_pattern("./", name.as_bytes(), "").expect("a pattern");
            let (rules, problems) = RuleSet::parse(&format!("skip {pattern}"), "r");
            prop_assert!(problems.is_empty(), "{pattern}: {problems:?}");
            let matcher = rules.matcher(b"/s", 0).expect("compiles");
            let look = |_: &Path, directory: bool| -> Box<dyn Traits> { Box::new(NameOnly { directory }) };
            let verdict = |name: &str| matcher.explain(Path::new("/s"), &Path::new("/s").join(name), false, &look).verdict.action;
            prop_assert_eq!(verdict(&name), Action::Skip, "{}", pattern);
            prop_assert!(other == name || verdict(&other) == Action::Take, "{} fits {}", pattern, other);
        }
    }
}
