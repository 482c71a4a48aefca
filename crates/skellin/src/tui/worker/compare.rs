//! Comparing a snapshot with another, or with the sources as they are now; and the contents of a file.

use std::{
    ffi::OsStr,
    os::unix::ffi::OsStrExt,
    path::Path,
    time::{Duration, Instant},
};

use skellin_engine::{
    Cancel, Cause, Comparing, Difference, Differing, EngineError, Hears, Live, Looking, Refusal,
    Sight,
    contrast::{self, COMPARED, Content, Contrast},
    history::{self, Located},
    picture::{self, LARGEST_PICTURE, Picture},
};
use skellin_store::{Kind, RunId, Snapshot};

use super::{Report, Shared, Trouble, catalogue::Open};

/// So many paths that differ are told.
const MOST: usize = 50_000;
/// What differs is told so often at most.
const PAUSE: Duration = Duration::from_millis(60);

/// With what a snapshot is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Opposite {
    Snapshot(RunId),
    /// What is there now.
    Now,
}

/// What is to be compared.
#[derive(Clone, Debug)]
pub(crate) struct CompareOrder {
    /// Only the comparison of the highest number counts.
    pub number: u64,
    pub store: String,
    /// The plan, for what is there now.
    pub plan: String,
    pub before: RunId,
    pub now: Opposite,
    /// Only this path and below.
    pub path: Option<Vec<u8>>,
}

/// A path on one side.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct SideRow {
    pub kind: Kind,
    pub size: u64,
    /// Files below a directory of a snapshot.
    pub files: Option<u64>,
    /// Seconds since 1970.
    pub modified: i64,
}

/// A path that differs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct DifferRow {
    pub path: Vec<u8>,
    pub difference: Difference,
    pub before: Option<SideRow>,
    pub now: Option<SideRow>,
}

/// How a comparison ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CompareEnd {
    pub has_more: bool,
    /// The first path that could not be compared, with the reason, and how many there are.
    pub lost: Option<(String, usize)>,
}

/// The contents of a file on both sides.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Contrasted {
    pub contrast: Contrast,
    /// Bytes of each side; none where it is not there.
    pub sizes: (Option<u64>, Option<u64>),
    /// Whether only the beginnings were compared.
    pub is_cut: bool,
    /// The sides that are pictures.
    pub pictures: (Option<Picture>, Option<Picture>),
}

struct Teller<'a> {
    shared: &'a Shared,
    number: u64,
    rows: Vec<DifferRow>,
    told: usize,
    last: Instant,
    is_full: bool,
    lost: Option<(String, usize)>,
    /// Raised when there is more than can be shown.
    enough: Cancel,
}

impl Hears for Teller<'_> {
    fn differs(&mut self, differing: Differing) {
        if self.told + self.rows.len() >= MOST {
            self.is_full = true;
            self.enough.cancel();
            return;
        }
        let side = |sight: Sight| SideRow {
            kind: sight.kind,
            size: sight.size,
            files: sight.below.map(|below| below.files),
            modified: sight.modified.seconds,
        };
        let Differing { path, difference, before, now } = differing;
        let (before, now) = (before.map(side), now.map(side));
        self.rows.push(DifferRow { path, difference, before, now });
        if self.last.elapsed() >= PAUSE {
            self.send();
        }
    }

    fn lost(&mut self, path: &[u8], cause: Cause) {
        let words = format!("{}: {}", crate::words::path(path), cause.words);
        let lost = self.lost.get_or_insert((words, 0));
        lost.1 += 1;
    }
}

impl Teller<'_> {
    fn send(&mut self) {
        let rows = std::mem::take(&mut self.rows);
        self.told += rows.len();
        self.last = Instant::now();
        self.shared.tell(Report::Differs { number: self.number, rows, end: None });
    }
}

pub(super) fn compare(shared: &Shared, order: &CompareOrder, over: &Cancel) {
    let enough = over.clone();
    let mut teller = Teller {
        shared,
        number: order.number,
        rows: Vec::new(),
        told: 0,
        last: Instant::now(),
        is_full: false,
        lost: None,
        enough,
    };
    let compared = work(shared, order, over, &mut teller);
    teller.send();
    let end = match compared {
        Err(EngineError::Cancelled) if !teller.is_full => return,
        Ok(()) | Err(EngineError::Cancelled) => {
            Ok(CompareEnd { has_more: teller.is_full, lost: teller.lost.take() })
        }
        Err(error) => Err(Trouble::from(error)),
    };
    shared.tell(Report::Differs { number: order.number, rows: Vec::new(), end: Some(end) });
}

