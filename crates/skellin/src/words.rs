//! Numbers, times and paths as people read them.

use std::{borrow::Cow, time::Duration};

use jiff::{Timestamp, tz::TimeZone};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// A number of bytes with its unit.
pub(crate) fn bytes(bytes: u64) -> String {
    const UNITS: [&str; 7] = ["B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];
    let mut unit = 0;
    let mut value = bytes as f64;
    // What would be shown as 1024 is shown as 1 of the next unit.
    while value >= 1023.5 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    match unit {
        0 => format!("{bytes} B"),
        _ if value < 9.95 => format!("{value:.1} {}", UNITS[unit]),
        _ => format!("{value:.0} {}", UNITS[unit]),
    }
}

/// A number with a blank between thousands.
pub(crate) fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push('\u{202f}');
        }
        out.push(digit);
    }
    out
}

/// A number and its noun.
pub(crate) fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(number), if number == 1 { one } else { many })
}

/// A duration in its two largest units.
pub(crate) fn duration(time: Duration) -> String {
    let seconds = time.as_secs();
    match seconds {
        0 => format!("{} ms", time.as_millis()),
        1..=9 => format!("{:.1} s", time.as_secs_f64()),
        10..=59 => format!("{seconds} s"),
        60..=3599 => format!("{} min {:02} s", seconds / 60, seconds % 60),
        3600..=86_399 => format!("{} h {:02} min", seconds / 3600, seconds % 3600 / 60),
        _ => format!("{} d {} h", seconds / 86_400, seconds % 86_400 / 3600),
    }
}

/// A span in milliseconds as a duration.
pub(crate) fn span(milliseconds: i64) -> String {
    duration(Duration::from_millis(u64::try_from(milliseconds).unwrap_or(0)))
}

/// Seconds as a duration.
pub(crate) fn seconds(seconds: f64) -> String {
    duration(Duration::try_from_secs_f64(seconds).unwrap_or_default())
}

/// What an entry of the journal has done, in a few words.
pub(crate) fn deeds(entry: &skellin_engine::JournalEntry) -> String {
    use skellin_engine::Work;
    let (files, size) = (&entry.files, &entry.bytes);
    match entry.work {
        Work::Run if entry.ended.is_none() => String::new(),
        Work::Run => format!(
            "{} new, {} changed, {} gone, {} stored",
            count(files.new),
            count(files.changed),
            count(files.gone),
            bytes(size.stored)
        ),
        Work::Restore => {
            format!("{} restored, {}", counted(files.new, "path", "paths"), bytes(size.read))
        }
        Work::Drill => {
            let live = match files.same {
                0 => String::new(),
                same => format!(", {} live too", count(same)),
            };
            format!("{} compared, {}{live}", counted(files.new, "file", "files"), bytes(size.read))
        }
        Work::Verify => format!("{} read", bytes(size.read)),
        Work::Repair => format!(
            "{} repaired, {} stored anew",
            counted(files.changed, "object", "objects"),
            counted(files.new, "content", "contents")
        ),
        Work::Expire => counted(files.gone, "snapshot expired", "snapshots expired"),
        Work::Reclaim => format!("{} freed, {} stored anew", bytes(size.read), bytes(size.stored)),
        Work::Leave => "ran pending `leave` commands".to_owned(),
        Work::Replicate => format!(
            "{} copied, {} stored",
            counted(files.new, "snapshot", "snapshots"),
            bytes(size.stored)
        ),
    }
}

