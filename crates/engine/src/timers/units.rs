//! Units of systemd (systemd.service(5), systemd.timer(5)).

use std::fmt::Write;

use skellin_plan::Plan;

use super::{MARK, Setting, Unit};

/// What narrows a service down without keeping it from reading what it protects.
const HARDENED: &str = "\
NoNewPrivileges=yes
LockPersonality=yes
MemoryDenyWriteExecute=yes
ProtectClock=yes
ProtectControlGroups=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
SystemCallArchitectures=native
UMask=0077
";
/// Everything else goes first.
const GENTLE: &str = "\
Nice=10
CPUWeight=30
IOWeight=30
IOSchedulingClass=best-effort
IOSchedulingPriority=7
";

/// A word of a command as systemd reads it.
fn word(text: &str) -> String {
    let text = text.replace('%', "%%").replace('$', "$$");
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-=:@%$+,".contains(c);
    match !text.is_empty() && text.chars().all(plain) {
        true => text,
        false => format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")),
    }
}

/// A path in a list of them.
fn path(path: &std::path::Path) -> String {
    format!("-{}", word(&path.display().to_string()))
}

impl Setting<'_> {
    /// A unit for each plan that a calendar can hold, and one that looks for everything else: what
    /// was missed, what is tried again, intervals, drives, what is late.
    #[must_use]
    pub fn units(&self) -> Vec<Unit> {
        let mut units = vec![
            Unit { name: "skellin-look.service".to_owned(), text: self.look_service() },
            Unit { name: "skellin-look.timer".to_owned(), text: look_timer() },
        ];
        for plan in self.configuration.plans.iter().filter_map(|file| file.plan.as_ref()) {
            let Some(timer) = plan_timer(plan) else { continue };
            let name = format!("skellin-plan-{}", plan.name);
            units.push(Unit { name: format!("{name}.service"), text: self.plan_service(plan) });
            units.push(Unit { name: format!("{name}.timer"), text: timer });
        }
        units
    }

    /// The steward as a service.
    #[must_use]
    pub fn steward_units(&self) -> Vec<Unit> {
        let mut text = self.head("steward for all plans", true);
        text.push_str("[Service]\nType=notify\nNotifyAccess=main\nExecReload=/bin/kill -HUP $MAINPID\nWatchdogSec=5min\nRestart=on-failure\nRestartSec=1min\n");
        text.push_str("SuccessExitStatus=143\nKillMode=mixed\nTimeoutStopSec=5min\n");
        text.push_str(&self.command(&["steward"]));
        text.push_str(&self.inside());
        let target = if self.is_root { "multi-user.target" } else { "default.target" };
        let _ = write!(text, "\n[Install]\nWantedBy={target}\n");
        vec![Unit { name: "skellin-steward.service".to_owned(), text }]
    }

    fn head(&self, what: &str, waits_for_network: bool) -> String {
        let mut text = format!("{MARK}\n[Unit]\nDescription=Skellin: {what}\n");
        // The user's manager knows no such target.
        if waits_for_network && self.is_root {
            text.push_str("Wants=network-online.target\nAfter=network-online.target\n");
        }
        text.push('\n');
        text
    }

    fn command(&self, words: &[&str]) -> String {
        let config = self.configuration.folders.config.display().to_string();
        let program = self.program.display().to_string();
        let mut all = vec![program.as_str(), "--quiet", "--config", config.as_str()];
        all.extend(words);
        let all: Vec<String> = all.into_iter().map(word).collect();
        format!("ExecStart={}\n", all.join(" "))
    }

    /// What is the same in each service.
    fn inside(&self) -> String {
        let mut text = String::new();
        for (name, value) in &self.variables {
            let value = value.replace('%', "%%").replace('\\', "\\\\").replace('"', "\\\"");
            let _ = writeln!(text, "Environment=\"{name}={value}\"");
        }
        text.push_str(GENTLE);
        // A user's manager may not do the most of this.
        if self.is_root {
            text.push_str(HARDENED);
            if let Some(written) = self.written() {
                let written: Vec<String> = written.iter().map(|folder| path(folder)).collect();
                let _ =
                    writeln!(text, "ProtectSystem=strict\nReadWritePaths={}", written.join(" "));
            }
        }
        text
    }

    fn one_shot(&self, what: &str, words: &[&str]) -> String {
        let mut text = self.head(what, true);
        text.push_str("[Service]\nType=oneshot\nKillMode=mixed\nTimeoutStopSec=5min\n");
        // Done with exceptions, and run by somebody else right now, are no failures of the service.
        text.push_str("SuccessExitStatus=4 6\n");
        text.push_str(&self.command(words));
        text.push_str(&self.inside());
        text
    }

    fn plan_service(&self, plan: &Plan) -> String {
        self.one_shot(&format!("run of {}", plan.name), &["due", "--run", &plan.name])
    }

    fn look_service(&self) -> String {
        self.one_shot("start what is due, missed or late", &["due", "--run"])
    }
}

/// Looks every five minutes.
fn look_timer() -> String {
    format!(
        "{MARK}\n[Unit]\nDescription=Skellin: looks for start what is due, missed or late\n\n[Timer]\nOnCalendar=*:0/5\nOnBootSec=2min\nPersistent=yes\n\n[Install]\nWantedBy=timers.target\n"
    )
}

/// When a plan's service is started, where a calendar can say so.
fn plan_timer(plan: &Plan) -> Option<String> {
    let zone = plan.zone.as_ref().and_then(|zone| zone.iana_name().map(str::to_owned));
    let moments = plan.schedule.as_ref()?.calendar(zone.as_deref());
    if moments.is_empty() {
        return None;
    }
    let mut text =
        format!("{MARK}\n[Unit]\nDescription=Skellin: timer of {}\n\n[Timer]\n", plan.name);
    for moment in moments {
        let _ = writeln!(text, "OnCalendar={moment}");
    }
    text.push_str("Persistent=yes\nAccuracySec=1s\n\n[Install]\nWantedBy=timers.target\n");
    Some(text)
}
