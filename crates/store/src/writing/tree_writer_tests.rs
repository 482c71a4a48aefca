//! A place that is slow with one container keeps nobody from going on with the next.

use std::{
    sync::{Arc, Condvar, Mutex, mpsc},
    time::Duration,
};

use skellin_place::{HookedPlace, Operation, Place};

use crate::{
    PageSink, Refs, Session,
    protocol_tests::{begin, memory, noise, open},
};

/// Far longer than anything here takes.
const PATIENCE: Duration = Duration::from_secs(60);

#[derive(Debug, Default)]
struct State {
    is_open: bool,
    waiting: usize,
}

/// Keeps containers of trees from coming into being until it is opened.
#[derive(Default)]
struct Gate {
    state: Mutex<State>,
    changed: Condvar,
}

impl Gate {
    fn open(&self) {
        self.state.lock().expect("unlocked").is_open = true;
        self.changed.notify_all();
    }

    fn wait_for(&self, many: usize) {
        let state = self.state.lock().expect("unlocked");
        let waited = self.changed.wait_timeout_while(state, PATIENCE, |state| state.waiting < many);
        assert!(waited.expect("unlocked").0.waiting >= many, "so many are on their way");
    }

    fn pass(&self) {
        let mut state = self.state.lock().expect("unlocked");
        state.waiting += 1;
        self.changed.notify_all();
        // Not for ever, so that a failure is told.
        let waited = self.changed.wait_timeout_while(state, 3 * PATIENCE, |state| !state.is_open);
        drop(waited.expect("unlocked"));
    }
}

/// Puts pages until a container is full and on its way.
fn fill(session: &Arc<Session>, seed: u64) {
    for number in 0..40 {
        let body = noise(1000 * seed + number, 3000);
        session.put_page(&body, &Refs::default()).expect("puts");
    }
}

#[test]
fn one_slow_upload_stalls_no_other_worker() {
    let (_, place) = memory();
    let gate = Arc::new(Gate::default());
    let at_place = Arc::clone(&gate);
    let hooked = HookedPlace::before(place, move |operation, name| {
        if operation == Operation::Create && name.starts_with("trees/") {
            at_place.pass();
        }
        Ok(())
    });
    let place: Arc<dyn Place> = Arc::new(hooked);
    let session = begin(&open(&place), 1);
    std::thread::scope(|scope| {
        // Each stands before the gate in the end: the uploaders, then the workers themselves.
        for worker in 0..4 {
            let session = &session;
            scope.spawn(move || fill(session, worker));
            gate.wait_for(worker as usize + 1);
        }
        let (sender, done) = mpsc::channel();
        let session = &session;
        scope.spawn(move || {
            let page = session.put_page(&noise(7, 3000), &Refs::default()).expect("puts");
            sender.send(page).expect("is heard");
        });
        let page = done.recv_timeout(PATIENCE);
        gate.open();
        page.expect("a worker goes on while all uploads stand");
    });
}
