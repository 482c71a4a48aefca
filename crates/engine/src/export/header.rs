//! Headers of members: a ustar header, and before it pax records for what that cannot say.

use std::io::{Read, Write};

use skellin_store::{Body, DeviceKind, Entry, Kind};
use tar::{EntryType, Header};

use super::{content::Map, failed};
use crate::error::Result;

/// The largest number that stands in a field of eight digits.
const SMALL: u32 = 0o7_777_777;
/// The largest size that stands in a ustar header.
const LARGEST: u64 = 0o77_777_777_777;

/// A member of an archive.
pub(super) struct Member {
    header: Header,
    records: Vec<(String, Vec<u8>)>,
}

impl Member {
    fn new(name: &[u8], entry: &Entry, kind: EntryType, size: u64) -> Self {
        let mut header = Header::new_ustar();
        header.set_entry_type(kind);
        header.set_mode(entry.mode & 0o7777);
        let mut member = Self { header, records: Vec::new() };
        let is_directory = kind == EntryType::Directory;
        member.name(&if is_directory { [name, b"/"].concat() } else { name.to_vec() });
        member.times_and_owner(entry);
        match size > LARGEST {
            true => member.record("size", size.to_string()),
            false => member.header.set_size(size),
        }
        for (name, value) in &entry.xattrs {
            let key = format!("SCHILY.xattr.{}", String::from_utf8_lossy(name));
            member.records.push((key, value.clone()));
        }
        member
    }

    /// A file; `map`: where its content lies, if it has holes.
    pub fn file(name: &[u8], entry: &Entry, map: Option<&Map>) -> Self {
        let Some(map) = map else {
            return Self::new(name, entry, EntryType::Regular, entry.size());
        };
        let mut member = Self::new(name, entry, EntryType::Regular, map.stored());
        member.record("GNU.sparse.major", "1".to_owned());
        member.record("GNU.sparse.minor", "0".to_owned());
        member.records.push(("GNU.sparse.name".to_owned(), name.to_vec()));
        member.record("GNU.sparse.realsize", entry.size().to_string());
        member
    }

    /// A further name of a file that is in the archive already.
    pub fn hard_link(name: &[u8], entry: &Entry, first: &[u8]) -> Self {
        let mut member = Self::new(name, entry, EntryType::Link, 0);
        member.records.retain(|(key, _)| !key.starts_with("SCHILY."));
        member.target(first);
        member
    }

    /// What is no file.
    pub fn other(name: &[u8], entry: &Entry) -> Self {
        let kind = match (entry.kind(), &entry.body) {
            (Kind::Directory, _) => EntryType::Directory,
            (Kind::Link, _) => EntryType::Symlink,
            (Kind::Pipe, _) => EntryType::Fifo,
            (_, Body::Device { kind: DeviceKind::Block, .. }) => EntryType::Block,
            (Kind::Device, _) => EntryType::Char,
            (Kind::File, _) => EntryType::Regular,
        };
        let mut member = Self::new(name, entry, kind, 0);
        match &entry.body {
            Body::Link(target) => member.target(target),
            Body::Device { major, minor, .. } => {
                // Both fields are there in a ustar header.
                let _ = member.header.set_device_major(*major);
                let _ = member.header.set_device_minor(*minor);
            }
            _ => {}
        }
        member
    }

    fn record(&mut self, key: &str, value: String) {
        self.records.push((key.to_owned(), value.into_bytes()));
    }

    fn name(&mut self, name: &[u8]) {
        let Some(ustar) = self.header.as_ustar_mut() else { return };
        if !put(&mut ustar.name, name) {
            self.records.push(("path".to_owned(), name.to_vec()));
        }
    }

    fn target(&mut self, target: &[u8]) {
        let Some(ustar) = self.header.as_ustar_mut() else { return };
        if !put(&mut ustar.linkname, target) {
            self.records.push(("linkpath".to_owned(), target.to_vec()));
        }
    }

    fn times_and_owner(&mut self, entry: &Entry) {
        let modified = entry.modified;
        self.header.set_mtime(u64::try_from(modified.seconds).unwrap_or(0).min(LARGEST));
        if modified.nanos != 0
            || u64::try_from(modified.seconds).is_ok_and(|at| at > LARGEST)
            || modified.seconds < 0
        {
            self.record("mtime", decimal(modified.seconds, modified.nanos));
        }
        for (key, id) in [("uid", entry.owner.uid), ("gid", entry.owner.gid)] {
            let small = if id > SMALL { 0 } else { id.into() };
            match key {
                "uid" => self.header.set_uid(small),
                _ => self.header.set_gid(small),
            }
            if id > SMALL {
                self.record(key, id.to_string());
            }
        }
        for (key, name) in [("uname", &entry.owner.user), ("gname", &entry.owner.group)] {
            let (Some(name), Some(ustar)) = (name, self.header.as_ustar_mut()) else { continue };
            let field = if key == "uname" { &mut ustar.uname } else { &mut ustar.gname };
            if !put(field, name.as_bytes()) {
                self.record(key, name.to_string());
            }
        }
    }

    /// Writes it with its content.
    pub fn put(mut self, archive: &mut tar::Builder<impl Write>, content: impl Read) -> Result<()> {
        let is_text = |(_, value): &(String, Vec<u8>)| std::str::from_utf8(value).is_ok();
        let is_name = |key: &str| matches!(key, "path" | "linkpath" | "GNU.sparse.name");
        if self.records.iter().any(|record| is_name(&record.0) && !is_text(record)) {
            self.records.insert(0, ("hdrcharset".to_owned(), b"BINARY".to_vec()));
        }
        let records = self.records.iter().map(|(key, value)| (key.as_str(), value.as_slice()));
        archive.append_pax_extensions(records).map_err(failed)?;
        self.header.set_cksum();
        archive.append(&self.header, content).map_err(failed)
    }
}

/// Puts a name into a field, and says whether all of it is there and is plain ASCII. Otherwise a pax record
/// has it, and what stands here is for programs that know none.
fn put(field: &mut [u8], name: &[u8]) -> bool {
    for (to, from) in field.iter_mut().zip(name) {
        *to = if from.is_ascii() { *from } else { b'_' };
    }
    name.len() <= field.len() && name.is_ascii()
}

/// Seconds since 1970 with their fraction, as pax writes them.
fn decimal(seconds: i64, nanos: u32) -> String {
    // Nanoseconds count upwards also before 1970.
    match (seconds, nanos) {
        (_, 0) => seconds.to_string(),
        (0.., _) => format!("{seconds}.{nanos:09}"),
        _ => format!("-{}.{:09}", (seconds + 1).unsigned_abs(), 1_000_000_000 - nanos),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_decimal_on_both_sides_of_1970() {
        assert_eq!(decimal(7, 0), "7");
        assert_eq!(decimal(7, 5), "7.000000005");
        assert_eq!(decimal(-1, 750_000_000), "-0.250000000");
        assert_eq!(decimal(-2, 0), "-2");
        assert_eq!(decimal(-3, 1), "-2.999999999");
    }
}
