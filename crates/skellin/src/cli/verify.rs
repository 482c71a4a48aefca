//! `verify`: proving a store.

mod repair;

use clap::Args;
use serde_json::{Value, json};
use skellin_engine::{Event, EventSink, Progress, ProvenShare};
use skellin_store::{Damage, DataShare, VerifyProgress, VerifyReport, VerifyWatch};

use super::{WhichStore, context::Context, error::CliError, output::json_path, post, signals};
use crate::{exit::Exit, words};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  skellin verify oak\n  skellin verify oak --data 5%\n  skellin verify oak --repair\n  skellin verify --place /mnt/oak --data none"
)]
pub(super) struct VerifyArgs {
    /// The store
    #[arg(required_unless_present = "place")]
    store: Option<String>,
    /// How much data to read: all (default), none, or a percentage, which is another part each time
    #[arg(long, value_parser = share, value_name = "SHARE")]
    data: Option<DataShare>,
    /// Mend what is damaged: by parity, from second copies, from this machine's files, and from other stores
    #[arg(long, conflicts_with = "steward")]
    repair: bool,
    /// Started by the steward, which has this number of a process
    #[arg(long, value_name = "PROCESS", hide = true)]
    steward: Option<u32>,
    #[arg(skip)]
    by_clock: bool,
    /// Verify the store at this place; needs no configuration
    #[arg(long, value_name = "PLACE", conflicts_with = "store")]
    place: Option<String>,
    /// Read the passphrase for --place from this file
    #[arg(long, value_name = "FILE", requires = "place")]
    passphrase_file: Option<std::path::PathBuf>,
    /// File with the access keys of --place (endpoint, credentials, identity, password …), as in stores.toml
    #[arg(long, value_name = "FILE", requires = "place")]
    access: Option<std::path::PathBuf>,
}

impl VerifyArgs {
    /// All of a store of the configuration.
    pub fn of(store: String) -> Self {
        let (place, passphrase_file, access) = (None, None, None);
        let (store, data) = (Some(store), None);
        let (repair, steward, by_clock) = (false, None, true);
        Self { store, data, repair, steward, by_clock, place, passphrase_file, access }
    }
}

fn share(text: &str) -> Result<DataShare, String> {
    match text {
        "all" => Ok(DataShare::All),
        "none" => Ok(DataShare::None),
        text => match text.trim_end_matches('%').parse::<u8>() {
            Ok(percent @ 1..=100) => Ok(DataShare::Percent(percent)),
            _ => Err("use all, none, or a percentage from 1 to 100".to_owned()),
        },
    }
}

pub(super) struct Watch<'a>(pub &'a Context);

impl VerifyWatch for Watch<'_> {
    fn is_cancelled(&self) -> bool {
        self.0.cancel.is_cancelled()
    }

    fn progress(&self, progress: VerifyProgress) {
        self.0.progress.event(Event::Progress(Progress {
            files: progress.containers_done as u64,
            total_files: Some(progress.containers as u64),
            bytes: progress.bytes,
            read: progress.bytes,
            ..Progress::default()
        }));
    }
}

pub(super) fn verify(context: &Context, args: &VerifyArgs) -> Result<Exit, CliError> {
    let which = WhichStore {
        store: args.store.clone(),
        place: args.place.clone(),
        passphrase_file: args.passphrase_file.clone(),
        access: args.access.clone(),
        machine: None,
    };
    let (name, store) = context.stores(&which, None)?.remove(0);
    context.catch_signals();
    if let Some(steward) = args.steward {
        signals::end_with(steward);
        skellin_engine::step_back();
    }
    let configuration = context.lenient_configuration();
    // By its own clock a store may be verified part by part.
    let own =
        configuration.stores.fine.get(&name).filter(|_| args.by_clock || args.steward.is_some());
    let data = args.data.unwrap_or(match own.map_or(100, |store| store.verify_share) {
        100 => DataShare::All,
        percent => DataShare::Percent(percent),
    });
    let journal = context.journal();
    let machine = crate::machine::machine_name();
    let orchestrator = context.orchestrator(&configuration, journal.as_ref(), &machine);
    if args.repair {
        let with = (&configuration, &orchestrator);
        let repaired = repair::repair(context, with, (&name, &store), data);
        post::carry(context, &configuration, journal.as_ref());
        return repaired;
    }
    let (report, share) = orchestrator.verify(&name, &store, data, &Watch(context))?;
    post::carry(context, &configuration, journal.as_ref());
    context.progress.event(Event::Ended);
    let now = jiff::Timestamp::now().as_millisecond();
    context.print(
        || as_json(&report, share),
        || as_text(&name, (&report, share.map(|share| (share, now))), context.global.verbose),
    );
    Ok(if report.damage.is_empty() { Exit::Done } else { Exit::Damage })
}

