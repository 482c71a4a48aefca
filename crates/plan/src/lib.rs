//! What should happen.
//!
//! Plan files, store files, rules, and the names of moments: text and facts in, decisions out.
//! Nothing here touches a file, a clock or a network.

mod access;
mod around;
mod calendar;
mod channels;
mod cron;
mod draft;
mod due;
mod edit;
mod fields;
mod forecast;
mod goals;
mod hosts;
mod late;
mod limits;
mod local;
mod path;
mod places;
mod plan;
mod price;
mod problem;
mod proof;
mod retaining;
pub mod retention;
mod rotation;
mod rules;
mod schedule;
mod secret;
mod starting;
mod stores;
mod tell;
mod units;
mod when;

pub use access::{Access, KeySource, Objects};
pub use around::Around;
pub use channels::{Channel, Channels, MailServer, Way, parse_channels};
pub use cron::Cron;
pub use draft::{DraftValue, FORMS, PlanDraft, StoreDraft};
pub use due::{Attempt, Due, Past, Retry, Starting, Why, Window};
pub use edit::{name_pattern, toml_text, with_rule, with_sentences, with_value};
pub use forecast::{
    Effort, Expected, FillChange, Filled, FullIn, Growth, Nights, Spread, expect, filled, nights,
};
pub use goals::Goals;
pub use hosts::{HostConfig, Hosts, parse_hosts};
pub use late::Fit;
pub use limits::Limit;
pub use path::{Expand, PathProblem, expand};
pub use places::{BucketSpec, FarSource, HostSpec, PlaceSpec};
pub use plan::{Compress, Plan, ReadFile, Speed, is_plan_name, parse_plan, parse_plan_reading};
pub use price::Price;
pub use problem::{Problem, Severity, nearest};
pub use proof::{PlanCopyFacts, Proofs, Site, Weakness};
pub use retaining::{PlanCopy, retained_by, stores_named_by};
pub use rotation::{Rotation, Turn};
pub use rules::{
    Action, Explanation, Matcher, NameOnly, OFTEN_SKIPPED, OftenSkipped, PathKind, Query, READY,
    Rule, RuleNote, RuleSet, Traits, Verdict,
};
pub use schedule::{Days, Schedule, Unit};
pub use secret::SecretSource;
pub use stores::{StoreConfig, Stores, parse_access, parse_stores};
pub use tell::{Standing, Tell, Telling, Topic, Trouble, parse_tell, tellings};
pub use units::{parse_duration, parse_size};
pub use when::{SnapshotSpec, SpecError, When};
