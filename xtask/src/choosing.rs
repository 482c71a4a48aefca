//! What the rules cost, and what a dry run of a million paths costs.

use std::{
    fs::{self, File},
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, ensure};
use skellin_plan::{NameOnly, RuleSet, Verdict};

use crate::{limits, say, world::Bench};

const PATHS: usize = 1_000_000;

/// So many rules, no two alike, of every kind of pattern.
fn rules(count: usize) -> Result<RuleSet> {
    let text: String = (0..count)
        .map(|number| match number % 5 {
            0 => format!("skip *.kind{number}\n"),
            1 => format!("skip ./series-{number}/raw/\n"),
            2 => format!("take station-{number}/**/*.csv\n"),
            3 => format!("skip cache-{number}/ over 2 GiB\n"),
            _ => format!("skip sheet-[0-9]{number}?.png\n"),
        })
        .collect();
    let (rules, problems) = RuleSet::parse(&text, "measured");
    ensure!(problems.is_empty(), "{problems:?}");
    Ok(rules)
}

/// Time to filter a million paths by so many rules, the best of three; the rules are made ready
/// before.
fn filter(count: usize) -> Result<Duration> {
    let matcher = rules(count)?.matcher(b"/srv", 0).map_err(anyhow::Error::msg)?;
    let mut best = Duration::MAX;
    for _ in 0..3 {
        let begun = Instant::now();
        let (mut taken, mut path) = (0usize, String::new());
        for number in 0..PATHS {
            use std::fmt::Write as _;
            path.clear();
            write!(path, "/srv/series-{}/raw-{}/sheet-{number:07}.png", number % 700, number % 13)?;
            let of = NameOnly { directory: number % 17 == 0 };
            let verdict = matcher.below(Verdict::TAKEN, path.as_bytes(), &of);
            taken += usize::from(verdict.rule.is_none());
        }
        ensure!(taken > 0, "the rules leave nothing");
        best = best.min(begun.elapsed());
    }
    Ok(best)
}

/// Prints the rows.
pub(crate) fn rows(bench: &Bench) -> Result<()> {
    let (few, many) = (filter(10)?, filter(2000)?);
    say(format!(
        "{:<34}{:>16}{:>16}{:>8.2}",
        "a million paths, 2000 rules to 10",
        format!("{:.0} ms", many.as_secs_f64() * 1e3),
        format!("{:.0} ms", few.as_secs_f64() * 1e3),
        many.as_secs_f64() / few.as_secs_f64()
    ));
    let folder = bench.medium.join("million");
    for part in 0..1000 {
        let part = folder.join(format!("part-{part:03}"));
        fs::create_dir_all(&part)?;
        for number in 0..PATHS / 1000 {
            File::create(part.join(format!("record-{number:03}")))?;
        }
    }
    bench.plan("million", &folder)?;
    let cores = std::thread::available_parallelism()?.get();
    let rate = limits::walk(&folder, cores)?;
    let bare = (PATHS + 1001) as f64 / rate;
    let runs =
        (0..3).map(|_| bench.run_with("million", &["--dry-run"])).collect::<Result<Vec<_>>>()?;
    let best = runs.into_iter().min_by_key(|one| one.time).context("a dry run")?;
    say(format!(
        "{:<34}{:>16}{:>16}{:>8.2}{:>8} MiB",
        "dry run of a million paths",
        format!("{:.0} ms", best.time.as_secs_f64() * 1e3),
        format!("{:.0} ms", bare * 1e3),
        best.time.as_secs_f64() / bare,
        best.memory >> 20
    ));
    Ok(fs::remove_dir_all(folder)?)
}
