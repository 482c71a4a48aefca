//! The recovery sheet, read back from paper: by eye, and by a decoder of what a camera sees.

use crate::world;

use std::{fs, path::Path, process::Command};

use world::{World, common::write, private};

fn text_of(pdf: &Path) -> String {
    let output = Command::new("pdftotext").arg("-layout").arg(pdf).arg("-").output().unwrap();
    assert!(output.status.success());
    String::from_utf8(output.stdout).unwrap()
}

/// What a camera reads off the printed page, at so many dots an inch.
fn scanned(pdf: &Path, dots: u32) -> String {
    let output = Command::new("pdftoppm")
        .args(["-gray", "-r", &dots.to_string(), "-singlefile"])
        .arg(pdf)
        .output()
        .unwrap();
    // PGM: a word, width, height, the brightest value, then a byte for each point.
    let mut parts = output.stdout.splitn(4, |byte| *byte == b'\n');
    assert_eq!(parts.next(), Some(b"P5".as_slice()));
    let size = std::str::from_utf8(parts.next().unwrap()).unwrap();
    let size: Vec<usize> = size.split(' ').map(|number| number.parse().unwrap()).collect();
    let points = parts.nth(1).unwrap();
    let mut image = rqrr::PreparedImage::prepare_from_greyscale(size[0], size[1], |x, y| {
        points[y * size[0] + x]
    });
    let grids = image.detect_grids();
    assert_eq!(grids.len(), 1, "one code on the page");
    grids[0].decode().unwrap().1
}

#[test]
fn a_sheet_is_read_back_and_opens_the_store() {
    let world = World::new();
    write(&world.path("ridge/notes.md"), "two terns\n");
    world.usual_plan("");
    world.done(&["run", "readings"]);
    for (number, paper) in [(1, "a4"), (2, "letter")] {
        let pdf = world.path(&format!("sheet-{number}.pdf"));
        let file = pdf.display().to_string();
        let (status, made) =
            world.json(&["store", "sheet", "oak", "--out", &file, "--paper", paper]);
        assert_eq!(status, 0, "{made}");
        let mode =
            std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&pdf).unwrap().permissions());
        assert_eq!(mode & 0o777, 0o600);
        let checked = Command::new("qpdf").arg("--check").arg(&pdf).output().unwrap();
        assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stdout));
        let scan = scanned(&pdf, 150);
        let line = |key: &str| {
            let lines = scan.lines().find_map(|line| line.strip_prefix(key));
            lines.unwrap_or_else(|| panic!("{key} in {scan}")).to_owned()
        };
        let (place, code) = (line("place "), line("code "));
        assert_eq!(place, world.path("oak").display().to_string());
        // The code stands there to be read, too.
        let text = text_of(&pdf);
        let groups: Vec<&str> = code.split(' ').collect();
        assert_eq!(groups.len(), 6);
        assert!(groups.iter().all(|group| text.contains(group)), "{code} in {text}");
        for wanted in [
            "Recovery sheet of store oak",
            "readings of hut",
            "skellin history --place",
            "passphrase revoke oak",
        ] {
            assert!(text.contains(wanted), "{wanted} in {text}");
        }
        // Typed in small letters, the code opens the store.
        write(&world.path("typed"), code.to_lowercase());
        private(&world.path("typed"));
        let typed = world.path("typed").display().to_string();
        let history = world.done(&["history", "--place", &place, "--passphrase-file", &typed]);
        assert!(history.contains("readings"), "{history}");
        // Revoked by what the sheet says, it is worthless.
        let slot = made["added"].as_str().unwrap();
        assert!(text.contains(slot), "{slot} in {text}");
        world.done(&["passphrase", "revoke", "oak", slot, "--yes"]);
        let gone = ["history", "--place", &place, "--passphrase-file", &typed];
        assert_eq!(world.fail(&gone).0, 5);
    }
}

#[test]
fn no_file_is_written_over_and_no_code_is_left_behind() {
    let world = World::new();
    let count = || {
        let (_, listed) = world.json(&["passphrase", "list", "oak"]);
        listed["passphrases"].as_array().unwrap().len()
    };
    write(&world.path("there.pdf"), "notes");
    let there = world.path("there.pdf").display().to_string();
    assert_eq!(world.fail(&["store", "sheet", "oak", "--out", &there]).0, 2);
    assert_eq!(fs::read(world.path("there.pdf")).unwrap(), b"notes");
    let nowhere = world.path("there.pdf/sheet.pdf").display().to_string();
    let (status, _) = world.fail(&["store", "sheet", "oak", "--out", &nowhere]);
    assert_eq!((status, count()), (1, 1), "a code that nobody has seen is taken back");
    let bare = world.path("bare.pdf");
    let (status, made) = world.json(&[
        "store",
        "sheet",
        "oak",
        "--out",
        &bare.display().to_string(),
        "--without-code",
    ]);
    assert!(status == 0 && made["added"].is_null() && count() == 1, "{made}");
    assert!(text_of(&bare).contains("write it here by hand"));
    assert!(!scanned(&bare, 100).contains("code"));
    // One that only restores cannot run.
    let file = world.path("reads.pdf");
    world.done(&["store", "sheet", "oak", "--out", &file.display().to_string(), "--restore-only"]);
    assert!(text_of(&file).contains("restores everything, changes nothing"));
}
