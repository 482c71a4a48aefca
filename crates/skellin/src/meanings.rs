//! What people call things: general words of the language and the trade, for the finder and for
//! commands that are none.

/// Words that mean a command, beside its own.
const COMMANDS: &[(&[&str], &str)] = &[
    (
        &["find", "search", "locate", "lookup", "where"],
        "skellin versions PLAN NAME finds a file in all snapshots; skellin tree SNAPSHOT lists one",
    ),
    (
        &["undelete", "recover", "retrieve", "undo", "revert", "extract"],
        "skellin restore SNAPSHOT PATH",
    ),
    (&["backup", "back", "save", "start", "execute", "do", "store-now"], "skellin run PLAN"),
    (
        &["check", "test", "validate", "proof", "prove", "scrub"],
        "skellin plan check checks the plans; skellin verify STORE the data; skellin doctor the set-up",
    ),
    (
        &["delete", "remove", "rm", "erase", "drop", "purge", "free", "clean", "cleanup"],
        "skellin expire PLAN expires what `retain` does not keep; skellin reclaim STORE frees the space; a plan is removed with its file",
    ),
    (
        &["schedule", "cron", "timer", "automatic", "autostart", "enable", "daemon", "service"],
        "skellin timers install starts plans on their schedule; skellin due lists what is next",
    ),
    (
        &["list", "ls", "snapshots", "show"],
        "skellin history lists snapshots; skellin plan list the plans; skellin tree SNAPSHOT the files",
    ),
    (
        &["log", "logs", "status", "report", "results", "errors"],
        "skellin journal lists the runs; skellin due what is next; skellin doctor the problems",
    ),
    (&["cat", "view", "open", "read"], "skellin print SNAPSHOT PATH writes a file to stdout"),
    (
        &["copy", "sync", "mirror", "clone", "duplicate"],
        "skellin replicate STORE STORE copies snapshots to another store",
    ),
    (
        &["init", "setup", "create", "new", "add", "configure"],
        "skellin plan new PATH --store NAME drafts a plan; skellin store create NAME creates a store",
    ),
    (
        &["exclude", "include", "ignore", "filter", "rule", "rules"],
        "rules are in the plan file (skip …, take …); skellin explain PLAN PATH shows the rule that decides",
    ),
    (&["why"], "skellin explain PLAN PATH"),
    (
        &["keep", "retain", "retention"],
        "`retain` in the plan; skellin expire PLAN --dry-run shows what stays",
    ),
    (&["password", "key", "keys", "unlock"], "skellin passphrase list|add|change|revoke STORE"),
    (
        &["diff", "compare", "changes"],
        "skellin run PLAN --dry-run shows pending changes; skellin versions PLAN PATH the versions of a file",
    ),
    (&["rename", "move"], "skellin plan rename PLAN NAME; skellin store move STORE PLACE"),
    (&["connect", "ping", "reach", "connection"], "skellin store reach STORE tests the connection"),
    (&["notify", "mail", "alert"], "skellin tell CHANNEL --test"),
    (
        &["drive", "drives", "disk", "stores", "space", "usage"],
        "skellin store list; skellin store show STORE",
    ),
    (&["problems", "health", "diagnose"], "skellin doctor"),
    (&["gui", "tui", "ui", "browse"], "skellin without a command opens the application"),
];

/// What to use in place of a command that is none.
pub(crate) fn of_command(word: &str) -> Option<&'static str> {
    let word = word.to_lowercase();
    COMMANDS.iter().find(|(words, _)| words.contains(&word.as_str())).map(|(_, hint)| *hint)
}

/// Groups of words for the same thing: who types one means what is called by another.
const ALIKE: &[&[&str]] = &[
    &["restore", "undelete", "recover", "retrieve", "undo a deletion", "deleted", "lost"],
    &["run", "backup", "back up", "start", "save", "execute"],
    &["dry run", "try", "test", "simulate", "preview", "what if"],
    &["find", "search", "locate"],
    &["journal", "log", "history", "runs", "results", "status"],
    &["schedule", "timer", "cron", "next run", "automatic"],
    &["problems", "check", "doctor", "health", "warnings", "errors", "diagnose"],
    &["proof", "verify", "verification", "check", "prove"],
    &["rule", "exclude", "include", "ignore", "skip", "take", "filter", "leave out"],
    &["why", "reason", "explain", "excluded", "included"],
    &["quit", "exit", "close", "leave", "bye"],
    &["help", "keys", "shortcuts", "commands"],
    &["view", "open", "look", "show", "read", "cat"],
    &["version", "older", "newer", "earlier", "before"],
    &["stores", "drives", "disks", "places", "servers"],
    &["space", "size", "usage", "full", "disk"],
    &["connection", "reach", "ping", "network", "login"],
    &["passphrase", "password", "secret", "key"],
    &["refresh", "reload", "update"],
    &["new plan", "add", "create", "protect"],
    &["create a store", "new store", "add a drive", "destination", "target"],
    &["go to", "date", "time", "jump", "calendar", "day"],
    &["undo", "revert", "take back"],
    &["sort", "order"],
    &["filter", "only", "changes", "pending"],
    &["map", "chart", "big", "largest"],
    &["stop", "cancel", "abort", "interrupt"],
    &["zoom", "scale", "closer", "wider"],
];

/// Whether a text is about a word that was typed, by the word itself or by one that means the same.
pub(crate) fn fits(text: &str, word: &str) -> bool {
    let text = text.to_lowercase();
    if text.contains(word) {
        return true;
    }
    // A beginning is enough, as one types.
    let begins = |known: &&str| known.split(' ').any(|part| part.starts_with(word));
    word.len() >= 3
        && ALIKE
            .iter()
            .filter(|group| group.iter().any(begins))
            .any(|group| group.iter().any(|known| known.len() > 2 && text.contains(known)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_word_of_the_trade_leads_somewhere() {
        for word in ["find", "delete", "check", "undelete", "Backup", "schedule", "search", "list"]
        {
            assert!(of_command(word).is_some(), "{word}");
        }
        assert_eq!(of_command("fly"), None);
        // Each word has one meaning.
        let mut all: Vec<&str> =
            COMMANDS.iter().flat_map(|(words, _)| words.iter().copied()).collect();
        let count = all.len();
        all.sort_unstable();
        all.dedup();
        assert_eq!(all.len(), count);
    }

    #[test]
    fn what_means_the_same_fits() {
        for (text, word) in [
            ("restore this path", "undel"),
            ("run now", "backup"),
            ("quit", "exit"),
            ("problems in the set-up", "check"),
            ("write a rule for this path, with preview", "exclude"),
            ("find an action by typing", "search"),
            ("Journal: runs and their results", "log"),
        ] {
            assert!(fits(text, word), "{word} for {text}");
        }
        assert!(!fits("restore this path", "sort") && !fits("quit", "re"));
    }
}
