//! Reading rule lines.

use std::ops::Range;

use super::{
    Action, Rule,
    condition::{Condition, WORDS},
    pattern::Pattern,
    suspicion::{Suspicion, suspicion},
};
use crate::problem::{Problem, nearest};

/// Reads rules, which stand in `whole` at `offset`.
pub(super) fn parse(
    rules: &str,
    file: &str,
    whole: &str,
    offset: usize,
) -> (Vec<Rule>, Vec<Problem>) {
    let (mut found, mut problems) = (Vec::new(), Vec::new());
    let mut start = 0;
    for line in rules.split_inclusive('\n') {
        let at = |range: Range<usize>| offset + start + range.start..offset + start + range.end;
        let mut problem = |range: Range<usize>, message: String, hint: Option<String>| {
            let problem = Problem::at(file, whole, &at(range), message);
            problems.push(match hint {
                Some(hint) => problem.hint(hint),
                None => problem,
            });
        };
        match words(line) {
            Ok(words) => {
                let number = whole[..offset + start].matches('\n').count() + 1;
                found.extend(parse_rule(&words, line, file, number, &mut problem));
            }
            Err(quote) => {
                problem(quote..quote + 1, "this quote is never closed".to_owned(), None);
            }
        }
        start += line.len();
    }
    (found, problems)
}

struct Word {
    text: String,
    quoted: bool,
    range: Range<usize>,
}

/// Splits a line at blanks; `#` ends it, quotes hold blanks. The error is where an open quote is.
fn words(line: &str) -> Result<Vec<Word>, usize> {
    let mut words: Vec<Word> = Vec::new();
    let mut current: Option<Word> = None;
    let mut quote = None;
    let mut characters = line.char_indices();
    while let Some((at, c)) = characters.next() {
        let fresh = || Word { text: String::new(), quoted: false, range: at..at };
        match c {
            '"' if quote.is_some() => quote = None,
            '"' => {
                quote = Some(at);
                current.get_or_insert_with(fresh).quoted = true;
            }
            '\n' | '\r' if quote.is_some() => break,
            '#' if quote.is_none() && current.is_none() => break,
            c if c.is_whitespace() && quote.is_none() => words.extend(current.take()),
            c => {
                let word = current.get_or_insert_with(fresh);
                word.text.push(c);
                // What follows a backslash stands for itself, also a quote.
                if c == '\\'
                    && let Some((_, next)) = characters.next()
                {
                    word.text.push(next);
                }
            }
        }
        if let Some(word) = &mut current {
            word.range.end = at + c.len_utf8();
        }
    }
    match quote {
        Some(quote) => Err(quote),
        None => {
            words.extend(current);
            Ok(words)
        }
    }
}

fn parse_rule(
    words: &[Word],
    line: &str,
    file: &str,
    number: usize,
    problem: &mut dyn FnMut(Range<usize>, String, Option<String>),
) -> Option<Rule> {
    let (verb, rest) = words.split_first()?;
    let action = match verb.text.as_str() {
        "take" => Action::Take,
        "skip" => Action::Skip,
        other => {
            let hint =
                nearest(other, ["take", "skip"]).map(|near| format!("did you mean `{near}`?"));
            problem(
                verb.range.clone(),
                format!("a rule begins with `take` or `skip`, not `{other}`"),
                hint,
            );
            return None;
        }
    };
    let is_condition = |word: &Word| !word.quoted && WORDS.contains(&word.text.as_str());
    let split = rest.iter().position(is_condition).unwrap_or(rest.len());
    let (named, asked) = rest.split_at(split);
    let mut fine = true;
    // What is compared without regard to case is said at the end, and concerns all patterns.
    let nocase = asked.iter().any(|word| !word.quoted && word.text == "nocase");
    let mut patterns = Vec::new();
    for (number, word) in named.iter().enumerate() {
        let next = named.get(number + 1).or(asked.first()).map(|next| next.text.as_str());
        if !word.quoted
            && let Some(Suspicion { message, hint }) = suspicion(&word.text, next)
        {
            problem(word.range.clone(), message, Some(hint));
            fine = false;
            continue;
        }
        match Pattern::parse(&word.text, nocase) {
            Ok(pattern) => patterns.push(pattern),
            Err(why) => {
                problem(word.range.clone(), why, None);
                fine = false;
            }
        }
    }
    let mut conditions = Vec::new();
    let texts: Vec<&str> = asked.iter().map(|word| word.text.as_str()).collect();
    let mut at = 0;
    while let Some(word) = asked.get(at) {
        if !is_condition(word) {
            let message = format!("`{}` follows a condition", word.text);
            let hint = "write all patterns first, then the conditions".to_owned();
            problem(word.range.clone(), message, Some(hint));
            return None;
        }
        at += 1;
        if word.text == "nocase" {
            continue;
        }
        match Condition::parse(&word.text, &texts[at..]) {
            Ok((condition, taken)) => {
                conditions.push(condition);
                at += taken;
            }
            Err((number, why)) => {
                let wrong = asked.get(at - 1 + number).unwrap_or(word);
                let hint = format!("for a file of that name write \"{}\"", word.text);
                problem(wrong.range.clone(), why, Some(hint));
                return None;
            }
        }
    }
    if patterns.is_empty() && conditions.is_empty() && fine {
        let hint = format!("as in `{} *.part`", verb.text);
        problem(
            verb.range.clone(),
            "this rule has no pattern and no condition".to_owned(),
            Some(hint),
        );
        return None;
    }
    let end = words.last().map_or(0, |word| word.range.end);
    let text = line[verb.range.start..end].to_owned();
    fine.then(|| Rule { action, file: file.to_owned(), line: number, text, patterns, conditions })
}
