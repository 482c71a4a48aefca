//! What is sent when a channel is tried.

use serde_json::json;
use skellin_engine::Message;

use crate::words;

/// A message that says it is a trial.
pub(crate) fn message(channel: &str, machine: &str) -> Message {
    let now = jiff::Timestamp::now().as_millisecond();
    let when = words::moment(now);
    Message {
        id: 0,
        channel: channel.to_owned(),
        plan: String::new(),
        topic: "trial".to_owned(),
        work: None,
        made: now,
        subject: format!("A trial from Skellin on {machine}"),
        body: format!(
            "This is a trial of the channel {channel}, sent {when}. If you can read it, it works.\n"
        ),
        facts: json!({"event": "trial", "machine": machine, "time": words::rfc3339(now)})
            .to_string(),
        tries: 0,
    }
}
