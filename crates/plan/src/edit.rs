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

    proptest! {
        #[test]
        fn the_rules_before_stay_and_the_new_one_comes_last(
            old in prop::option::of("(skip [a-z]{1,5}\n|# note\n){0,4}"), table in any::<bool>(), comment in "[a-z ]{0,10}",
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
