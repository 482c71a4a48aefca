//! Work as a whole: what the journal is told of it, and drafts that become plans.

use crate::common;

use std::{fs, os::unix::fs::PermissionsExt, path::PathBuf, sync::Arc};

use common::{memory_store, open_store, scratch, write};
use skellin_engine::{
    Cancel, Configuration, Draft, EngineError, Event, Journal, MovedClock, NewStore, Orchestrator,
    Outcome, Passphrase, PlanLock, Refusal, RunOptions, RunStatus, Work, trial_store,
};
use skellin_plan::{PlaceSpec, Plan, PlanDraft, StoreDraft};
use skellin_store::Store;
use tempfile::TempDir;

struct World {
    folder: TempDir,
    configuration: Configuration,
}

impl World {
    /// A store in `stores.toml`, and a plan for it.
    fn new() -> Self {
        let folder = scratch();
        let path = |below: &str| folder.path().join(below);
        write(
            &path("config/stores.toml"),
            format!("# ours\n[oak]\nplace = \"{}\"", path("oak").display()),
        );
        write(&path("ridge/notes.md"), "two terns\n");
        write(
            &path("config/plans/readings.toml"),
            format!(
                "sources = [\"{0}/ridge\", \"{0}/card\"]\nstore = \"oak\"\n",
                folder.path().display()
            ),
        );
        let folders = common::folders_below(folder.path());
        let configuration = Configuration::load(folders).unwrap();
        Self { folder, configuration }
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    fn plan(&self) -> &Plan {
        self.configuration.plan_file("readings").unwrap().plan.as_ref().unwrap()
    }

    fn run(
        &self,
        journal: &Journal,
        options: RunOptions<'_>,
        cancel: &Cancel,
        open: impl FnOnce() -> Result<Arc<Store>, EngineError>,
    ) -> Result<skellin_engine::RunReport, EngineError> {
        let orchestrator = Orchestrator {
            configuration: &self.configuration,
            journal: Some(journal),
            machine: "hut",
            clock: &MovedClock::at(1_790_000_000_000),
            cancel,
            events: &|_: Event| {},
        };
        orchestrator.run(self.plan(), options, open)
    }
}

#[test]
fn the_journal_is_told_how_every_run_ended() {
    let world = World::new();
    let journal = Journal::open(&world.configuration.folders.state).unwrap();
    let (_, place) = memory_store();
    let store = open_store(&place);
    let (usual, cancel) = (RunOptions::default(), Cancel::new());
    let open = || Ok(Arc::clone(&store));
    let newest = || journal.entries(None, 1).unwrap().remove(0);

    let rehearsal = RunOptions { dry_run: true, ..usual };
    world.run(&journal, rehearsal, &cancel, open).unwrap();
    assert!(journal.entries(None, 9).unwrap().is_empty(), "a dry run leaves no trace");

    let report = world.run(&journal, usual, &cancel, open).unwrap();
    assert_eq!(report.status, RunStatus::Exceptions);
    let entry = newest();
    assert_eq!(
        (entry.work, entry.outcome, entry.exception_count),
        (Work::Run, Outcome::Exceptions, 1)
    );
    assert_eq!((entry.machine.as_str(), entry.store.as_str()), ("hut", "oak"));
    assert_eq!(entry.snapshot, report.snapshot);
    let exceptions = journal.exceptions(entry.id).unwrap();
    assert!(
        exceptions[0].path.ends_with(b"/card")
            && exceptions[0].cause.words.contains("does not exist")
    );

    write(&world.path("card/logger.log"), "day 1\n");
    world.run(&journal, usual, &cancel, open).unwrap();
    assert_eq!((newest().outcome, newest().files.new), (Outcome::Done, 1));

    let away =
        world.run(&journal, usual, &cancel, || Err(Refusal::NotOpen("oak".to_owned()).into()));
    assert!(away.is_err());
    let entry = newest();
    assert_eq!((entry.outcome, entry.snapshot), (Outcome::Failed, None));
    assert_eq!(
        (entry.words.as_deref(), entry.hint.as_deref()),
        (Some("store oak is not open"), Some("refresh with u"))
    );

    let stopped = Cancel::new();
    stopped.cancel();
    let report = world.run(&journal, usual, &stopped, open).unwrap();
    assert_eq!((report.status, newest().outcome), (RunStatus::Interrupted, Outcome::Interrupted));

    let entries = journal.entries(None, 99).unwrap().len();
    let lock = PlanLock::take(&world.configuration.folders.state, "readings").unwrap();
    let second = world.run(&journal, usual, &cancel, open);
    assert!(matches!(second, Err(EngineError::AlreadyRunning(_))));
    assert_eq!(journal.entries(None, 99).unwrap().len(), entries, "it is the first one's entry");
    drop(lock);
    world.run(&journal, usual, &cancel, open).unwrap();
}

#[test]
fn work_is_done_also_if_the_journal_is_lost_under_way() {
    let world = World::new();
    let journal = Journal::open(&world.configuration.folders.state).unwrap();
    let (_, place) = memory_store();
    let store = open_store(&place);
    let report = world.run(&journal, RunOptions::default(), &Cancel::new(), || {
        let other = world.configuration.folders.state.join("journal.sqlite");
        fs::write(&other, b"rubbish over everything").unwrap();
        Ok(Arc::clone(&store))
    });
    assert!(report.unwrap().snapshot.is_some());
}

fn draft(world: &World) -> Draft {
    let plan = PlanDraft {
        name: "ringing".to_owned(),
        sources: vec![world.path("ridge")],
        store: "elm".to_owned(),
        ..PlanDraft::default()
    };
    let draft = StoreDraft {
        name: "elm".to_owned(),
        place: PlaceSpec::Directory(world.path("elm")),
        key_file: Some(world.path("config/keys/elm.key")),
        access: Vec::new(),
    };
    let store = NewStore { draft, on: None, write_key: true };
    Draft { plan, store: Some(store), known_key: None }
}

#[test]
fn every_mistake_of_a_draft_is_found_before_anything_is_written() {
    let world = World::new();
    let fine = draft(&world).check(&world.configuration);
    assert!(fine.mistakes.is_empty() && fine.plan.is_some(), "{:?}", fine.mistakes);
    type Change = fn(&World, &mut Draft);
    let mistakes: [(Change, &str); 9] = [
        (|_, draft| draft.plan.name = "readings".to_owned(), "there is already a plan `readings`"),
        (|_, draft| draft.plan.name = "No".to_owned(), "`No` is not a valid plan name"),
        (|_, draft| draft.plan.sources.clear(), "the plan has no sources"),
        (|_, draft| draft.plan.sources[0] = "/nowhere/at/all".into(), "No such file"),
        (|_, draft| draft.plan.schedule = "dayly at 9:00".to_owned(), "`dayly` is not a day"),
        (|_, draft| draft.plan.rules = vec!["skpi x".to_owned()], "not `skpi`"),
        (
            |_, draft| draft.store.as_mut().unwrap().draft.name = "oak".to_owned(),
            "there is already a store `oak`",
        ),
        (
            |_, draft| {
                draft.store.as_mut().unwrap().draft.place = PlaceSpec::Directory("elm".into());
            },
            "not a full path",
        ),
        (
            |world, draft| {
                draft.store.as_mut().unwrap().draft.place =
                    PlaceSpec::Directory(world.path("ridge"));
            },
            "is not empty",
        ),
    ];
    for (change, expected) in mistakes {
        let mut draft = draft(&world);
        change(&world, &mut draft);
        let checked = draft.check(&world.configuration);
        assert!(checked.plan.is_none(), "{expected}");
        assert!(
            checked.mistakes.iter().any(|(what, _)| what.contains(expected)),
            "{expected}: {:?}",
            checked.mistakes
        );
    }
    let mut inside = draft(&world);
    inside.store.as_mut().unwrap().draft.place = PlaceSpec::Directory(world.path("ridge/elm"));
    let checked = inside.check(&world.configuration);
    assert!(checked.notes[0].contains("is inside"), "{:?}", checked.notes);
}

#[test]
fn a_draft_becomes_files_and_nothing_that_is_there_is_touched() {
    let world = World::new();
    let before = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    let passphrase = Passphrase::new(b"terns over the pier".to_vec());
    let draft = draft(&world);
    assert!(draft.save(&world.configuration, None, 0).is_err(), "a new store needs a passphrase");
    draft.save(&world.configuration, Some(&passphrase), 1_790_000_000_000).unwrap();
    let stores = fs::read_to_string(world.path("config/stores.toml")).unwrap();
    assert!(stores.starts_with(&before) && stores.contains("\n\n[elm]\n"), "{stores}");
    let key = world.path("config/keys/elm.key");
    assert_eq!(fs::metadata(&key).unwrap().permissions().mode() & 0o777, 0o600);
    assert_eq!(fs::read(&key).unwrap(), b"terns over the pier\n");
    let configuration = Configuration::load(world.configuration.folders.clone()).unwrap();
    assert!(configuration.stores.problems.is_empty());
    assert!(configuration.plan_file("ringing").unwrap().plan.is_some());
    // The same draft again: refused, and the files stay as they are.
    assert!(!draft.check(&configuration).mistakes.is_empty());
    assert!(draft.save(&configuration, Some(&passphrase), 0).is_err());
    assert_eq!(fs::read_to_string(world.path("config/stores.toml")).unwrap(), stores);
    // A plan's file that appeared since the check is not written over.
    let mut other = draft.clone();
    (other.store, other.plan.name) = (None, "late".to_owned());
    write(&world.path("config/plans/late.toml"), "mine");
    assert!(other.save(&configuration, None, 0).is_err());
    assert_eq!(fs::read_to_string(world.path("config/plans/late.toml")).unwrap(), "mine");
    let left =
        fs::read_dir(world.path("config/plans")).unwrap().map(|entry| entry.unwrap().file_name());
    assert_eq!(left.filter(|name| name.to_string_lossy().starts_with('.')).count(), 0);
}

#[test]
fn a_plan_can_be_rehearsed_before_its_store_exists() {
    let world = World::new();
    let plan = draft(&world).check(&world.configuration).plan.unwrap();
    let orchestrator = Orchestrator {
        configuration: &world.configuration,
        journal: None,
        machine: "hut",
        clock: &MovedClock::at(0),
        cancel: &Cancel::new(),
        events: &|_: Event| {},
    };
    let options = RunOptions { dry_run: true, ..RunOptions::default() };
    let report = orchestrator.run::<EngineError>(&plan, options, trial_store).unwrap();
    assert_eq!((report.files.new, report.snapshot), (1, None));
    assert!(!world.path("elm").exists() && !world.path("state").exists());
}