/// What a dry run foretells: what would be stored, how long it would take, what it would cost.
pub(crate) fn outlook(outlook: &skellin_engine::Outlook) -> Vec<String> {
    let stored = &outlook.stored;
    let range = |low: String, high: String| match low == high {
        true => String::new(),
        false => format!(" ({low} to {high})"),
    };
    let mut parts = vec![format!(
        "about {} to store{}",
        bytes(stored.stored),
        range(bytes(stored.low), bytes(stored.high))
    )];
    let time = |seconds: f64| duration(Duration::from_secs_f64(seconds.clamp(0.0, 1e9)));
    let expected = &outlook.time;
    parts.push(match outlook.runs {
        0 => format!("at least {}; no run has been timed yet", time(expected.seconds)),
        runs => format!(
            "about {}{}, last {}",
            time(expected.seconds),
            range(time(expected.range.0), time(expected.range.1)),
            counted(runs, "run", "runs")
        ),
    });
    if let Some(cost) = &outlook.cost {
        parts.push(format!(
            "{:.2} {} a month instead of {:.2}",
            cost.after, cost.currency, cost.now
        ));
    }
    if let Some(free) = outlook.free {
        let free = bytes(free);
        parts.push(match outlook.fits() {
            true => format!("{free} free in the store"),
            false => format!("▲ does not fit: {free} free in the store"),
        });
    }
    parts
}

/// How a message fared.
pub(crate) fn delivery(delivery: &skellin_engine::Delivery) -> String {
    let why = delivery.words.as_deref().unwrap_or("not tried yet");
    match (delivery.sent, delivery.given_up) {
        (Some(sent), _) => format!("sent {}", moment(sent)),
        (None, true) => format!("given up after {} tries: {why}", delivery.tries),
        (None, false) if delivery.tries == 0 => "being sent".to_owned(),
        (None, false) => format!("not sent yet: {why}"),
    }
}

/// That a plan's next run will not be done before its window closes, if so.
pub(crate) fn no_fit(plan: &skellin_engine::DuePlan) -> Option<String> {
    let (fit, takes) = (plan.fit?, plan.takes.as_ref()?);
    let over = u64::try_from(fit.over?.as_secs()).unwrap_or(0);
    Some(format!(
        "{}: the next run takes about {} and exceeds its window, which closes {}, by {}",
        plan.plan,
        duration(Duration::from_secs_f64(takes.seconds.clamp(0.0, 1e9))),
        moment(fit.closes.as_millisecond()),
        duration(Duration::from_secs(over))
    ))
}

/// Why a path is included or excluded, line by line.
pub(crate) fn reasons(plan: &skellin_plan::Plan, reasons: &skellin_engine::Reasons) -> Vec<String> {
    use std::os::unix::ffi::OsStrExt;
    let shown = path(reasons.path.as_os_str().as_bytes());
    let told = |number: usize| {
        let rule = &plan.rules.rules()[number];
        let file = rule.file.rsplit('/').next().unwrap_or(&rule.file);
        format!("{}   ({file}, line {})", rule.text, rule.line)
    };
    if reasons.source.is_none() {
        return vec![
            format!("{shown}: excluded"),
            format!("  it is not in a source of {}", plan.name),
        ];
    }
    let is_taken = reasons.verdict.action == skellin_plan::Action::Take;
    let mut lines = vec![format!("{shown}: {}", if is_taken { "included" } else { "excluded" })];
    lines.push(match reasons.verdict.rule {
        Some(number) => format!("  decided by  {}", told(number)),
        None => "  no rule matches: included".to_owned(),
    });
    let overruled =
        reasons.held.iter().rev().filter(|number| Some(**number) != reasons.verdict.rule);
    lines.extend(overruled.map(|number| format!("  overruled   {}", told(*number))));
    if !reasons.exists {
        lines.push("  it does not exist now: only its name was compared".to_owned());
    }
    if let Some(below) = &reasons.below {
        lines.push(format!(
            "  below it    {}, {} included; {} excluded",
            counted(below.files, "file", "files"),
            bytes(below.bytes),
            counted(below.skipped, "path", "paths")
        ));
    }
    lines
}

/// A moment in milliseconds since 1970, in the machine's zone.
pub(crate) fn moment(milliseconds: i64) -> String {
    let zoned = zoned(milliseconds);
    zoned.strftime("%a %d %b %Y %H:%M").to_string()
}

