//! A line to a port that takes its time, can be cut, can freeze, and can change what it carries.

use std::{
    io::{self, Read, Write},
    net::{Ipv4Addr, Shutdown, TcpListener, TcpStream},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU64, Ordering},
        mpsc::{Receiver, RecvTimeoutError, Sender, channel},
    },
    thread,
    time::{Duration, Instant},
};

/// Carried at a time, in bytes.
const PIECE: usize = 16 << 10;

/// How slow a line is.
#[derive(Clone, Copy, Debug, Default)]
pub struct Pace {
    /// How long every byte is under way, each way.
    pub delay: Duration,
    /// How many bytes go through in a second, each way and for all connections together; none for
    /// as many as come.
    pub rate: Option<u64>,
}

#[derive(Debug, Default)]
struct Shared {
    frozen: AtomicBool,
    /// After so many bytes a connection breaks; 0 for never.
    breaks: AtomicU64,
    /// Of so many bytes on the way back one bit is changed; 0 for none.
    flips: AtomicU64,
    closed: AtomicBool,
    ends: Mutex<Vec<TcpStream>>,
    /// When each way is free again.
    free: [Mutex<Option<Instant>>; 2],
    carried: [AtomicU64; 2],
}

/// A line. It carries connections as long as the process runs.
#[derive(Debug)]
pub struct Wire {
    port: u16,
    pace: Pace,
    shared: Arc<Shared>,
}

impl Wire {
    /// A line to a port of this machine.
    ///
    /// # Errors
    /// If no port is free.
    pub fn to(port: u16, pace: Pace) -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
        let own = listener.local_addr()?.port();
        let shared = Arc::new(Shared::default());
        let carrying = Arc::clone(&shared);
        thread::spawn(move || {
            for near in listener.incoming().flatten() {
                if carrying.closed.load(Ordering::SeqCst) {
                    continue;
                }
                // Where nothing answers, whoever calls hears nothing.
                let Ok(far) = TcpStream::connect((Ipv4Addr::LOCALHOST, port)) else { continue };
                let _ = join(&near, &far, pace, &carrying);
            }
        });
        Ok(Self { port: own, pace, shared })
    }

    /// Where it begins.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.port
    }

    /// How slow it is.
    #[must_use]
    pub fn pace(&self) -> Pace {
        self.pace
    }

    /// Breaks all connections there are; new ones go through.
    pub fn cut(&self) {
        for end in self.shared.ends.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            let _ = end.shutdown(Shutdown::Both);
        }
    }

    /// Breaks all connections there are, and from now on every new one.
    pub fn close(&self) {
        self.shared.closed.store(true, Ordering::SeqCst);
        self.cut();
    }

    /// New connections go through again.
    pub fn open(&self) {
        self.shared.closed.store(false, Ordering::SeqCst);
    }

    /// From now on nothing comes through, and nothing says so.
    pub fn freeze(&self) {
        self.shared.frozen.store(true, Ordering::SeqCst);
    }

    /// What was held back while it was frozen comes through, and everything after it.
    pub fn thaw(&self) {
        self.shared.frozen.store(false, Ordering::SeqCst);
    }

    /// From now on each connection breaks when it has carried so many bytes, both ways together.
    pub fn break_after(&self, bytes: Option<u64>) {
        self.shared.breaks.store(bytes.unwrap_or(0), Ordering::SeqCst);
    }

    /// From now on one bit in so many bytes on the way back is changed.
    pub fn flip_every(&self, bytes: Option<u64>) {
        self.shared.flips.store(bytes.unwrap_or(0), Ordering::SeqCst);
    }

    /// Bytes carried to the far end, and back.
    #[must_use]
    pub fn carried(&self) -> (u64, u64) {
        let [there, back] = &self.shared.carried;
        (there.load(Ordering::Relaxed), back.load(Ordering::Relaxed))
    }
}

fn join(near: &TcpStream, far: &TcpStream, pace: Pace, shared: &Arc<Shared>) -> io::Result<()> {
    near.set_nodelay(true)?;
    far.set_nodelay(true)?;
    let mut ends = shared.ends.lock().unwrap_or_else(PoisonError::into_inner);
    ends.extend([near.try_clone()?, far.try_clone()?]);
    let both = Arc::new(AtomicU64::new(0));
    for (way, from, to) in
        [(0, near.try_clone()?, far.try_clone()?), (1, far.try_clone()?, near.try_clone()?)]
    {
        let (sender, receiver) = channel();
        let (shared, both) = (Arc::clone(shared), Arc::clone(&both));
        let ends = [from.try_clone()?, to.try_clone()?];
        thread::spawn(move || {
            if take(from, way, pace, (&shared, &both), &sender).is_none() {
                for end in ends {
                    let _ = end.shutdown(Shutdown::Both);
                }
            }
        });
        thread::spawn(move || deliver(to, &receiver));
    }
    Ok(())
}

/// Waits until a moment; nobody wakes the line.
fn until(moment: Instant) {
    while let Some(left) =
        moment.checked_duration_since(Instant::now()).filter(|left| !left.is_zero())
    {
        thread::park_timeout(left);
    }
}

/// Takes in what comes, as fast as the line lets it, and sends it on its way; none when the connection
/// is to break. `both` counts what both ways of it have carried.
fn take(
    mut from: TcpStream,
    way: usize,
    pace: Pace,
    (shared, both): (&Shared, &AtomicU64),
    under_way: &Sender<(Instant, Vec<u8>)>,
) -> Option<()> {
    let mut buffer = vec![0; PIECE];
    while let Ok(length @ 1..) = from.read(&mut buffer) {
        while shared.frozen.load(Ordering::SeqCst) {
            thread::sleep(Duration::from_millis(5));
        }
        let before = shared.carried[way].fetch_add(length as u64, Ordering::Relaxed);
        let carried = both.fetch_add(length as u64, Ordering::Relaxed) + length as u64;
        let breaks = shared.breaks.load(Ordering::Relaxed);
        if breaks > 0 && carried > breaks {
            return None;
        }
        let flips = shared.flips.load(Ordering::Relaxed);
        if way == 1 && flips > 0 {
            let next = before.next_multiple_of(flips) - before;
            if let Some(byte) =
                usize::try_from(next).ok().and_then(|at| buffer[..length].get_mut(at))
            {
                *byte ^= 0x10;
            }
        }
        let now = Instant::now();
        let taken = match pace.rate {
            Some(rate) => {
                let mut free = shared.free[way].lock().unwrap_or_else(PoisonError::into_inner);
                let begin = free.map_or(now, |free| free.max(now));
                *free.insert(begin + Duration::from_secs_f64(length as f64 / rate.max(1) as f64))
            }
            None => now,
        };
        if under_way.send((taken + pace.delay, buffer[..length].to_vec())).is_err() {
            break;
        }
        until(taken);
    }
    Some(())
}

/// Hands over what has been under way long enough.
fn deliver(mut to: TcpStream, under_way: &Receiver<(Instant, Vec<u8>)>) {
    loop {
        match under_way.recv_timeout(Duration::from_secs(3600)) {
            Ok((due, bytes)) => {
                until(due);
                if to.write_all(&bytes).is_err() {
                    break;
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => break,
        }
    }
    let _ = to.shutdown(Shutdown::Both);
}
