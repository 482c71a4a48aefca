//! A wrapper that tries again what may succeed a little later.

use std::{
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    thread,
    time::{Duration, Instant},
};

use crate::{Extent, Listed, ObjectName, Place, PlaceError, PlaceErrorKind, Readiness};

/// How long and after what pauses something is tried again.
#[derive(Clone, Copy, Debug)]
pub struct Retries {
    /// So long it is tried again after the last thing that went well, on whatever connection.
    pub patience: Duration,
    /// The first pause; each next one is twice as long, and each is shortened at random by up to a
    /// half, so that many that failed together do not come back together.
    pub pause: Duration,
}

impl Default for Retries {
    fn default() -> Self {
        Self { patience: Duration::from_secs(600), pause: Duration::from_millis(500) }
    }
}

/// No pause is longer.
const LONGEST_PAUSE: Duration = Duration::from_secs(10);
/// A host that has not answered yet is waited for this part of the patience.
const FIRST_CONTACT: u32 = 20;
/// What has no more bytes than this is never too much for a line that breaks again and again.
const LITTLE: u64 = 256 << 10;
/// So often a line may break with an object on its way, and carry little at once after it, before that
/// object is too much for it.
const BREAKS: u32 = 3;
/// What is too much at once is read in pieces of so many bytes.
const PIECE: u64 = 512 << 10;
/// Between two looks whether somebody has given up.
const TICK: Duration = Duration::from_millis(50);

/// What is waited for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Waiting {
    /// Which place or host.
    pub subject: String,
    /// Why, if it failed and is tried again; else it has just not answered yet.
    pub why: Option<String>,
    /// For so long nothing has gone well there.
    pub since: Duration,
}

/// Tries again what is asked of one host.
#[derive(Debug)]
pub(crate) struct Patience {
    retries: Retries,
    /// Whether it has answered yet. A host that never did is hardly there a moment later.
    answered: AtomicBool,
    state: Mutex<State>,
    /// Raised each time somebody gives up waiting.
    given_up: AtomicU64,
}

#[derive(Debug)]
struct State {
    /// When something went well last.
    progress: Instant,
    /// How many questions are under way.
    asking: usize,
    /// Why the last one failed, while it is tried again.
    why: Option<String>,
}

