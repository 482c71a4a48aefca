//! Changes to the text of a plan; everything else in it stays as it is.

use toml_edit::{Array, DocumentMut, Item, TableLike, Value};

/// A text as TOML, quoted as it has to be.
#[must_use]
pub fn toml_text(text: &str) -> String {
    Value::from(text).to_string()
}

/// Rules as a plan holds them: line by line, as they are typed.
pub(crate) fn rules_value(rules: &str) -> Result<Value, String> {
    let literal = format!("'''\n{rules}\n'''");
    let refused = "such a rule cannot be written in a plan";
    let value: Value = literal.parse().map_err(|_| refused.to_owned())?;
    // What would end the literal too early is no rule any more.
    match value.as_str().is_some_and(|read| read.trim_end_matches('\n') == rules) {
        true => Ok(value),
        false => Err(refused.to_owned()),
    }
}

fn parsed(text: &str) -> Result<DocumentMut, String> {
    text.parse()
        .map_err(|error: toml_edit::TomlError| format!("not valid TOML: {}", error.message()))
}

/// The text of an edited file, with line ends as it had them.
fn text_of(file: &DocumentMut, before: &str) -> String {
    let text = file.to_string();
    match before.contains("\r\n") {
        true => text.replace("\r\n", "\n").replace('\n', "\r\n"),
        false => text,
    }
}

/// Sets a value; what stands before and behind one that was there stays.
fn set(table: &mut dyn TableLike, key: &str, mut value: Value) {
    let before = table.get(key).and_then(Item::as_value);
    if let Some(before) = before {
        *value.decor_mut() = before.decor().clone();
    }
    match table.get_mut(key) {
        Some(there) => *there = value.into(),
        None => drop(table.insert(key, value.into())),
    }
}

/// A plan's text with one more rule at the end of its own.
///
/// # Errors
/// Why it cannot be added, in words.
pub fn with_rule(text: &str, rule: &str) -> Result<String, String> {
    if rule.contains(['\n', '\r']) {
        return Err("such a rule cannot be written in a plan".to_owned());
    }
    let mut plan = parsed(text)?;
    let before = match plan.get("rules") {
        None => "",
        Some(rules) => rules.as_str().ok_or("the rules of this plan have to be edited by hand")?,
    };
    let before = before.trim_matches('\n');
    let gap = if before.is_empty() { "" } else { "\n" };
    let rules = rules_value(&format!("{before}{gap}{rule}"))?;
    set(plan.as_table_mut(), "rules", rules);
    Ok(text_of(&plan, text))
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
    let mut file = parsed(text)?;
    let value: Value = value.parse().map_err(|_| format!("`{value}` is no value"))?;
    let within: &mut dyn TableLike = match table {
        None => file.as_table_mut(),
        Some(name) => {
            let found = file.get_mut(name).ok_or_else(|| format!("there is no [{name}]"))?;
            found.as_table_like_mut().ok_or_else(|| format!("`{name}` is not a table"))?
        }
    };
    set(within, key, value);
    Ok(text_of(&file, text))
}

/// Blanks and comments behind comments, which end with their line.
fn behind(comments: &str, blanks: &str) -> String {
    let ends = blanks.trim_start_matches([' ', '\t']).starts_with(['\n', '\r']);
    let gap = if comments.is_empty() || ends { "" } else { "\n" };
    format!("{comments}{gap}{blanks}")
}

