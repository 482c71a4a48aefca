use std::path::Path;

use proptest::prelude::*;

use super::*;

fn rules(text: &str) -> RuleSet {
    let (rules, problems) = RuleSet::parse(text, "test.rules");
    assert!(problems.is_empty(), "{text}: {problems:?}");
    rules
}

fn verdict(rules: &RuleSet, source: &str, path: &str) -> Action {
    let directory = path.ends_with('/');
    let path = Path::new(path.trim_end_matches('/'));
    let matcher = rules.matcher(source.as_bytes(), NOW).expect("compiles");
    matcher.explain(Path::new(source), path, directory, &by_name).verdict.action
}

/// What is known of a path by its name alone.
fn by_name(_: &Path, directory: bool) -> Box<dyn Traits> {
    Box::new(NameOnly { directory })
}

const NOW: i64 = 1_790_000_000;

/// Rules, a path below `/srv/ridge`, and whether it is included. A final `/` marks a directory.
const CASES: &[(&str, &str, Action)] = {
    use Action::{Skip, Take};
    &[
        ("", "/srv/ridge/a", Take),
        ("skip *.part", "/srv/ridge/a.part", Skip),
        ("skip *.part", "/srv/ridge/deep/er/a.part", Skip),
        ("skip *.part", "/srv/ridge/a.part.csv", Take),
        ("skip *.part", "/srv/ridge/x.part/inside", Skip),
        ("skip .cache/", "/srv/ridge/.cache/", Skip),
        ("skip .cache/", "/srv/ridge/.cache", Take),
        ("skip .cache/", "/srv/ridge/a/.cache/b/c", Skip),
        ("skip *~", "/srv/ridge/notes.md~", Skip),
        ("skip a/b", "/srv/ridge/x/a/b", Skip),
        ("skip a/b", "/srv/ridge/a/x/b", Take),
        ("skip ./a", "/srv/ridge/a", Skip),
        ("skip ./a", "/srv/ridge/x/a", Take),
        ("skip ./a/**", "/srv/ridge/a/", Take),
        ("skip ./a/**", "/srv/ridge/a/b/c", Skip),
        ("skip a/**/z", "/srv/ridge/a/z", Skip),
        ("skip a/**/z", "/srv/ridge/a/b/c/z", Skip),
        ("skip /srv/ridge/a", "/srv/ridge/a", Skip),
        ("skip /srv/other/a", "/srv/ridge/a", Take),
        ("skip /srv", "/srv/ridge/a", Skip),
        ("skip /srv/*/a", "/srv/ridge/a", Skip),
        ("skip ridge/", "/srv/ridge/a", Take),
        ("skip ?.csv", "/srv/ridge/a.csv", Skip),
        ("skip ?.csv", "/srv/ridge/ab.csv", Take),
        ("skip ?.csv", "/srv/ridge/ø.csv", Skip),
        ("skip [a-c]x", "/srv/ridge/bx", Skip),
        ("skip [!a-c]x", "/srv/ridge/bx", Take),
        ("skip [a-]x", "/srv/ridge/-x", Skip),
        ("skip \\*", "/srv/ridge/*", Skip),
        ("skip \\*", "/srv/ridge/a", Take),
        ("skip \"two words\"", "/srv/ridge/two words", Skip),
        ("skip \"over\"", "/srv/ridge/over", Skip),
        ("skip a.b", "/srv/ridge/aXb", Take),
        ("skip a # comment", "/srv/ridge/#", Take),
        ("skip x#y", "/srv/ridge/x#y", Skip),
        ("skip *\ntake *.csv", "/srv/ridge/a.csv", Take),
        ("skip *\ntake *.csv", "/srv/ridge/a.txt", Skip),
        ("take *.csv\nskip *", "/srv/ridge/a.csv", Skip),
        ("skip a/\ntake a/keep", "/srv/ridge/a/keep", Take),
        ("skip a/\ntake a/keep", "/srv/ridge/a/other", Skip),
        ("skip a/\ntake a/keep/", "/srv/ridge/a/keep/x", Take),
        ("skip *.csv *.txt", "/srv/ridge/a.txt", Skip),
        ("skip a*/*", "/srv/ridge/a/", Take),
    ]
};

