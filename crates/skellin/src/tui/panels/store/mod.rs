//! A new store, step by step: what kind of place, the way there, the directory, the passphrase; then
//! it is made, each step in sight.

mod draw;
mod form;

use std::{collections::HashMap, path::PathBuf};

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
};
use skellin_engine::{NewStore, Passphrase, ReachStep};
use skellin_plan::{StoreDraft, is_plan_name, toml_text};

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    text_field::TextField,
};
use crate::tui::{
    drawn::Drawn,
    model::{List, Model},
    worker::{Report, Request, Trouble},
};
use form::{Ask, KINDS, Kind, asked};

/// The steps, in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Page {
    Kind,
    Way,
    Folder,
    Passphrase,
    Make,
}

const PAGES: [(Page, &str); 5] = [
    (Page::Kind, "kind"),
    (Page::Way, "connection"),
    (Page::Folder, "directory"),
    (Page::Passphrase, "passphrase"),
    (Page::Make, "create"),
];

/// What is asked beside the way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Field {
    First,
    Again,
    Keep,
}

/// How far the making is.
enum Making {
    No,
    Going,
    Done(Result<(), Trouble>),
}

/// A store in the making.
pub(in crate::tui) struct StorePanel {
    home: String,
    config: PathBuf,
    taken: Vec<String>,
    /// Which attempt reports belong to.
    number: u64,
    page: Page,
    kind: usize,
    /// Which of what is asked the keys go to.
    at: usize,
    answers: HashMap<Ask, TextField>,
    secret: TextField,
    /// The file the secret was put into, once it was.
    kept: Option<PathBuf>,
    folder: String,
    folders: Option<Result<Vec<String>, Trouble>>,
    list: List,
    new_folder: TextField,
    passphrase: TextField,
    again: TextField,
    keep: bool,
    field: Field,
    steps: Vec<ReachStep>,
    making: Making,
}

#[derive(Clone, Copy)]
enum Turn {
    On,
    Back,
    Leave,
}

#[derive(Clone, Copy)]
enum Act {
    Up,
    Down,
    PageUp,
    PageDown,
    Next,
    Open,
    Above,
    Accept,
    Change,
    Create,
    PlanFor,
}

use KeyCode::{BackTab, Char, Down, Enter, Esc, Left, PageDown, PageUp, Right, Tab, Up};

const FIRST_STEP: &[Key<Turn>] =
    &[key(&[Tab], "", Turn::On, ""), key(&[Esc], "Esc", Turn::Leave, "leave")];
const STEPS: &[Key<Turn>] = &[
    key(&[Tab], "Tab", Turn::On, "next step"),
    key(&[BackTab], "Shift Tab", Turn::Back, "previous step"),
    key(&[Esc], "Esc", Turn::Leave, "leave"),
];
const LAST_STEP: &[Key<Turn>] = &[
    key(&[BackTab], "Shift Tab", Turn::Back, "previous step"),
    key(&[Esc], "Esc", Turn::Leave, "leave"),
];
const MADE: &[Key<Turn>] = &[key(&[Esc], "Esc", Turn::Leave, "done")];

const KIND_KEYS: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "choose"),
    key(&[Down], "", Act::Down, ""),
    key(&[Enter], "Enter Tab", Act::Next, "next step"),
];
const FIELD_KEYS: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "fields"),
    key(&[Down], "", Act::Down, ""),
    key(&[Enter], "", Act::Next, ""),
];
const KEEP_KEYS: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "fields"),
    key(&[Down], "", Act::Down, ""),
    key(&[Enter], "", Act::Next, ""),
    key(&[Char(' '), Left, Right], "Space", Act::Change, "change"),
];
const FOLDER_KEYS: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "choose"),
    key(&[Down], "", Act::Down, ""),
    key(&[PageUp], "", Act::PageUp, ""),
    key(&[PageDown], "", Act::PageDown, ""),
    key(&[Enter, Right], "Enter →", Act::Open, "open"),
    key(&[Left], "←", Act::Above, "up"),
];
const HOST_KEYS: &[Key<Act>] = &[key(&[Char('k')], "k", Act::Accept, "accept this host key")];
const CREATE_KEYS: &[Key<Act>] = &[key(&[Enter], "Enter", Act::Create, "create")];
const MADE_KEYS: &[Key<Act>] = &[key(&[Enter], "Enter", Act::PlanFor, "new plan for this store")];

