//! One huge file, cut by all cores at once, against two of half its size.

use std::fs::{self, File};

use anyhow::Result;

use crate::{far::row, inputs, world::Bench};

/// Bytes of each half.
const HALF: u64 = 4 << 30;

pub(crate) fn rows(bench: &Bench) -> Result<()> {
    let (halves, whole) = (bench.folder.join("halves"), bench.folder.join("whole"));
    for folder in [&halves, &whole] {
        fs::create_dir_all(folder)?;
    }
    let parts = [halves.join("first"), halves.join("second")];
    for part in &parts {
        inputs::noise(part, HALF)?;
    }
    let rate = |name: &str, source| -> Result<f64> {
        let store = format!("long-{name}");
        bench.create(&store, &bench.medium)?;
        bench.plan_to(name, source, &store)?;
        let measured = bench.run(name)?;
        fs::remove_dir_all(bench.medium.join(&store))?;
        Ok((2 * HALF) as f64 / measured.time.as_secs_f64())
    };
    let two = rate("halves", &halves)?;
    // There is not memory enough for both.
    let mut file = File::create(whole.join("both"))?;
    for part in &parts {
        std::io::copy(&mut File::open(part)?, &mut file)?;
        fs::remove_file(part)?;
    }
    drop(file);
    let one = rate("whole", &whole)?;
    fs::remove_dir_all(&whole)?;
    row(
        "one file of 8 GiB, to two of 4 GiB",
        format!("{:.2} GB/s", one / 1e9),
        format!("{:.2} GB/s", two / 1e9),
        one / two,
        "at least 0.80",
    );
    Ok(())
}
