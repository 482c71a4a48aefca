//! Papers: the journal, the stores as they stand, the configuration, drafts of plans.

use std::{
    fs,
    path::{Path, PathBuf},
};

use skellin_engine::{
    Advice, Amounts, Cancel, Configuration, Draft, EngineError, Examination, Exception, Journal,
    JournalEntry, Looking, Passphrase, PlanFile, Refusal, drive_states, measure, open_place,
    replace_plan_text,
    timers::{Setting, Starter},
};
use skellin_plan::{Plan, RuleSet, StoreConfig};
use skellin_store::Store;

use super::{Details, DraftState, Local, Report, Shared, StoreRow, Trouble, locked};
use crate::{
    machine::{starter, timer_setting},
    words,
};

/// So many paths are looked at in search of what no plan takes; the command looks at more.
const MOST_PATHS: u64 = 100_000;
/// So many entries of the journal are shown.
const ENTRIES: usize = 10_000;
/// Drills of a plan are shown from so long ago on, in milliseconds,
const YEAR: i64 = 366 * 86_400_000;
/// and so many.
const MOST_DRILLS: usize = 500;
/// Of so many of them the exceptions are shown too.
const WITH_EXCEPTIONS: usize = 200;

/// Reads the journal.
pub(super) fn journal(shared: &Shared) {
    let read = shared.journal().and_then(|journal| entries(&journal)).map_err(Into::into);
    shared.tell(Report::Journal(read));
    let Ok(journal) = shared.journal() else { return };
    let since = jiff::Timestamp::now().as_millisecond() - YEAR;
    let configuration = shared.configuration();
    let of = |plan: &PlanFile| {
        let drills = journal.drills(&plan.name, since, MOST_DRILLS).ok()?;
        Some((plan.name.clone(), drills))
    };
    shared.tell(Report::Drills(configuration.plans.iter().filter_map(of).collect()));
}

/// Looks at all stores.
pub(super) fn all_stores(shared: &Shared) {
    shared.tell(Report::Stores(stores(shared)));
}

/// Goes the way to a store's place, step by step.
pub(super) fn reach(shared: &Shared, number: u64, store: &str, accept: bool) {
    let told = |step| {
        shared.tell(Report::ReachStep { number, step });
    };
    let configuration = shared.configuration();
    let end = configuration
        .store(store)
        .and_then(|config| skellin_engine::reach(config, &configuration.folders, accept, &told));
    shared.tell(Report::Reached { number, end: end.map_err(Into::into) });
}

/// Reads what an entry of the journal has beside itself.
pub(super) fn entry(shared: &Shared, id: i64) {
    let details = shared.journal().and_then(|journal| {
        Ok(Details {
            steps: journal.steps(id)?,
            exceptions: journal.exceptions(id)?,
            deliveries: journal.deliveries(id)?,
        })
    });
    shared.tell(Report::Entry { id, details: details.map_err(Into::into) });
}

/// Sends a trial to a channel.
pub(super) fn tell(shared: &Shared, channel: String) {
    let configuration = shared.configuration();
    let end = configuration.channel(&channel).map_err(Trouble::from).and_then(|found| {
        let message = crate::trial::message(&channel, &shared.machine);
        let sent = skellin_engine::send(found, &message, &shared.machine);
        sent.map(|()| found.target()).map_err(|why| Trouble::of_words(why.to_string()))
    });
    shared.tell(Report::Told { channel, end });
}

/// Reads the configuration again.
pub(super) fn configure(shared: &Shared) {
    let folders = locked(&shared.configuration).folders.clone();
    shared.tell(Report::Configuration(match Configuration::load(folders) {
        Ok(configuration) => {
            locked(&shared.configuration).clone_from(&configuration);
            Ok(Box::new(configuration))
        }
        Err(error) => Err(error.into()),
    }));
}

/// Lists a directory of this machine.
pub(super) fn list_local(shared: &Shared, path: PathBuf) {
    let listed = local(&path).map_err(|error| error.to_string());
    shared.tell(Report::Local(path, listed));
}

/// Measures what one more rule would change, unless nobody waits for that any more.
pub(super) fn measured(shared: &Shared, plan: &str, rule: String, cancel: &Cancel) {
    let amounts = effect(shared, plan, &rule, cancel);
    if !matches!(&amounts, Err(error) if error.is_cancelled()) {
        shared.tell(Report::Effect { rule, amounts: amounts.map_err(Into::into) });
    }
}

