//! What a dry run foretells, against what the run then does.

use crate::common;

use std::{fs, path::Path};

use common::{Running, content, memory_store, open_store, plan_of, scratch, write};
use skellin_engine::Outlook;

/// A dry run's outlook, and the bytes a run then stored.
fn foretold_and_done(root: &Path, before: &dyn Fn(&Path)) -> (Outlook, u64) {
    let (_, place) = memory_store();
    let plan = plan_of(&[root], "");
    write(&root.join("first"), content(1, 100));
    common::run_at(&place, &plan, 1_790_000_000_000);
    before(root);
    let store = open_store(&place);
    let rehearsed = Running::of(&plan).at(1_790_000_100_000).dry().run(&store);
    let done = Running::of(&plan).at(1_790_000_100_000).run(&open_store(&place));
    assert_eq!(rehearsed.files.new, done.files.new);
    (rehearsed.outlook.unwrap(), done.bytes.stored)
}

#[test]
fn what_would_be_stored_is_told_from_samples() {
    let folder = scratch();
    // A huge file that does not compress, many small ones of text, and one that is there twice.
    let (outlook, stored) = foretold_and_done(&folder.path().join("ridge"), &|root| {
        write(&root.join("render.tif"), content(2, 12 << 20));
        for number in 0..400u64 {
            let text = format!("gauge {number}: 1.82 m, wind from the north\n").repeat(500);
            write(&root.join(format!("notes/{number}.md")), text);
        }
    });
    let range = outlook.stored.low..=outlook.stored.high;
    let near = outlook.stored.stored.abs_diff(stored) * 4 < stored;
    assert!(near && outlook.stored.low > 0, "{outlook:?}, stored {stored}");
    assert!(range.contains(&stored), "{outlook:?}, stored {stored}");
    assert_eq!((outlook.runs, outlook.cost), (0, None));
    assert!(outlook.time.seconds > 0.0);
}

#[test]
fn what_the_store_has_already_costs_next_to_nothing() {
    let folder = scratch();
    let root = folder.path().join("ridge");
    write(&root.join("sheets/a.png"), content(2, 6 << 20));
    let (outlook, stored) = foretold_and_done(&root, &|root| {
        fs::copy(root.join("sheets/a.png"), root.join("copy.png")).unwrap();
        // In the middle of a file samples are cut elsewhere than the file is; that must not show.
        let mut longer = content(4, 10_000);
        longer.extend(fs::read(root.join("sheets/a.png")).unwrap());
        fs::write(root.join("longer.png"), longer).unwrap();
    });
    assert!(outlook.stored.high < 400 << 10, "{outlook:?}, stored {stored}");
    let (outlook, _) = foretold_and_done(&folder.path().join("quiet"), &|_| {});
    assert_eq!((outlook.stored.stored, outlook.stored.high), (0, 0), "nothing to read");
}
