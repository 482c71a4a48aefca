//! `lend`: a snapshot over SFTP and WebDAV, read-only, for a while.

use std::{
    ffi::OsString,
    net::{IpAddr, Ipv4Addr},
    os::unix::ffi::OsStrExt as _,
    sync::Arc,
    time::{Duration, Instant},
};

use clap::Args;
use crossbeam_channel::RecvTimeoutError;
use serde_json::{Value, json};
use skellin_engine::history;
use skellin_lend::{Deed, Lending, Terms, USER, View, Visit, new_password};
use skellin_plan::parse_duration;

use super::{WhichStore, context::Context, error::CliError, history::standing, output, signals};
use crate::{exit::Exit, words};

/// Nothing is lent longer, in seconds.
const LONGEST: u64 = 7 * 24 * 3600;
/// So often it is looked whether somebody interrupts.
const LOOK: Duration = Duration::from_millis(200);
/// So many visits are kept for the document at the end; all are counted.
const KEPT: usize = 10_000;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin lend readings@newest --for 2h\n  skellin lend ringing@2026-11-10 /srv/ringing/scans --for '30 min' --address 192.0.2.10\n\nA password is made for this one time and shown. Nothing can be changed. It ends by itself, or with Ctrl-C."
)]
pub(super) struct LendArgs {
    /// PLAN@WHEN, or the beginning of an id
    snapshot: String,
    /// What to lend; default: everything
    path: Option<OsString>,
    /// How long, at most 7 days
    #[arg(long = "for", default_value = "1h", value_parser = duration, value_name = "TIME")]
    time: u64,
    /// The address to listen on; others than this machine reach only a named one
    #[arg(long, default_value_t = IpAddr::V4(Ipv4Addr::LOCALHOST), value_name = "ADDRESS")]
    address: IpAddr,
    /// The port for SFTP; 0 is any
    #[arg(long, default_value_t = 0, value_name = "PORT")]
    port: u16,
    /// The port for WebDAV; 0 is any
    #[arg(long, default_value_t = 0, value_name = "PORT")]
    web_port: u16,
    /// No WebDAV
    #[arg(long, conflicts_with_all = ["web_port", "web_in_clear"])]
    no_web: bool,
    /// WebDAV at a named address too, though password and files cross the network unencrypted
    #[arg(long)]
    web_in_clear: bool,
    #[command(flatten)]
    which: WhichStore,
}

fn duration(text: &str) -> Result<u64, String> {
    match parse_duration(text)? {
        0 => Err("lend it for a minute at least".to_owned()),
        seconds if seconds > LONGEST => Err("lend it for 7 days at most".to_owned()),
        seconds => Ok(seconds),
    }
}

/// What visitors did.
#[derive(Default)]
struct Visits {
    kept: Vec<Value>,
    files: u64,
    bytes: u64,
}

