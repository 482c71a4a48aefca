//! Laying files down on a host, as a restore does.

use russh_sftp::{
    client::error::Error,
    protocol::{FileAttributes, OpenFlags, Packet, StatusCode},
};

use super::{
    SftpPlace,
    files::{make_folder, write_at},
    line::{Failure, Line},
};
use crate::{FarDress, FarTarget, Operation, PlaceError, PlaceErrorKind, far::below};

/// Moves a file over another in one step (OpenSSH's PROTOCOL, section 4.3).
const RENAME: &str = "posix-rename@openssh.com";

/// The bits by which a file runs as its owner or group.
const SET_ID: u32 = 0o6000;

fn both(a: &str, b: &str) -> Vec<u8> {
    let mut data = Vec::with_capacity(a.len() + b.len() + 8);
    for text in [a, b] {
        data.extend((text.len() as u32).to_be_bytes());
        data.extend(text.as_bytes());
    }
    data
}

/// Moves a file over whatever has its name.
async fn replace(line: &Line, from: &str, to: &str) -> Result<(), Failure> {
    let answer = line.sftp.extended(RENAME, both(from, to)).await;
    let status = match answer {
        Ok(Packet::Status(status)) => status,
        Ok(_) => return Err(Failure::Cut("an answer that was not asked for".to_owned())),
        Err(Error::Status(status)) => status,
        Err(error) => return Err(error.into()),
    };
    match status.status_code {
        StatusCode::Ok => Ok(()),
        // A server that knows only the plain kind, which gives way to nothing.
        StatusCode::OpUnsupported => {
            match line.sftp.remove(to).await {
                Ok(_) => {}
                Err(Error::Status(status)) if status.status_code == StatusCode::NoSuchFile => {}
                Err(error) => return Err(error.into()),
            }
            Ok(line.sftp.rename(from, to).await.map(drop)?)
        }
        _ => Err(Failure::Status(status.status_code, status.error_message)),
    }
}

impl SftpPlace {
    fn laid(&self, path: &str) -> String {
        below(&self.target.path, path)
    }
}

impl FarTarget for SftpPlace {
    fn make_directory(&self, path: &str) -> Result<(), PlaceError> {
        let root = self.target.path.clone();
        let full = self.laid(path);
        self.run(Operation::Create, path, async |line| {
            if !path.is_empty() {
                return make_folder(line, &full).await;
            }
            // The directory itself, with those above it.
            let mut above = String::new();
            for part in root.split('/') {
                above.push_str(part);
                if !part.is_empty() && part != "." {
                    make_folder(line, &above).await?;
                }
                above.push('/');
            }
            Ok(())
        })
    }

    fn write(&self, path: &str, offset: u64, bytes: &[u8]) -> Result<(), PlaceError> {
        let full = self.laid(path);
        let flags = match offset {
            0 => OpenFlags::WRITE | OpenFlags::CREATE | OpenFlags::TRUNCATE,
            _ => OpenFlags::WRITE,
        };
        let attributes = FileAttributes { permissions: Some(0o600), ..FileAttributes::empty() };
        self.run(Operation::Create, path, async |line| {
            write_at(line, &full, (flags, attributes), offset, bytes).await
        })
    }

    fn make_link(&self, path: &str, target: &str) -> Result<(), PlaceError> {
        let full = self.laid(path);
        self.run(Operation::Create, path, async |line| {
            // What the draft calls path and target OpenSSH takes the other way round (its PROTOCOL,
            // section 4.1), and most servers with it.
            let points = async || {
                let told = line.sftp.readlink(full.as_str()).await.ok()?;
                told.files.into_iter().next().map(|file| file.filename)
            };
            let made = line.sftp.symlink(target, full.as_str()).await;
            if made.is_ok() && points().await.as_deref() == Some(target) {
                return Ok(());
            }
            line.sftp.symlink(full.as_str(), target).await?;
            match points().await.as_deref() == Some(target) {
                true => Ok(()),
                false => Err(Failure::Status(StatusCode::Failure, "it makes no links".to_owned())),
            }
        })
    }

    fn set(&self, path: &str, dress: &FarDress) -> Result<(), PlaceError> {
        let full = self.laid(path);
        let seconds = u32::try_from(dress.modified).unwrap_or(0);
        // Whoever changes an owner clears these bits, and servers do that last.
        let is_twice = dress.owner.is_some() && dress.mode & SET_ID != 0;
        let attributes = FileAttributes {
            permissions: Some(dress.mode),
            uid: dress.owner.map(|(user, _)| user),
            gid: dress.owner.map(|(_, group)| group),
            atime: Some(seconds),
            mtime: Some(seconds),
            ..FileAttributes::empty()
        };
        self.run(Operation::Create, path, async |line| {
            let owner = FileAttributes {
                uid: attributes.uid,
                gid: attributes.gid,
                ..FileAttributes::empty()
            };
            let (first, second) = match is_twice {
                true => (owner, Some(FileAttributes { uid: None, gid: None, ..attributes })),
                false => (attributes, None),
            };
            line.sftp.setstat(full.as_str(), first).await?;
            if let Some(second) = second {
                line.sftp.setstat(full, second).await?;
            }
            Ok(())
        })
    }

    fn place(&self, draft: &str, path: &str, replaces: bool) -> Result<(), PlaceError> {
        let (from, to) = (self.laid(draft), self.laid(path));
        let placed = self.run(Operation::Create, path, async |line| match replaces {
            true => replace(line, &from, &to).await,
            false => Ok(line.sftp.rename(&from, &to).await.map(drop)?),
        });
        placed.map_err(|error| {
            let exists = !replaces && error.kind == PlaceErrorKind::Failed;
            let is_there = exists && crate::FarFiles::facts(self, path).is_ok();
            match is_there {
                true => PlaceError::new(Operation::Create, error.subject, PlaceErrorKind::Exists),
                false => error,
            }
        })
    }

    fn remove(&self, path: &str) -> Result<(), PlaceError> {
        let full = self.laid(path);
        self.run(Operation::Delete, path, async |line| {
            Ok(line.sftp.remove(full).await.map(drop)?)
        })
    }

    fn free(&self) -> Option<u64> {
        self.ask_room().ok().flatten().map(|(free, _)| free)
    }
}