/// A plan's text with other sentences in `retain`: each with its number among those before, unless it is
/// new. Comments and line breaks stay, those at a sentence that goes as well; without any sentence the
/// key goes.
///
/// # Errors
/// Why it cannot be changed, in words.
pub fn with_sentences(text: &str, sentences: &[(Option<usize>, String)]) -> Result<String, String> {
    let mut plan = parsed(text)?;
    if sentences.is_empty() {
        plan.remove("retain");
        return Ok(text_of(&plan, text));
    }
    let by_hand = "`retain` of this plan has to be edited by hand";
    let before: Vec<Value> = match plan.get("retain") {
        None => Vec::new(),
        Some(item) => item.as_array().ok_or(by_hand)?.iter().cloned().collect(),
    };
    let decor = |value: &Value| {
        let part = |raw: Option<&toml_edit::RawString>| {
            raw.and_then(|raw| raw.as_str()).unwrap_or("").to_owned()
        };
        (part(value.decor().prefix()), part(value.decor().suffix()))
    };
    let stays = |at: usize| sentences.iter().any(|(of, _)| *of == Some(at));
    // What somebody wrote before or behind a sentence that goes stands before the next one.
    let mut left: Vec<String> = vec![String::new(); before.len() + 1];
    for (at, value) in before.iter().enumerate().filter(|(at, _)| !stays(*at)) {
        let (prefix, suffix) = decor(value);
        let comments = behind(&left[at], &format!("{prefix}{suffix}"));
        if comments.contains('#') {
            left[at + 1] = comments.trim_end().to_owned();
        }
    }
    let usual = before.iter().map(decor).next_back().unwrap_or_default();
    let mut array = Array::new();
    for (number, (of, said)) in sentences.iter().enumerate() {
        let mut value = Value::from(said.as_str());
        match of.and_then(|at| before.get(at).map(|value| (at, value))) {
            Some((at, old)) => {
                if old.as_str() == Some(said) {
                    value = old.clone();
                } else {
                    *value.decor_mut() = old.decor().clone();
                }
                let (mut prefix, suffix) = decor(old);
                if number == 0 && prefix.trim_start_matches(' ').is_empty() {
                    prefix.clear();
                }
                value.decor_mut().set_prefix(behind(&left[at], &prefix));
                value.decor_mut().set_suffix(suffix);
            }
            None => {
                // A comment is not said again; the line it stands on is begun again.
                let line = usual.0.rsplit('\n').next().unwrap_or("");
                let prefix = match usual.0.contains('\n') {
                    true => format!("\n{line}"),
                    false if number == 0 => String::new(),
                    false => " ".to_owned(),
                };
                value.decor_mut().set_prefix(prefix);
            }
        }
        array.push_formatted(value);
    }
    if let Some(old) = plan.get("retain").and_then(Item::as_array) {
        let trailing = old.trailing().as_str().unwrap_or("");
        array.set_trailing(behind(&left[before.len()], trailing));
        array.set_trailing_comma(old.trailing_comma());
    }
    set(plan.as_table_mut(), "retain", array.into());
    Ok(text_of(&plan, text))
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
            ("rules = '''skip a'''\n", "rules = '''\nskip a\nskip x\n'''\n"),
            ("rules = \"skip a\"  # ours\n", "rules = '''\nskip a\nskip x\n'''  # ours\n"),
            ("rules = ''\nstore = \"oak\"", "rules = '''\nskip x\n'''\nstore = \"oak\"\n"),
            ("store = \"oak\"", "store = \"oak\"\nrules = '''\nskip x\n'''\n"),
            (
                "store = \"oak\"\n\n# when\n[schedule]\nrun = \"daily at 1:00\"\n",
                "store = \"oak\"\nrules = '''\nskip x\n'''\n\n# when\n[schedule]\nrun = \"daily at 1:00\"\n",
            ),
            (
                "sources = [\n\"/a\"]\n[[around]]\nenter = [\"x\"]\n",
                "sources = [\n\"/a\"]\nrules = '''\nskip x\n'''\n[[around]]\nenter = [\"x\"]\n",
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
                "# x\n[oak] # y\nplace = \"/a\"\nkey = 7\n",
            ),
            ("[elm]\n[oak]", Some("oak"), "key", "[elm]\n[oak]\nkey = 7\n"),
            ("oak = { a = 1 } # y\n", Some("oak"), "key", "oak = { a = 1 , key = 7 } # y\n"),
            ("a = 1 # x\r\n# y\r\nb = 2\r\n", None, "b", "a = 1 # x\r\n# y\r\nb = 7\r\n"),
        ] {
            assert_eq!(with_value(text, table, key, "7").as_deref(), Ok(after), "{text}");
        }
        assert!(with_value("[elm]\n", Some("oak"), "key", "7").is_err());
        assert!(with_value("oak = 1\n", Some("oak"), "key", "7").is_err());
        assert!(with_value("= 1\n", None, "key", "7").is_err());
    }

    #[test]
    fn sentences_change_and_comments_stay() {
        let one = |of: Option<usize>, said: &str| (of, said.to_owned());
        let (day, week) = ("one a day for 2 weeks", "one a week for 10 weeks");
        let plain = "a = 1\nretain  = [\"one a day for 2 weeks\", \"one a week for 10 weeks\"] # why\n[x]\n";
        let lines = "retain = [\n    # the week\n    'one a day for 2 weeks', # each\n    \"one a week for 10 weeks\", # some\n]\nb = 2\n";
        for (text, wanted, after) in [
            (
                plain,
                vec![one(Some(0), day), one(Some(1), "one a week for 5 weeks")],
                plain.replace("10 weeks", "5 weeks"),
            ),
            (plain, vec![one(Some(1), week)], plain.replace("\"one a day for 2 weeks\", ", "")),
            (
                plain,
                vec![one(Some(0), day), one(Some(1), week), one(None, "at least 4")],
                plain.replace("10 weeks\"", "10 weeks\", \"at least 4\""),
            ),
            (plain, vec![], "a = 1\n[x]\n".to_owned()),
            (
                "a = 1\n[x]\n",
                vec![one(None, day), one(None, week)],
                "a = 1\nretain = [\"one a day for 2 weeks\", \"one a week for 10 weeks\"]\n[x]\n"
                    .to_owned(),
            ),
            (
                lines,
                vec![one(Some(0), "one a day for 3 weeks"), one(Some(1), week)],
                lines.replace("'one a day for 2 weeks'", "\"one a day for 3 weeks\""),
            ),
            (
                lines,
                vec![one(Some(0), day), one(Some(1), week), one(None, "at least 4")],
                lines.replace("weeks\", # some", "weeks\",\n    \"at least 4\", # some"),
            ),
            (lines, vec![one(Some(0), day)], lines.replace("    \"one a week for 10 weeks\",", "")),
            (lines, vec![one(Some(1), week)], lines.replace("    'one a day for 2 weeks',", "")),
        ] {
            let edited = with_sentences(text, &wanted);
            assert_eq!(edited.as_deref(), Ok(after.as_str()), "{wanted:?}");
        }
        assert!(with_sentences("retain = 3\n", &[one(None, day)]).is_err());
    }

    proptest! {
        #[test]
        fn every_comment_and_every_other_line_stays(
            old in prop::collection::vec(("(\n *)?", "( # [a-z]{1,5}\n *)?"), 1..5),
            picked in prop::collection::vec(prop::option::of(0..5usize), 1..6),
        ) {
            let items: Vec<String> = old.iter().enumerate()
                .map(|(at, (line, comment))| format!("{line}\"at least {}\",{comment}", at + 1)).collect();
            let text = format!("# top\nretain = [{}]\nstore = \"oak\" # place\n", items.concat());
            let mut used = Vec::new();
            let wanted: Vec<(Option<usize>, String)> = picked.iter().enumerate().map(|(at, of)| {
                let of = of.filter(|of| *of < old.len() && !used.contains(of));
                used.extend(of);
                (of, match of {
                    Some(of) if at % 2 == 0 => format!("at least {}", of + 1),
                    _ => format!("at least {}", 100 + at),
                })
            }).collect();
            let edited = with_sentences(&text, &wanted).expect("edited");
            let read: DocumentMut = edited.parse().expect("valid");
            let said: Vec<&str> = read["retain"].as_array().expect("an array").iter().filter_map(Value::as_str).collect();
            prop_assert_eq!(said, wanted.iter().map(|(_, said)| said.as_str()).collect::<Vec<_>>());
            let comments = |text: &str| {
                let mut found: Vec<String> = text.lines().filter_map(|line| line.split_once('#')).map(|(_, said)| said.trim().to_owned()).collect();
                found.sort();
                found
            };
            prop_assert_eq!(comments(&edited), comments(&text), "{}", edited);
        }

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