impl Patience {
    pub fn new(retries: Retries) -> Self {
        let state = State { progress: Instant::now(), asking: 0, why: None };
        Self {
            retries,
            answered: AtomicBool::new(false),
            state: Mutex::new(state),
            given_up: AtomicU64::new(0),
        }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is waited for now, if anything is under way.
    pub fn waiting(&self, subject: String) -> Option<Waiting> {
        let state = self.state();
        (state.asking > 0).then(|| Waiting {
            subject,
            why: state.why.clone(),
            since: state.progress.elapsed(),
        })
    }

    /// Ends all waiting that is under way: what failed is told as it is.
    pub fn give_up(&self) {
        self.given_up.fetch_add(1, Ordering::SeqCst);
    }

    /// Does something until it is done, refused, or tried for long enough. `work` is told how often
    /// it was tried before.
    pub fn again<T>(
        &self,
        mut work: impl FnMut(u32) -> Result<T, PlaceError>,
    ) -> Result<T, PlaceError> {
        let before = self.given_up.load(Ordering::SeqCst);
        {
            let mut state = self.state();
            if state.asking == 0 {
                // Time in which nothing was asked is no waiting.
                state.progress = Instant::now();
            }
            state.asking += 1;
        }
        let mut tried = 0;
        let mut done = loop {
            let done = work(tried);
            let Err(error) = &done else { break done };
            let answered = self.answered.load(Ordering::Relaxed);
            let is_away = error.kind == PlaceErrorKind::Unreachable && !answered;
            if !error.is_passing() || is_away {
                break done;
            }
            let patience = match answered {
                true => self.retries.patience,
                false => self.retries.patience / FIRST_CONTACT,
            };
            let pause = self.pause(tried);
            {
                let mut state = self.state();
                state.why = Some(error.reason());
                if state.progress.elapsed() + pause > patience {
                    break done;
                }
            }
            let until = Instant::now() + pause;
            while let Some(left) = until.checked_duration_since(Instant::now())
                && self.given_up.load(Ordering::SeqCst) == before
            {
                thread::sleep(left.min(TICK));
            }
            if self.given_up.load(Ordering::SeqCst) != before {
                break done;
            }
            tried += 1;
        };
        if let Err(error) = &mut done
            && error.is_passing()
            && self.given_up.load(Ordering::SeqCst) != before
        {
            (error.kind, error.source) = (PlaceErrorKind::GivenUp, None);
        }
        let mut state = self.state();
        state.asking -= 1;
        let is_none =
            |error: &PlaceError| error.is_passing() || error.kind == PlaceErrorKind::GivenUp;
        if !done.as_ref().is_err_and(is_none) {
            // Refusals are answers too.
            self.answered.store(true, Ordering::Relaxed);
            (state.progress, state.why) = (Instant::now(), None);
        }
        drop(state);
        done
    }

    fn pause(&self, tried: u32) -> Duration {
        let whole = self.retries.pause.saturating_mul(1 << tried.min(10)).min(LONGEST_PAUSE);
        let mut byte = [0u8];
        // Without randomness the pause is whole.
        let _ = getrandom::fill(&mut byte);
        whole - whole.mul_f64(f64::from(byte[0]) / 512.0)
    }
}

/// A place whose passing failures are tried again: connections that break off, answers that do not
/// come. Refusals are handed on as they are.
#[derive(Debug)]
pub struct RetryingPlace {
    inner: Arc<dyn Place>,
    patience: Patience,
}

impl RetryingPlace {
    /// Wraps a place.
    #[must_use]
    pub fn new(inner: Arc<dyn Place>, retries: Retries) -> Self {
        Self { inner, patience: Patience::new(retries) }
    }
}

impl RetryingPlace {
    /// Whether the place answers at once after the line has broken.
    fn carries_little(&self, name: &ObjectName) -> bool {
        let extent = Extent::Range { offset: 0, length: 1 };
        let answer = self.inner.read(name, extent, &mut Vec::new());
        !answer.as_ref().is_err_and(PlaceError::is_passing)
    }

    /// Reads what a line does not carry at once piece by piece, each for as long as patience lasts.
    fn read_in_pieces(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let (start, end, most) = match extent {
            Extent::Range { offset, length } => {
                (offset, Some(offset.saturating_add(length)), length)
            }
            Extent::Within(most) => (0, None, most),
            Extent::Tail(_) => return self.inner.read(name, extent, into),
        };
        into.clear();
        let (mut at, mut step, mut piece) = (start, PIECE, Vec::new());
        while end.is_none_or(|end| at < end) && step > 0 {
            let length = end.map_or(step, |end| step.min(end - at));
            let extent = Extent::Range { offset: at, length };
            match self.patience.again(|_| self.inner.read(name, extent, &mut piece)) {
                Ok(()) => {
                    into.extend_from_slice(&piece);
                    at += length;
                }
                // Where the end is not known, it is found by ever smaller pieces.
                Err(error) if error.kind == PlaceErrorKind::Short && end.is_none() => step /= 2,
                Err(error) => return Err(error),
            }
            if into.len() as u64 > most {
                return Err(PlaceError::new(
                    crate::Operation::Read,
                    name.as_str(),
                    PlaceErrorKind::Long,
                ));
            }
        }
        Ok(())
    }
}

impl Place for RetryingPlace {
    fn room(&self) -> Option<(u64, u64)> {
        self.inner.room()
    }

    fn describe(&self) -> String {
        self.inner.describe()
    }