impl StorePanel {
    pub fn open(app: &Model) -> Opened {
        Opened::of(Self::new(&app.home, &app.folder, &app.store_names))
    }

    fn new(home: &str, config: &str, taken: &[String]) -> Self {
        Self {
            home: home.to_owned(),
            config: PathBuf::from(config),
            taken: taken.to_vec(),
            number: 0,
            page: Page::Kind,
            kind: 0,
            at: 0,
            answers: HashMap::new(),
            secret: TextField::secret(),
            kept: None,
            folder: String::new(),
            folders: None,
            list: List::default(),
            new_folder: TextField::of("skellin"),
            passphrase: TextField::secret(),
            again: TextField::secret(),
            keep: true,
            field: Field::First,
            steps: Vec::new(),
            making: Making::No,
        }
    }

    fn kind(&self) -> Kind {
        KINDS[self.kind].0
    }

    fn text(&self, ask: Ask) -> String {
        self.answers.get(&ask).map(TextField::text).unwrap_or_default().trim().to_owned()
    }

    /// Where a secret of this store is kept.
    fn file(&self, end: &str) -> PathBuf {
        self.config.join("keys").join(format!("{}.{end}", self.text(Ask::Name)))
    }

    fn asks_for_secret(&self) -> Option<Ask> {
        asked(self.kind()).iter().copied().find(|ask| ask.is_secret())
    }

    /// The file the secret that was typed belongs into.
    fn secret_file(&self) -> Option<PathBuf> {
        let end = match self.asks_for_secret()? {
            Ask::Secret => "credentials",
            _ => "password",
        };
        (!self.secret.is_empty()).then(|| self.file(end))
    }

    /// What stands in that file.
    fn secret_text(&self) -> Passphrase {
        match self.asks_for_secret() {
            Some(Ask::Secret) => {
                let secret = self.secret.text();
                let (id, secret) = (toml_text(&self.text(Ask::Id)), toml_text(&secret));
                Passphrase::new(format!("id = {id}\nsecret = {secret}").into_bytes())
            }
            _ => self.secret.passphrase(),
        }
    }

    /// The directory the store will lie in.
    fn path(&self) -> String {
        let typed = self.new_folder.text();
        let name = typed.trim().trim_matches('/');
        match self.kind() {
            Kind::Drive => name.to_owned(),
            // A full path is meant as it stands, whichever directory is open.
            kind if kind != Kind::S3 && typed.trim().starts_with('/') => format!("/{name}"),
            _ if name.is_empty() => self.folder.clone(),
            _ => form::below(&self.folder, name),
        }
    }

    /// The store as it is so far, at a directory.
    fn store_at(&self, path: &str) -> Result<NewStore, String> {
        let answer = |ask: Ask| self.text(ask);
        let place = form::place(self.kind(), &answer, path)?;
        let secret = self.secret_file();
        let draft = StoreDraft {
            name: self.text(Ask::Name),
            place,
            key_file: self.keep.then(|| self.file("key")),
            access: form::access(self.kind(), &answer, secret.as_deref()),
        };
        let on = (self.kind() == Kind::Drive).then(|| {
            let drive = self.text(Ask::Drives).split_whitespace().next().map(str::to_owned);
            (PathBuf::from(&self.folder), drive)
        });
        Ok(NewStore { draft, on, write_key: true })
    }

