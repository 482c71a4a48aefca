//! Why a snapshot stays, and why it goes.

use skellin_plan::retention::{Decision, Reason, Sentence, Unmet};

/// The reasons of a decision in words. `time` says when a snapshot was made, by its number.
#[must_use]
pub fn because(
    decision: &Decision,
    sentences: &[Sentence],
    time: &dyn Fn(usize) -> String,
) -> Vec<String> {
    match decision {
        Decision::Stays(reasons) => {
            reasons.iter().map(|reason| of_reason(reason, sentences)).collect()
        }
        Decision::Goes(unmet) => {
            unmet.iter().map(|unmet| of_unmet(unmet, sentences, time)).collect()
        }
    }
}

fn of_reason(reason: &Reason, sentences: &[Sentence]) -> String {
    match reason {
        Reason::Pinned => "pinned".to_owned(),
        Reason::Newest => "the newest snapshot never expires".to_owned(),
        Reason::NoSentence => "the plan has no `retain`".to_owned(),
        Reason::Sentence(sentence) => sentences[*sentence].to_string(),
        Reason::RoomEnough => "there is room enough".to_owned(),
    }
}

fn of_unmet(unmet: &Unmet, sentences: &[Sentence], time: &dyn Fn(usize) -> String) -> String {
    match unmet {
        Unmet::TooOld { sentence } => format!("{}: it is older", sentences[*sentence]),
        Unmet::Displaced { sentence, by } => {
            format!("{}: that of {} stays", sentences[*sentence], time(*by))
        }
        Unmet::NotAmongNewest { sentence } => {
            format!("{}: enough newer ones", sentences[*sentence])
        }
        Unmet::NotLabelled { sentence } => format!("{}: not labelled", sentences[*sentence]),
        Unmet::Room { sentence } => format!("{}: not reached while it stays", sentences[*sentence]),
    }
}