/// Adds a rule to a plan's file.
pub(super) fn add_rule(shared: &Shared, plan: String, rule: &str) {
    let texts = ready(shared, &plan).and_then(|(file, ready)| {
        let became = added(&file, &ready, rule)?;
        replace_plan_text(&file, &ready.text, &became)?;
        Ok((ready.text, became))
    });
    shared.tell(Report::PlanChanged { plan, texts: texts.map_err(Into::into) });
}

/// Puts other sentences into a plan's `retain`.
pub(super) fn retain(shared: &Shared, plan: String, sentences: &[(Option<usize>, String)]) {
    let texts = ready(shared, &plan).and_then(|(file, ready)| {
        let became = skellin_plan::with_sentences(&ready.text, sentences);
        let became = became.map_err(|problem| not_writable(&file, problem))?;
        replace_plan_text(&file, &ready.text, &became)?;
        Ok((ready.text, became))
    });
    shared.tell(Report::PlanChanged { plan, texts: texts.map_err(Into::into) });
}

/// Gives a plan's file the text it had, if it still is what it became.
pub(super) fn take_back(shared: &Shared, plan: String, was: String, became: String) {
    let texts = ready(shared, &plan).and_then(|(file, _)| {
        replace_plan_text(&file, &became, &was)?;
        Ok((became, was))
    });
    shared.tell(Report::PlanChanged { plan, texts: texts.map_err(Into::into) });
}

/// Looks for mistakes in a draft.
pub(super) fn check_draft(shared: &Shared, draft: &Draft) {
    shared.tell(Report::Checked(Box::new(check(shared, draft))));
}

/// Saves a draft.
pub(super) fn save(shared: &Shared, draft: &Draft, passphrase: Option<&Passphrase>) {
    let now = jiff::Timestamp::now().as_millisecond();
    let saved = draft.save(&shared.configuration(), passphrase, now);
    shared.tell(Report::Saved(saved.map_err(Into::into)));
}

/// A plan without mistakes, and its file.
fn ready(shared: &Shared, name: &str) -> Result<(PathBuf, Plan), EngineError> {
    let configuration = shared.configuration();
    let path = configuration.plan_file(name)?.path.clone();
    Ok((path, configuration.plan_without_mistakes(name)?.clone()))
}

/// A plan's text with one more rule.
fn added(file: &Path, plan: &Plan, rule: &str) -> Result<String, EngineError> {
    skellin_plan::with_rule(&plan.text, rule).map_err(|problem| not_writable(file, problem))
}

fn not_writable(file: &Path, problem: String) -> EngineError {
    Refusal::NotWritable { problem, advice: Advice::EditByHand(file.to_path_buf()) }.into()
}

/// How much is included without and with a rule.
fn effect(
    shared: &Shared,
    name: &str,
    rule: &str,
    cancel: &Cancel,
) -> Result<(Amounts, Amounts), EngineError> {
    let (_, plan) = ready(shared, name)?;
    let (rules, problems) = RuleSet::parse(rule, "the new rule");
    if let Some(problem) = problems.into_iter().next() {
        let hint = problem.hint.unwrap_or_else(|| "change the rule".to_owned());
        let (problem, advice) = (problem.message, Advice::AsTold(hint));
        return Err(Refusal::NotWritable { problem, advice }.into());
    }
    let now = jiff::Timestamp::now().as_millisecond();
    let configuration = shared.configuration();
    let (keep_out, source_hosts) = (configuration.keep_out(), &*configuration.source_hosts);
    let measured = |plan: &Plan| {
        measure(&Looking { plan, source_hosts, before: None, keep_out: &keep_out, now }, cancel)
    };
    let before = measured(&plan)?;
    let mut with = plan;
    with.rules.extend(rules);
    Ok((before, measured(&with)?))
}

/// Examines the whole set-up, unless a newer examination is asked for meanwhile.
pub(super) fn examine(shared: &Shared, cancel: &Cancel) {
    let (configuration, journal) = (shared.configuration(), shared.journal().ok());
    let setting = timer_setting(&configuration).ok();
    let starter = setting.as_ref().map(|setting| starter(setting, journal.as_deref()));
    let examination = Examination {
        configuration: &configuration,
        journal: journal.as_deref(),
        now: jiff::Timestamp::now().as_millisecond(),
        most: MOST_PATHS,
        starter: starter.as_ref(),
        cancel,
    };
    if let Ok(mut found) = examination.findings() {
        found.extend(setting.iter().flat_map(Setting::findings));
        shared.tell(Report::Examined { found, starter: starter.unwrap_or(Starter::Missing) });
    }
}

