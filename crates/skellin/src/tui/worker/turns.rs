//! Only what was asked last counts: something newer ends what is under way.

use std::sync::Mutex;

use skellin_engine::Cancel;

use super::locked;

/// The turns of one kind of work, of which only the newest counts.
#[derive(Default)]
pub(super) struct Turns(Mutex<(u64, Cancel)>);

impl Turns {
    /// The token of the turn of this number; several requests may belong to one. It is raised once
    /// something newer is asked for, and at once if that was so already.
    pub fn turn(&self, number: u64) -> Cancel {
        let mut newest = locked(&self.0);
        if number > newest.0 {
            std::mem::replace(&mut *newest, (number, Cancel::new())).1.cancel();
        } else if number < newest.0 {
            let over = Cancel::new();
            over.cancel();
            return over;
        }
        newest.1.clone()
    }

    /// The token of the next turn.
    pub fn next(&self) -> Cancel {
        let next = locked(&self.0).0 + 1;
        self.turn(next)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn something_newer_ends_what_is_under_way() {
        let turns = Turns::default();
        let (first, same) = (turns.turn(3), turns.turn(3));
        assert!(!first.is_cancelled() && turns.turn(2).is_cancelled(), "what is late is over");
        let newer = turns.next();
        assert!(first.is_cancelled() && same.is_cancelled() && !newer.is_cancelled());
        assert!(turns.turn(3).is_cancelled());
    }
}
