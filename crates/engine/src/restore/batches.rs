//! Work for the writers, gathered so that neighbours go to one of them: two that write into one
//! directory at a time wait for each other at each file.

use std::sync::Arc;

use crossbeam_channel::Sender;

use super::write::Job;

/// Paths go to the writers once there are so many,
const MOST: usize = 1024;
/// or once their content has so many bytes,
const BYTES: u64 = 1 << 20;
/// or at the end of a directory once there are so many.
const FEW: usize = 16;

pub(super) struct Batches<'a, 'b> {
    to: &'b Sender<Vec<Job<'a>>>,
    waiting: Vec<Job<'a>>,
    bytes: u64,
}

impl<'a, 'b> Batches<'a, 'b> {
    pub fn new(to: &'b Sender<Vec<Job<'a>>>) -> Self {
        Self { to, waiting: Vec::new(), bytes: 0 }
    }

    /// Adds a path; whether anyone is there who will restore it.
    pub fn push(&mut self, job: Job<'a>) -> bool {
        let is_elsewhere =
            self.waiting.last().is_some_and(|last| match (&last.directory, &job.directory) {
                (Some(last), Some(next)) => !Arc::ptr_eq(last, next),
                (None, None) => false,
                _ => true,
            });
        if is_elsewhere && self.waiting.len() >= FEW && !self.flush() {
            return false;
        }
        self.bytes = self.bytes.saturating_add(job.entry.size());
        self.waiting.push(job);
        (self.waiting.len() < MOST && self.bytes < BYTES) || self.flush()
    }

    /// Hands over what has been gathered.
    pub fn flush(&mut self) -> bool {
        self.bytes = 0;
        self.waiting.is_empty() || self.to.send(std::mem::take(&mut self.waiting)).is_ok()
    }
}
