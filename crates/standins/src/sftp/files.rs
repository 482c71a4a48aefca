//! What the server does with files.

use std::{
    collections::HashMap,
    fs::{self, File, OpenOptions},
    io,
    os::unix::fs::{FileExt as _, MetadataExt as _},
    path::{Path, PathBuf},
    sync::Arc,
};

use russh_sftp::{
    protocol::{
        Attrs, Data, File as Named, FileAttributes, Handle, Name, OpenFlags, Status, StatusCode,
    },
    server::Handler,
};

use super::{Shared, locked};

/// Names that go into one answer.
const NAMES: usize = 100;

enum Opened {
    File(File),
    Folder(Vec<Named>),
}

/// One client's files.
pub(super) struct Files {
    shared: Arc<Shared>,
    opened: HashMap<String, Opened>,
    last: u64,
}

fn code(error: &io::Error) -> StatusCode {
    match error.kind() {
        io::ErrorKind::NotFound => StatusCode::NoSuchFile,
        io::ErrorKind::PermissionDenied => StatusCode::PermissionDenied,
        // One word for all the rest, as most servers have it.
        _ => StatusCode::Failure,
    }
}

fn attributes(facts: &fs::Metadata) -> FileAttributes {
    FileAttributes {
        size: Some(facts.len()),
        uid: Some(facts.uid()),
        gid: Some(facts.gid()),
        permissions: Some(facts.mode()),
        atime: u32::try_from(facts.atime()).ok(),
        mtime: u32::try_from(facts.mtime()).ok(),
        ..FileAttributes::empty()
    }
}

fn held(path: &Path) -> u64 {
    let entries = fs::read_dir(path).into_iter().flatten().flatten();
    entries
        .map(|entry| match entry.metadata() {
            Ok(facts) if facts.is_dir() => held(&entry.path()),
            Ok(facts) => facts.len(),
            Err(_) => 0,
        })
        .sum()
}

fn fine(id: u32) -> Result<Status, StatusCode> {
    let (error_message, language_tag) = ("Ok".to_owned(), "en".to_owned());
    Ok(Status { id, status_code: StatusCode::Ok, error_message, language_tag })
}

impl Files {
    pub fn new(shared: Arc<Shared>) -> Self {
        Self { shared, opened: HashMap::new(), last: 0 }
    }

    /// Paths begin at the server's own directory and never leave it.
    fn path(&self, path: &str) -> Result<PathBuf, StatusCode> {
        let parts = path.split('/').filter(|part| !part.is_empty() && *part != ".");
        let mut full = self.shared.root.clone();
        for part in parts {
            if part == ".." {
                return Err(StatusCode::PermissionDenied);
            }
            full.push(part);
        }
        Ok(full)
    }

    fn open(&mut self, id: u32, opened: Opened) -> Handle {
        self.last += 1;
        let handle = self.last.to_string();
        self.opened.insert(handle.clone(), opened);
        Handle { id, handle }
    }

    fn file(&self, handle: &str) -> Result<&File, StatusCode> {
        match self.opened.get(handle) {
            Some(Opened::File(file)) => Ok(file),
            _ => Err(StatusCode::Failure),
        }
    }

    /// Whether so many bytes more may be written.
    fn may_write(&self, bytes: usize) -> Result<(), StatusCode> {
        let trouble = locked(&self.shared.trouble).clone();
        if trouble.read_only {
            return Err(StatusCode::PermissionDenied);
        }
        match trouble.room {
            Some(room) if held(&self.shared.root) + bytes as u64 > room => Err(StatusCode::Failure),
            _ => Ok(()),
        }
    }
}

impl Handler for Files {
    type Error = StatusCode;

    fn unimplemented(&self) -> StatusCode {
        StatusCode::OpUnsupported
    }

    async fn open(
        &mut self,
        id: u32,
        filename: String,
        flags: OpenFlags,
        _attrs: FileAttributes,
    ) -> Result<Handle, StatusCode> {
        let path = self.path(&filename)?;
        if flags.contains(OpenFlags::WRITE) {
            self.may_write(0)?;
        }
        let mut options = OpenOptions::new();
        options.read(flags.contains(OpenFlags::READ)).write(flags.contains(OpenFlags::WRITE));
        match flags.contains(OpenFlags::EXCLUDE) {
            true => options.create_new(flags.contains(OpenFlags::CREATE)),
            false => options.create(flags.contains(OpenFlags::CREATE)),
        };
        options.truncate(flags.contains(OpenFlags::TRUNCATE));
        let file = options.open(path).map_err(|error| code(&error))?;
        Ok(self.open(id, Opened::File(file)))
    }

