//! Sizes and durations as people write them.

/// Units of sizes, with their bytes.
const SIZES: [(&str, u64); 9] = [
    ("B", 1),
    ("kB", 1000),
    ("MB", 1_000_000),
    ("GB", 1_000_000_000),
    ("TB", 1_000_000_000_000),
    ("KiB", 1 << 10),
    ("MiB", 1 << 20),
    ("GiB", 1 << 30),
    ("TiB", 1 << 40),
];

/// Units of durations, with their seconds; months and years are 30 and 365 days.
const DURATIONS: [(&str, u64); 7] = [
    ("second", 1),
    ("minute", 60),
    ("hour", 3600),
    ("day", 86_400),
    ("week", 7 * 86_400),
    ("month", 30 * 86_400),
    ("year", 365 * 86_400),
];

/// Whether a word is a unit of size.
pub(crate) fn is_size_unit(word: &str) -> bool {
    SIZES.iter().any(|(name, _)| name.eq_ignore_ascii_case(word))
}

/// A number that may have a fraction, times a unit.
fn times(number: &str, unit: u64) -> Option<u64> {
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    let digits = |text: &str| text.bytes().all(|b| b.is_ascii_digit());
    let fine = !whole.is_empty() && digits(whole) && digits(fraction) && fraction.len() <= 6;
    if !fine || (number.contains('.') && fraction.is_empty()) {
        return None;
    }
    let whole = whole.parse::<u64>().ok()?.checked_mul(unit)?;
    let scale = 10u128.pow(fraction.len() as u32);
    let part = fraction.parse::<u128>().unwrap_or(0) * u128::from(unit) / scale;
    whole.checked_add(u64::try_from(part).ok()?)
}

fn split(text: &str) -> (&str, &str) {
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    (&text[..end], text[end..].trim_start())
}

/// Bytes of a size such as `2 GiB` or `500kB`.
///
/// # Errors
/// What is wrong with it.
pub fn parse_size(text: &str) -> Result<u64, String> {
    let (number, unit) = split(text.trim());
    let Some((_, bytes)) = SIZES.iter().find(|(name, _)| name.eq_ignore_ascii_case(unit)) else {
        return Err(match unit {
            "" => {
                format!("`{text}` has no unit: write B, KiB, MiB, GiB or TiB (or kB, MB, GB, TB)")
            }
            unit => format!(
                "`{unit}` is not a unit of size: use B, KiB, MiB, GiB or TiB (or kB, MB, GB, TB)"
            ),
        });
    };
    times(number, *bytes).ok_or_else(|| format!("`{text}` is not a size"))
}

/// Seconds of a duration such as `3 weeks` or `36 hours`.
///
/// # Errors
/// What is wrong with it.
pub fn parse_duration(text: &str) -> Result<u64, String> {
    let (number, unit) = split(text.trim());
    let one = unit.strip_suffix('s').filter(|unit| !unit.is_empty()).unwrap_or(unit);
    let one = match one {
        "s" | "sec" => "second",
        "min" => "minute",
        "h" => "hour",
        "d" => "day",
        other => other,
    };
    let Some((_, seconds)) = DURATIONS.iter().find(|(name, _)| *name == one) else {
        return Err(match unit {
            "" => {
                format!(
                    "`{text}` has no unit: write seconds, minutes, hours, days, weeks, months or years"
                )
            }
            unit => format!(
                "`{unit}` is not a unit of time: use seconds, minutes, hours, days, weeks, months or years"
            ),
        });
    };
    times(number, *seconds).ok_or_else(|| format!("`{text}` is not a duration"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn sizes_and_durations_have_the_usual_units() {
        for (text, bytes) in [
            ("2 GiB", 2 << 30),
            ("500kB", 500_000),
            ("1.5 MiB", 1_572_864),
            ("0 B", 0),
            (" 3 tb ", 3_000_000_000_000),
        ] {
            assert_eq!(parse_size(text), Ok(bytes), "{text}");
        }
        for (text, seconds) in [
            ("3 weeks", 1_814_400),
            ("36 h", 129_600),
            ("1 day", 86_400),
            ("1.5 hours", 5400),
            ("10min", 600),
            ("2 months", 5_184_000),
        ] {
            assert_eq!(parse_duration(text), Ok(seconds), "{text}");
        }
        for bad in
            ["", "2", "GiB", "2 PiX", "-1 B", "1. B", "1.2.3 B", "99999999999 TiB", "1.12345678 B"]
        {
            assert!(parse_size(bad).is_err(), "{bad}");
            assert!(parse_duration(bad).is_err(), "{bad}");
        }
    }

    proptest! {
        #[test]
        fn whole_sizes_are_exact_and_no_text_panics(number in 0u64..10_000, unit in 0usize..9, text in "\\PC{0,12}") {
            let (name, bytes) = SIZES[unit];
            prop_assert_eq!(parse_size(&format!("{number} {name}")), Ok(number * bytes));
            let _ = (parse_size(&text), parse_duration(&text));
        }
    }
}
