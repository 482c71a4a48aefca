//! One object that cannot be read costs what needs it and nothing else: a sector that is lost, or an
//! object of another account.

use crate::common;

use std::{collections::BTreeSet, fs, io, sync::Arc};

use common::{
    Restoring, Running, assert_same, content, create_store, newest, open_store, plan_of, run_at,
    scratch, settle, verify, write,
};
use skellin_engine::RunStatus;
use skellin_place::{
    HookedPlace, MemoryPlace, ObjectName, Operation, Place, PlaceError, PlaceErrorKind,
};

/// A place one object of which cannot be read.
fn deaf(place: MemoryPlace, object: ObjectName, kind: PlaceErrorKind, code: i32) -> HookedPlace {
    HookedPlace::before(Arc::new(place), move |operation, name| {
        if operation != Operation::Read || name != object.as_str() {
            return Ok(());
        }
        let source = Some(io::Error::from_raw_os_error(code));
        Err(PlaceError { operation, subject: name.to_owned(), kind, source, hint: None })
    })
}

#[test]
fn verify_and_restore_go_on_past_what_cannot_be_read() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..60 {
        write(&source.join(format!("{}/{number}", number % 5)), content(2 * number, 14_000));
    }
    settle(&source);
    let memory = MemoryPlace::new();
    create_store(&memory);
    let plan = plan_of(&[&source], "");
    let place: Arc<dyn Place> = Arc::new(memory.clone());
    run_at(&place, &plan, 1_790_000_000_000);
    let objects = memory.names();
    let mut lost_of_data = 0;
    for object in &objects {
        for (kind, code) in [
            (PlaceErrorKind::Failed, rustix::io::Errno::IO.raw_os_error()),
            (PlaceErrorKind::Refused, rustix::io::Errno::ACCESS.raw_os_error()),
        ] {
            let (inner, object) = (memory.fork(), object.clone());
            let deaf: Arc<dyn Place> = Arc::new(deaf(inner, object.clone(), kind, code));
            let report = verify(&deaf);
            assert!(!report.damage.is_empty(), "{object}, {kind:?}");
            let named = report.damage.iter().flat_map(|damage| &damage.files);
            let named: BTreeSet<Vec<u8>> = named.map(|file| file.path.clone()).collect();
            let back = folder.path().join("back");
            let _ = fs::remove_dir_all(&back);
            let store = open_store(&deaf);
            let restored = Restoring::all(&newest(&store), &back).run(&store);
            let missing = restored.exceptions.iter();
            let missing: BTreeSet<Vec<u8>> =
                missing.map(|exception| exception.path.clone()).collect();
            assert_eq!(missing, named, "{object}, {kind:?}");
            if object.folder() == "data" {
                lost_of_data += missing.len();
                assert_eq!(restored.damaged, missing.len() as u64, "{object}: {missing:?}");
            } else {
                assert!(missing.is_empty(), "{object}: there is another copy of it");
                assert_same(&source, &back.join("ridge"));
            }
        }
    }
    assert!(lost_of_data >= 2 * 60, "{lost_of_data}");
    let _ = open_store(&place);
}

#[test]
fn torn_records_of_runs_and_reclaims_are_named_and_cost_nothing() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    for number in 0..12 {
        write(&source.join(format!("{}/{number}", number % 3)), content(number, 9000));
    }
    settle(&source);
    let memory = MemoryPlace::new();
    create_store(&memory);
    let plan = plan_of(&[&source], "");
    let place: Arc<dyn Place> = Arc::new(memory.clone());
    run_at(&place, &plan, 1_790_000_000_000);
    for record in ["runs", "notices", "acks", "revokes", "verdicts", "expired"] {
        let fork = memory.fork();
        let object = ObjectName::new(format!("{record}/{:032x}", 7)).unwrap();
        fork.overwrite(&object, b"torn".to_vec());
        let place: Arc<dyn Place> = Arc::new(fork);
        let report = verify(&place);
        assert!(
            report.damage.iter().any(|damage| damage.object == object.as_str()),
            "{object}: {:?}",
            report.damage
        );
        assert!(report.damage.iter().all(|damage| damage.files.is_empty()), "{object}");
        write(&source.join("new"), content(77, 9000));
        run_at(&place, &plan, 1_790_000_100_000);
        let (store, back) = (open_store(&place), folder.path().join("back"));
        let _ = fs::remove_dir_all(&back);
        Restoring::all(&newest(&store), &back).run(&store);
        assert_same(&source, &back.join("ridge"));
    }
}

#[test]
fn a_record_that_may_not_be_deleted_is_a_note_and_the_run_is_good() {
    let folder = scratch();
    let source = folder.path().join("ridge");
    write(&source.join("gauge.csv"), content(1, 9000));
    settle(&source);
    let memory = MemoryPlace::new();
    create_store(&memory);
    let inner: Arc<dyn Place> = Arc::new(memory.clone());
    let keeping = HookedPlace::before(inner, |operation, name| {
        match operation == Operation::Delete && name.starts_with("runs/") {
            true => Err(PlaceError::new(operation, name, PlaceErrorKind::Refused)),
            false => Ok(()),
        }
    });
    let place: Arc<dyn Place> = Arc::new(keeping);
    let plan = plan_of(&[&source], "");
    for night in 0..3 {
        let running = Running::of(&plan).at(1_790_000_000_000 + night * 86_400_000);
        let report = running.run(&open_store(&place));
        assert_eq!(report.status, RunStatus::Done);
        assert!(running.notes().contains("the snapshot is complete"), "{}", running.notes());
        assert!(!running.notes().contains("was interrupted"), "{}", running.notes());
    }
    assert_eq!(open_store(&place).snapshots().unwrap().len(), 3);
    assert!(verify(&place).damage.is_empty());
}
