//! Buffers of blocks that are done with: memory that was just used is quicker than new memory.

use std::cell::RefCell;

/// A thread keeps so many,
const MOST: usize = 2;
/// none of them longer than this, in bytes.
const LONGEST: usize = 1 << 20;

thread_local! {
    static SPARE: RefCell<Vec<Vec<u8>>> = const { RefCell::new(Vec::new()) };
}

/// A buffer with anything in it.
pub(crate) fn take() -> Vec<u8> {
    SPARE.with_borrow_mut(Vec::pop).unwrap_or_default()
}

/// Keeps a buffer for the next who asks on this thread.
pub(crate) fn give(buffer: Vec<u8>) {
    if buffer.capacity() == 0 || buffer.capacity() > LONGEST {
        return;
    }
    // While the thread ends there may be no place for it any more.
    let _ = SPARE.try_with(|spare| {
        let mut spare = spare.borrow_mut();
        if spare.len() < MOST {
            spare.push(buffer);
        }
    });
}
