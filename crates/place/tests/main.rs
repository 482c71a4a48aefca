//! Places as they are used from outside: one program, so that it is linked once.
#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr, missing_docs)]

mod common;
mod conformance;
mod ftp;
mod malice;
mod s3;
mod sftp;
mod webdav;
