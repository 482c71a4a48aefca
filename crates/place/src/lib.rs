//! Where bytes can lie.
//!
//! A [`Place`] offers four operations: create a whole object, read a range of one, list a folder,
//! delete an object. Everything else, dedup and encryption included, is built above it.

mod counting;
mod directory;
mod disk;
mod error;
mod far;
mod faults;
mod ftp;
mod hooked;
mod http;
mod mail;
mod memory;
mod name;
pub mod own;
mod place;
mod retry;
mod room;
mod s3;
mod sftp;
mod throttle;
mod webdav;

pub use counting::CountingPlace;
pub use directory::DirectoryPlace;
pub use disk::{Disk, DiskFile, SystemDisk};
pub use error::{Operation, PlaceError, PlaceErrorKind};
pub use far::{FarDress, FarEntry, FarFacts, FarFiles, FarKind, FarPart, FarTarget, RetryingFiles};
pub use faults::{Fault, FaultyPlace};
pub use ftp::{FtpPlace, FtpStep, FtpTarget};
pub use hooked::HookedPlace;
pub use http::{WebAnswer, ask_web};
pub use mail::{MailError, MailSubmission, submit_mail};
pub use memory::MemoryPlace;
pub use name::{NameError, ObjectName};
pub(crate) use place::MOST_LISTED;
pub use place::{Extent, Listed, Place, Readiness};
pub use retry::{Retries, RetryingPlace, Waiting};
pub use room::{why_full, why_full_at};
pub use s3::{S3Key, S3Login, S3Place, S3Style, S3Target};
pub use sftp::{FarCommand, FarCommandError, Hop, SftpPlace, SftpStep, SftpTarget};
pub use throttle::{Throttle, Throttles};
pub use webdav::{WebDavPlace, WebDavTarget};
