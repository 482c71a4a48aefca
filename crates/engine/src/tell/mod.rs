//! Telling people and programs how things stand with a plan.
//!
//! What is to be told is decided and written down in one go with what lasts from then on; whoever
//! comes first afterwards carries it. So nothing is told twice, nothing is forgotten, and a mail
//! server that does not answer keeps no run waiting.

mod desktop;
mod mail;
mod not_sent;
mod post;
mod web;
mod words;

use skellin_plan::{Plan, Standing, Tell, Topic, Way, tellings};

pub use not_sent::NotSent;
pub use post::{Post, send};
pub use words::Happening;

use crate::{
    config::Configuration,
    error::Result,
    journal::{Journal, MessageDraft},
};

/// The plan something is told of.
#[derive(Clone, Copy, Debug)]
pub struct About<'a> {
    /// Its name.
    pub plan: &'a str,
    /// Its store; empty if that is not known.
    pub store: &'a str,
    /// Who is told of what.
    pub tell: &'a Tell,
}

impl<'a> About<'a> {
    /// Of a plan without mistakes.
    #[must_use]
    pub fn of(plan: &'a Plan) -> Self {
        Self { plan: &plan.name, store: &plan.store, tell: &plan.tell }
    }
}

/// Notes how things stand with a plan now, and puts on their way what is to be told of it; how many
/// messages that are.
///
/// # Errors
/// If the journal cannot be written.
pub fn note_standing(
    configuration: &Configuration,
    journal: &Journal,
    about: &About<'_>,
    standing: Standing,
    happening: &Happening<'_>,
) -> Result<usize> {
    let now = jiff::Timestamp::from_millisecond(happening.now).unwrap_or_default();
    let listeners = |topic| listeners(configuration, about.tell, topic);
    journal.tell(
        about.plan,
        happening.work,
        happening.now,
        |troubles| tellings(troubles, standing, now, &listeners),
        |telling| {
            let (subject, body) = words::message(about, telling, happening);
            let facts = words::facts(about, telling, happening).to_string();
            MessageDraft { channels: telling.channels.clone(), subject, body, facts }
        },
    )
}

/// The channels that are told of a topic. Who watches a ping hears only of what is good: that is what
/// it means.
pub(crate) fn listeners(configuration: &Configuration, tell: &Tell, topic: Topic) -> Vec<String> {
    let is_ping = |channel: &str| {
        let channel = configuration.channels.fine.get(channel);
        channel.is_some_and(|channel| matches!(channel.way, Way::Ping { .. }))
    };
    let fits = |channel: &&String| topic == Topic::Success || !is_ping(channel);
    tell.channels(topic).iter().filter(fits).cloned().collect()
}
