//! What was asked for and cannot be done so: a name that nothing has, a file in the way, a choice that
//! is left open.

use std::path::PathBuf;

use skellin_plan::PlaceSpec;

use crate::size::size;

/// Why something cannot be done as it was asked for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Refusal {
    /// No plan has this name.
    #[error("no plan `{name}`")]
    NoPlan {
        /// The name.
        name: String,
        /// The name that is spelled most like it.
        near: Option<String>,
        /// Whether there are plans at all.
        has_any: bool,
        /// Where the configuration lies.
        folder: PathBuf,
    },
    /// No store has this name.
    #[error("no store `{name}`")]
    NoStore {
        /// The name.
        name: String,
        /// The name that is spelled most like it.
        near: Option<String>,
        /// Whether there are stores at all.
        has_any: bool,
        /// Where the configuration lies.
        folder: PathBuf,
    },
    /// No channel has this name.
    #[error("no channel `{name}`")]
    NoChannel {
        /// The name.
        name: String,
        /// The name that is spelled most like it.
        near: Option<String>,
        /// Whether it is there, with mistakes.
        has_mistakes: bool,
        /// The channels there are.
        known: Vec<String>,
        /// Where the configuration lies.
        folder: PathBuf,
    },
    /// A plan's file has mistakes.
    #[error("plan {0} has mistakes")]
    MistakesInPlan(String),
    /// `hosts.toml` has mistakes, and the plan needs it.
    #[error("hosts.toml has mistakes")]
    MistakesInHosts {
        /// The plan.
        plan: String,
    },
    /// What is being drafted has mistakes.
    #[error("{0}")]
    MistakesInDraft(String),
    /// Such a name is not allowed.
    #[error("`{name}` is not a valid {of} name")]
    NotAName {
        /// Of what: `plan`, `store`.
        of: &'static str,
        /// The name.
        name: String,
    },
    /// Something has this name already.
    #[error("there is already a {of} `{name}`")]
    NameTaken {
        /// What has it: `plan`, `store`.
        of: &'static str,
        /// The name.
        name: String,
    },
    /// What a drill would restore does not fit into its scratch directory.
    #[error("a drill needs {} in {}, and {} are free", size(*bytes), path.display(), size(*free))]
    NoRoomToDrill {
        /// The directory.
        path: PathBuf,
        /// Bytes needed.
        bytes: u64,
        /// Bytes free.
        free: u64,
    },
    /// A store was given no name.
    #[error("the store has no name")]
    NoName,
    /// A value that a file of the configuration cannot hold.
    #[error("{problem}")]
    NotWritable {
        /// What is wrong with it.
        problem: String,
        /// What to do.
        advice: Advice,
    },
    /// A file was changed by somebody else since it was read.
    #[error("{} was changed by somebody else in the meantime", .0.display())]
    ChangedMeanwhile(PathBuf),
    /// A file that others wrote stands where one of ours belongs.
    #[error("{} exists and was not written by Skellin", .0.display())]
    NotOurs(PathBuf),
    /// A directory for a new store is not empty.
    #[error("{} is not empty", .0.display())]
    NotEmpty(PathBuf),
    /// A key file that belongs to other stores too.
    #[error("{} is also the key file of {}", file.display(), stores.join(", "))]
    SharedKeyFile {
        /// The file.
        file: PathBuf,
        /// The other stores.
        stores: Vec<String>,
    },
    /// Both names mean one store.
    #[error("both names are the same store")]
    SameStore,
    /// Another store lies where one was moved to.
    #[error("another store is at {place}")]
    AnotherStore {
        /// The place.
        place: String,
        /// The store that was looked for.
        store: String,
    },
    /// A path that is no source.
    #[error("{} is not a source", .0.display())]
    NotASource(PathBuf),
    /// A word that names no host.
    #[error("`{0}` is not a host")]
    NotAHost(String),
    /// A place that is not reached by SSH.
    #[error("{0} is not reached by SSH")]
    NotBySsh(PlaceSpec),
    /// A bucket that `hosts.toml` does not name.
    #[error("bucket {0} is not in hosts.toml")]
    NoBucket(String),
    /// A place of this machine where another host is meant.
    #[error("{0} is not on another host")]
    NotFar(PlaceSpec),
    /// A place that is no drive.
    #[error("the place of {store} is not a drive, but {place}")]
    NotADrive {
        /// The store.
        store: String,
        /// Its place.
        place: PlaceSpec,
    },
    /// A drive that a store does not name.
    #[error("{store} has no drive `{drive}`")]
    NoDrive {
        /// The store.
        store: String,
        /// The drive.
        drive: String,
        /// The name that is spelled most like it.
        near: Option<String>,
    },
    /// One of several drives, and it is not said which.
    #[error("{store} has several drives, and which one this is is not said")]
    WhichDrive {
        /// The store.
        store: String,
        /// Its drives.
        drives: Vec<String>,
    },
    /// Nothing is mounted at a directory.
    #[error("nothing is mounted at {}", .0.display())]
    NothingMounted(PathBuf),
    /// The home directory is not known.
    #[error("no home directory")]
    NoHome {
        /// The variable that says instead where to look.
        variable: &'static str,
    },
    /// The system gives no random numbers.
    #[error("cannot get random numbers: {0}")]
    NoRandomness(String),
    /// No snapshot of the store has such an id.
    #[error("no snapshot id begins with {0}")]
    NoSnapshotId(String),
    /// Several snapshots of the store have such an id.
    #[error("several snapshot ids begin with {0}")]
    SeveralSnapshotIds(String),
    /// No snapshot of a plan is so old.
    #[error("`{plan}` has no snapshot as old as {moment}")]
    NoSnapshotAsOld {
        /// The plan.
        plan: String,
        /// The moment, as people read it.
        moment: String,
    },
    /// A plan has no snapshot in a store.
    #[error("`{0}` has no snapshot in this store")]
    NoSnapshot(String),
    /// A machine has no snapshot of a plan, and others have.
    #[error("machine {machine} has no snapshot of `{plan}`; {} have", others.join(" and "))]
    OtherMachines {
        /// The machine.
        machine: String,
        /// The plan.
        plan: String,
        /// The machines that have some.
        others: Vec<String>,
    },
    /// A snapshot that has gone from the list since.
    #[error("unknown snapshot")]
    SnapshotGone,
    /// A store that is not open in the application.
    #[error("store {0} is not open")]
    NotOpen(String),
    /// A path that a snapshot does not hold.
    #[error("{path} is not in this snapshot")]
    NotInSnapshot {
        /// The path.
        path: String,
        /// The path that is spelled most like it.
        near: Option<String>,
    },
    /// A path that no snapshot of a plan holds.
    #[error("{path} is not in any snapshot of plan `{plan}`")]
    NotInAnySnapshot {
        /// The path.
        path: String,
        /// The plan.
        plan: String,
    },
    /// A name that several paths have.
    #[error("{count} paths are named {name}")]
    SeveralPaths {
        /// How many.
        count: usize,
        /// The name.
        name: String,
        /// The first of them.
        shown: Vec<String>,
    },
    /// A path that several sources hold.
    #[error("{} sources have {name}", .paths.len())]
    SeveralSources {
        /// The path.
        name: String,
        /// What it is in full.
        paths: Vec<String>,
    },
    /// A directory where a file is meant.
    #[error("{0} is not a file")]
    NotAFile(String),
    /// A file of another host, which is compared between snapshots only.
    #[error("{0} lies on another host")]
    LiesElsewhere(String),
    /// No machine of this name has anything in a store.
    #[error("there is no snapshot of machine {0} in this store")]
    NoConfiguration(String),
    /// Several machines have snapshots in a store.
    #[error("the store has snapshots of {} machines", .0.len())]
    SeveralMachines(Vec<String>),
    /// The plan of a snapshot makes no sense any more, so that nobody knows what its rules exclude.
    #[error("the plan of this snapshot cannot be read: {problem}")]
    PlanNotUnderstood {
        /// The plan.
        plan: String,
        /// What is wrong with it.
        problem: String,
    },
    /// What cannot be restored to where it was.
    #[error("{} cannot be restored in place", .0.display())]
    NotInPlace(PathBuf),
}

