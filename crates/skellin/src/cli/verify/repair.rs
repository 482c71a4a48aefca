//! `verify --repair`: mending what a verification finds.

use std::sync::Arc;

use serde_json::{Value, json};
use skellin_engine::{
    Configuration, Event, EventSink as _, Failure as _, Orchestrator, OtherStore, Repaired,
};
use skellin_store::{DataShare, Store};

use super::{Watch, damage_as_json, damage_as_text, scope};
use crate::{
    cli::{context::Context, error::CliError, reclaim},
    exit::Exit,
    words,
};

pub(super) fn repair(
    context: &Context,
    (configuration, orchestrator): (&Configuration, &Orchestrator<'_>),
    (name, store): (&str, &Arc<Store>),
    share: DataShare,
) -> Result<Exit, CliError> {
    let others = || others(context, configuration, store);
    let watches = (&Watch(context) as _, &reclaim::Watch(context) as _);
    let repaired = orchestrator.repair((name, store), &others, share, watches)?;
    context.progress.event(Event::Ended);
    context.print(|| as_json(&repaired), || as_text(&repaired, context.global.verbose));
    Ok(match (repaired.before.damage.is_empty(), repaired.left().damage.is_empty()) {
        (true, _) => Exit::Done,
        (false, true) => Exit::Exceptions,
        (false, false) => Exit::Damage,
    })
}

/// The other stores that can be opened without asking anybody.
fn others(context: &Context, configuration: &Configuration, own: &Store) -> Vec<OtherStore> {
    let mut found = Vec::new();
    for (name, config) in &configuration.stores.fine {
        if config.passphrase.is_none() {
            continue;
        }
        match context.open_store(configuration, name, false) {
            Ok(store) if store.header().store == own.header().store => {}
            Ok(store) => found.push(OtherStore { name: name.clone(), store }),
            Err(error) => {
                let note = format!("store {name} cannot help: {}", error.words());
                context.progress.event(Event::Note(note));
            }
        }
    }
    found
}

fn is_left(repaired: &Repaired, object: &str) -> bool {
    repaired.left().damage.iter().any(|left| left.object == object)
}

fn as_json(repaired: &Repaired) -> Value {
    let (before, left) = (&repaired.before, repaired.left());
    let status = match (before.damage.is_empty(), left.damage.is_empty()) {
        (true, _) => "done",
        (false, true) => "exceptions",
        (false, false) => "failed",
    };
    let damage = before.damage.iter().map(|damage| {
        let mut value = damage_as_json(damage);
        value["repaired"] = json!(!is_left(repaired, &damage.object));
        value
    });
    let share = repaired.share;
    json!({"status": status, "snapshots": left.snapshots, "containers": left.containers,
        "bytes-read": before.bytes_read + repaired.after.as_ref().map_or(0, |after| after.bytes_read),
        "proven": share.map(|share| json!({"bytes": share.bytes, "of": share.of, "since": share.since.map(words::rfc3339)})),
        "damage": damage.collect::<Vec<_>>(), "repaired": repaired.repaired(), "stored-anew": repaired.stored})
}

fn as_text(repaired: &Repaired, verbose: bool) -> String {
    let now = jiff::Timestamp::now().as_millisecond();
    let share = repaired.share.map(|share| (share, now));
    let Some(after) = &repaired.after else {
        return format!("{}no damage, nothing to repair\n", scope(&repaired.before, share));
    };
    let mut out = damage_as_text(&repaired.before.damage, verbose);
    let counted = words::counted(repaired.repaired(), "object repaired", "objects repaired");
    out.push_str(&format!("{counted}\n"));
    if repaired.stored > 0 {
        let counted = words::counted(repaired.stored, "content", "contents");
        out.push_str(&format!("{counted} stored anew from files or other stores\n"));
    }
    out.push_str(&scope(after, share));
    if after.damage.is_empty() {
        out.push_str("verified again: no damage\n");
        return out;
    }
    out.push_str("\nleft after the repair:\n");
    out.push_str(&damage_as_text(&after.damage, verbose));
    out.push_str("  → nothing here still holds what is lost: bring the missing drive or store back, then repair again\n");
    out
}
