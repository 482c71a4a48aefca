//! Problems where nobody looks: commands still owed, telling that reaches nobody, runs that
//! will not fit.

use jiff::SignedDuration;
use skellin_plan::{Plan, Way};

use super::{Examination, Finding, Weight, wrong};
use crate::{around::owed_leaves, due::Watch, lock::PlanLock, timers::Starter};

impl Examination<'_> {
    /// Whether anything starts the plans that have a schedule.
    pub(super) fn starting(&self, found: &mut Vec<Finding>) {
        let names: Vec<&str> = self
            .plans()
            .filter(|plan| plan.schedule.is_some())
            .map(|plan| plan.name.as_str())
            .collect();
        let (what, hint) = match self.starter {
            _ if names.is_empty() => return,
            None | Some(Starter::Runs(_)) => return,
            Some(Starter::Stopped { what, hint }) => (what.clone(), hint.clone()),
            Some(Starter::Missing) => (
                "nothing starts the scheduled runs on this machine".to_owned(),
                "skellin timers install has systemd or cron start them; without both, keep skellin steward running".to_owned(),
            ),
        };
        let subject = match names.as_slice() {
            [name] => format!("plan {name}"),
            names => format!("plans {}", names.join(", ")),
        };
        found.push(wrong(subject, what, hint));
    }

    /// Commands that a run that ended unexpectedly has left pending.
    pub(super) fn owed(&self, found: &mut Vec<Finding>) {
        let state = &self.configuration.folders.state;
        let owed = owed_leaves(state).into_iter();
        for owed in owed.filter(|owed| PlanLock::take(state, &owed.plan).is_ok()) {
            let commands: Vec<String> =
                owed.commands.iter().map(|command| command.leave.join(" ")).collect();
            let what = format!(
                "a run ended unexpectedly, and its `leave` commands were not run: {}",
                commands.join("; ")
            );
            let hint = "skellin due --run runs them";
            found.push(wrong(format!("plan {}", owed.plan), what, hint));
        }
    }

    /// Whether somebody hears of what goes wrong with a plan that runs by itself.
    pub(super) fn telling(&self, plan: &Plan, found: &mut Vec<Finding>) {
        let subject = format!("plan {}", plan.name);
        let mut add = |what: &str, hint: &str| {
            found.push(Finding {
                weight: Weight::Doubtful,
                subject: subject.clone(),
                what: what.to_owned(),
                hint: hint.to_owned(),
            });
        };
        let channels = &self.configuration.channels.fine;
        let is_ping = |name: &String| {
            channels.get(name).is_some_and(|channel| matches!(channel.way, Way::Ping { .. }))
        };
        let tell = &plan.tell;
        let all_pings = |list: &[String]| !list.is_empty() && list.iter().all(is_ping);
        if all_pings(&tell.failure) || all_pings(&tell.late) {
            add(
                "failure and late go only to a ping, which is requested only after success",
                "use mail, a webhook, a command or the desktop for failure and late",
            );
        }
        let watched = tell.success.iter().any(is_ping);
        if plan.schedule.is_some() && !channels.is_empty() && tell.failure.is_empty() && !watched {
            add(
                "scheduled, and nobody is notified when it fails",
                "add [tell] with failure = […] and late = […]",
            );
        }
    }

    /// Runs to come that will not be done before their window closes.
    pub(super) fn windows(&self, found: &mut Vec<Finding>) {
        let watch = Watch {
            configuration: self.configuration,
            journal: self.journal,
            machine: "",
            booted: None,
        };
        // What cannot be read is found by others.
        for due in watch.plans(self.now).unwrap_or_default() {
            let Some(over) = due.fit.and_then(|fit| fit.over) else { continue };
            let over = over.as_mins().max(1);
            let what = format!("the next run will exceed its window by {over} min");
            let takes = due.takes.map_or(SignedDuration::ZERO, |takes| {
                SignedDuration::try_from_secs_f64(takes.seconds).unwrap_or(SignedDuration::ZERO)
            });
            let hint = format!(
                "it takes about {} min: start it earlier, or widen the window",
                takes.as_mins().max(1)
            );
            found.push(wrong(format!("plan {}", due.plan), what, hint));
        }
    }
}