    /// Why this page is not done yet, in words.
    fn lacks(&self) -> Option<String> {
        match self.page {
            Page::Way => {
                let name = self.text(Ask::Name);
                let open = asked(self.kind()).iter().copied().filter(|ask| ask.is_needed());
                let missing = |ask: &Ask| match ask.is_secret() {
                    true => self.secret.is_empty(),
                    false => self.text(*ask).is_empty(),
                };
                if let Some(ask) = open.into_iter().find(missing) {
                    return Some(format!("enter the {}", ask.words(self.kind()).0));
                }
                if !is_plan_name(&name) {
                    return Some(format!("`{name}` is not a valid name: use a-z, 0-9, - and _"));
                }
                if self.taken.contains(&name) {
                    return Some(format!("there is already a store `{name}`"));
                }
                self.store_at("/skellin").err()
            }
            Page::Folder => match &self.folders {
                None => Some("wait for the directories".to_owned()),
                Some(Err(_)) => Some("correct the connection first".to_owned()),
                Some(Ok(_)) if self.kind() == Kind::Drive && self.folder.is_empty() => {
                    Some("choose the drive with Enter".to_owned())
                }
                Some(Ok(_)) => self
                    .store_at(&self.path())
                    .and_then(|new| new.config().map(drop).map_err(|error| error.to_string()))
                    .err(),
            },
            Page::Passphrase if self.passphrase.is_empty() => {
                Some("choose a passphrase: a few words".to_owned())
            }
            Page::Passphrase if !self.passphrase.is_same(&self.again) => {
                Some("the two passphrases differ".to_owned())
            }
            _ => None,
        }
    }

