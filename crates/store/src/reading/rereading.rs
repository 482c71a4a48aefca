//! What a line may have changed is read again before it is called damage.

use skellin_place::Place;

use crate::error::{Result, StoreError};

/// Reads something from a place. What turns out damaged is read once more from a far one: the line may
/// have changed it, and not the place.
pub(crate) fn twice<T>(place: &dyn Place, read: impl Fn() -> Result<T>) -> Result<T> {
    match read() {
        Err(error @ StoreError::Damaged { .. }) if place.is_far() => match read() {
            Err(again) if again.is_damage() => Err(error),
            again => again,
        },
        other => other,
    }
}
