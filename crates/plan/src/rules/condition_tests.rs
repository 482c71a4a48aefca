//! Conditions by a world in which a name says everything: `=3000` its size, `@40` its age in
//! days, `%ann` its owner, `+TAG` what a directory holds, `else` another file system, and `link-`,
//! `pipe-`, `device-`, `socket-` what it is.

use std::path::Path;

use proptest::prelude::*;

use super::*;

const NOW: i64 = 1_790_000_000;
const DAY: i64 = 86_400;

struct Telling {
    name: String,
    path: String,
    directory: bool,
}

impl Telling {
    fn of(path: &Path, directory: bool) -> Self {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        Self { name, path: path.display().to_string(), directory }
    }

    /// What stands behind a sign in the name.
    fn after(&self, sign: char) -> Option<&str> {
        let rest = &self.name[self.name.find(sign)? + 1..];
        Some(&rest[..rest.find(['=', '@', '%', '+', '.']).unwrap_or(rest.len())])
    }
}

impl Traits for Telling {
    fn kind(&self) -> PathKind {
        match self.name.split('-').next() {
            _ if self.directory => PathKind::Directory,
            Some("link") => PathKind::Link,
            Some("pipe") => PathKind::Pipe,
            Some("device") => PathKind::Device,
            Some("socket") => PathKind::Socket,
            _ => PathKind::File,
        }
    }

    fn size(&self) -> u64 {
        self.after('=').and_then(|size| size.parse().ok()).unwrap_or(0)
    }

    fn modified(&self) -> i64 {
        NOW - self.after('@').and_then(|days| days.parse::<i64>().ok()).unwrap_or(0) * DAY
    }

    fn is_owned_by(&self, user: &str) -> bool {
        self.after('%') == Some(user)
    }

    fn holds(&self, name: &str) -> bool {
        self.after('+') == Some(name)
    }

    fn is_elsewhere(&self) -> bool {
        self.path.contains("/else")
    }
}

fn explain(text: &str, path: &str) -> Explanation {
    let (rules, problems) = RuleSet::parse(text, "test.rules");
    assert!(problems.is_empty(), "{text}: {problems:?}");
    let matcher = rules.matcher(b"/s", NOW).expect("compiles");
    let directory = path.ends_with('/');
    let path = Path::new(path.trim_end_matches('/'));
    matcher.explain(Path::new("/s"), path, directory, &|path, directory| {
        Box::new(Telling::of(path, directory))
    })
}

/// Rules, a path below `/s`, and whether it is included. A final `/` marks a directory.
const CASES: &[(&str, &str, Action)] = {
    use Action::{Skip, Take};
    &[
        ("skip over 2 KiB", "/s/a=3000", Skip),
        ("skip over 2 KiB", "/s/a=2048", Take),
        ("skip over 2KiB", "/s/a=2049", Skip),
        ("skip over 2 KiB", "/s/a=3000/", Take),
        ("skip *.png over 2 kB", "/s/a=3000.png", Skip),
        ("skip *.png over 2 kB", "/s/a=3000.csv", Take),
        ("skip *.png over 2 kB", "/s/x.png/", Take),
        ("skip under 10 B", "/s/a=9", Skip),
        ("skip under 10 B", "/s/a=10", Take),
        ("skip over 1 B under 10 B", "/s/a=5", Skip),
        ("skip over 1 B under 10 B", "/s/a=50", Take),
        ("skip older than 3 weeks", "/s/a@40", Skip),
        ("skip older than 3 weeks", "/s/a@20", Take),
        ("skip older than 3 weeks", "/s/a@40/", Take),
        ("skip newer than 2 days", "/s/a@1", Skip),
        ("skip newer than 2 days", "/s/a@2", Take),
        ("skip *.log older than 30 days over 1 kB", "/s/a=2000@31.log", Skip),
        ("skip *.log older than 30 days over 1 kB", "/s/a=2000@3.log", Take),
        ("skip owner ann", "/s/a%ann", Skip),
        ("skip owner ann", "/s/a%bo", Take),
        ("skip owner ann", "/s/d%ann/x", Skip),
        ("skip kind link", "/s/link-a", Skip),
        ("skip kind link", "/s/a", Take),
        // The source is a directory too, and all below it goes with it.
        ("skip kind dir", "/s/x", Skip),
        ("take *\nskip d kind dir", "/s/d/x", Skip),
        ("take *\nskip d kind dir", "/s/d", Take),
        ("skip tmp kind dir", "/s/tmp/x", Skip),
        ("skip tmp kind dir", "/s/tmp", Take),
        ("skip tmp kind file", "/s/tmp/x", Take),
        ("skip kind pipe\nskip kind device\nskip kind socket", "/s/device-a", Skip),
        ("skip kind pipe\nskip kind device\nskip kind socket", "/s/socket-a", Skip),
        ("skip kind pipe\nskip kind device\nskip kind socket", "/s/pipe-a", Skip),
        ("skip holding TAG", "/s/d+TAG/", Skip),
        ("skip holding TAG", "/s/d+TAG/deep/x", Skip),
        ("skip holding TAG", "/s/d+OTHER/x", Take),
        ("skip holding TAG", "/s/d+TAG", Take),
        ("skip holding TAG\ntake keep/", "/s/d+TAG/keep/x", Take),
        ("skip ./a/ holding TAG", "/s/b+TAG/x", Take),
        ("skip other-filesystems", "/s/else/x", Skip),
        ("skip other-filesystems", "/s/here/x", Take),
        ("skip other-filesystems\ntake /s/else/keep", "/s/else/keep", Take),
        ("skip *.PNG nocase", "/s/a.png", Skip),
        ("skip *.PNG", "/s/a.png", Take),
        ("skip *.png over 1 kB nocase", "/s/a=2000.PNG", Skip),
        ("skip ÅRET nocase", "/s/året/x", Skip),
        ("skip ÅRET", "/s/året/x", Take),
        ("skip [a-c]x nocase", "/s/BX", Skip),
        ("skip ./Sub/ nocase", "/s/sUB/x", Skip),
        ("skip *\ntake over 1 kB", "/s/a=2000", Take),
        ("skip *\ntake over 1 kB", "/s/a=2", Skip),
        ("skip \"over\" kind file", "/s/over", Skip),
        ("skip \"kind\"", "/s/kind", Skip),
        ("take * kind file\nskip *.part", "/s/a.part", Skip),
    ]
};