    /// The keys of this step.
    fn keys(&self) -> &'static [Key<Act>] {
        match (self.page, &self.making) {
            (Page::Kind, _) => KIND_KEYS,
            (Page::Way, _) => FIELD_KEYS,
            (Page::Folder, _) if self.may_accept() => HOST_KEYS,
            (Page::Folder, _) => FOLDER_KEYS,
            (Page::Passphrase, _) if self.field == Field::Keep => KEEP_KEYS,
            (Page::Passphrase, _) => FIELD_KEYS,
            (Page::Make, Making::Done(Ok(()))) => MADE_KEYS,
            (Page::Make, _) => CREATE_KEYS,
        }
    }

    /// Steps are turned with these keys. What is under way is short, and must not be left half done.
    fn turns(&self) -> &'static [Key<Turn>] {
        match (self.page, &self.making) {
            (Page::Kind, _) => FIRST_STEP,
            (Page::Make, Making::Going) => &[],
            (Page::Make, Making::Done(Ok(()))) => MADE,
            (Page::Make, _) => LAST_STEP,
            _ => STEPS,
        }
    }

    /// The secret that keys go to now.
    fn secret_field(&self) -> Option<&TextField> {
        match (self.page, self.field) {
            (Page::Way, _) => asked(self.kind()).get(self.at)?.is_secret().then_some(&self.secret),
            (Page::Passphrase, Field::First) => Some(&self.passphrase),
            (Page::Passphrase, Field::Again) => Some(&self.again),
            _ => None,
        }
    }

    fn may_accept(&self) -> bool {
        matches!(&self.folders, Some(Err(trouble)) if trouble.new_host)
    }

    fn leave(&mut self) -> Answer {
        let unused = !matches!(self.making, Making::Done(Ok(())));
        // A secret that nothing uses is not left lying about.
        match self.kept.take().filter(|_| unused) {
            Some(file) => Answer::Leave(Request::DropSecret(file)),
            None => Answer::Dismiss,
        }
    }

    /// To the next page or the one before.
    fn turn(&mut self, on: bool) -> Answer {
        if on && self.lacks().is_some() || matches!(self.making, Making::Done(Ok(()))) {
            return Answer::Stay;
        }
        let at = PAGES.iter().position(|(page, _)| *page == self.page).unwrap_or(0);
        let to = if on { (at + 1).min(PAGES.len() - 1) } else { at.saturating_sub(1) };
        self.page = PAGES[to].0;
        (self.at, self.field) = (0, Field::First);
        (self.steps, self.making) = (Vec::new(), Making::No);
        if self.page == Page::Folder && on {
            self.folder = form::start(self.kind(), &self.home);
            return self.go_there();
        }
        Answer::Stay
    }

    /// The first look at the place, with the secret where it can be read from.
    fn go_there(&mut self) -> Answer {
        self.folders = None;
        let Some(file) = self.secret_file() else { return self.browse(false) };
        let replace = self.kept.as_ref() == Some(&file);
        Answer::Ask(Request::KeepSecret { file, secret: self.secret_text(), replace })
    }

    /// Asks what is in the directory.
    fn browse(&mut self, accept: bool) -> Answer {
        self.number += 1;
        self.folders = None;
        let (number, path) = (self.number, self.folder.clone());
        match self.store_at("/skellin") {
            Ok(store) => {
                Answer::Ask(Request::Folders { number, store: Box::new(store), path, accept })
            }
            Err(what) => {
                let hint = Some("correct the input on the page before".to_owned());
                let (passphrase, damage, new_host) = (None, false, false);
                let trouble = Trouble { what, hint, passphrase, damage, new_host };
                self.folders = Some(Err(trouble));
                Answer::Stay
            }
        }
    }

    fn edit_way(&mut self, key: KeyEvent, act: Option<Act>) -> Answer {
        let last = asked(self.kind()).len() - 1;
        match act {
            Some(Act::Up) => self.at = self.at.saturating_sub(1),
            Some(Act::Next) if self.at == last => return self.turn(true),
            Some(_) => self.at = (self.at + 1).min(last),
            None => drop(self.typed().map(|field| field.key(key))),
        }
        Answer::Stay
    }

    fn walk(&mut self, key: KeyEvent, act: Option<Act>) -> Answer {
        let names = match &self.folders {
            Some(Ok(names)) => names.as_slice(),
            _ => &[],
        };
        let (length, page) = (names.len(), self.list.height.max(2) as isize - 1);
        let to = match act {
            Some(Act::Accept) => return self.browse(true),
            Some(Act::Up) => return self.step(-1, length),
            Some(Act::Down) => return self.step(1, length),
            Some(Act::PageUp) => return self.step(-page, length),
            Some(Act::PageDown) => return self.step(page, length),
            Some(Act::Open) => {
                names.get(self.list.selected).map(|name| form::below(&self.folder, name))
            }
            Some(Act::Above) => form::above(&self.folder),
            _ => {
                self.new_folder.key(key);
                return Answer::Stay;
            }
        };
        match to {
            // A drive is chosen, not gone into.
            Some(mount) if self.kind() == Kind::Drive => {
                let name = names.get(self.list.selected).cloned();
                let is_chosen = matches!(act, Some(Act::Open));
                self.folder = name.filter(|_| is_chosen).unwrap_or(mount);
                Answer::Stay
            }
            Some(folder) => {
                self.folder = folder;
                self.browse(false)
            }
            None => Answer::Stay,
        }
    }

    /// What is typed into.
    fn typed(&mut self) -> Option<&mut TextField> {
        match (self.page, self.field) {
            (Page::Way, _) => {
                let ask = *asked(self.kind()).get(self.at)?;
                match ask.is_secret() {
                    true => Some(&mut self.secret),
                    false => Some(self.answers.entry(ask).or_default()),
                }
            }
            (Page::Folder, _) if !self.may_accept() => Some(&mut self.new_folder),
            (Page::Passphrase, Field::First) => Some(&mut self.passphrase),
            (Page::Passphrase, Field::Again) => Some(&mut self.again),
            _ => None,
        }
    }

    fn step(&mut self, by: isize, length: usize) -> Answer {
        self.list.step(by, length);
        Answer::Stay
    }

    fn edit_passphrase(&mut self, key: KeyEvent, act: Option<Act>) -> Answer {
        const FIELDS: [Field; 3] = [Field::First, Field::Again, Field::Keep];
        let at = FIELDS.iter().position(|field| *field == self.field).unwrap_or(0);
        match act {
            Some(Act::Up) => self.field = FIELDS[at.saturating_sub(1)],
            Some(Act::Next) if self.field == Field::Keep => return self.turn(true),
            Some(Act::Change) => self.keep = !self.keep,
            Some(_) => self.field = FIELDS[(at + 1).min(2)],
            None => drop(self.typed().map(|field| field.key(key))),
        }
        Answer::Stay
    }

    fn make(&mut self) -> Answer {
        let Ok(store) = self.store_at(&self.path()) else { return Answer::Stay };
        (self.steps, self.making) = (Vec::new(), Making::Going);
        let passphrase = self.passphrase.passphrase();
        Answer::Ask(Request::MakeStore { store: Box::new(store), passphrase })
    }
}