    async fn close(&mut self, id: u32, handle: String) -> Result<Status, StatusCode> {
        self.opened.remove(&handle).ok_or(StatusCode::Failure)?;
        fine(id)
    }

    async fn read(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        length: u32,
    ) -> Result<Data, StatusCode> {
        let mut data = vec![0; length.min(256 << 10) as usize];
        let got = self.file(&handle)?.read_at(&mut data, offset).map_err(|error| code(&error))?;
        data.truncate(got);
        if data.is_empty() { Err(StatusCode::Eof) } else { Ok(Data { id, data }) }
    }

    async fn write(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        data: Vec<u8>,
    ) -> Result<Status, StatusCode> {
        self.may_write(data.len())?;
        self.file(&handle)?.write_all_at(&data, offset).map_err(|error| code(&error))?;
        fine(id)
    }

    async fn lstat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        let facts = fs::symlink_metadata(self.path(&path)?).map_err(|error| code(&error))?;
        Ok(Attrs { id, attrs: attributes(&facts) })
    }

    async fn stat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        let facts = fs::metadata(self.path(&path)?).map_err(|error| code(&error))?;
        Ok(Attrs { id, attrs: attributes(&facts) })
    }

    async fn fstat(&mut self, id: u32, handle: String) -> Result<Attrs, StatusCode> {
        let facts = self.file(&handle)?.metadata().map_err(|error| code(&error))?;
        let claimed = locked(&self.shared.trouble).claims;
        let attrs = attributes(&facts);
        Ok(Attrs { id, attrs: FileAttributes { size: claimed.or(attrs.size), ..attrs } })
    }

    async fn opendir(&mut self, id: u32, path: String) -> Result<Handle, StatusCode> {
        let mut names = Vec::new();
        for entry in fs::read_dir(self.path(&path)?).map_err(|error| code(&error))? {
            let entry = entry.map_err(|error| code(&error))?;
            // Removed since the directory was read.
            let Ok(facts) = entry.metadata() else { continue };
            if let Some(name) = entry.file_name().to_str() {
                names.push(Named::new(name, attributes(&facts)));
            }
        }
        Ok(self.open(id, Opened::Folder(names)))
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Result<Name, StatusCode> {
        let Some(Opened::Folder(names)) = self.opened.get_mut(&handle) else {
            return Err(StatusCode::Failure);
        };
        if names.is_empty() {
            return Err(StatusCode::Eof);
        }
        let files = names.drain(..names.len().min(NAMES)).collect();
        Ok(Name { id, files })
    }

    async fn remove(&mut self, id: u32, filename: String) -> Result<Status, StatusCode> {
        self.may_write(0).or_else(|code| match code {
            // What is removed makes room.
            StatusCode::Failure => Ok(()),
            other => Err(other),
        })?;
        fs::remove_file(self.path(&filename)?).map_err(|error| code(&error))?;
        fine(id)
    }

    async fn mkdir(
        &mut self,
        id: u32,
        path: String,
        _attrs: FileAttributes,
    ) -> Result<Status, StatusCode> {
        self.may_write(0)?;
        fs::create_dir(self.path(&path)?).map_err(|error| code(&error))?;
        fine(id)
    }

    async fn rmdir(&mut self, id: u32, path: String) -> Result<Status, StatusCode> {
        self.may_write(0)?;
        fs::remove_dir(self.path(&path)?).map_err(|error| code(&error))?;
        fine(id)
    }

    async fn realpath(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        let full = if path == "." { "/".to_owned() } else { path };
        Ok(Name { id, files: vec![Named::dummy(full)] })
    }

    async fn rename(&mut self, id: u32, from: String, to: String) -> Result<Status, StatusCode> {
        self.may_write(0)?;
        let (from, to) = (self.path(&from)?, self.path(&to)?);
        // Never over what is there, which a link refuses and a rename would not.
        fs::hard_link(&from, &to).map_err(|error| code(&error))?;
        fs::remove_file(&from).map_err(|error| code(&error))?;
        fine(id)
    }

    async fn readlink(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        let target = fs::read_link(self.path(&path)?).map_err(|error| code(&error))?;
        Ok(Name { id, files: vec![Named::dummy(target.to_string_lossy().into_owned())] })
    }
}
