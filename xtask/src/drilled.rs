//! What a drill costs, and how well it foretells a full restore.

use std::path::Path;

use anyhow::{Context as _, Result};

use crate::{say, world::Bench};

/// Prints a row for each of three sources: large noise, large text, small files.
pub(crate) fn rows(bench: &Bench, sources: [(&str, &Path); 3]) -> Result<()> {
    say(format!(
        "{:<24}{:>12}{:>12}{:>8}{:>14}{:>12}",
        "drill", "foretold", "restore", "ratio", "drill took", "of files"
    ));
    for (name, source) in sources {
        let plan = format!("drill-{name}");
        bench.plan(&plan, source)?;
        bench.run(&plan)?;
        // What was written before must not be what the disk is busy with.
        rustix::fs::sync();
        let seconds = |told: &serde_json::Value, key: &str| {
            told[key].as_f64().with_context(|| format!("{key} in {told}"))
        };
        let begun = std::time::Instant::now();
        let sample = bench.json(&["drill", &plan])?;
        let took = begun.elapsed().as_secs_f64();
        let foretold = seconds(&sample, "full-restore-seconds")?;
        let all = bench.json(&["drill", &plan, "--sample", "all"])?;
        let restore = seconds(&all, "full-restore-seconds")?;
        say(format!(
            "{name:<24}{:>10.2} s{:>10.2} s{:>8.2}{:>12.2} s{:>12}   0.75 to 1.25 wanted",
            foretold,
            restore,
            foretold / restore,
            took,
            sample["files"]["compared"].to_string(),
        ));
    }
    Ok(())
}
