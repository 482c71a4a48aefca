//! What every place can do.

use std::fmt::Debug;

use crate::{ObjectName, PlaceError, Waiting};

/// A folder has no more entries than this; a server that lists on and on is given up on.
pub(crate) const MOST_LISTED: usize = 5_000_000;

/// The part of an object that is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Extent {
    /// All of it, if it has no more bytes than these; more at the place is an error. What an object
    /// can hold at most is known by its kind, and a place is not to be trusted with more.
    Within(u64),
    /// Exactly `length` bytes from `offset`; less at the place is an error.
    Range {
        /// First byte.
        offset: u64,
        /// Number of bytes.
        length: u64,
    },
    /// The last bytes, as many as given or as there are.
    Tail(u64),
}

/// One object as a listing shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// Its name, the folder included.
    pub name: ObjectName,
    /// Its size in bytes.
    pub size: u64,
}

/// Whether an object can be read now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Readiness {
    /// It can.
    Ready,
    /// It lies in a storage class it has to be thawed from first.
    Frozen,
    /// It is being thawed.
    Thawing,
}

/// A medium under a store.
///
/// Objects are immutable: they are created whole or not at all, and deleted. When
/// [`create`](Place::create) returns `Ok`, the object survives a power cut at the place.
pub trait Place: Send + Sync + Debug {
    /// The place in words, as the user wrote it.
    fn describe(&self) -> String;

    /// Creates an object with these bytes.
    ///
    /// # Errors
    /// [`PlaceErrorKind::Exists`] if there is one of that name; it is left as it was.
    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError>;

    /// Replaces the content of `into` by a part of an object.
    ///
    /// # Errors
    /// [`PlaceErrorKind::NotFound`], or [`PlaceErrorKind::Short`] if a range reaches past the end.
    fn read(&self, name: &ObjectName, extent: Extent, into: &mut Vec<u8>)
    -> Result<(), PlaceError>;

    /// Hands every finished object of a folder to `each`, in no particular order.
    /// A folder that was never written to is empty.
    ///
    /// # Errors
    /// Any failure to list; what was handed over until then is incomplete.
    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError>;

    /// Deletes an object; that it is already gone is no error.
    ///
    /// # Errors
    /// Any failure that leaves the object there.
    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError>;

    /// Removes what interrupted creations left behind more than `age_seconds` ago, and at once where it is
    /// certain that nobody writes it any more.
    ///
    /// # Errors
    /// Any failure to look or to remove.
    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError>;

    /// Whether an object can be read now.
    ///
    /// # Errors
    /// If that cannot be asked.
    fn readiness(&self, name: &ObjectName) -> Result<Readiness, PlaceError> {
        let _ = name;
        Ok(Readiness::Ready)
    }

    /// Asks for an object to be thawed, which takes its time. What is ready, or was asked for
    /// already, stays as it is.
    ///
    /// # Errors
    /// If it is refused.
    fn thaw(&self, name: &ObjectName) -> Result<(), PlaceError> {
        let _ = name;
        Ok(())
    }

    /// What is waited for at this moment, where the place knows.
    fn waiting(&self) -> Option<Waiting> {
        None
    }

    /// Ends the waiting that is under way, since nobody wants what is waited for any more: pauses, and
    /// answers that do not come ([`PlaceErrorKind::GivenUp`] where failures are tried again). What is asked
    /// afterwards is waited for as ever.
    fn give_up(&self) {}

    /// Whether each request takes long enough that one rather asks for more at a time.
    fn is_far(&self) -> bool {
        false
    }

    /// Makes what a trial is written into where no store has been created yet; whether that was
    /// needed, so that [`end_trial`](Self::end_trial) has to take it away again.
    ///
    /// # Errors
    /// If it is refused.
    fn begin_trial(&self) -> Result<bool, PlaceError> {
        Ok(false)
    }

    /// Takes away what a trial needed.
    ///
    /// # Errors
    /// If it is refused.
    fn end_trial(&self) -> Result<(), PlaceError> {
        Ok(())
    }

    /// Free and all bytes where its objects lie, if the place tells.
    fn room(&self) -> Option<(u64, u64)> {
        None
    }

    /// Reads a whole object that may have so many bytes at most.
    ///
    /// # Errors
    /// As [`read`](Place::read); [`PlaceErrorKind::Long`] if it has more.
    fn fetch(&self, name: &ObjectName, most: u64) -> Result<Vec<u8>, PlaceError> {
        let mut bytes = Vec::new();
        self.read(name, Extent::Within(most), &mut bytes)?;
        Ok(bytes)
    }

    /// Lists a folder into a vector.
    ///
    /// # Errors
    /// As [`list`](Place::list).
    fn listing(&self, folder: &str) -> Result<Vec<Listed>, PlaceError> {
        let mut found = Vec::new();
        self.list(folder, &mut |listed| found.push(listed))?;
        Ok(found)
    }
}