    fn is_far(&self) -> bool {
        self.inner.is_far()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let mut broken = 0;
        let created = self.patience.again(|tried| match self.inner.create(name, bytes) {
            // The answer to an earlier try may have been lost, and the object is ours.
            Err(error) if error.kind == PlaceErrorKind::Exists && tried > 0 => Ok(Err(error)),
            Err(mut error) if error.kind == PlaceErrorKind::Cut && bytes.len() as u64 > LITTLE => {
                broken += u32::from(self.carries_little(name));
                if broken >= BREAKS {
                    error.kind = PlaceErrorKind::Narrow;
                }
                Err(error)
            }
            other => other.map(Ok),
        })?;
        let Err(error) = created else { return Ok(()) };
        match self.fetch(name, bytes.len() as u64) {
            Ok(there) if there == bytes => Ok(()),
            Err(looking) if looking.kind != PlaceErrorKind::Long => Err(looking),
            _ => Err(error),
        }
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let is_large = match extent {
            Extent::Range { length, .. } => length > PIECE,
            Extent::Within(most) => most > PIECE,
            Extent::Tail(_) => false,
        };
        let read = self.patience.again(|tried| match self.inner.read(name, extent, into) {
            Err(mut error) if error.kind == PlaceErrorKind::Cut && is_large && tried > 0 => {
                error.kind = PlaceErrorKind::Narrow;
                Err(error)
            }
            other => other,
        });
        match read {
            Err(error) if error.kind == PlaceErrorKind::Narrow => {
                self.read_in_pieces(name, extent, into)
            }
            other => other,
        }
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        // Only a listing that came to its end is handed on, so that nothing is told twice.
        self.patience.again(|_| self.inner.listing(folder))?.into_iter().for_each(each);
        Ok(())
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.delete(name))
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.sweep(age_seconds))
    }

    fn readiness(&self, name: &ObjectName) -> Result<Readiness, PlaceError> {
        self.patience.again(|_| self.inner.readiness(name))
    }

    fn thaw(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.patience.again(|_| self.inner.thaw(name))
    }

    fn waiting(&self) -> Option<Waiting> {
        self.patience.waiting(self.inner.describe())
    }

    fn give_up(&self) {
        // In this order: what fails by the second is not tried again.
        self.patience.give_up();
        self.inner.give_up();
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;
    use crate::{MemoryPlace, Operation};

    /// A place that fails as it is told, one failure after the other.
    #[derive(Debug)]
    struct Moody {
        inner: MemoryPlace,
        moods: Mutex<Vec<PlaceErrorKind>>,
        /// Whether what fails is done all the same.
        does_it: bool,
        asked: Mutex<u32>,
    }

    impl Moody {
        fn mood<T>(&self, work: impl FnOnce() -> Result<T, PlaceError>) -> Result<T, PlaceError> {
            *self.asked.lock().expect("no panic") += 1;
            let mood = self.moods.lock().expect("no panic").pop();
            match mood {
                Some(kind) => {
                    if self.does_it {
                        let _ = work();
                    }
                    Err(PlaceError::new(Operation::Create, "x", kind))
                }
                None => work(),
            }
        }
    }

    impl Place for Moody {
        fn describe(&self) -> String {
            "moody".to_owned()
        }
        fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
            self.mood(|| self.inner.create(name, bytes))
        }
        fn read(
            &self,
            name: &ObjectName,
            extent: Extent,
            into: &mut Vec<u8>,
        ) -> Result<(), PlaceError> {
            self.mood(|| self.inner.read(name, extent, into))
        }
        fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
            // A listing that breaks off has told of something already.
            each(Listed { name: ObjectName::new("data/torn").expect("a name"), size: 1 });
            self.mood(|| Ok(()))?;
            self.inner.list(folder, each)
        }
        fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
            self.mood(|| self.inner.delete(name))
        }
        fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
            self.mood(|| self.inner.sweep(age_seconds))
        }
    }

    fn place(moods: &[PlaceErrorKind], does_it: bool) -> (Arc<Moody>, RetryingPlace) {
        // Longer than a machine under load lets anything take.
        patient_place(moods, does_it, Duration::from_secs(1200))
    }

    fn patient_place(
        moods: &[PlaceErrorKind],
        does_it: bool,
        patience: Duration,
    ) -> (Arc<Moody>, RetryingPlace) {
        let moods = Mutex::new(moods.to_vec());
        let moody = Moody { inner: MemoryPlace::new(), moods, does_it, asked: Mutex::new(0) };
        let moody = Arc::new(moody);
        let retries = Retries { patience, pause: Duration::from_millis(1) };
        (Arc::clone(&moody), RetryingPlace::new(moody, retries))
    }

    fn asked(moody: &Moody) -> u32 {
        std::mem::take(&mut *moody.asked.lock().expect("no panic"))
    }

    #[test]
    fn passing_failures_are_tried_again_and_refusals_are_not() {
        use PlaceErrorKind::{Busy, Cut, Full, Login, Refused, Slow, Unreachable};
        let name = ObjectName::new("data/a").expect("a name");
        let (moody, patient) = place(&[Cut, Slow, Busy], false);
        patient.create(&name, b"x").expect("in the end");
        assert_eq!(asked(&moody), 4);
        let (moody, patient) = patient_place(&[], false, Duration::from_secs(1));
        patient.delete(&name).expect("it has answered");
        moody.moods.lock().expect("no panic").extend([Cut; 999]);
        assert_eq!(patient.create(&name, b"x").expect_err("no end").kind, Cut);
        let tries = asked(&moody);
        assert!(tries > 2 && tries < 900, "{tries} tries in a second");
        for kind in [Full, Login, Refused] {
            let (moody, patient) = place(&[kind, kind], false);
            assert_eq!(patient.create(&name, b"x").expect_err("is refused").kind, kind);
            assert_eq!(asked(&moody), 1);
        }
        // One that was never there is not waited for; one that was, is.
        let (moody, patient) = place(&[Unreachable], false);
        assert_eq!(patient.delete(&name).expect_err("is away").kind, Unreachable);
        assert_eq!(asked(&moody), 1);
        patient.delete(&name).expect("is back");
        moody.moods.lock().expect("no panic").push(Unreachable);
        asked(&moody);
        patient.delete(&name).expect("comes back");
        assert_eq!(asked(&moody), 2);
    }

    #[test]
    fn an_answer_that_was_lost_is_found_to_be_ours() {
        let name = ObjectName::new("data/a").expect("a name");
        let (moody, patient) = place(&[PlaceErrorKind::Cut], true);
        patient.create(&name, b"mine").expect("it was written the first time");
        assert_eq!(moody.inner.fetch(&name, 1 << 30).expect("is there"), b"mine");
        // Written by another: that is said.
        let (moody, patient) = place(&[PlaceErrorKind::Cut], false);
        moody.inner.create(&name, b"another's").expect("creates");
        let error = patient.create(&name, b"mine").expect_err("is there");
        assert_eq!(error.kind, PlaceErrorKind::Exists);
        assert_eq!(moody.inner.fetch(&name, 1 << 30).expect("is there"), b"another's");
    }

    /// A place at the end of a line that breaks when more than so much is carried at once.
    #[derive(Debug)]
    struct Behind(MemoryPlace, usize);

    impl Behind {
        fn carry<T>(
            &self,
            bytes: usize,
            work: impl FnOnce() -> Result<T, PlaceError>,
        ) -> Result<T, PlaceError> {
            match bytes > self.1 {
                true => Err(PlaceError::new(Operation::Create, "x", PlaceErrorKind::Cut)),
                false => work(),
            }
        }
    }

    impl Place for Behind {
        fn describe(&self) -> String {
            "behind".to_owned()
        }
        fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
            self.carry(bytes.len(), || self.0.create(name, bytes))
        }
        fn read(
            &self,
            name: &ObjectName,
            extent: Extent,
            into: &mut Vec<u8>,
        ) -> Result<(), PlaceError> {
            let mut there = Vec::new();
            self.0.read(name, extent, &mut there)?;
            self.carry(there.len(), || {
                *into = there.clone();
                Ok(())
            })
        }
        fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
            self.0.list(folder, each)
        }
        fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
            self.0.delete(name)
        }
        fn sweep(&self, _: u64) -> Result<(), PlaceError> {
            Ok(())
        }
    }

    #[test]
    fn what_a_line_does_not_carry_at_once_is_said_and_is_read_in_pieces() {
        let memory = MemoryPlace::new();
        let behind = Arc::new(Behind(memory.clone(), 700 << 10));
        let retries = Retries { patience: Duration::from_secs(9), pause: Duration::from_millis(1) };
        let place = RetryingPlace::new(behind, retries);
        let name = |number: usize| ObjectName::new(format!("data/{number}")).expect("a name");
        place.create(&name(0), &[1; 600 << 10]).expect("is carried");
        let error = place.create(&name(1), &[1; 800 << 10]).expect_err("is too much");
        assert_eq!(error.kind, PlaceErrorKind::Narrow);
        for length in [700 << 10, (700 << 10) + 1, 2 << 20, (2 << 20) + 12_345] {
            let bytes: Vec<u8> = (0..length).map(|at: usize| ((at * 7) >> 9) as u8).collect();
            memory.create(&name(length), &bytes).expect("creates");
            assert_eq!(place.fetch(&name(length), 1 << 30).expect("is read"), bytes);
            let (mut part, offset) = (Vec::new(), 1000);
            let extent = Extent::Range { offset, length: length as u64 - offset };
            place.read(&name(length), extent, &mut part).expect("is read");
            assert_eq!(part, bytes[1000..]);
            let most = length as u64 - 1;
            let error = place.fetch(&name(length), most).expect_err("is longer");
            assert_eq!(error.kind, PlaceErrorKind::Long, "{length}");
        }
    }

    #[test]
    fn what_is_waited_for_is_told_and_given_up_when_asked() {
        let name = ObjectName::new("data/a").expect("a name");
        let (moody, _) = place(&[], false);
        let retries = Retries { patience: Duration::from_secs(60), pause: Duration::from_secs(30) };
        let patient = RetryingPlace::new(Arc::clone(&moody) as Arc<dyn Place>, retries);
        patient.delete(&name).expect("it has answered");
        assert_eq!(patient.waiting(), None);
        moody.moods.lock().expect("no panic").push(PlaceErrorKind::Cut);
        thread::scope(|scope| {
            let asked = scope.spawn(|| patient.create(&name, b"x"));
            let waiting = loop {
                match patient.waiting() {
                    Some(waiting) if waiting.why.is_some() => break waiting,
                    _ => thread::yield_now(),
                }
            };
            assert_eq!(waiting.subject, "moody");
            assert_eq!(waiting.why.as_deref(), Some("the connection was lost"));
            patient.give_up();
            let error = asked.join().expect("no panic").expect_err("is given up");
            assert_eq!(error.kind, PlaceErrorKind::GivenUp);
        });
        patient.create(&name, b"x").expect("later questions are asked as ever");
    }

    #[test]
    fn a_listing_that_broke_off_is_not_told() {
        let (moody, patient) = place(&[PlaceErrorKind::Cut], false);
        moody.inner.create(&ObjectName::new("data/a").expect("a name"), b"x").expect("creates");
        let found = patient.listing("data").expect("lists");
        let names: Vec<_> = found.iter().map(|listed| listed.name.as_str()).collect();
        assert_eq!(names, ["data/torn", "data/a"], "once each");
    }
}
