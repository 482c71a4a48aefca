//! Writers, copiers, expirers and reclaimers on one simulated place, in many orders.

use anyhow::{Result, ensure};

use crate::cargo;

/// Runs so many schedules; `mistakes` makes each known mistake instead, until it is noticed.
pub(crate) fn simulate(count: Option<&str>, seed: Option<&str>) -> Result<()> {
    let mut test = cargo();
    test.args(["test", "--locked", "--package", "skellin-store", "--lib", "--"]);
    test.args(["--ignored", "--exact", "--nocapture", "simulation::simulate"]);
    match count {
        Some("mistakes") => {
            test.env("SKELLIN_MISTAKES", "1").env("SKELLIN_SCHEDULES", "20000");
        }
        Some(count) => {
            let count: u64 = count.replace(['_', ' '], "").parse()?;
            test.env("SKELLIN_SCHEDULES", count.to_string());
        }
        None => {}
    }
    if let Some(seed) = seed {
        test.env("SKELLIN_SEED", seed);
    }
    let status = test.status()?;
    ensure!(status.success(), "the simulation ended with {status}");
    Ok(())
}
