//! What is answered to requests for files.

use std::{collections::HashMap, net::SocketAddr, sync::Arc};

use russh_sftp::{
    protocol::{
        Attrs, Data, File as Named, FileAttributes, Handle, Name, OpenFlags, Packet, Status,
        StatusCode,
    },
    server::Handler,
};
use skellin_engine::FileCursor;
use skellin_store::{Body, Entry, Store};
use tokio::task::block_in_place;

use crate::{
    guard::{Deed, Guard, Via},
    view::{Listing, Missing, Node, View, shown},
};

/// Names that go into one answer.
const NAMES: usize = 100;
/// So many files and directories may be open at a time.
const HANDLES: usize = 64;
/// At most so many bytes are handed over at a time.
const LONGEST: u32 = 256 << 10;

struct OpenFile {
    path: String,
    cursor: FileCursor<Arc<Store>>,
    facts: FileAttributes,
    size: u64,
    read: u64,
}

enum Opened {
    File(Box<OpenFile>),
    Folder(Box<Listing>),
}

/// One visitor's files.
pub(super) struct Files {
    view: Arc<View>,
    guard: Arc<Guard>,
    from: SocketAddr,
    opened: HashMap<String, Opened>,
    last: u64,
}

impl From<Missing> for StatusCode {
    fn from(missing: Missing) -> Self {
        match missing {
            Missing::NotThere => Self::NoSuchFile,
            Missing::WrongKind | Missing::Lost => Self::Failure,
        }
    }
}

/// What kind of thing it is, as `st_mode` has it.
fn kind(entry: &Entry) -> u32 {
    match &entry.body {
        Body::File { .. } => 0o100_000,
        Body::Directory { .. } => 0o040_000,
        Body::Link(_) => 0o120_000,
        Body::Pipe => 0o010_000,
        Body::Device { .. } => 0o020_000,
    }
}

impl Files {
    pub fn new(view: Arc<View>, guard: Arc<Guard>, from: SocketAddr) -> Self {
        Self { view, guard, from, opened: HashMap::new(), last: 0 }
    }

    fn attributes(&self, node: &Node) -> FileAttributes {
        let modified = u32::try_from(self.view.modified(node).seconds).ok();
        let empty = FileAttributes { atime: modified, mtime: modified, ..FileAttributes::empty() };
        match node {
            Node::Root => FileAttributes { permissions: Some(0o040_555), ..empty },
            Node::Entry(entry) => FileAttributes {
                size: match &entry.body {
                    Body::File { size, .. } => Some(*size),
                    Body::Link(target) => Some(target.len() as u64),
                    _ => Some(0),
                },
                uid: Some(entry.owner.uid),
                gid: Some(entry.owner.gid),
                permissions: Some(kind(entry) | entry.mode),
                ..empty
            },
        }
    }

    fn keep(&mut self, id: u32, opened: Opened) -> Result<Handle, StatusCode> {
        if self.opened.len() >= HANDLES {
            return Err(StatusCode::Failure);
        }
        self.last += 1;
        let handle = self.last.to_string();
        self.opened.insert(handle.clone(), opened);
        Ok(Handle { id, handle })
    }

    fn tell(&self, file: &OpenFile) {
        let deed = Deed::Read { path: file.path.clone(), bytes: file.read, of: file.size };
        self.guard.tell(self.from, Via::Sftp, deed);
    }
}

impl Drop for Files {
    fn drop(&mut self) {
        // Whoever hangs up has read what was read.
        for opened in std::mem::take(&mut self.opened).into_values() {
            if let Opened::File(file) = opened {
                self.tell(&file);
            }
        }
    }
}

impl Handler for Files {
    type Error = StatusCode;

    /// What is not answered here would change something.
    fn unimplemented(&self) -> StatusCode {
        StatusCode::PermissionDenied
    }

