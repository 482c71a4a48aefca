//! Plans that get another name and stores that get another place, with all that belongs to them.

use std::{
    fs,
    path::{Path, PathBuf},
};

use skellin_plan::{PlaceSpec, StoreConfig, is_plan_name, parse_stores, toml_text, with_value};
use skellin_store::Store;

use crate::{
    config::Configuration,
    error::{EngineError, Result},
    journal::Journal,
    lock::PlanLock,
    places::open_place,
    refusal::{Advice, Refusal},
    secrets::Passphrase,
    whole_files::{replace_plan_text, write_whole},
};

fn by_hand(problem: String, file: &Path) -> Refusal {
    Refusal::NotWritable { problem, advice: Advice::EditByHand(file.to_path_buf()) }
}

/// Gives a plan another name; the path of its new file. Its snapshots stay in their series, which the
/// plan names from then on; what the journal knows of it goes with it. Each step leaves a plan that runs.
///
/// # Errors
/// If it has mistakes or is running, if the name is taken or none, or if a file cannot be written.
pub fn rename_plan(
    configuration: &Configuration,
    journal: Option<&Journal>,
    from: &str,
    to: &str,
) -> Result<PathBuf> {
    let plan = configuration.plan_without_mistakes(from)?;
    let file = &configuration.plan_file(from)?.path;
    if !is_plan_name(to) {
        return Err(Refusal::NotAName { of: "plan", name: to.to_owned() }.into());
    }
    let target = file.with_file_name(format!("{to}.toml"));
    if configuration.plans.iter().any(|plan| plan.name == to) || target.exists() {
        return Err(Refusal::NameTaken { of: "plan", name: to.to_owned() }.into());
    }
    let _lock = PlanLock::take(&configuration.folders.state, from)?;
    let failed = |problem| by_hand(problem, file);
    let series = plan.series();
    let text = with_value(&plan.text, None, "series", &toml_text(series)).map_err(failed)?;
    replace_plan_text(file, &plan.text, &text)?;
    fs::rename(file, &target).map_err(|error| EngineError::local("rename", file, error))?;
    if let Some(journal) = journal {
        journal.rename_plan(from, to)?;
    }
    Ok(target)
}

/// Gives a store another place, after a look that the same store is there. `passphrase`: asked for
/// if the old place does not answer, since then only that proves which store it is.
///
/// # Errors
/// If there is another store at the new place or none, or if `stores.toml` cannot be written.
pub fn move_store<E: From<EngineError>>(
    configuration: &Configuration,
    name: &str,
    to: &str,
    passphrase: &dyn Fn(&StoreConfig) -> std::result::Result<Passphrase, E>,
) -> std::result::Result<PlaceSpec, E> {
    let config = configuration.store(name)?;
    let (file, before, text, moved) = moved(configuration, name, to)?;
    let there = open_place(&moved, &configuration.folders)?;
    let found = Store::header_at(&*there).map_err(EngineError::from)?.store;
    let here = open_place(config, &configuration.folders)
        .and_then(|place| Ok(Store::header_at(&*place)?.store));
    match here {
        Ok(known) if known == found => {}
        Ok(_) => {
            let (place, store) = (to.to_owned(), name.to_owned());
            return Err(EngineError::from(Refusal::AnotherStore { place, store }).into());
        }
        Err(_) => {
            let known = passphrase(&moved)?;
            Store::open(there, &known, skellin_store::Cache::None)
                .map_err(|error| EngineError::of_opening(error, name))?;
        }
    }
    replace(&file, &before, &text)?;
    Ok(moved.place)
}

/// `stores.toml` as it is, as it would be with a store's other place, and the store by that.
fn moved(
    configuration: &Configuration,
    name: &str,
    to: &str,
) -> Result<(PathBuf, String, String, StoreConfig)> {
    let file = configuration.folders.config.join("stores.toml");
    let before =
        fs::read_to_string(&file).map_err(|error| EngineError::local("read", &file, error))?;
    let text = with_value(&before, Some(name), "place", &toml_text(to))
        .map_err(|problem| by_hand(problem, &file))?;
    let with = |name: &str| std::env::var(name).ok();
    let mut stores = parse_stores("stores.toml", &text, &with);
    match stores.fine.remove(name) {
        Some(moved) => Ok((file, before, text, moved)),
        None => {
            let what = stores.problems.first().map_or_else(String::new, ToString::to_string);
            Err(by_hand(what, &file).into())
        }
    }
}

/// Names a key file in `stores.toml` for a store that has no passphrase configured.
///
/// # Errors
/// If the file has changed meanwhile, or cannot be written.
pub(crate) fn name_key_file(configuration: &Configuration, store: &str, key: &Path) -> Result<()> {
    let file = configuration.folders.config.join("stores.toml");
    let before =
        fs::read_to_string(&file).map_err(|error| EngineError::local("read", &file, error))?;
    let value = format!("{{ file = {} }}", toml_text(&key.display().to_string()));
    let text = with_value(&before, Some(store), "passphrase", &value)
        .map_err(|problem| by_hand(problem, &file))?;
    replace(&file, &before, &text)
}

fn replace(file: &Path, before: &str, text: &str) -> Result<()> {
    let now = fs::read_to_string(file).map_err(|error| EngineError::local("read", file, error))?;
    if now != before {
        return Err(Refusal::ChangedMeanwhile(file.to_path_buf()).into());
    }
    write_whole(file, text.as_bytes(), 0o644, true)
}
