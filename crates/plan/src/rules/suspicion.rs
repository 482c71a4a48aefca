//! Words that stand where patterns stand and are hardly meant as such: misspelt conditions, numbers,
//! units, commas, and halves of a path with a blank. A pattern that is really meant is quoted.

use super::condition::WORDS;
use crate::units::{is_size_unit, parse_duration, parse_size};

/// Other words for conditions with a size or an age, and what they are called here.
const SYNONYMS: [(&str, &[&str]); 4] = [
    ("over", &["bigger", "larger", "greater", "more", "above", "exceeding"]),
    ("under", &["smaller", "less", "fewer", "below"]),
    ("older than", &["before", "elder"]),
    ("newer than", &["younger", "after", "since", "fresher"]),
];
/// A condition's word of so many letters may be further from what was typed.
const LONG: usize = 7;

/// What is suspicious about a word, and what to write instead.
pub(super) struct Suspicion {
    pub message: String,
    pub hint: String,
}

/// Looks at an unquoted word in the place of a pattern, and at the one after it.
pub(super) fn suspicion(word: &str, next: Option<&str>) -> Option<Suspicion> {
    let suspicious = |message: String, hint: String| Some(Suspicion { message, hint });
    if word.ends_with(',') || word.contains(",*") || word.contains(",.") {
        return suspicious(
            format!("`{word}` has a comma: patterns are separated by blanks"),
            format!(
                "write `{}`; quote a comma that belongs to a name",
                word.replace(',', " ").trim_end()
            ),
        );
    }
    if let Some(meant) = meant_condition(word, next) {
        return suspicious(
            format!("`{word}` is not a condition"),
            format!(
                "did you mean `{meant}`? For a file or directory of that name write \"{word}\""
            ),
        );
    }
    if is_number(word) || parse_size(word).is_ok() || parse_duration(word).is_ok() {
        return suspicious(
            format!("`{word}` is a number without a condition"),
            format!(
                "for a file or directory of that name write \"{word}\"; conditions begin with a word: `over 2 GiB`, `older than 3 weeks`"
            ),
        );
    }
    if word.len() > 1 && is_size_unit(word) {
        return suspicious(
            format!("`{word}` is a unit without a condition"),
            format!("conditions begin with a word: `over 2 {word}`; for a name write \"{word}\""),
        );
    }
    let is_full = |word: &str| word.starts_with('/') || word.starts_with("./");
    let goes_on = |next: &&str| {
        next.contains('/')
            && !next.starts_with(['/', '.', '*', '~', '[', '?'])
            && !next.ends_with('/')
    };
    if is_full(word)
        && !word.contains(['*', '?', '['])
        && let Some(next) = next.filter(goes_on)
    {
        return suspicious(
            format!("`{word} {next}` looks like one path with a blank"),
            format!(
                "write \"{word} {next}\"; or begin the second with `**/` if it is a pattern of its own"
            ),
        );
    }
    None
}

/// The condition somebody seems to have meant by a word.
fn meant_condition(word: &str, next: Option<&str>) -> Option<&'static str> {
    let letters = word.trim_end_matches(['.', ';', ':']);
    let plain = letters.trim_end_matches(|c: char| c.is_ascii_digit());
    if plain.is_empty() || !plain.bytes().all(|byte| byte.is_ascii_alphabetic() || byte == b'-') {
        return None;
    }
    let lower = plain.to_lowercase();
    if plain.len() < letters.len() {
        // A number that has grown to its condition: `over3`.
        return WORDS.into_iter().find(|known| *known == lower);
    }
    let near = WORDS.into_iter().find(|known| {
        let allowed = if known.len() >= LONG { 2 } else { 1 };
        strsim::damerau_levenshtein(&lower, known) <= allowed
    });
    let has_amount = || next.is_some_and(|next| next == "than" || is_amount(next));
    let named = || {
        let known = SYNONYMS.iter().find(|(_, others)| others.contains(&lower.as_str()));
        known.filter(|_| has_amount()).map(|(name, _)| *name)
    };
    near.or_else(named)
}

