//! Messages carried by a command that made some, or found some waiting.

use skellin_engine::{Configuration, Journal, Post};

use super::{context::Context, error::CliError};

/// Sends what waits, and says what did not go out; work is done whether or not somebody hears of it.
pub(super) fn carry(context: &Context, configuration: &Configuration, journal: Option<&Journal>) {
    let Some(journal) = journal else { return };
    let machine = crate::machine::machine_name();
    match Post::carry(configuration, journal, &machine, &|| jiff::Timestamp::now().as_millisecond())
    {
        Ok(post) => {
            for (channel, why) in post.failed {
                context.progress.say(&format!("note: {channel} not notified yet: {why}"));
            }
        }
        Err(error) => CliError::from(error).report(),
    }
}
