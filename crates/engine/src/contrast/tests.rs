use std::time::Instant;

use proptest::prelude::*;

use super::*;

fn whole(bytes: &[u8]) -> Content<'_> {
    Content { bytes, is_whole: true }
}

fn text(before: &str, now: &str) -> (Vec<Row<LinePair>>, (u64, u64), bool) {
    match contrast(whole(before.as_bytes()), whole(now.as_bytes())) {
        Contrast::Text { rows, counts, is_table } => (rows, counts, is_table),
        other => panic!("{other:?}"),
    }
}

/// A side as text, with what changed in brackets.
fn marked(side: Option<&Side>) -> String {
    let part = |part: &Part| match part.is_changed {
        true => format!("[{}]", part.text),
        false => part.text.clone(),
    };
    side.map_or("-".to_owned(), |side| side.parts.iter().map(part).collect())
}

#[test]
fn what_changed_in_a_line_is_marked_and_what_is_far_from_it_is_left_out() {
    let before: Vec<String> = (1..=40).map(|number| format!("line {number} of notes")).collect();
    let mut now = before.clone();
    now[19] = "line 20 of memories".to_owned();
    now.push("one more".to_owned());
    let (rows, counts, is_table) = text(&before.join("\n"), &now.join("\n"));
    assert_eq!((counts, is_table), ((2, 1), false));
    assert_eq!(rows[0], Row::Same(16));
    let changed = rows.iter().find_map(|row| match row {
        Row::Shown(pair) if pair.differs => Some(pair),
        _ => None,
    });
    let changed = changed.expect("a line that differs");
    assert_eq!(marked(changed.before.as_ref()), "line 20 of [notes]");
    assert_eq!(marked(changed.now.as_ref()), "line 20 of [memories]");
    let Some(Row::Shown(last)) = rows.last() else { panic!("{rows:?}") };
    assert_eq!(
        (marked(last.before.as_ref()), marked(last.now.as_ref())),
        ("-".into(), "one more".into())
    );
}

#[test]
fn tables_are_aligned_and_compared_by_cells() {
    let before = "time,gauge,level\n21:00,north pier,1.20\n21:10,\"a, b\",1.25\n";
    let now = "time,gauge,level\n21:00,north pier,1.31\n21:10,\"a, b\",1.25\n";
    let (rows, _, is_table) = text(before, now);
    assert!(is_table);
    let lines: Vec<_> = rows
        .iter()
        .map(|row| match row {
            Row::Shown(pair) => marked(pair.now.as_ref()),
            Row::Same(_) => panic!("three lines are near"),
        })
        .collect();
    assert_eq!(
        lines,
        ["time   gauge       level", "21:00  north pier  [1.31]", "21:10  \"a, b\"      1.25"]
    );
}

#[test]
fn what_is_no_text_is_compared_by_bytes() {
    let mut now = vec![0u8; 1000];
    now[500] = 7;
    now.push(9);
    let Contrast::Bytes { rows, count } = contrast(whole(&[0; 1000]), whole(&now)) else {
        panic!("bytes")
    };
    assert_eq!(count, 2);
    assert_eq!(rows[0], Row::Same(59 * 8));
    let differing: Vec<u64> = rows
        .iter()
        .filter_map(|row| match row {
            Row::Shown(row) if row.before != row.now => Some(row.offset),
            _ => None,
        })
        .collect();
    assert_eq!(differing, [496, 1000]);
}

#[test]
fn texts_that_would_take_for_ever_end_in_time() {
    let side = |seed: usize| -> String {
        (0..MOST_LINES + 10).map(|number| format!("{}\n", (number * seed) % 7919)).collect()
    };
    let (before, now) = (side(31), side(37));
    let begun = Instant::now();
    let (rows, ..) = text(&before, &now);
    // The limit is on what can take long; what follows is linear.
    assert!(begun.elapsed() < 20 * PATIENCE, "{:?}", begun.elapsed());
    assert!(!rows.is_empty());
    let long = "x ".repeat(COMPARED / 2);
    let (rows, ..) = text(&long, &format!("{long}y"));
    assert_eq!(rows.len(), 1);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn both_sides_can_be_read_off_what_is_told(
        before in prop::collection::vec("[abc ,]{0,6}", 0..12),
        now in prop::collection::vec("[abc ,]{0,6}", 0..12),
    ) {
        let (old, new) = (before.join("\n"), now.join("\n"));
        match contrast(whole(old.as_bytes()), whole(new.as_bytes())) {
            Contrast::Same => prop_assert_eq!(old, new),
            Contrast::Bytes { .. } => prop_assert!(false, "it is text"),
            Contrast::Text { rows, counts, is_table } => {
                let number = |side: fn(&LinePair) -> Option<&Side>| {
                    let mut next = 1;
                    for row in &rows {
                        match row {
                            Row::Same(count) => next += *count as usize,
                            Row::Shown(pair) => if let Some(side) = side(pair) {
                                if side.number != next {
                                    return Err(next);
                                }
                                next += 1;
                            },
                        }
                    }
                    Ok(next - 1)
                };
                prop_assert_eq!(number(|pair| pair.before.as_ref()), Ok(old.lines().count()));
                prop_assert_eq!(number(|pair| pair.now.as_ref()), Ok(new.lines().count()));
                for row in &rows {
                    let Row::Shown(pair) = row else { continue };
                    let text = |side: &Side| side.parts.iter().map(|part| part.text.as_str()).collect::<String>();
                    if let (Some(side), false) = (&pair.now, is_table) {
                        prop_assert_eq!(Some(text(side)), new.lines().nth(side.number - 1).map(str::to_owned));
                    }
                    if let (Some(a), Some(b)) = (&pair.before, &pair.now) {
                        let same = old.lines().nth(a.number - 1) == new.lines().nth(b.number - 1);
                        prop_assert_eq!(same, !pair.differs);
                    }
                }
                let ends = counts == (0, 0);
                prop_assert_eq!(ends, old.lines().eq(new.lines()));
            }
        }
    }

    #[test]
    fn bytes_of_any_kind_give_an_answer(before: Vec<u8>, now: Vec<u8>, is_whole: bool) {
        let told = contrast(Content { bytes: &before, is_whole }, Content { bytes: &now, is_whole });
        prop_assert_eq!(told == Contrast::Same, before == now);
    }
}