fn is_number(word: &str) -> bool {
    word.starts_with(|c: char| c.is_ascii_digit())
        && word.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.')
}

fn is_amount(word: &str) -> bool {
    is_number(word) || parse_size(word).is_ok() || parse_duration(word).is_ok()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use crate::rules::RuleSet;

    /// A condition of each kind, and where its word begins and ends.
    const CONDITIONS: [&str; 9] = [
        "over 3 MiB",
        "under 500kB",
        "older than 3 weeks",
        "newer than 36 hours",
        "owner keeper",
        "kind dir",
        "holding CACHEDIR.TAG",
        "other-filesystems",
        "nocase",
    ];

    fn problems(rule: &str) -> Vec<String> {
        let (_, problems) = RuleSet::parse(rule, "test.rules");
        problems.iter().map(ToString::to_string).collect()
    }

    proptest! {
        /// No edit of one letter in the word of a condition changes what a rule means without a word.
        #[test]
        fn no_slip_of_one_letter_is_silent(
            condition in 0..CONDITIONS.len(), at in any::<prop::sample::Index>(), edit in 0..4, letter in "[a-zA-Z]",
        ) {
            let condition = CONDITIONS[condition];
            let (word, rest) = condition.split_once(' ').unwrap_or((condition, ""));
            let mut letters: Vec<char> = word.chars().collect();
            let letter = letter.chars().next().expect("a letter");
            let at = at.index(letters.len());
            match edit {
                0 => drop(letters.remove(at)),
                1 => letters.insert(at, letter),
                2 => letters[at] = letter,
                _ if at + 1 < letters.len() => letters.swap(at, at + 1),
                _ => letters.push(letter),
            }
            let slipped: String = letters.into_iter().collect();
            prop_assume!(slipped != word);
            let rule = format!("skip *.jpg {slipped} {rest}");
            prop_assert!(!problems(&rule).is_empty(), "{}", rule);
        }
    }

    #[test]
    fn what_is_hardly_meant_is_refused_with_what_to_write() {
        for (rule, hint) in [
            ("skip *.jpg ovr 3 MiB", "did you mean `over`?"),
            ("skip *.jpg Over 3 MiB", "did you mean `over`?"),
            ("skip *.jpg over3 MiB", "did you mean `over`?"),
            ("skip *.jpg bigger 3 MiB", "did you mean `over`?"),
            ("skip *.jpg bigger than 3 MiB", "did you mean `over`?"),
            ("skip *.jpg oldr than 3 weeks", "did you mean `older`?"),
            ("skip *.jpg younger 3d", "did you mean `newer than`?"),
            ("skip *.jpg, *.iso", "write `*.jpg`"),
            ("skip *.jpg,*.iso", "write `*.jpg *.iso`"),
            ("skip *.jpg 3 MiB", "write \"3\""),
            ("skip *.jpg 3MiB", "write \"3MiB\""),
            ("skip 2026", "write \"2026\""),
            ("skip MiB", "write \"MiB\""),
            ("skip folder", "write \"folder\""),
            ("skip /srv/My Files/x.iso", "write \"/srv/My Files/x.iso\""),
        ] {
            let found = problems(rule);
            assert!(found.iter().any(|problem| problem.contains(hint)), "{rule}: {found:?}");
        }
        for fine in [
            "skip \"folder\" \"2026\" \"3 MiB\" \"a,b\"",
            "skip folder/ 2026/ cover.jpg over.txt",
            "skip bigger smaller before after user type",
            "skip a,b.csv",
            "skip /srv/a /srv/b **/c",
            "skip ./a *.x b/",
            "take days week month",
        ] {
            assert_eq!(problems(fine), Vec::<String>::new(), "{fine}");
        }
    }
}