fn one(open: &Open, snapshot: &Snapshot, path: &[u8]) -> Result<Option<Located>, EngineError> {
    history::locate(&open.store, snapshot, path)
}

fn work(
    shared: &Shared,
    order: &CompareOrder,
    over: &Cancel,
    teller: &mut Teller<'_>,
) -> Result<(), EngineError> {
    let open = shared.open_store(&order.store)?;
    let before = open.snapshot(order.before)?;
    let store = &*open.store;
    let comparing = Comparing { store, whole: false, read_all: false, cancel: over };
    match (order.now, &order.path) {
        (Opposite::Snapshot(id), None) => {
            comparing.snapshots(&before, &*open.snapshot(id)?, teller)
        }
        (Opposite::Snapshot(id), Some(path)) => {
            let (old, new) = (one(&open, &before, path)?, one(&open, &*open.snapshot(id)?, path)?);
            let (old, new) = (old.map(|found| found.entry), new.map(|found| found.entry));
            comparing.entries(path, old.as_ref(), new.as_ref(), teller)
        }
        (Opposite::Now, path) => {
            let configuration = shared.configuration();
            let plan = configuration.plan_without_mistakes(&order.plan)?;
            let keep_out = configuration.keep_out();
            let source_hosts = &configuration.source_hosts;
            let now = jiff::Timestamp::now().as_millisecond();
            let by = Looking { plan, source_hosts, before: None, keep_out: &keep_out, now };
            let located = match path {
                Some(path) => vec![history::must_locate(store, &before, path)?],
                None => history::roots(store, &before)?,
            };
            for located in located {
                let path = Path::new(OsStr::from_bytes(&located.path));
                let live = Live { path, by: Some(&by) };
                comparing.live(&located.path, &located.entry, live, teller)?;
            }
            Ok(())
        }
    }
}

pub(super) fn contrast(shared: &Shared, order: &CompareOrder) {
    let end = contents(shared, order).map(Box::new).map_err(Trouble::from);
    shared.tell(Report::Contrasted { number: order.number, end });
}

/// A side's first bytes, and its size; a file that is not there is empty. Pictures are read as a whole.
type Side = (Vec<u8>, Option<u64>);

/// Reads a file's first bytes, and all of it if it is a picture.
fn side(read: impl Fn(usize) -> Result<(Vec<u8>, u64), EngineError>) -> Result<Side, EngineError> {
    let (mut bytes, mut size) = read(COMPARED)?;
    let is_larger = size > bytes.len() as u64 && size <= LARGEST_PICTURE as u64;
    if is_larger && picture::begins_picture(&bytes) {
        (bytes, size) = read(LARGEST_PICTURE)?;
    }
    Ok((bytes, Some(size)))
}

fn contents(shared: &Shared, order: &CompareOrder) -> Result<Contrasted, EngineError> {
    let path = order.path.as_deref().unwrap_or_default();
    let open = shared.open_store(&order.store)?;
    let of_snapshot = |id: RunId| -> Result<Side, EngineError> {
        let Some(located) = one(&open, &*open.snapshot(id)?, path)? else {
            return Ok((Vec::new(), None));
        };
        side(|most| Ok((history::head(&open.store, &located, most)?, located.entry.size())))
    };
    let before = of_snapshot(order.before)?;
    let live = Path::new(OsStr::from_bytes(path));
    let now = match order.now {
        Opposite::Snapshot(id) => of_snapshot(id)?,
        Opposite::Now if skellin_plan::FarSource::is_address(path) => {
            let path = String::from_utf8_lossy(path).into_owned();
            return Err(Refusal::LiesElsewhere(path).into());
        }
        Opposite::Now => match side(|most| contrast::beginning(live, most)) {
            Err(EngineError::Local { source, .. })
                if source.kind() == std::io::ErrorKind::NotFound =>
            {
                (Vec::new(), None)
            }
            other => other?,
        },
    };
    let compared = |(bytes, size): &Side| {
        let most = bytes.len().min(COMPARED);
        (most, most as u64 == size.unwrap_or(0))
    };
    let ((old, is_whole), (new, is_also)) = (compared(&before), compared(&now));
    let told = contrast::contrast(
        Content { bytes: &before.0[..old], is_whole },
        Content { bytes: &now.0[..new], is_whole: is_also },
    );
    let pictures = (picture::picture(&before.0), picture::picture(&now.0));
    let (sizes, is_cut) = ((before.1, now.1), !is_whole || !is_also);
    Ok(Contrasted { contrast: told, sizes, is_cut, pictures })
}
