//! Waiting that is said, and that ends when nobody wants what is waited for any more.

use std::{
    convert::Infallible,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use skellin_place::{Place, Waiting};
use skellin_store::Store;

use crate::{
    clock::Cancel,
    event::{Event, EventSink, Waited},
};

/// After so much time in which nothing went on it is said what is waited for.
pub(crate) const SAY_AFTER: Duration = Duration::from_secs(30);
/// How often it is looked.
const TICK: Duration = Duration::from_millis(200);
/// So long after somebody interrupts, work that waits for something may end by itself.
const GRACE: Duration = Duration::from_secs(2);

/// Whatever can be waited for.
pub(crate) trait Awaited: Sync {
    fn waiting(&self) -> Option<Waiting>;
    fn give_up(&self);
}

impl Awaited for Arc<dyn Place> {
    fn waiting(&self) -> Option<Waiting> {
        Place::waiting(&**self)
    }

    fn give_up(&self) {
        Place::give_up(&**self);
    }
}

/// Does work, and watches meanwhile what it waits for. When somebody interrupts, waiting ends; and
/// `stuck` is called if the work goes on all the same, since it hangs in something that cannot be
/// ended. The process does not end before that is done.
pub(crate) fn watched<T, E>(
    awaited: &[&dyn Awaited],
    events: &dyn EventSink,
    cancel: &Cancel,
    stuck: &(dyn Fn() + Sync),
    work: impl FnOnce() -> Result<T, E>,
) -> Result<T, E> {
    let (done, went_well) = (AtomicBool::new(false), AtomicBool::new(false));
    std::thread::scope(|scope| {
        let watch = scope.spawn(|| {
            let mut said: Vec<Option<String>> = vec![None; awaited.len()];
            let mut cancelled: Option<Instant> = None;
            let mut told_stuck = false;
            while !done.load(Ordering::SeqCst) {
                for (one, said) in awaited.iter().zip(&mut said) {
                    say(one.waiting(), said, events);
                }
                if cancel.is_cancelled() {
                    let since = *cancelled.get_or_insert_with(Instant::now);
                    awaited.iter().for_each(|one| one.give_up());
                    if since.elapsed() >= GRACE && !std::mem::replace(&mut told_stuck, true) {
                        let _held = cancel.hold();
                        stuck();
                    }
                }
                std::thread::park_timeout(TICK);
            }
            // What ended well waits for nothing any more, however soon it was over after that.
            if went_well.load(Ordering::SeqCst) {
                said.iter_mut().for_each(|said| say(None, said, events));
            }
        });
        let ended = End { done: &done, watch: watch.thread().clone() };
        let result = work();
        went_well.store(result.is_ok(), Ordering::SeqCst);
        drop(ended);
        result
    })
}

/// Looks into stores, and says meanwhile what is waited for. When somebody interrupts, waiting ends, and
/// what was waited for fails.
pub fn attended<T>(
    stores: &[&Store],
    events: &dyn EventSink,
    cancel: &Cancel,
    work: impl FnOnce() -> T,
) -> T {
    let places: Vec<&dyn Awaited> =
        stores.iter().map(|store| store.place() as &dyn Awaited).collect();
    let work = || Ok::<T, Infallible>(work());
    let Ok(result) = watched(&places, events, cancel, &|| {}, work);
    result
}

/// Ends the watch, also when the work panics.
struct End<'a> {
    done: &'a AtomicBool,
    watch: std::thread::Thread,
}

impl Drop for End<'_> {
    fn drop(&mut self) {
        self.done.store(true, Ordering::SeqCst);
        self.watch.unpark();
    }
}

/// Says once what is waited for, and once that it goes on.
fn say(waiting: Option<Waiting>, said: &mut Option<String>, events: &dyn EventSink) {
    match waiting.filter(|waiting| waiting.since >= SAY_AFTER) {
        Some(Waiting { subject, why, since }) if said.is_none() => {
            *said = Some(subject.clone());
            events.event(Event::Waiting(Waited { subject, why, since, is_over: false }));
        }
        None => {
            if let Some(subject) = said.take() {
                let (why, since) = (None, Duration::ZERO);
                events.event(Event::Waiting(Waited { subject, why, since, is_over: true }));
            }
        }
        Some(_) => {}
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;

    struct Away(Mutex<(Duration, u32)>);

    impl Awaited for Away {
        fn waiting(&self) -> Option<Waiting> {
            let since = self.0.lock().expect("no panic").0;
            let why = Some("the connection was lost".to_owned());
            (!since.is_zero()).then(|| Waiting { subject: "pier".to_owned(), why, since })
        }

        fn give_up(&self) {
            self.0.lock().expect("no panic").1 += 1;
        }
    }

    #[test]
    fn what_is_waited_for_is_said_once_and_so_is_its_end() {
        let said = Mutex::new(Vec::new());
        let events = |event: Event| {
            if let Event::Waiting(waited) = event {
                said.lock().expect("no panic").push(waited.to_string());
            }
        };
        let away = Away(Mutex::new((Duration::from_secs(29), 0)));
        let mut known = None;
        for since in [29, 31, 60, 0, 0] {
            away.0.lock().expect("no panic").0 = Duration::from_secs(since);
            say(away.waiting(), &mut known, &events);
        }
        let said = said.into_inner().expect("no panic");
        assert_eq!(said.len(), 2, "{said:?}");
        assert!(said[0].contains("waiting for pier, 31 s: the connection was lost"));
        assert_eq!(said[1], "pier responds again");
    }

    #[test]
    fn the_end_of_waiting_is_said_by_what_ends_well_at_once() {
        for ends in [Ok(()), Err(())] {
            let (sender, said) = std::sync::mpsc::channel();
            let events = |event: Event| {
                if let Event::Waiting(waited) = event {
                    sender.send(waited.is_over).expect("is heard");
                }
            };
            let away = Away(Mutex::new((Duration::from_secs(31), 0)));
            let ended = watched(&[&away], &events, &Cancel::new(), &|| {}, || {
                assert!(!said.recv().expect("it is said"));
                ends
            });
            assert_eq!((ended, said.try_recv().ok()), (ends, ends.ok().map(|()| true)));
        }
    }

    #[test]
    fn an_interruption_ends_all_waiting_and_what_hangs_is_noticed() {
        let away = Away(Mutex::new((Duration::from_secs(1), 0)));
        let (cancel, stuck) = (Cancel::new(), AtomicBool::new(false));
        let begun = Instant::now();
        watched(&[&away], &|_: Event| {}, &cancel, &|| stuck.store(true, Ordering::SeqCst), || {
            cancel.cancel();
            while !stuck.load(Ordering::SeqCst) {
                std::thread::park_timeout(Duration::from_millis(5));
            }
            Ok::<(), ()>(())
        })
        .expect("ends");
        assert!(begun.elapsed() >= GRACE && away.0.lock().expect("no panic").1 > 0);
    }
}
