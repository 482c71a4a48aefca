//! Local times as moments.

use jiff::{
    Span, Timestamp, civil,
    tz::{AmbiguousOffset, TimeZone},
};

/// The moment of a local time. One that a change of the clock leaves out is the moment right after
/// the change; one that comes twice is the first.
pub(crate) fn moment(local: civil::DateTime, zone: &TimeZone) -> Option<Timestamp> {
    let ambiguous = zone.to_ambiguous_zoned(local);
    let is_left_out = matches!(ambiguous.offset(), AmbiguousOffset::Gap { .. });
    let moment = ambiguous.compatible().ok()?.timestamp();
    match is_left_out {
        // What is shifted by the gap lies behind the change that made it.
        true => zone
            .preceding(moment + Span::new().nanoseconds(1))
            .next()
            .map(|change| change.timestamp()),
        false => Some(moment),
    }
}
