//! `restore --plans`: the configuration of a lost machine, from what its snapshots keep.

use serde_json::json;
use skellin_engine::{Fate, lost_configuration, set_up};

use super::RestoreArgs;
use crate::{
    cli::{context::Context, error::CliError},
    exit::Exit,
    words,
};

pub(super) fn restore(context: &Context, args: &RestoreArgs) -> Result<Exit, CliError> {
    let stores = context.stores(&args.which, None)?;
    let [(name, store)] = stores.as_slice() else {
        return Err(CliError::usage(
            "several stores are configured, and each may hold plans",
            "choose one with --store NAME or --place PLACE",
        ));
    };
    let own = crate::machine::machine_name();
    let named = args.which.machine.as_deref();
    let lost = context.attending(&stores, || Ok(lost_configuration(store, named, &own)?))?;
    let fates = set_up(&context.folders, &lost, args.dry_run)?;
    let fate_json = |fate| match fate {
        Fate::Written => "written",
        Fate::Same => "same",
        Fate::Differs => "kept",
    };
    let as_json = || {
        let files =
            fates.iter().map(|(path, fate)| json!({"path": path, "fate": fate_json(*fate)}));
        json!({"machine": lost.machine, "store": name, "plans": lost.plans, "dry-run": args.dry_run,
            "files": files.collect::<Vec<_>>()})
    };
    let as_text = || {
        let what = words::counted(lost.plans.len() as u64, "plan", "plans");
        let mut out = format!("machine {}, {what}: {}\n", lost.machine, lost.plans.join(", "));
        for (path, fate) in &fates {
            let words = match (fate, args.dry_run) {
                (Fate::Written, false) => "written",
                (Fate::Written, true) => "would be written",
                (Fate::Same, _) => "exists, the same",
                (Fate::Differs, _) => "exists with other text: kept",
            };
            out.push_str(&format!("  {}  {words}\n", path.display()));
        }
        if !args.dry_run {
            out.push_str(
                "→ skellin doctor lists what is still missing: passphrase files, keys, mounts\n",
            );
        }
        out
    };
    context.print(as_json, as_text);
    Ok(Exit::Done)
}
