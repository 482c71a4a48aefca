//! Making it happen: runs, restores, verifications.
//!
//! The engine draws nothing and asks nobody: clock, cancellation and the taker of its events are
//! handed in.

mod around;
mod cause;
mod clock;
mod compare;
mod config;
pub mod contrast;
mod counts;
mod cursor;
mod depth;
mod doctor;
mod draft;
pub mod drill;
mod due;
mod error;
mod event;
pub mod expire;
mod explain;
mod export;
mod filter;
mod finding;
mod folders;
pub mod history;
mod holds;
mod journal;
mod keeping;
mod kept;
mod lock;
mod locked;
mod mending;
mod metadata;
mod names;
mod new_store;
mod orchestration;
mod ownership;
mod passphrases;
mod path;
pub mod picture;
mod places;
mod preview;
mod refusal;
mod renaming;
mod replicate;
mod restore;
mod run;
mod secrets;
mod size;
mod sources;
mod ssh_config;
mod steward;
mod tell;
mod thaw;
pub mod timers;
mod waits;
mod walk;
mod whole_files;
mod words;

pub use around::{Owed, owed_leaves};
pub use cause::{Cause, CauseKind};
pub use clock::{Cancel, Clock, MovedClock, SystemClock, is_ahead};
pub use compare::{Comparing, Difference, Differing, Hears, Live, Sight};
pub use config::{Configuration, PlanFile};
pub use counts::{ByteCounts, FileCounts};
pub use cursor::FileCursor;
pub use doctor::{Examination, Gap, gaps};
pub use draft::{Checked, Draft, trial_store};
pub use due::{DuePlan, DueStore, Watch, booted, unwish, wish};
pub use error::{EngineError, Result};
pub use event::{Event, EventSink, Exception, Progress, Waited};
pub use explain::{Amounts, Reasons, explain, measure};
pub use export::{ExportReport, ExportRequest, Packing, export};
pub use finding::{Finding, Weight};
pub use folders::Folders;
pub use journal::{
    Beginning, Delivery, DrillRecord, DriveRecord, Ending, Journal, JournalEntry, Mended, Message,
    Outcome, ProvenShare, StepRecord, Work, rules_of_last_run,
};
pub use kept::{Fate, Lost, lost_configuration, plan_of, set_up};
pub use lock::{PlanLock, StewardLock};
pub use mending::OtherStore;
pub use new_store::{NewStore, create_store, folders_at, keep_secret};
pub use orchestration::{
    DrillOptions, ExpireReport, Failure, Held, MayExpire, Orchestrator, ReclaimLimits, Repaired,
    RunAndCopies, RunOptions, Stage, damage_words,
};
pub use passphrases::{Changed, Passphrases};
pub use places::{
    DriveState, DriveStates, MountedDrive, ReachStep, SourceHosts, drive_states, local_directory,
    missing_mount, mount_points, mounted_drives, open_place, open_place_alone, prepare_drive,
    prepare_place, prepare_place_alone, reach, reach_source,
};
pub use preview::{Census, Looking, Part, PreviewEntry, Share, Shares, list_first, list_preview};
pub use refusal::{Advice, Refusal};
pub use renaming::{move_store, rename_plan};
pub use replicate::{NotCopied, ReplicateReport, ReplicateRequest, replicate};
pub use restore::{
    Destination, Existing, Extra, LinkAbove, RestoreReport, RestoreRequest, dated_name, restore,
};
pub use run::{
    Change, Cost, Estimate, Outlook, PathChange, ReadSoFar, RunReport, RunRequest, RunStatus,
    Shrinkage, Surrounding, TellPath, record_damage, run, step_back,
};
pub use secrets::{Passphrase, read_secret, weakness};
pub use steward::{Hands, Job, Look, Steward};
pub use tell::{About, Happening, NotSent, Post, note_standing, send};
pub use thaw::{Frozen, ask_to_thaw, frozen};
pub use waits::attended;
pub use whole_files::replace_plan_text;
pub use words::{remedy, restore_remedy};