#[test]
fn the_table_of_cases_holds() {
    for (text, path, expected) in CASES {
        assert_eq!(verdict(&rules(text), "/srv/ridge", path), *expected, "{text:?} on {path}");
    }
}

#[test]
fn a_source_at_the_root_works_too() {
    assert_eq!(verdict(&rules("skip ./proc"), "/", "/proc/1"), Action::Skip);
    assert_eq!(verdict(&rules("skip *.part"), "/", "/a.part"), Action::Skip);
    assert_eq!(verdict(&rules("skip ./proc"), "/", "/srv/proc"), Action::Take);
}

#[test]
fn names_that_are_not_utf_8_are_matched_as_bytes() {
    let rules = rules("skip ?x*");
    let matcher = rules.matcher(b"/s", NOW).expect("compiles");
    let verdict = matcher.below(Verdict::TAKEN, b"/s/\xFFx\xFE", &NameOnly { directory: false });
    assert_eq!((verdict.action, verdict.rule), (Action::Skip, Some(0)));
}

#[test]
fn a_skipped_directory_is_entered_only_where_a_later_take_could_fit() {
    let enters = |text: &str, directory: &str| {
        let rules = rules(text);
        let matcher = rules.matcher(b"/s", NOW).expect("compiles");
        let verdict =
            matcher.explain(Path::new("/s"), Path::new(directory), true, &by_name).verdict;
        assert_eq!(verdict.action, Action::Skip, "{text:?} on {directory}");
        matcher.may_take_below(verdict, directory.as_bytes())
    };
    assert!(!enters("skip a/", "/s/a"));
    assert!(!enters("take *.csv\nskip a/", "/s/a"));
    assert!(enters("skip a/\ntake *.csv", "/s/a"));
    assert!(enters("skip a/\ntake ./a/b/c", "/s/a"));
    assert!(enters("skip a/\ntake ./a/b/c", "/s/a/b"));
    assert!(!enters("skip a/\ntake ./a/b/c", "/s/a/x"));
    assert!(!enters("skip a/\ntake ./b/c", "/s/a"));
    assert!(enters("skip a/\ntake /s/*/keep", "/s/a"));
    assert!(enters("skip a/\ntake ./**/keep", "/s/a/deep"));
    assert!(!enters("skip a/\ntake /other/**", "/s/a"));
}

#[test]
fn mistakes_point_at_their_column() {
    let (_, problems) = RuleSet::parse(
        "skip fine\n  leave x\nskip a//b [z-a] \"open\nskip *.png over 2 PiX\ntake\nskip a**b\nskip a kind thing\nskip over 2 GiB b\nskip x older 3 days\nskip holding a/b\ntake nocase\n",
        "r",
    );
    let places: Vec<_> = problems.iter().map(|problem| (problem.line, problem.column)).collect();
    assert_eq!(
        places,
        [(2, 3), (3, 17), (4, 17), (5, 1), (6, 6), (7, 13), (8, 17), (9, 8), (10, 14), (11, 1)],
        "{problems:?}"
    );
}

/// The definition, as plainly as it can be written: every rule against the path and every
/// directory above it, the last that holds decides.
fn naive(lines: &[(Action, Vec<String>)], source: &str, path: &str, directory: bool) -> Action {
    let mut action = Action::Take;
    let parts: Vec<&str> = path.split('/').skip(1).collect();
    for (line_action, patterns) in lines {
        let holds = (1..=parts.len()).any(|length| {
            let candidate = &parts[..length];
            let is_directory = directory || length < parts.len();
            patterns.iter().any(|pattern| naive_fits(pattern, source, candidate, is_directory))
        });
        if holds {
            action = *line_action;
        }
    }
    action
}