impl Panel for StorePanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        if matches!(self.making, Making::Going) {
            return Vec::new();
        }
        let mut told = hints(self.keys());
        let turns = hints(self.turns());
        let at = turns.iter().take_while(|(shown, _)| *shown == "Tab").count();
        told.extend_from_slice(&turns[..at]);
        told.extend(self.secret_field().map(TextField::reveal_hint));
        told.extend_from_slice(&turns[at..]);
        told
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        if matches!(self.making, Making::Going) {
            return Answer::Stay;
        }
        match meaning(self.turns(), key) {
            Some(Turn::Leave) => return self.leave(),
            Some(Turn::On) => return self.turn(true),
            Some(Turn::Back) => return self.turn(false),
            None => {}
        }
        let act = meaning(self.keys(), key);
        match (self.page, act) {
            (Page::Kind, Some(Act::Up)) => self.kind = self.kind.saturating_sub(1),
            (Page::Kind, Some(Act::Down)) => self.kind = (self.kind + 1).min(KINDS.len() - 1),
            (Page::Kind, Some(Act::Next)) => return self.turn(true),
            (Page::Way, act) => return self.edit_way(key, act),
            (Page::Folder, act) => return self.walk(key, act),
            (Page::Passphrase, act) => return self.edit_passphrase(key, act),
            (Page::Make, Some(Act::Create)) => return self.make(),
            (Page::Make, Some(Act::PlanFor)) => return Answer::PlanFor(self.text(Ask::Name)),
            (Page::Kind | Page::Make, _) => {}
        }
        Answer::Stay
    }

    fn paste(&mut self, text: &str) -> Answer {
        if let Some(field) = self.typed() {
            field.insert(text);
        }
        Answer::Stay
    }

    fn choose(&mut self, entry: usize) {
        match self.page {
            Page::Kind => self.kind = entry.min(KINDS.len() - 1),
            Page::Folder => self.list.selected = entry,
            Page::Way | Page::Passphrase | Page::Make => {}
        }
    }

    fn report(&mut self, report: Report) -> Heard {
        let answer = match report {
            Report::Folders { number, folders } if number == self.number => {
                self.folders = Some(folders);
                self.list = List::default();
                Answer::Stay
            }
            Report::SecretKept(Ok(file)) => {
                self.kept = Some(file);
                self.browse(false)
            }
            Report::SecretKept(Err(trouble)) => {
                self.folders = Some(Err(trouble));
                Answer::Stay
            }
            Report::StoreStep { step } => {
                self.steps.push(step);
                Answer::Stay
            }
            Report::StoreMade(end) => {
                let is_made = end.is_ok();
                self.making = Making::Done(end);
                if is_made { Answer::Refresh } else { Answer::Stay }
            }
            other => return Heard::Not(Box::new(other)),
        };
        Heard::Taken(answer)
    }

    fn has_to_wait(&self, key: KeyEvent, _app: &Model) -> bool {
        self.page == Page::Folder
            && self.folders.is_none()
            && meaning(FOLDER_KEYS, key).is_some_and(|act| !matches!(act, Act::Above))
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, room: Room) {
        draw::draw(frame, app, drawn, self, room.whole);
    }
}

#[cfg(test)]
mod tests;
