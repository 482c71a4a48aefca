//! Rules from any text, and what they make of paths: the pass that finds the deciding rule must
//! agree with the one that finds all that hold.
#![no_main]

use std::path::Path;

use libfuzzer_sys::fuzz_target;
use skellin_plan::{NameOnly, RuleSet, Traits};

fuzz_target!(|text: &str| {
    if text.len() > 2000 {
        return;
    }
    let (rules, problems) = RuleSet::parse(text, "fuzzed");
    for problem in &problems {
        assert!(problem.line >= 1 && problem.column >= 1);
        let _ = problem.to_string();
    }
    let Ok(matcher) = rules.matcher(b"/s", 0) else { return };
    let _ = rules.notes(&["/s".into()]);
    let look = |_: &Path, directory: bool| -> Box<dyn Traits> { Box::new(NameOnly { directory }) };
    for (path, directory) in [("/s/a", false), ("/s/a/b.part", false), ("/s/.cache", true), ("/s/x y", false)] {
        let why = matcher.explain(Path::new("/s"), Path::new(path), directory, &look);
        let mut verdict = matcher.source(b"/s", &NameOnly { directory: true });
        let mut here = String::from("/s");
        let parts: Vec<&str> = path[3..].split('/').collect();
        for (number, part) in parts.iter().enumerate() {
            here = format!("{here}/{part}");
            let of = NameOnly { directory: directory || number + 1 < parts.len() };
            verdict = matcher.below(verdict, here.as_bytes(), &of);
        }
        assert_eq!(verdict, why.verdict, "{text:?} on {path}");
        let _ = matcher.may_take_below(verdict, path.as_bytes());
    }
});
