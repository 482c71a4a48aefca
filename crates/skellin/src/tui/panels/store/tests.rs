//! A store being made: what each key asks for, and what is asked of the worker.

use ratatui::crossterm::event::{KeyCode, KeyEvent};

use super::*;
use crate::tui::draw_world;

struct Typing(StorePanel);

impl Typing {
    fn new() -> Self {
        Self(StorePanel::new("/home/keeper", "/etc/skellin", &["oak".to_owned()]))
    }

    fn press(&mut self, code: KeyCode) -> Answer {
        self.0.key(KeyEvent::from(code), &draw_world::app().0.model)
    }

    /// Types texts, each into a field of its own.
    fn fill(&mut self, texts: &[&str]) {
        for (number, text) in texts.iter().enumerate() {
            if number > 0 {
                self.press(Down);
            }
            for c in text.chars() {
                self.press(Char(c));
            }
        }
    }

    /// A panel for a kind, with the way answered.
    fn way(kind: Kind, texts: &[&str]) -> Self {
        let mut typing = Self::new();
        let at = KINDS.iter().position(|(found, ..)| *found == kind).expect("a kind");
        (0..at).for_each(|_| drop(typing.press(Down)));
        typing.press(Enter);
        typing.fill(texts);
        typing
    }

    /// What is wanted once something was found or done.
    fn hear(&mut self, report: Report) -> Answer {
        match self.0.report(report) {
            Heard::Taken(answer) => answer,
            Heard::Not(_) => Answer::Stay,
        }
    }

    fn lacks(&self) -> String {
        self.0.lacks().unwrap_or_default()
    }
}

fn trouble(new_host: bool) -> Trouble {
    let (what, hint) = ("unknown host key".to_owned(), None);
    Trouble { what, hint, passphrase: None, damage: false, new_host }
}

#[test]
fn each_kind_asks_for_what_it_needs() {
    for (kind, lacking) in [
        (Kind::Directory, ""),
        (Kind::Drive, ""),
        (Kind::Sftp, "enter the host"),
        (Kind::S3, "enter the server"),
        (Kind::WebDav, "enter the host"),
        (Kind::Ftp, "enter the host"),
    ] {
        let mut typing = Typing::way(kind, &[]);
        assert_eq!(typing.lacks(), "enter the name");
        typing.fill(&["oak"]);
        let taken = if lacking.is_empty() { "there is already a store `oak`" } else { lacking };
        assert_eq!(typing.lacks(), taken);
        typing.fill(&["-2"]);
        assert_eq!(typing.lacks(), lacking);
        typing.fill(&["!"]);
        let wrong = if lacking.is_empty() { "`oak-2!` is not a valid name" } else { lacking };
        assert!(typing.lacks().starts_with(wrong), "{}", typing.lacks());
    }
}

#[test]
fn a_secret_goes_into_its_file_before_anything_is_asked_of_the_place() {
    let mut typing = Typing::way(Kind::Sftp, &["pier", "pier:2222", "keeper", "", "two terns"]);
    let Answer::Ask(Request::KeepSecret { file, secret, replace }) = typing.press(Tab) else {
        panic!("the secret is kept first")
    };
    assert_eq!(file, PathBuf::from("/etc/skellin/keys/pier.password"));
    assert_eq!((secret.as_slice(), replace), (b"two terns".as_slice(), false));
    let Answer::Ask(Request::Folders { store, path, accept, .. }) =
        typing.hear(Report::SecretKept(Ok(file.clone())))
    else {
        panic!("then it is looked around")
    };
    assert_eq!((path.as_str(), accept), ("~", false));
    let text = store.draft.text().expect("a text");
    assert!(text.contains("sftp://keeper@pier:2222/") && !text.contains("two terns"), "{text}");
    // A new host is accepted by a key of its own, and only then.
    let number = typing.0.number;
    typing.hear(Report::Folders { number, folders: Err(trouble(true)) });
    assert_eq!(typing.lacks(), "correct the connection first");
    assert!(matches!(typing.press(Char('k')), Answer::Ask(Request::Folders { accept: true, .. })));
    // What was asked before is no answer to what is asked now.
    typing.hear(Report::Folders { number, folders: Ok(vec!["old".to_owned()]) });
    assert!(typing.0.folders.is_none());
    let number = typing.0.number;
    typing.hear(Report::Folders { number, folders: Ok(vec!["srv".to_owned()]) });
    assert!(matches!(typing.press(Enter), Answer::Ask(Request::Folders { .. })));
    assert_eq!(typing.0.folder, "~/srv");
    let number = typing.0.number;
    typing.hear(Report::Folders { number, folders: Ok(Vec::new()) });
    typing.press(Char('2'));
    assert_eq!(typing.0.path(), "~/srv/skellin2");
    assert_eq!(typing.lacks(), "");
    let typed = std::mem::replace(&mut typing.0.new_folder, TextField::of("/srv/hut/"));
    assert_eq!(typing.0.path(), "/srv/hut", "a full path is meant as it stands");
    assert_eq!(typing.lacks(), "");
    typing.0.new_folder = typed;
    // Another password, after going back: the file is our own by now.
    typing.press(BackTab);
    for _ in 0..4 {
        typing.press(Down);
    }
    typing.press(Char('!'));
    let answer = typing.press(Tab);
    assert!(matches!(answer, Answer::Ask(Request::KeepSecret { replace: true, .. })));
    let Answer::Leave(Request::DropSecret(unused)) = typing.press(Esc) else {
        panic!("it is left")
    };
    assert_eq!(unused, file);
}