    async fn open(
        &mut self,
        id: u32,
        filename: String,
        flags: OpenFlags,
        _attrs: FileAttributes,
    ) -> Result<Handle, StatusCode> {
        if flags.bits() != OpenFlags::READ.bits() {
            return Err(StatusCode::PermissionDenied);
        }
        let node = block_in_place(|| self.view.follow(&filename))?;
        let Node::Entry(entry) = &node else { return Err(StatusCode::Failure) };
        let Body::File { recipe, size } = &entry.body else { return Err(StatusCode::Failure) };
        let file = OpenFile {
            path: format!("/{}", View::parts(&filename).join("/")),
            cursor: self.view.open(recipe),
            facts: self.attributes(&node),
            size: *size,
            read: 0,
        };
        self.keep(id, Opened::File(Box::new(file)))
    }

    async fn close(&mut self, id: u32, handle: String) -> Result<Status, StatusCode> {
        if let Opened::File(file) = self.opened.remove(&handle).ok_or(StatusCode::Failure)? {
            self.tell(&file);
        }
        let (error_message, language_tag) = ("Ok".to_owned(), "en".to_owned());
        Ok(Status { id, status_code: StatusCode::Ok, error_message, language_tag })
    }

    async fn read(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        length: u32,
    ) -> Result<Data, StatusCode> {
        let Some(Opened::File(file)) = self.opened.get_mut(&handle) else {
            return Err(StatusCode::Failure);
        };
        if offset >= file.size {
            return Err(StatusCode::Eof);
        }
        let mut data = vec![0; length.min(LONGEST) as usize];
        let read = block_in_place(|| file.cursor.read_at(offset, &mut data));
        let count = read.map_err(|_| StatusCode::Failure)?;
        data.truncate(count);
        file.read += count as u64;
        if data.is_empty() { Err(StatusCode::Eof) } else { Ok(Data { id, data }) }
    }

    async fn lstat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        let node = block_in_place(|| self.view.find(&View::parts(&path)))?;
        Ok(Attrs { id, attrs: self.attributes(&node) })
    }

    async fn stat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        let node = block_in_place(|| self.view.follow(&path))?;
        Ok(Attrs { id, attrs: self.attributes(&node) })
    }

    async fn fstat(&mut self, id: u32, handle: String) -> Result<Attrs, StatusCode> {
        match self.opened.get(&handle) {
            Some(Opened::File(file)) => Ok(Attrs { id, attrs: file.facts.clone() }),
            _ => Err(StatusCode::Failure),
        }
    }

    async fn opendir(&mut self, id: u32, path: String) -> Result<Handle, StatusCode> {
        let listing = block_in_place(|| {
            let node = self.view.follow(&path)?;
            self.view.list(&node)
        })?;
        self.keep(id, Opened::Folder(Box::new(listing)))
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Result<Name, StatusCode> {
        let Some(Opened::Folder(listing)) = self.opened.get_mut(&handle) else {
            return Err(StatusCode::Failure);
        };
        let some: Result<Vec<Entry>, Missing> =
            block_in_place(|| listing.by_ref().take(NAMES).collect());
        let some = some?;
        if some.is_empty() {
            return Err(StatusCode::Eof);
        }
        let files = some.into_iter().map(|entry| {
            let name = shown(&entry.name);
            Named::new(name, self.attributes(&Node::Entry(Box::new(entry))))
        });
        Ok(Name { id, files: files.collect() })
    }

    async fn realpath(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        let full = format!("/{}", View::parts(&path).join("/"));
        Ok(Name { id, files: vec![Named::dummy(full)] })
    }

    async fn readlink(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        match block_in_place(|| self.view.find(&View::parts(&path)))? {
            Node::Entry(entry) if matches!(entry.body, Body::Link(_)) => {
                let Body::Link(target) = &entry.body else { return Err(StatusCode::Failure) };
                Ok(Name { id, files: vec![Named::dummy(shown(target))] })
            }
            _ => Err(StatusCode::Failure),
        }
    }

    async fn extended(
        &mut self,
        _id: u32,
        _request: String,
        _data: Vec<u8>,
    ) -> Result<Packet, StatusCode> {
        Err(StatusCode::OpUnsupported)
    }
}