/// The time of day of a moment.
pub(crate) fn clock(milliseconds: i64) -> String {
    zoned(milliseconds).strftime("%H:%M:%S").to_string()
}

/// The day of a moment.
pub(crate) fn day(milliseconds: i64) -> String {
    zoned(milliseconds).strftime("%-d %b %Y").to_string()
}

/// As [`moment`], to the second.
pub(crate) fn second(milliseconds: i64) -> String {
    zoned(milliseconds).strftime("%a %d %b %Y %H:%M:%S").to_string()
}

/// A moment for programs: RFC 3339 with offset.
pub(crate) fn rfc3339(milliseconds: i64) -> String {
    zoned(milliseconds).strftime("%Y-%m-%dT%H:%M:%S%.3f%:z").to_string()
}

pub(crate) fn zoned(milliseconds: i64) -> jiff::Zoned {
    let timestamp = Timestamp::from_millisecond(milliseconds).unwrap_or(Timestamp::UNIX_EPOCH);
    timestamp.to_zoned(zone())
}

/// The machine's zone; tests have one of their own, so that what they see is the same everywhere.
pub(crate) fn zone() -> TimeZone {
    if cfg!(test) { TimeZone::UTC } else { TimeZone::system() }
}

/// An age in milliseconds, in its largest unit.
pub(crate) fn age(milliseconds: i64) -> String {
    match milliseconds / 60_000 {
        ..=1 => "a minute".to_owned(),
        minutes @ 2..=119 => format!("{minutes} min"),
        minutes @ 120..=2879 => format!("{} h", minutes / 60),
        minutes => format!("{} d", minutes / 1440),
    }
}

/// Whether a character does something to a terminal beside standing there: a control, or one that
/// turns the direction of text.
pub(crate) fn is_harmful(c: char) -> bool {
    let turns_text = matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}');
    c.is_control() || turns_text
}

/// Text as it may leave for a terminal, whoever wrote it: line ends and tabs stay, whatever else
/// would do something is escaped.
pub(crate) fn harmless(text: &str) -> Cow<'_, str> {
    let is_fine = |c: char| matches!(c, '\n' | '\t') || !is_harmful(c);
    if text.chars().all(is_fine) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if is_fine(c) { out.push(c) } else { out.extend(c.escape_default()) }
    }
    Cow::Owned(out)
}

/// Bytes of a path made harmless for a terminal: what is not printable text is escaped.
pub(crate) fn path(bytes: &[u8]) -> String {
    let mut out = String::new();
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            if is_harmful(c) {
                out.extend(c.escape_default());
            } else {
                out.push(c);
            }
        }
        for byte in chunk.invalid() {
            out.push_str(&format!("\\x{byte:02x}"));
        }
    }
    out
}

/// Permission bits as letters, with the kind before them.
pub(crate) fn mode(kind: skellin_store::Kind, mode: u32) -> String {
    use skellin_store::Kind;
    let first = match kind {
        Kind::File => '-',
        Kind::Directory => 'd',
        Kind::Link => 'l',
        Kind::Pipe => 'p',
        Kind::Device => 'c',
    };
    let mut out = String::from(first);
    for shift in [6, 3, 0] {
        let bits = mode >> shift & 7;
        let special = mode >> (9 + shift / 3) & 1 == 1;
        out.push(if bits & 4 != 0 { 'r' } else { '-' });
        out.push(if bits & 2 != 0 { 'w' } else { '-' });
        let letter = if shift == 0 { 't' } else { 's' };
        out.push(match (bits & 1 != 0, special) {
            (true, true) => letter,
            (false, true) => letter.to_ascii_uppercase(),
            (true, false) => 'x',
            (false, false) => '-',
        });
    }
    out
}

/// A text in so many columns; where that is too few, `…` stands for the rest.
pub(crate) fn fit(text: &str, columns: usize) -> String {
    if text.trim_end().width() <= columns {
        return beginning(text, columns).to_owned();
    }
    if columns == 0 {
        return String::new();
    }
    format!("{}…", beginning(text, columns - 1))
}

