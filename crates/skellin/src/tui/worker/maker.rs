//! What is being made: places looked around at, secrets put away, stores made, drafts weighed.

use std::path::PathBuf;

use skellin_engine::{
    Advice, Amounts, Cancel, EngineError, Looking, NewStore, Passphrase, Passphrases, Refusal,
    folders_at, keep_secret, measure, mount_points,
};
use skellin_plan::{PlaceSpec, PlanDraft, parse_plan};

use super::{PassphraseAct, PassphrasesNow, Report, Shared, Written};

/// Weighs a draft with each of some rules, and tells them one by one.
pub(super) fn weighed(shared: &Shared, draft: &PlanDraft, variants: Vec<Written>, cancel: &Cancel) {
    for written in variants {
        let amounts = weigh(shared, draft, &written, cancel);
        if matches!(&amounts, Err(error) if error.is_cancelled()) {
            return;
        }
        let (draft, amounts) = (Box::new(draft.clone()), amounts.map_err(Into::into));
        shared.tell(Report::Weighed { draft, written, amounts });
    }
}

/// What lies at a store's place.
pub(super) fn holdings(shared: &Shared, store: String) {
    let opened = shared.store(&store);
    let found = opened.and_then(|store| Ok(store.holdings()?)).map_err(Into::into);
    shared.tell(Report::Holds { store, found });
}

/// Does something with the passphrases of a store.
pub(super) fn change_passphrases(
    shared: &Shared,
    store: String,
    present: Option<Passphrase>,
    act: PassphraseAct,
) {
    let end = passphrases(shared, &store, present, act).map_err(Into::into);
    shared.tell(Report::Passphrases { store, end });
}

/// Looks around where a store may be made.
pub(super) fn around(shared: &Shared, number: u64, store: &NewStore, path: &str, accept: bool) {
    let folders = folders(shared, store, path, accept).map_err(Into::into);
    shared.tell(Report::Folders { number, folders });
}

/// Puts a secret into a file only its owner can read.
pub(super) fn put_away(shared: &Shared, file: PathBuf, secret: &Passphrase, replace: bool) {
    let kept = keep_secret(&file, secret, replace);
    shared.tell(Report::SecretKept(kept.map(|()| file).map_err(Into::into)));
}

/// Makes a store, and tells of each step.
pub(super) fn make(shared: &Shared, store: &NewStore, passphrase: &Passphrase) {
    let told = |step| {
        shared.tell(Report::StoreStep { step });
    };
    let now = jiff::Timestamp::now().as_millisecond();
    let made = store.create(&shared.configuration(), passphrase, now, &told);
    shared.tell(Report::StoreMade(made.map_err(Into::into)));
}

/// How much a draft would include with some rules.
fn weigh(
    shared: &Shared,
    draft: &PlanDraft,
    (rules_from, rules): &Written,
    cancel: &Cancel,
) -> Result<Amounts, EngineError> {
    let with = PlanDraft { rules_from: rules_from.clone(), rules: rules.clone(), ..draft.clone() };
    let refused =
        |problem| EngineError::from(Refusal::NotWritable { problem, advice: Advice::ChangeDraft });
    let text = with.text().map_err(refused)?;
    let variables = |name: &str| std::env::var(name).ok();
    let stores = [draft.store.as_str()];
    let (plan, problems) = parse_plan(&draft.name, "the draft", &text, &variables, stores);
    let Some(plan) = plan else {
        let what = problems.into_iter().next().map(|problem| problem.message);
        return Err(refused(what.unwrap_or_default()));
    };
    let now = jiff::Timestamp::now().as_millisecond();
    let configuration = shared.configuration();
    let (keep_out, source_hosts) = (configuration.keep_out(), &*configuration.source_hosts);
    measure(&Looking { plan: &plan, source_hosts, before: None, keep_out: &keep_out, now }, cancel)
}

/// Does something with the passphrases of a store.
fn passphrases(
    shared: &Shared,
    store: &str,
    present: Option<Passphrase>,
    act: PassphraseAct,
) -> Result<PassphrasesNow, EngineError> {
    let configuration = shared.configuration();
    let now = jiff::Timestamp::now().as_millisecond();
    let open = |present: Option<Passphrase>| {
        let ask = || present.clone().ok_or_else(|| EngineError::NoPassphrase(store.to_owned()));
        Passphrases::open(&configuration, store, &ask)
    };
    let opened = open(present.clone())?;
    let mut is_replaced = false;
    let (done, present) = match act {
        PassphraseAct::List => (None, present),
        PassphraseAct::Add(new, label) => {
            opened.add(&new, label.as_deref(), now)?;
            (Some("passphrase added".to_owned()), present)
        }
        PassphraseAct::Change(new, label) => {
            let changed = opened.change(&new, label.as_deref(), now)?;
            let done = match (&changed.file, changed.is_revoked) {
                (Some(file), _) => format!("passphrase changed, and written to {}", file.display()),
                (None, true) => "passphrase changed".to_owned(),
                (None, false) => {
                    "passphrase added; update where stores.toml reads it from, then revoke the old one"
                        .to_owned()
                }
            };
            is_replaced = changed.is_revoked;
            (Some(done), present.map(|present| if is_replaced { new } else { present }))
        }
        PassphraseAct::Revoke(id) => {
            opened.revoke(&id)?;
            (Some("passphrase revoked".to_owned()), present)
        }
    };
    Ok(PassphrasesNow { done, is_replaced, slots: open(present)?.list()? })
}

fn folders(
    shared: &Shared,
    store: &NewStore,
    path: &str,
    accept: bool,
) -> Result<Vec<String>, EngineError> {
    match &store.draft.place {
        PlaceSpec::Directory(_) => local(path),
        PlaceSpec::Drive(_) => {
            let mounts = mount_points(&shared.configuration().folders);
            Ok(mounts.iter().map(|mount| mount.display().to_string()).collect())
        }
        _ => folders_at(&store.config()?, path, accept),
    }
}

/// Directories of this machine below one.
fn local(path: &str) -> Result<Vec<String>, EngineError> {
    let failed = |error: std::io::Error| EngineError::Local {
        what: "read",
        path: PathBuf::from(path),
        source: error,
    };
    let mut names = Vec::new();
    for entry in std::fs::read_dir(path).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        // What cannot stand in a configuration cannot be chosen.
        if let (true, Some(name)) = (entry.path().is_dir(), entry.file_name().to_str()) {
            names.push(name.to_owned());
        }
    }
    names.sort();
    Ok(names)
}