pub(super) fn lend(context: &Context, args: &LendArgs) -> Result<Exit, CliError> {
    let (name, store, snapshot) = context.snapshot(&args.snapshot, &args.which)?;
    let view = match &args.path {
        None => View::of_snapshot(Arc::clone(&store), snapshot.root_page(&store), snapshot.started),
        Some(path) => {
            let located = history::named_in(&store, &snapshot, path.as_bytes(), &standing())?;
            View::of_entry(Arc::clone(&store), located.entry, snapshot.started)
        }
    };
    let is_here = args.address.is_loopback();
    let with_web = !args.no_web && (is_here || args.web_in_clear);
    let failed = |what: &str| {
        let what = format!("cannot lend at {}: {what}", args.address);
        CliError::failed(what, Some("name another --address or --port".to_owned()))
    };
    let password = new_password().map_err(|error| failed(&error.to_string()))?;
    let terms = Terms {
        address: args.address,
        sftp: args.port,
        web: with_web.then_some(args.web_port),
        password: password.clone(),
    };
    let (sender, visits) = crossbeam_channel::unbounded();
    let tell = Arc::new(move |visit: Visit| drop(sender.send(visit)));
    let lending = Lending::begin(view, &terms, tell).map_err(|error| failed(&error.to_string()))?;
    context.catch_signals();
    let ends = Instant::now() + Duration::from_secs(args.time);
    let until = jiff::Timestamp::now().as_millisecond() + args.time as i64 * 1000;
    let what = format!("{}@{} of {name}", snapshot.plan, words::moment(snapshot.started));
    context.progress.emit(&json!({"event": "lent", "sftp": lending.sftp.to_string(),
        "web": lending.web.map(|web| format!("http://{web}/")), "user": USER, "password": password,
        "host-key": lending.fingerprint, "public-key": lending.public_key, "until": words::rfc3339(until)}));
    if !context.global.json {
        let head = head(&what, until, (&lending, &password), args.no_web);
        output::text(&head);
    }
    let mut seen = Visits::default();
    let is_interrupted = loop {
        let left = ends.saturating_duration_since(Instant::now());
        if left.is_zero() {
            break false;
        }
        if context.cancel.is_cancelled() {
            break true;
        }
        match visits.recv_timeout(left.min(LOOK)) {
            Ok(visit) => note(context, &visit, &mut seen),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => break false,
        }
    };
    drop(lending);
    while let Ok(visit) = visits.try_recv() {
        note(context, &visit, &mut seen);
    }
    let status = if is_interrupted { "interrupted" } else { "done" };
    context.print(
        || json!({"status": status, "snapshot": snapshot.run.to_string(), "files": seen.files, "bytes": seen.bytes, "visits": seen.kept}),
        || {
            let files = words::counted(seen.files, "file", "files");
            format!("ended: {files} read, {}\n", words::bytes(seen.bytes))
        },
    );
    Ok(match is_interrupted {
        true => Exit::Signal(signals::caught().unwrap_or(2)),
        false => Exit::Done,
    })
}

fn head(what: &str, until: i64, (lending, password): (&Lending, &str), no_web: bool) -> String {
    let address = lending.sftp.ip();
    let host =
        if address.is_unspecified() { "THIS-MACHINE".to_owned() } else { address.to_string() };
    let mut out = format!("{what} is lent read-only until {}\n", words::moment(until));
    out.push_str(&format!("  SFTP      sftp -P {} {USER}@{host}\n", lending.sftp.port()));
    out.push_str(&format!("            host key {}\n", lending.fingerprint));
    match lending.web {
        Some(web) => {
            out.push_str(&format!("  WebDAV    http://{host}:{}/  user {USER}\n", web.port()));
        }
        None if no_web => {}
        None => out.push_str(
            "  WebDAV    not at a named address: it would cross the network unencrypted (--web-in-clear)\n",
        ),
    }
    out.push_str(&format!("  Password  {password}\n\nCtrl-C ends it. Who reads what:\n"));
    out
}

fn note(context: &Context, visit: &Visit, seen: &mut Visits) {
    let now = jiff::Timestamp::now().as_millisecond();
    let (word, path, bytes) = match &visit.deed {
        Deed::Came => ("came", None, None),
        Deed::Refused => ("wrong-password", None, None),
        Deed::Closed => ("closed", None, None),
        Deed::Full => ("too-many", None, None),
        Deed::Read { path, bytes, of } => {
            seen.files += 1;
            seen.bytes = seen.bytes.saturating_add(*bytes);
            ("read", Some(path), Some((*bytes, *of)))
        }
    };
    let from = visit.from.ip().to_string();
    let value = json!({"time": words::rfc3339(now), "from": from, "via": visit.via.word(), "what": word,
        "path": path, "bytes": bytes.map(|(bytes, _)| bytes), "of": bytes.map(|(_, of)| of)});
    context.progress.emit(&json!({"event": "visit", "visit": value}));
    if !context.global.json && !context.global.quiet {
        let told = match (&visit.deed, bytes) {
            (Deed::Read { path, .. }, Some((bytes, of))) => {
                let part = match bytes < of {
                    true => format!("{} of {}", words::bytes(bytes), words::bytes(of)),
                    false => words::bytes(bytes),
                };
                format!("{}  {part}", words::harmless(path))
            }
            (Deed::Came, _) => "logged in".to_owned(),
            (Deed::Refused, _) => "refused: wrong password".to_owned(),
            (Deed::Closed, _) => {
                "refused: too many wrong passwords, nobody is let in any more".to_owned()
            }
            _ => "sent away: too many connections".to_owned(),
        };
        let time = words::clock(now);
        output::text(&format!("{time}  {from}  {:<6}  {told}\n", visit.via.word()));
    }
    if seen.kept.len() < KEPT {
        seen.kept.push(value);
    }
}