/// What to do with a value that cannot be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Advice {
    /// Another one.
    ChooseAnother,
    /// The draft has to be changed.
    ChangeDraft,
    /// The file has to be edited by hand.
    EditByHand(PathBuf),
    /// What is said of the mistake itself.
    AsTold(String),
}

fn near_or(near: Option<&String>, other: impl FnOnce() -> String) -> String {
    near.map_or_else(other, |near| format!("did you mean `{near}`?"))
}

impl Refusal {
    /// What to do.
    #[must_use]
    pub fn hint(&self) -> String {
        let told = |words: &str| words.to_owned();
        match self {
            Self::NoPlan { near, has_any, folder, .. } => {
                near_or(near.as_ref(), || match has_any {
                    true => told("skellin plan list shows them"),
                    false => format!(
                        "there are no plans yet: skellin plan new drafts one (or write {}/plans/NAME.toml)",
                        folder.display()
                    ),
                })
            }
            Self::NoStore { near, has_any, folder, .. } => {
                near_or(near.as_ref(), || match has_any {
                    true => told("skellin store list shows them"),
                    false => format!(
                        "there are no stores yet: describe one in {}/stores.toml",
                        folder.display()
                    ),
                })
            }
            Self::NoChannel { near, has_mistakes, known, folder, .. } => {
                near_or(near.as_ref(), || match (has_mistakes, known.as_slice()) {
                    (true, _) => told("it has mistakes: skellin plan check lists them"),
                    (false, []) => format!("describe one in {}/channels.toml", folder.display()),
                    (false, known) => format!("there are {}", known.join(", ")),
                })
            }
            Self::MistakesInPlan(plan) | Self::MistakesInHosts { plan } => {
                format!("skellin plan check {plan}")
            }
            Self::MistakesInDraft(_) => told("see the review, and change the draft"),
            Self::NotAName { .. } => told("use a-z, 0-9, - and _"),
            Self::NameTaken { of: "store", .. } => told("choose another name, or use that store"),
            Self::NameTaken { .. } => told("choose another name"),
            Self::NoName => told("give it one"),
            Self::NotWritable { advice, .. } => match advice {
                Advice::ChooseAnother => told("choose another path"),
                Advice::ChangeDraft => told("change the draft"),
                Advice::EditByHand(file) => format!("edit {} by hand", file.display()),
                Advice::AsTold(hint) => hint.clone(),
            },
            Self::ChangedMeanwhile(_) => told("look at it as it is now, then try again"),
            Self::NotOurs(_) => told("move it away, then try again"),
            Self::NotEmpty(_) => {
                told("choose an empty directory; it is created if it does not exist")
            }
            Self::SharedKeyFile { .. } => {
                told("give them a key file of their own in stores.toml first")
            }
            Self::SameStore => told("name two stores: skellin replicate oak pier"),
            Self::AnotherStore { store, .. } => {
                format!("copy the store {store} there first, completely")
            }
            Self::NotASource(_) => told("give a full path, or sftp://host/path for another host"),
            Self::NotAHost(_) => told("name it as a source does: on = \"mast\""),
            Self::NotBySsh(_) => told("use a host that is"),
            Self::NoBucket(name) => {
                format!("add [{name}] with endpoint = \"https://…\" and credentials")
            }
            Self::NotFar(_) => told("give its full path"),
            Self::NotADrive { .. } => told("leave --on out"),
            Self::NoDrive { drive, near, .. } => near_or(near.as_ref(), || {
                format!("name it in stores.toml: drives = [\"{drive}\", …]")
            }),
            Self::WhichDrive { drives, .. } => {
                format!("add --drive {}", drives.join(" or --drive "))
            }
            Self::NothingMounted(_) => {
                told("mount the drive, and name the directory it is mounted at")
            }
            Self::NoHome { variable } => format!("set HOME or {variable}"),
            Self::NoRandomness(_) => told("try again later"),
            Self::NoSnapshotId(_) | Self::NoSnapshotAsOld { .. } | Self::NoSnapshot(_) => {
                told("skellin history lists all snapshots")
            }
            Self::SeveralSnapshotIds(_) => told("give more digits"),
            Self::OtherMachines { .. } => told("choose with --machine NAME"),
            Self::SnapshotGone | Self::NotOpen(_) => told("refresh with u"),
            Self::NotInSnapshot { near, .. } => match near {
                Some(near) => format!("did you mean {near}?"),
                None => told(
                    "give a full path, or one that begins with a source name; skellin tree lists them",
                ),
            },
            Self::NotInAnySnapshot { .. } => {
                told("give the full path, a path below a source, or a name")
            }
            Self::SeveralPaths { count, shown, .. } => {
                let more = if *count > shown.len() { ", …" } else { "" };
                format!("choose one: {}{more}", shown.join(", "))
            }
            Self::SeveralSources { paths, .. } => format!("choose one: {}", paths.join(", ")),
            Self::NotAFile(_) => told("skellin tree lists a directory"),
            Self::LiesElsewhere(_) => told("compare two snapshots: ← and →"),
            Self::NoConfiguration(_) => told("skellin history --place … lists the machines"),
            Self::SeveralMachines(machines) => {
                format!("choose with --machine: {}", machines.join(", "))
            }
            Self::PlanNotUnderstood { .. } => told(
                "restore without --extra remove; or put the files in place that the plan names",
            ),
            Self::NoRoomToDrill { .. } => {
                told("name a directory with more room: --scratch DIR, or a smaller --sample")
            }
            Self::NotInPlace(_) => told("restore it elsewhere with --to DIR"),
        }
    }
}