/// A name in so many columns; where that is too few, its head and its tail with `…` between them,
/// since the end of a name tells its kind.
pub(crate) fn fit_name(name: &str, columns: usize) -> String {
    if name.width() <= columns || columns < 8 {
        return fit(name, columns);
    }
    let tail = (columns - 1) / 3;
    let mut from = name.len();
    let mut used = 0;
    for (at, c) in name.char_indices().rev() {
        used += c.width().unwrap_or(0);
        if used > tail {
            break;
        }
        from = at;
    }
    format!("{}…{}", beginning(name, columns - 1 - tail), &name[from..])
}

/// As much of a text as so many columns hold.
fn beginning(text: &str, columns: usize) -> &str {
    let mut used = 0;
    let end = text.char_indices().find(|(_, c)| {
        used += c.width().unwrap_or(0);
        used > columns
    });
    &text[..end.map_or(text.len(), |(at, _)| at)]
}

/// A folder of a store's place as people are told of it, and what it is for.
pub(crate) fn holding(folder: &str) -> (&str, &'static str) {
    match folder {
        "" => ("other", "store header, two copies"),
        "keys" => (folder, "passphrase slots, two copies"),
        "data" => (folder, "file data"),
        "trees" => (folder, "directory trees"),
        "index" => (folder, "index"),
        "snapshots" => (folder, "snapshots"),
        "spares" => (folder, "second copies"),
        "runs" => (folder, "running and interrupted runs"),
        "expired" => (folder, "expired snapshots"),
        _ => (folder, "messages between runs and reclaims"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_fit_is_cut_visibly() {
        assert_eq!(fit("two terns", 9), "two terns");
        assert_eq!(fit("two terns", 8), "two ter…");
        assert_eq!(fit("two terns     ", 10), "two terns ", "blanks at the end are no loss");
        assert_eq!(
            (fit("tern", 1), fit("tern", 0), fit("", 0)),
            ("…".into(), "".into(), "".into())
        );
        assert_eq!(fit("海鳥の記録", 6), "海鳥…", "wide characters are never halved");
        assert_eq!(fit_name("gauge-readings-2026-november.csv", 20), "gauge-reading…er.csv");
        assert_eq!(fit_name("gauge.csv", 9), "gauge.csv");
        assert!(fit_name("海鳥の記録とその他のもの.csv", 12).width() <= 12);
    }

    #[test]
    fn numbers_have_units() {
        let shown: Vec<_> =
            [0, 1023, 1024, 10_200, 1 << 20, 1_048_000, 6_800_000_000, u64::MAX].map(bytes).into();
        assert_eq!(
            shown,
            ["0 B", "1023 B", "1.0 KiB", "10 KiB", "1.0 MiB", "1023 KiB", "6.3 GiB", "16 EiB"]
        );
        assert_eq!(count(1_234_567), "1\u{202f}234\u{202f}567");
        assert_eq!(counted(1, "path", "paths"), "1 path");
        assert_eq!(duration(Duration::from_millis(4_210)), "4.2 s");
        assert_eq!(duration(Duration::from_secs(3725)), "1 h 02 min");
        assert_eq!(mode(skellin_store::Kind::File, 0o4755), "-rwsr-xr-x");
        assert_eq!(mode(skellin_store::Kind::Directory, 0o1776), "drwxrwxrwT");
    }

    #[test]
    fn names_cannot_speak_to_the_terminal() {
        assert_eq!(path(b"plain n\xc3\xa5me"), "plain nåme");
        assert_eq!(path(b"a\x1b[31mb\nc"), "a\\u{1b}[31mb\\nc");
        assert_eq!(path(b"bad\xff\xfe"), "bad\\xff\\xfe");
        assert_eq!(path("x\u{202e}y".as_bytes()), "x\\u{202e}y");
        assert_eq!(path("\u{9b}31m".as_bytes()), "\\u{9b}31m");
    }
}