/// One damaged object.
pub(super) fn damage_as_json(damage: &Damage) -> Value {
    let files = damage
        .files
        .iter()
        .map(|file| json!({"snapshot": file.snapshot.to_string(), "path": json_path(&file.path)}));
    json!({"container": damage.object, "offset": damage.offset, "reason": damage.why, "files": files.collect::<Vec<_>>()})
}

fn as_json(report: &VerifyReport, share: Option<ProvenShare>) -> Value {
    json!({"status": if report.damage.is_empty() { "done" } else { "failed" }, "snapshots": report.snapshots,
        "containers": report.containers, "bytes-read": report.bytes_read,
        "proven": share.map(|share| json!({"bytes": share.bytes, "of": share.of, "since": share.since.map(words::rfc3339)})),
        "damage": report.damage.iter().map(damage_as_json).collect::<Vec<_>>(), "repaired": 0})
}

/// How much was looked at, and how much of the data is proven now.
pub(super) fn scope(report: &VerifyReport, share: Option<(ProvenShare, i64)>) -> String {
    let mut out = format!(
        "{}, {}, {} read\n",
        words::counted(report.snapshots, "snapshot", "snapshots"),
        words::counted(report.containers, "container", "containers"),
        words::bytes(report.bytes_read)
    );
    if let Some((share, now)) = share.filter(|(share, _)| share.of > 0) {
        let percent = u128::from(share.bytes) * 100 / u128::from(share.of);
        let since = share.since.filter(|since| now - since > 60_000);
        let since = since.map_or(String::new(), |since| format!(" since {}", words::moment(since)));
        out.push_str(&format!("{percent}% of the data proven{since}\n"));
    }
    out
}

fn as_text(
    store: &str,
    (report, share): (&VerifyReport, Option<(ProvenShare, i64)>),
    verbose: bool,
) -> String {
    let mut out = scope(report, share);
    if report.damage.is_empty() {
        out.push_str("no damage\n");
        return out;
    }
    out.push_str(&damage_as_text(&report.damage, verbose));
    let count = report.damage.len() as u64;
    let counted = words::counted(count, "object is damaged", "objects are damaged");
    out.push_str(&format!("{counted}\n"));
    out.push_str(&format!(
        "  → skellin verify {store} --repair repairs it from parity, copies, files or other stores\n"
    ));
    out
}

/// Each damaged object, with the files it touches.
pub(super) fn damage_as_text(all: &[Damage], verbose: bool) -> String {
    let mut out = String::new();
    for damage in all {
        let offset = damage.offset.map_or(String::new(), |offset| format!(" at {offset}"));
        out.push_str(&format!("damage in {}{offset}: {}\n", damage.object, damage.why));
        let shown = if verbose { damage.files.len() } else { damage.files.len().min(10) };
        for file in &damage.files[..shown] {
            out.push_str(&format!(
                "    {} in snapshot {}\n",
                words::path(&file.path),
                file.snapshot.short()
            ));
        }
        match damage.files.len() {
            0 => out.push_str("    no file is lost: snapshots have another good copy\n"),
            many if many > shown => {
                out.push_str(&format!("    and {} more; -v lists them\n", many - shown));
            }
            _ => {}
        }
    }
    out
}
