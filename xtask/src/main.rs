//! `cargo xtask test`, `cargo xtask bench`, `cargo xtask damage`, `cargo xtask faults`, `cargo xtask machine`
//! and `cargo xtask fuzz`.

mod bench;
mod choosing;
mod damage;
mod dependencies;
mod drilled;
mod far;
mod fuzz;
mod growth;
mod inputs;
mod limits;
mod long;
mod machine;
mod made;
mod programs;
mod restored;
mod retained;
mod screen;
mod searched;
mod secrets;
mod simulate;
mod suite;
mod world;

fn main() -> anyhow::Result<()> {
    let mut arguments = std::env::args().skip(1);
    match arguments.next().as_deref() {
        Some("test") => suite::test(),
        Some("bench") => bench::bench(arguments.next().as_deref()),
        // How a measurement measures itself.
        Some("reclaim") => retained::measure(arguments.next(), arguments.next()),
        Some("open") => growth::measure_opening(arguments.next(), arguments.next()),
        Some("damage") => {
            let every = arguments.next();
            damage::damage(every.as_deref(), arguments.next().as_deref() == Some("repair"))
        }
        Some("faults") => suite::faults(),
        Some("simulate") => {
            simulate::simulate(arguments.next().as_deref(), arguments.next().as_deref())
        }
        Some("machine") => machine::machine(),
        Some("dependencies") => dependencies::check(),
        Some("fuzz") => fuzz::fuzz(arguments.next().as_deref()),
        _ => {
            anyhow::bail!(
                "say `cargo xtask test`, `bench [--screen|--rules|--far|--growth|--search|--long|--restore|--drill]`, `damage [EVERY] [repair]`, `faults`, `simulate [COUNT|mistakes] [SEED]`, `machine`, `dependencies` or `fuzz [MINUTES]`"
            )
        }
    }
}

/// Where the workspace is.
fn root() -> std::path::PathBuf {
    let here = std::path::Path::new(env!("CARGO_MANIFEST_DIR"));
    here.parent().unwrap_or(here).to_path_buf()
}

/// Cargo, as it would be called by hand: what it tells the program it runs makes build scripts run
/// again, and all that hangs on them be compiled anew.
fn cargo() -> std::process::Command {
    let mut cargo = std::process::Command::new(env!("CARGO"));
    for (name, _) in std::env::vars_os() {
        let text = name.to_string_lossy();
        if text.starts_with("CARGO_PKG_") || text.starts_with("CARGO_MANIFEST_") {
            cargo.env_remove(&name);
        }
    }
    cargo.current_dir(root());
    cargo
}

/// Prints a line; these are tools for people.
#[expect(clippy::print_stdout, reason = "printing is what these tools are for")]
fn say(line: impl AsRef<str>) {
    println!("{}", line.as_ref());
}
