//! Files and directories by many requests in flight, so that a slow line is filled.

use futures_util::stream::{self, StreamExt, TryStreamExt};
use russh_sftp::{
    client::error::Error,
    protocol::{FileAttributes, OpenFlags, StatusCode},
};

use super::line::{Failure, Line};
use crate::{Extent, throttle::wait_async};

/// Pieces of an object that are under way at a time.
const IN_FLIGHT: usize = 64;
/// Ranges up to so many bytes are asked for without a look at the object's size.
const LONGEST_RANGE: u64 = 64 << 20;
/// Requests for parts of a listing that are under way at a time.
const LISTINGS_IN_FLIGHT: usize = 8;

/// Makes a directory; that it is there already is no failure.
pub(super) async fn make_folder(line: &Line, path: &str) -> Result<(), Failure> {
    match line.sftp.mkdir(path, FileAttributes::empty()).await {
        Ok(_) => Ok(()),
        // Most servers have no word of their own for what is there already.
        Err(error) => match line.sftp.stat(path).await {
            Ok(found) if found.attrs.is_dir() => Ok(()),
            _ => Err(error.into()),
        },
    }
}

/// Writes a new file, with many pieces in flight, and has it flushed.
pub(super) async fn write(line: &Line, path: &str, bytes: &[u8]) -> Result<(), Failure> {
    let flags = OpenFlags::WRITE | OpenFlags::CREATE | OpenFlags::EXCLUDE;
    let handle = line.sftp.open(path, flags, FileAttributes::empty()).await?.handle;
    let pieces = bytes.chunks(line.write_length).enumerate().map(|(number, piece)| {
        let (handle, at) = (handle.clone(), (number * line.write_length) as u64);
        async move {
            wait_async(line.throttles.up.as_ref(), piece.len()).await;
            line.sftp.write(handle, at, piece.to_vec()).await
        }
    });
    let mut under_way = stream::iter(pieces).buffer_unordered(IN_FLIGHT);
    let written = async {
        while under_way.try_next().await?.is_some() {}
        if line.can_flush {
            line.sftp.fsync(&handle).await?;
        }
        Ok::<(), Error>(())
    };
    let written = written.await;
    // Closing tells of what could not be written after all.
    let closed = line.sftp.close(&handle).await;
    written?;
    closed?;
    Ok(())
}

pub(super) async fn read(line: &Line, handle: &str, extent: Extent) -> Result<Vec<u8>, Failure> {
    if let Extent::Range { offset, length } = extent
        && offset.checked_add(length).is_none_or(|end| end > i64::MAX as u64)
    {
        return Err(Failure::Short);
    }
    let (offset, length) = match extent {
        Extent::Range { offset, length } if length <= LONGEST_RANGE => (offset, length),
        Extent::Range { offset, length } => {
            let size = line.sftp.fstat(handle).await?.attrs.size.unwrap_or(0);
            if offset + length > size {
                return Err(Failure::Short);
            }
            (offset, length)
        }
        Extent::Whole | Extent::Tail(_) => {
            let size = line.sftp.fstat(handle).await?.attrs.size.unwrap_or(0);
            let length = if let Extent::Tail(length) = extent { length.min(size) } else { size };
            (size - length, length)
        }
    };
    let step = line.read_length as u64;
    let starts = (0..length.div_ceil(step)).map(|number| number * step);
    let pieces =
        starts.map(|start| read_piece(line, handle, offset + start, step.min(length - start)));
    let mut bytes = Vec::with_capacity(usize::try_from(length).unwrap_or(0));
    let mut under_way = stream::iter(pieces).buffered(IN_FLIGHT);
    while let Some(piece) = under_way.try_next().await? {
        bytes.extend_from_slice(&piece);
    }
    Ok(bytes)
}

/// Exactly so many bytes; a server may give fewer at a time.
async fn read_piece(line: &Line, handle: &str, at: u64, length: u64) -> Result<Vec<u8>, Failure> {
    let mut bytes = Vec::new();
    while (bytes.len() as u64) < length {
        let left = u32::try_from(length - bytes.len() as u64).unwrap_or(u32::MAX);
        wait_async(line.throttles.down.as_ref(), left as usize).await;
        let answer = line.sftp.read(handle, at + bytes.len() as u64, left).await;
        match answer.map_err(Failure::from) {
            Ok(data) if data.data.is_empty() => return Err(Failure::Short),
            Ok(data) => bytes.extend_from_slice(&data.data),
            Err(Failure::Status(StatusCode::Eof, _)) => return Err(Failure::Short),
            Err(failure) => return Err(failure),
        }
    }
    Ok(bytes)
}

/// All names of a directory with what is told of them.
pub(super) async fn list(
    line: &Line,
    path: &str,
) -> Result<Vec<(String, FileAttributes)>, Failure> {
    let handle = line.sftp.opendir(path).await?.handle;
    let mut files = Vec::new();
    let result = 'listing: loop {
        // Asked for ahead of the answers; behind the end there is only the end again.
        let requests = (0..LISTINGS_IN_FLIGHT).map(|_| line.sftp.readdir(&handle));
        let answers = futures_util::future::join_all(requests).await;
        for answer in answers {
            match answer.map_err(Failure::from) {
                Ok(names) => {
                    files.extend(names.files.into_iter().map(|file| (file.filename, file.attrs)));
                }
                Err(Failure::Status(StatusCode::Eof, _)) => break 'listing Ok(()),
                Err(failure) => break 'listing Err(failure),
            }
        }
    };
    let _ = line.sftp.close(&handle).await;
    result?;
    Ok(files)
}