#[test]
fn the_table_of_conditions_holds() {
    for (text, path, expected) in CASES {
        assert_eq!(explain(text, path).verdict.action, *expected, "{text:?} on {path}");
    }
}

#[test]
fn an_explanation_has_all_that_held_and_the_last_decides() {
    let text =
        "skip *.csv\ntake notes/\nskip over 1 kB\ntake *.csv newer than 2 days\nskip *.txt\n";
    let why = explain(text, "/s/notes/a=2000@1.csv");
    assert_eq!((why.verdict.rule, why.held), (Some(3), vec![0, 1, 2, 3]));
    let why = explain(text, "/s/b.md");
    assert_eq!((why.verdict, why.held), (Verdict::TAKEN, vec![]));
}

fn condition() -> impl Strategy<Value = (String, fn(&Telling) -> bool)> {
    type Holds = fn(&Telling) -> bool;
    prop::sample::select(vec![
        ("over 5 B".to_owned(), (|of| of.kind() == PathKind::File && of.size() > 5) as Holds),
        ("under 5 B".to_owned(), |of| of.kind() == PathKind::File && of.size() < 5),
        ("older than 3 days".to_owned(), |of| {
            of.kind() == PathKind::File && NOW - of.modified() > 3 * DAY
        }),
        ("kind dir".to_owned(), |of| of.directory),
        ("kind link".to_owned(), |of| of.kind() == PathKind::Link),
        ("owner ann".to_owned(), |of| of.name.contains("%ann")),
        ("holding T".to_owned(), |of| of.directory && of.name.contains("+T")),
        ("other-filesystems".to_owned(), |of| of.path.contains("/else")),
    ])
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn conditions_agree_with_the_definition(
        lines in prop::collection::vec((any::<bool>(), prop::option::of("[a-c]"), prop::collection::vec(condition(), 0..3)), 1..6),
        parts in prop::collection::vec(("[a-c]|link-a|else", prop::sample::select(vec!["", "=3", "=9", "@1", "@9", "%ann", "+T"])), 1..4),
        directory: bool,
    ) {
        let lines: Vec<_> = lines.into_iter().filter(|(_, name, conditions)| name.is_some() || !conditions.is_empty()).collect();
        let text: String = lines.iter().map(|(take, name, conditions)| {
            let words: Vec<&str> = conditions.iter().map(|(words, _)| words.as_str()).collect();
            let name = name.as_ref().map_or(String::new(), |name| format!("{name}*"));
            format!("{} {name} {}\n", if *take { "take" } else { "skip" }, words.join(" "))
        }).collect();
        let names: Vec<String> = parts.iter().map(|(name, signs)| format!("{name}{signs}")).collect();
        let path = format!("/s/{}{}", names.join("/"), if directory { "/" } else { "" });
        // Plainly: each rule on the source, on each directory above, and on the path.
        let mut expected = Action::Take;
        for (take, name, conditions) in &lines {
            let holds = (0..=names.len()).any(|length| {
                let here = format!("/s{}", names[..length].iter().map(|part| format!("/{part}")).collect::<String>());
                let of = Telling::of(Path::new(&here), directory || length < names.len());
                let named = match name {
                    None => true,
                    Some(name) => length > 0 && names[length - 1].starts_with(name.as_str()),
                };
                // Above the source only names count, and a rule without one needs its conditions.
                named && conditions.iter().all(|(_, holds)| holds(&of))
            });
            if holds || (name.is_none() && conditions.iter().all(|(words, _)| words == "kind dir")) {
                expected = if *take { Action::Take } else { Action::Skip };
            }
        }
        prop_assert_eq!(explain(&text, &path).verdict.action, expected, "{} on {}", text, path);
    }
}
