//! `export`: a snapshot, or part of it, as a POSIX archive.

use std::{
    ffi::OsString,
    io::{self, BufWriter, IsTerminal as _, Write},
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{ExportReport, ExportRequest, Packing, history};
use skellin_store::{Snapshot, Store};

use super::{
    WhichStore,
    context::Context,
    error::CliError,
    history::standing,
    output::{self, exception_json, json_path},
    run::exceptions_text,
};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin export readings@newest --out readings.tar.zst\n  skellin export ringing@2026-11-10 /srv/ringing/scans --out scans.tar.gz\n  skellin export readings@newest --out - | tar -t\n\nThe archive is POSIX pax. Below it each source appears under its base name. Others cannot read the file."
)]
pub(super) struct ExportArgs {
    /// PLAN@WHEN, or the beginning of an id
    snapshot: String,
    /// What to export; default: everything
    path: Option<OsString>,
    /// The archive: FILE.tar, FILE.tar.gz or FILE.tar.zst; - is stdout
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
    #[command(flatten)]
    which: WhichStore,
}

pub(super) fn export(context: &Context, args: &ExportArgs) -> Result<Exit, CliError> {
    let packing = packing(&args.out)?;
    let (name, store, snapshot) = context.snapshot(&args.snapshot, &args.which)?;
    let opened = [(name, Arc::clone(&store))];
    context.catch_signals();
    let report =
        context.attending(&opened, || export_from(context, &store, (&snapshot, packing), args))?;
    Ok(match report.exception_count {
        0 => Exit::Done,
        // What is not in the archive is what the store has lost.
        _ => Exit::Damage,
    })
}

fn export_from(
    context: &Context,
    store: &Store,
    (snapshot, packing): (&Snapshot, Packing),
    args: &ExportArgs,
) -> Result<ExportReport, CliError> {
    let paths = match &args.path {
        Some(path) => vec![history::named_in(store, snapshot, path.as_bytes(), &standing())?],
        None => history::roots(store, snapshot)?,
    };
    let request = ExportRequest {
        snapshot,
        paths: &paths,
        packing,
        cancel: &context.cancel,
        events: &context.progress,
    };
    if args.out.as_os_str() == "-" {
        if io::stdout().is_terminal() {
            return Err(CliError::usage(
                "an archive is not written to a terminal".to_owned(),
                "name a file, or pass it on: skellin export … --out - | tar -t",
            ));
        }
        let mut out = BufWriter::new(io::stdout().lock());
        return Ok(skellin_engine::export(store, &request, &mut out)?);
    }
    let report = into_file(&args.out, |out| Ok(skellin_engine::export(store, &request, out)?))?;
    context.print(
        || as_json(&args.out, &report),
        || as_text(&args.out, &report, context.global.verbose),
    );
    Ok(report)
}

/// Writes beside the file, and gives it its name when it is whole.
fn into_file<T>(
    path: &Path,
    work: impl FnOnce(&mut dyn Write) -> Result<T, CliError>,
) -> Result<T, CliError> {
    let shown = words::path(path.as_os_str().as_bytes());
    if path.symlink_metadata().is_ok() {
        let hint = "choose another name, or remove it";
        return Err(CliError::usage(format!("{shown} exists already"), hint));
    }
    let folder = match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    let cannot =
        |error: io::Error| CliError::failed(format!("cannot write {shown}: {error}"), None);
    let draft =
        tempfile::Builder::new().prefix(".skellin-export-").tempfile_in(folder).map_err(cannot)?;
    let mut out = BufWriter::with_capacity(1 << 20, draft);
    let done = work(&mut out)?;
    let draft = out.into_inner().map_err(|error| cannot(error.into_error()))?;
    draft.as_file().sync_all().map_err(cannot)?;
    draft.persist_noclobber(path).map_err(|error| cannot(error.error))?;
    Ok(done)
}

/// How an archive of that name is compressed.
fn packing(path: &Path) -> Result<Packing, CliError> {
    let name = path.as_os_str().as_bytes();
    let ends = |ending: &str| name.ends_with(ending.as_bytes());
    match () {
        () if name == b"-" || ends(".tar") => Ok(Packing::Plain),
        () if ends(".tar.gz") || ends(".tgz") => Ok(Packing::Gzip),
        () if ends(".tar.zst") => Ok(Packing::Zstd),
        () => Err(CliError::usage(
            format!("{} does not say what it is to be", words::path(name)),
            "name it FILE.tar, FILE.tar.gz or FILE.tar.zst",
        )),
    }
}

fn as_json(out: &Path, report: &ExportReport) -> Value {
    let exceptions = report.exceptions.iter().map(exception_json);
    json!({"out": json_path(out.as_os_str().as_bytes()), "members": report.members, "bytes": report.bytes,
        "exceptions": exceptions.collect::<Vec<_>>()})
}

fn as_text(out: &Path, report: &ExportReport, verbose: bool) -> String {
    let mut text = format!(
        "{}, {} in {}\n",
        words::counted(report.members, "path", "paths"),
        words::bytes(report.bytes),
        words::path(out.as_os_str().as_bytes())
    );
    let remedy = skellin_engine::restore_remedy;
    text.push_str(&exceptions_text(report.exception_count, &report.exceptions, verbose, remedy));
    if report.exception_count > 0 {
        output::line("what cannot be read is zeros in the archive");
    }
    text
}