#[test]
fn the_last_step_makes_it_and_offers_a_plan() {
    let mut typing = Typing::way(
        Kind::S3,
        &["offshore", "http://127.0.0.1:8071", "ridge", "north-1", "hut", "a\"b"],
    );
    let Answer::Ask(Request::KeepSecret { secret, .. }) = typing.press(Tab) else {
        panic!("the secret is kept first")
    };
    let text = String::from_utf8_lossy(&secret);
    assert_eq!(text, "id = \"hut\"\nsecret = 'a\"b'");
    typing.hear(Report::SecretKept(Ok("/etc/skellin/keys/offshore.credentials".into())));
    let number = typing.0.number;
    typing.hear(Report::Folders { number, folders: Ok(Vec::new()) });
    typing.press(Tab);
    assert_eq!(typing.lacks(), "choose a passphrase: a few words");
    typing.fill(&["gulls over", "gulls"]);
    assert_eq!(typing.lacks(), "the two passphrases differ");
    typing.fill(&[" over"]);
    typing.press(Tab);
    let Answer::Ask(Request::MakeStore { store, passphrase }) = typing.press(Enter) else {
        panic!("it is made")
    };
    assert_eq!(passphrase.as_slice(), b"gulls over");
    assert_eq!(store.draft.place.to_string(), "s3://ridge/skellin");
    // While it goes on no key does anything, so that it is not left half done.
    assert!(matches!(typing.press(Esc), Answer::Stay));
    typing.hear(Report::StoreMade(Err(trouble(false))));
    assert!(matches!(typing.press(Enter), Answer::Ask(Request::MakeStore { .. })));
    typing.hear(Report::StoreMade(Ok(())));
    let Answer::PlanFor(name) = typing.press(Enter) else { panic!("a plan is offered") };
    assert_eq!(name, "offshore");
    // The secret is used now.
    assert!(matches!(typing.press(Esc), Answer::Dismiss));
}

#[test]
fn a_drive_is_chosen_from_those_that_are_mounted() {
    let mut typing = Typing::way(Kind::Drive, &["ash", "ash-east ash-west", "mondays"]);
    assert!(matches!(typing.press(Tab), Answer::Ask(Request::Folders { .. })));
    let mounts = vec!["/media/a".to_owned(), "/media/b".to_owned()];
    let number = typing.0.number;
    typing.hear(Report::Folders { number, folders: Ok(mounts) });
    assert_eq!(typing.lacks(), "choose the drive with Enter");
    typing.press(Down);
    typing.press(Enter);
    assert_eq!(typing.lacks(), "");
    let store = typing.0.store_at(&typing.0.path()).expect("a store");
    assert_eq!(store.on, Some(("/media/b".into(), Some("ash-east".to_owned()))));
    let text = store.draft.text().expect("a text");
    assert!(text.contains("drives = [\"ash-east\", \"ash-west\"]\nswap = \"mondays\""), "{text}");
}
