//! Carrying messages: each channel on a thread of its own, so that one that does not answer keeps
//! no other waiting.

use std::{
    collections::{BTreeMap, BTreeSet},
    panic::AssertUnwindSafe,
    time::Duration,
};

use skellin_plan::{Channel, Topic, Way};

use super::{NotSent, desktop, mail, web, words};
use crate::{
    around,
    config::Configuration,
    error::Result,
    journal::{Journal, MENDED, Message, MessageDraft},
    places::SourceHosts,
};

/// So long each step of a delivery may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// So long a program that tells may take.
const PROGRAM: Duration = Duration::from_secs(60);

/// How a delivery went.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Post {
    /// How many messages went out.
    pub sent: usize,
    /// What did not, by channel, and why.
    pub failed: Vec<(String, String)>,
}

impl Post {
    /// Sends what waits in the journal, and notes how each message fared. `now` tells the time.
    ///
    /// # Errors
    /// If the journal cannot be read or written.
    pub fn carry(
        configuration: &Configuration,
        journal: &Journal,
        machine: &str,
        now: &(dyn Fn() -> i64 + Sync),
    ) -> Result<Self> {
        tell_of_mending(configuration, journal, machine, now())?;
        let mut by_channel: BTreeMap<String, Vec<Message>> = BTreeMap::new();
        for message in journal.claim_messages(now())? {
            by_channel.entry(message.channel.clone()).or_default().push(message);
        }
        let carry = |name: &str, messages: Vec<Message>| -> Result<Self> {
            let mut post = Self::default();
            for message in messages {
                let end = match configuration.channel(name) {
                    Ok(channel) => sent(|| send(channel, &message, machine)),
                    Err(error) => Err(NotSent::Channel(error)),
                };
                let end = end.map_err(|why| why.to_string());
                let noted = end.as_ref().copied().map_err(String::as_str);
                journal.note_delivery(&message, noted, now())?;
                let of = format!("{} to {name}", message.subject);
                match end {
                    Ok(()) => {
                        journal.log(now(), &format!("told: {of}"));
                        post.sent += 1;
                    }
                    Err(why) => {
                        journal.log(now(), &format!("not told: {of}: {why}"));
                        post.failed.push((name.to_owned(), why));
                    }
                }
            }
            Ok(post)
        };
        std::thread::scope(|scope| {
            let carrying: Vec<_> = by_channel
                .into_iter()
                .map(|(name, messages)| scope.spawn(move || carry(&name, messages)))
                .collect();
            let mut all = Self::default();
            for one in carrying {
                let lost = |_| {
                    let why = "it ended unexpectedly; this is a bug".to_owned();
                    Ok(Self { sent: 0, failed: vec![("a delivery".to_owned(), why)] })
                };
                let post = one.join().unwrap_or_else(lost)?;
                all.sent += post.sent;
                all.failed.extend(post.failed);
            }
            Ok(all)
        })
    }
}

/// Puts being sent that the journal was damaged and put aside, if nobody was told yet: to whoever is
/// told of failures of any plan.
fn tell_of_mending(
    configuration: &Configuration,
    journal: &Journal,
    machine: &str,
    now: i64,
) -> Result<()> {
    let Some(since) = journal.sign(MENDED)? else { return Ok(()) };
    let plans = configuration.plans.iter();
    let named = plans.flat_map(|file| file.tell.channels(Topic::Failure));
    let is_ping = |name: &str| {
        let channel = configuration.channels.fine.get(name);
        channel.is_some_and(|channel| matches!(channel.way, Way::Ping { .. }))
    };
    let channels: BTreeSet<String> = named.filter(|name| !is_ping(name)).cloned().collect();
    let (subject, body, facts) = words::mended(journal, machine, since);
    let channels = channels.into_iter().collect();
    journal.tell_sign(MENDED, &MessageDraft { channels, subject, body, facts }, now)
}

/// Does a delivery; one that panics has told nobody, and is tried again as any that failed.
fn sent(deliver: impl FnOnce() -> Result<(), NotSent>) -> Result<(), NotSent> {
    std::panic::catch_unwind(AssertUnwindSafe(deliver)).unwrap_or(Err(NotSent::Panicked))
}

/// Sends one message.
///
/// # Errors
/// Why it did not go out, without any secret.
pub fn send(channel: &Channel, message: &Message, machine: &str) -> Result<(), NotSent> {
    match &channel.way {
        Way::Mail { to, from, server, password, ca } => {
            let letter = mail::Letter { to, from: from.as_deref(), machine, message };
            mail::send(&letter, server, password.as_ref(), ca.as_deref(), PATIENCE)
        }
        Way::Webhook { url, key, ca } => {
            web::post(url, key.as_ref(), ca.as_deref(), &message.facts, PATIENCE)
        }
        Way::Ping { url, ca } => web::ping(url, ca.as_deref(), PATIENCE),
        Way::Desktop => desktop::notify(message, PATIENCE),
        Way::Command(words) => {
            let variables = [
                ("SKELLIN_EVENT", message.topic.clone()),
                ("SKELLIN_PLAN", message.plan.clone()),
                ("SKELLIN_SUBJECT", message.subject.clone()),
                ("SKELLIN_MESSAGE", message.body.clone()),
                ("SKELLIN_FACTS", message.facts.clone()),
            ];
            let ended =
                around::run(words, None, &SourceHosts::default(), &variables, PROGRAM, None);
            match ended.fault {
                None => Ok(()),
                Some(fault) => {
                    let said = ended.output.lines().last().unwrap_or_default().to_owned();
                    Err(NotSent::Program { fault, said })
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_delivery_that_panics_has_told_nobody() {
        sent(|| Ok(())).expect("is told");
        let quiet = std::panic::take_hook();
        std::panic::set_hook(Box::new(|_| {}));
        let why = sent(|| panic!("a bug")).expect_err("is not told");
        std::panic::set_hook(quiet);
        assert!(matches!(why, NotSent::Panicked), "{why}");
    }
}
