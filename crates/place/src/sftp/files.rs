//! Files and directories by many requests in flight, so that a slow line is filled.

use std::sync::Arc;

use futures_util::stream::{self, StreamExt, TryStreamExt};
use russh_sftp::protocol::{FileAttributes, OpenFlags, StatusCode};

use super::line::{Failure, Line};
use crate::{Extent, MOST_LISTED, throttle::wait_async};

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
    write_at(line, path, (flags, FileAttributes::empty()), 0, bytes).await
}

/// Writes part of a file, as [`write`] does.
pub(super) async fn write_at(
    line: &Line,
    path: &str,
    (flags, attributes): (OpenFlags, FileAttributes),
    offset: u64,
    bytes: &[u8],
) -> Result<(), Failure> {
    let handle = line.sftp.open(path, flags, attributes).await?.handle;
    // What is asked of one file is done in the order in which it is sent (section 6.1 of the
    // draft), so that the end need not wait for the answers before it.
    let step = |step| {
        let handle = handle.as_str();
        async move {
            match step {
                Step::Write(at, piece) => line.sftp.write(handle, at, piece).await.map(drop),
                Step::Flush => line.sftp.fsync(handle).await.map(drop),
                // This tells of what could not be written after all.
                Step::Close => line.sftp.close(handle).await.map(drop),
            }
        }
    };
    let pieces = bytes.chunks(line.write_length).enumerate();
    let pieces = stream::iter(pieces).then(|(number, piece)| async move {
        wait_async(line.throttles.up.as_ref(), piece.len()).await;
        Step::Write(offset + (number * line.write_length) as u64, piece.to_vec())
    });
    let ends = line.can_flush.then_some(Step::Flush).into_iter().chain([Step::Close]);
    let steps = pieces.chain(stream::iter(ends)).map(step);
    let mut under_way = std::pin::pin!(steps.buffer_unordered(IN_FLIGHT));
    let mut written = Ok(());
    while let Some(done) = under_way.next().await {
        // The first failure counts, and what is behind it is not begun.
        written = done;
        if written.is_err() {
            break;
        }
    }
    if written.is_err() {
        let _ = line.sftp.close(&handle).await;
    }
    Ok(written?)
}

/// What is done to a file that is written.
enum Step {
    Write(u64, Vec<u8>),
    Flush,
    Close,
}

/// Gives a handle back without waiting for the answer: that it is not given back costs the server,
/// not us.
pub(super) fn give_back(line: &Arc<Line>, handle: String) {
    let line = Arc::clone(line);
    tokio::spawn(async move {
        let _ = line.sftp.close(handle).await;
    });
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
        Extent::Within(most) => {
            let size = line.sftp.fstat(handle).await?.attrs.size.unwrap_or(0);
            if size > most {
                return Err(Failure::Long);
            }
            (0, size)
        }
        Extent::Tail(length) => {
            let size = line.sftp.fstat(handle).await?.attrs.size.unwrap_or(0);
            let length = length.min(size);
            (size - length, length)
        }
    };
    let step = line.read_length as u64;
    let starts = (0..length.div_ceil(step)).map(|number| number * step);
    let pieces =
        starts.map(|start| read_piece(line, handle, offset + start, step.min(length - start)));
    // What the server claims is a limit to read to, never an amount to make room for.
    let mut bytes = Vec::new();
    let mut under_way = stream::iter(pieces).buffered(IN_FLIGHT);
    while let Some(piece) = under_way.try_next().await? {
        bytes.extend_from_slice(&piece);
    }
    Ok(bytes)
}

/// Exactly so many bytes.
async fn read_piece(line: &Line, handle: &str, at: u64, length: u64) -> Result<Vec<u8>, Failure> {
    let bytes = read_up_to(line, handle, at, length).await?;
    if (bytes.len() as u64) < length { Err(Failure::Short) } else { Ok(bytes) }
}

/// So many bytes, or all to the end; a server may give fewer at a time.
async fn read_up_to(line: &Line, handle: &str, at: u64, length: u64) -> Result<Vec<u8>, Failure> {
    let mut bytes = Vec::new();
    while (bytes.len() as u64) < length {
        let left = u32::try_from(length - bytes.len() as u64).unwrap_or(u32::MAX);
        wait_async(line.throttles.down.as_ref(), left as usize).await;
        let answer = line.sftp.read(handle, at + bytes.len() as u64, left).await;
        match answer.map_err(Failure::from) {
            Ok(data) if data.data.is_empty() => break,
            Ok(data) if data.data.len() > left as usize => return Err(Failure::Long),
            Ok(data) => bytes.extend_from_slice(&data.data),
            Err(Failure::Status(StatusCode::Eof, _)) => break,
            Err(failure) => return Err(failure),
        }
    }
    Ok(bytes)
}

/// A part of a file that may have grown or shrunk, and what the file was before and after it.
pub(super) async fn read_part(
    line: &Line,
    handle: &str,
    offset: u64,
    length: u64,
) -> Result<(Vec<u8>, FileAttributes, FileAttributes), Failure> {
    let facts = || async { Ok::<_, Failure>(line.sftp.fstat(handle).await?.attrs) };
    let step = line.read_length as u64;
    let count = length.div_ceil(step);
    let pieces = (0..count).map(|number| {
        let start = number * step;
        read_up_to(line, handle, offset + start, step.min(length - start))
    });
    let all = async {
        let mut bytes = Vec::new();
        let mut under_way = stream::iter(pieces).buffered(IN_FLIGHT);
        while let Some(piece) = under_way.try_next().await? {
            // Behind the first piece that ends early there is nothing.
            let is_end = !(bytes.len() as u64).is_multiple_of(step);
            if !is_end {
                bytes.extend_from_slice(&piece);
            }
        }
        Ok::<_, Failure>(bytes)
    };
    // What is asked first is answered first, so that all of a small file takes one way and back.
    let at_once = count <= IN_FLIGHT as u64 && line.throttles.down.is_none();
    if at_once {
        let (before, bytes, after) = futures_util::try_join!(facts(), all, facts())?;
        return Ok((bytes, before, after));
    }
    let (before, bytes) = futures_util::try_join!(facts(), all)?;
    Ok((bytes, before, facts().await?))
}

/// All names of a directory with what is told of them.
pub(super) async fn list(
    line: &Arc<Line>,
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
                    if files.len() > MOST_LISTED {
                        break 'listing Err(Failure::Long);
                    }
                }
                Err(Failure::Status(StatusCode::Eof, _)) => break 'listing Ok(()),
                Err(failure) => break 'listing Err(failure),
            }
        }
    };
    give_back(line, handle);
    result?;
    Ok(files)
}