fn naive_fits(pattern: &str, source: &str, path: &[&str], directory: bool) -> bool {
    let (pattern, only) = match pattern.strip_suffix('/') {
        Some(pattern) => (pattern, true),
        None => (pattern, false),
    };
    if only && !directory {
        return false;
    }
    let split = |text: &str| {
        text.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect::<Vec<_>>()
    };
    let source = split(source);
    if let Some(full) = pattern.strip_prefix('/') {
        return parts_fit(&split(full), path);
    }
    if path.len() <= source.len() || !source.iter().zip(path).all(|(a, b)| a == b) {
        return false;
    }
    let below = &path[source.len()..];
    match pattern.strip_prefix("./") {
        Some(anchored) => parts_fit(&split(anchored), below),
        None => (0..below.len()).any(|from| parts_fit(&split(pattern), &below[from..])),
    }
}

fn parts_fit(pattern: &[String], path: &[&str]) -> bool {
    match (pattern.split_first(), path.split_first()) {
        (None, rest) => rest.is_none(),
        (Some((first, rest)), _) if first == "**" => {
            let least = usize::from(rest.is_empty());
            (least..=path.len()).any(|skipped| parts_fit(rest, &path[skipped..]))
        }
        (Some((first, rest)), Some((name, below))) => {
            name_fits(first.as_bytes(), name.as_bytes()) && parts_fit(rest, below)
        }
        (Some(_), None) => false,
    }
}

fn name_fits(pattern: &[u8], name: &[u8]) -> bool {
    match (pattern.split_first(), name.split_first()) {
        (None, rest) => rest.is_none(),
        (Some((b'*', rest)), _) => {
            (0..=name.len()).any(|skipped| name_fits(rest, &name[skipped..]))
        }
        (Some((b'?', rest)), Some((_, below))) => name_fits(rest, below),
        (Some((wanted, rest)), Some((got, below))) => wanted == got && name_fits(rest, below),
        (Some(_), None) => false,
    }
}

fn pattern() -> impl Strategy<Value = String> {
    let part = prop_oneof![4 => "[ab*?]{1,3}".prop_filter("no ** inside", |p| !p.contains("**")), 1 => Just("**".to_owned())];
    let body = prop::collection::vec(part, 1..4).prop_map(|parts| parts.join("/"));
    (prop_oneof![Just("/"), Just("./"), Just(""), Just("/s/")], body, any::<bool>())
        .prop_map(|(anchor, body, only)| format!("{anchor}{body}{}", if only { "/" } else { "" }))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn the_automata_agree_with_the_definition(
        lines in prop::collection::vec((any::<bool>(), prop::collection::vec(pattern(), 1..3)), 0..5),
        below in prop::collection::vec("[ab]{1,3}", 1..5), directory: bool,
    ) {
        let lines: Vec<_> = lines.into_iter()
            .map(|(take, patterns)| (if take { Action::Take } else { Action::Skip }, patterns)).collect();
        let text: String = lines.iter().map(|(action, patterns)| {
            let verb = if *action == Action::Take { "take" } else { "skip" };
            // Quoted, since two of them side by side may look like one path with a blank in it.
            format!("{verb} \"{}\"\n", patterns.join("\" \""))
        }).collect();
        let path = format!("/s/{}", below.join("/"));
        let rules = rules(&text);
        let matcher = rules.matcher(b"/s", NOW).expect("compiles");
        let got = matcher.explain(Path::new("/s"), Path::new(&path), directory, &by_name).verdict;
        prop_assert_eq!(got.action, naive(&lines, "/s", &path, directory), "{} on {}", text, path);
        // A taken path below a skipped directory must be reachable.
        if got.action == Action::Take {
            for above in Path::new(&path).ancestors().skip(1).take_while(|above| above.starts_with("/s")) {
                let verdict = matcher.explain(Path::new("/s"), above, true, &by_name).verdict;
                let bytes = above.to_str().expect("text").as_bytes();
                prop_assert!(verdict.action == Action::Take || matcher.may_take_below(verdict, bytes), "{} hides {}", above.display(), path);
            }
        }
    }

    #[test]
    fn no_text_makes_the_parser_panic(text in "(take|skip|[ab/*?!\\[\\]\\\\\"# -]|\\n|\\PC){0,40}") {
        let (rules, _) = RuleSet::parse(&text, "r");
        let _ = rules.matcher(b"/s", NOW);
    }
}
