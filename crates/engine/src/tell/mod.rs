//! Telling people and programs how things stand with a plan.
//!
//! What is to be told is decided and written down in one go with what lasts from then on; whoever
//! comes first afterwards carries it. So nothing is told twice, nothing is forgotten, and a mail
//! server that does not answer keeps no run waiting.

mod desktop;
mod mail;
mod post;
mod web;
mod words;

use skellin_plan::{Plan, Standing, Topic, Way, tellings};

pub use post::{Post, send};
pub use words::Happening;

use crate::{
    config::Configuration,
    error::Result,
    journal::{Journal, MessageDraft},
};

/// Notes how things stand with a plan now, and puts on their way what is to be told of it; how many
/// messages that are.
///
/// # Errors
/// If the journal cannot be written.
pub fn note_standing(
    configuration: &Configuration,
    journal: &Journal,
    plan: &Plan,
    standing: Standing,
    happening: &Happening<'_>,
) -> Result<usize> {
    let now = jiff::Timestamp::from_millisecond(happening.now).unwrap_or_default();
    let is_ping = |channel: &str| {
        let channel = configuration.channels.fine.get(channel);
        channel.is_some_and(|channel| matches!(channel.way, Way::Ping { .. }))
    };
    journal.tell(
        &plan.name,
        happening.work,
        happening.now,
        |troubles| tellings(troubles, standing, now),
        |telling| {
            // Who watches a ping hears only of what is good: that is what it means.
            let named = plan.tell.channels(telling.topic).iter();
            let fits = |channel: &&String| telling.topic == Topic::Success || !is_ping(channel);
            let channels: Vec<String> = named.filter(fits).cloned().collect();
            let (subject, body) = words::message(plan, telling, happening);
            let facts = words::facts(plan, telling, happening).to_string();
            (!channels.is_empty()).then_some(MessageDraft { channels, subject, body, facts })
        },
    )
}