/// Tells the reasons for a path, line by line, unless others are asked for meanwhile.
pub(super) fn explain(shared: &Shared, plan: &str, path: Vec<u8>, cancel: &Cancel) {
    let reasons = reasons(shared, plan, &path, cancel);
    if !cancel.is_cancelled() {
        shared.tell(Report::Explained { path, reasons: reasons.map_err(Into::into) });
    }
}

fn reasons(
    shared: &Shared,
    plan: &str,
    path: &[u8],
    cancel: &Cancel,
) -> Result<Vec<String>, EngineError> {
    use std::{ffi::OsStr, os::unix::ffi::OsStrExt};
    let (_, plan) = ready(shared, plan)?;
    let now = jiff::Timestamp::now().as_millisecond();
    let path = Path::new(OsStr::from_bytes(path));
    let source_hosts = &shared.configuration().source_hosts;
    let reasons = skellin_engine::explain(&plan, source_hosts, path, now, cancel)?;
    Ok(words::reasons(&plan, &reasons))
}

fn entries(journal: &Journal) -> Result<Vec<(JournalEntry, Vec<Exception>)>, EngineError> {
    let mut kept = Vec::new();
    for (number, entry) in journal.entries(None, ENTRIES)?.into_iter().enumerate() {
        let exceptions = match entry.exception_count {
            0 => Vec::new(),
            _ if number >= WITH_EXCEPTIONS => Vec::new(),
            _ => journal.exceptions(entry.id)?,
        };
        kept.push((entry, exceptions));
    }
    Ok(kept)
}

fn stores(shared: &Shared) -> Vec<StoreRow> {
    let (configuration, journal) = (shared.configuration(), shared.journal().ok());
    let now = jiff::Timestamp::now().as_millisecond();
    let row = |config: &StoreConfig| {
        let place = open_place(config, &configuration.folders);
        let room = place.as_ref().ok().and_then(|place| place.room());
        let header = place.and_then(|place| Store::header_at(&*place).map_err(EngineError::from));
        // One that cannot be reached is not tried twice.
        let opened = header.is_ok().then(|| shared.store(&config.name).ok()).flatten();
        let usage = opened.and_then(|store| store.usage().ok());
        StoreRow {
            name: config.name.clone(),
            place: config.place.to_string(),
            state: header.map(|header| header.store.short()).map_err(|error| Trouble::from(&error)),
            usage: usage.map(|usage| (usage.containers, usage.bytes)),
            room,
            drives: drive_states(config, &configuration.folders, journal.as_deref(), now),
        }
    };
    // One that answers slowly keeps no other waiting longer than itself.
    std::thread::scope(|scope| {
        let configs = configuration.stores.fine.values();
        let looking: Vec<_> = configs.map(|config| scope.spawn(|| row(config))).collect();
        looking.into_iter().filter_map(|row| row.join().ok()).collect()
    })
}

/// What is in a directory: directories first, then by name.
fn local(path: &Path) -> std::io::Result<Vec<Local>> {
    let mut found = Vec::new();
    for entry in fs::read_dir(path)? {
        let entry = entry?;
        let Ok(metadata) = entry.metadata() else { continue };
        let is_directory = metadata.is_dir();
        let size = if is_directory { 0 } else { metadata.len() };
        found.push(Local { name: entry.file_name(), is_directory, size });
    }
    found.sort_by(|a, b| b.is_directory.cmp(&a.is_directory).then_with(|| a.name.cmp(&b.name)));
    Ok(found)
}

fn check(shared: &Shared, draft: &Draft) -> DraftState {
    let configuration = shared.configuration();
    let mut files = Vec::new();
    if let Some(Ok(table)) = draft.store.as_ref().map(|store| store.draft.text()) {
        let file = configuration.folders.config.join("stores.toml");
        files.push((format!("{}, appended", file.display()), table));
    }
    if let Ok(text) = draft.plan.text() {
        files.push((draft.plan_path(&configuration).display().to_string(), text));
    }
    DraftState { checked: draft.check(&configuration), files }
}
