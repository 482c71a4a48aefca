//! Lines that are longer than there is room for: wrapped below where their text begins, or cut
//! visibly.

use ratatui::{
    style::Style,
    text::{Line, Span},
};
use unicode_width::UnicodeWidthChar;

/// What may stand before a text, and keeps its column when the text is wrapped.
const MARKS: [char; 8] = ['→', '✓', '✕', '▲', '▸', '•', '·', '-'];

type Cells = Vec<(char, Style)>;

fn cells(line: &Line<'_>) -> Cells {
    let styled = |span: &Span<'_>| -> Cells {
        let style = line.style.patch(span.style);
        span.content.chars().map(|c| (c, style)).collect()
    };
    line.spans.iter().flat_map(styled).collect()
}

fn width(cells: &[(char, Style)]) -> usize {
    cells.iter().map(|(c, _)| c.width().unwrap_or(0)).sum()
}

fn line_of(cells: &[(char, Style)]) -> Line<'static> {
    let mut spans: Vec<Span<'static>> = Vec::new();
    for (c, style) in cells {
        match spans.last_mut() {
            Some(last) if last.style == *style => last.content.to_mut().push(*c),
            _ => spans.push(Span::styled(c.to_string(), *style)),
        }
    }
    Line::from(spans)
}

/// How many characters fit, from the first on.
fn fitting(cells: &[(char, Style)], most: usize) -> usize {
    let mut used = 0;
    let over = cells.iter().position(|(c, _)| {
        used += c.width().unwrap_or(0);
        used > most
    });
    over.unwrap_or(cells.len())
}

/// Where the text of a line begins: behind blanks, a mark, or a label that is a span of its own.
fn indent(line: &Line<'_>, all: &Cells, most: usize) -> usize {
    let blanks = all.iter().take_while(|(c, _)| *c == ' ').count();
    let is_marked = all.get(blanks).is_some_and(|(c, _)| MARKS.contains(c))
        && all.get(blanks + 1).is_some_and(|(c, _)| *c == ' ');
    let label = line.spans.first().map_or("", |span| span.content.as_ref());
    let is_labelled = line.spans.len() > 1 && label.len() > 2 && label.ends_with(' ');
    let indent = match (is_labelled, is_marked) {
        (true, _) => label.chars().count(),
        (false, true) => blanks + 2,
        (false, false) => blanks,
    };
    if indent * 2 > most { blanks.min(most / 2) } else { indent }
}

/// Lines in so many columns, the longer ones wrapped between words.
pub(super) fn wrap(lines: Vec<Line<'static>>, most: usize) -> Vec<Line<'static>> {
    let most = most.max(4);
    let mut out = Vec::with_capacity(lines.len());
    for line in lines {
        if line.width() <= most {
            out.push(line);
            continue;
        }
        let all = cells(&line);
        let indent = indent(&line, &all, most);
        let (mut rest, mut before) = (&all[..], 0);
        while before + width(rest) > most {
            let fits = fitting(rest, most - before).max(1);
            let least = if before == 0 { indent } else { 0 };
            // After the last blank that leaves something of the text on the line.
            let blank =
                (least + 1..=fits).rev().find(|at| rest.get(*at).is_some_and(|c| c.0 == ' '));
            let end = blank.unwrap_or(fits);
            let gap = vec![(' ', Style::new()); before];
            out.push(line_of(&[&gap, &rest[..end]].concat()));
            let skipped = rest[end..].iter().take_while(|(c, _)| *c == ' ').count();
            (rest, before) = (&rest[end + skipped..], indent);
        }
        if !rest.is_empty() {
            let gap = vec![(' ', Style::new()); before];
            out.push(line_of(&[&gap, rest].concat()));
        }
    }
    out
}

/// Lines in so many columns, `…` in place of what is too much.
pub(super) fn cut(lines: Vec<Line<'static>>, most: usize) -> Vec<Line<'static>> {
    let short = |line: Line<'static>| {
        let all = cells(&line);
        let said = all.iter().rposition(|(c, _)| *c != ' ').map_or(0, |last| last + 1);
        if width(&all[..said]) <= most {
            return line;
        }
        let end = fitting(&all, most.saturating_sub(1));
        let style = all.get(end).map_or(Style::new(), |(_, style)| *style);
        line_of(&[&all[..end], &[('…', style)]].concat())
    };
    lines.into_iter().map(short).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn texts(lines: &[Line<'_>]) -> Vec<String> {
        lines.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn wrapped_text_stays_below_where_it_begins() {
        let hint = Line::from("  → mount the drive, then try again");
        assert_eq!(
            texts(&wrap(vec![hint], 16)),
            ["  → mount the", "    drive, then", "    try again"]
        );
        let fact =
            Line::from(vec![Span::raw("  Place  "), Span::raw("on the pier, below the hut")]);
        assert_eq!(
            texts(&wrap(vec![fact], 24)),
            ["  Place  on the pier,", "         below the hut"]
        );
        assert_eq!(texts(&wrap(vec![Line::from(""), Line::from("ab")], 5)), ["", "ab"]);
        let long = Line::from("  /srv/readings/2026/gauges");
        assert_eq!(texts(&wrap(vec![long], 16)), ["  /srv/readings/", "  2026/gauges"]);
    }

    #[test]
    fn what_is_cut_is_cut_visibly() {
        let line = || Line::from(vec![Span::raw("  oak  "), Span::raw("59 MiB in 225 containers")]);
        assert_eq!(texts(&cut(vec![line()], 20)), ["  oak  59 MiB in 22…"]);
        assert_eq!(texts(&cut(vec![line()], 40)), texts(&[line()]));
        assert_eq!(texts(&cut(vec![Line::from("oak      ")], 5)), ["oak      "]);
    }

    proptest! {
        #[test]
        fn nothing_is_lost_by_wrapping(words in proptest::collection::vec("[a-z海→]{1,12}", 0..12), most in 4..40usize) {
            let text = words.join(" ");
            let lines = texts(&wrap(vec![Line::from(text.clone())], most));
            let solid = |text: &str| text.chars().filter(|c| *c != ' ').collect::<String>();
            prop_assert_eq!(solid(&lines.concat()), solid(&text));
            for line in lines {
                prop_assert!(line.chars().map(|c| c.width().unwrap_or(0)).sum::<usize>() <= most, "{line}");
            }
        }
    }
}
