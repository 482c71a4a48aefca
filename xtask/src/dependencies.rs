//! What the dependencies keep to, by `deny.toml`: their licences, and that none is there twice.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
};

use anyhow::{Context as _, Result, ensure};
use spdx::{Expression, ParseMode};
use toml_edit::DocumentMut;

use crate::{cargo, root};

/// A package that something of ours is built with.
struct Package {
    name: String,
    version: String,
    license: String,
}

/// Checks licences and doubles without a network; advisories need one, and `cargo deny check`.
pub(crate) fn check() -> Result<()> {
    let text = fs::read_to_string(root().join("deny.toml"))?;
    let file: DocumentMut = text.parse().context("deny.toml is not valid")?;
    let packages = packages()?;
    ensure!(packages.len() > 100, "there are {} packages only", packages.len());
    let mut wrong = unlicensed(&packages, &file)?;
    wrong.extend(doubles(&packages, &file));
    ensure!(wrong.is_empty(), "deny.toml does not allow:\n{}", wrong.join("\n"));
    Ok(())
}

fn packages() -> Result<Vec<Package>> {
    let output = cargo()
        .args(["tree", "--workspace", "--locked", "--edges", "all", "--prefix", "none"])
        .args(["--format", "{p}|{l}"])
        .output()?;
    ensure!(output.status.success(), "cargo tree ended with {}", output.status);
    let lines: BTreeSet<String> =
        String::from_utf8(output.stdout)?.lines().map(str::to_owned).collect();
    let package = |line: &String| {
        let (package, license) = line.trim_end_matches(" (*)").split_once('|')?;
        let mut words = package.split(' ');
        let (name, version) = (words.next()?, words.next()?.trim_start_matches('v'));
        Some(Package {
            name: name.to_owned(),
            version: version.to_owned(),
            license: license.trim().to_owned(),
        })
    };
    Ok(lines.iter().filter_map(package).collect())
}

/// Packages whose licence is not allowed.
fn unlicensed(packages: &[Package], file: &DocumentMut) -> Result<Vec<String>> {
    let allowed = file["licenses"]["allow"].as_array().context("licenses.allow is missing")?;
    let allowed: Vec<&str> = allowed.iter().filter_map(toml_edit::Value::as_str).collect();
    let mut wrong = Vec::new();
    for package in packages {
        let expression = Expression::parse_mode(&package.license, ParseMode::LAX);
        let fits = expression.is_ok_and(|expression| {
            expression.evaluate(|required| {
                required.license.id().is_some_and(|id| allowed.contains(&id.name))
            })
        });
        if !fits {
            wrong.push(format!("{} {}: {}", package.name, package.version, package.license));
        }
    }
    Ok(wrong)
}

/// Packages that are there in several versions, but for those that have to be waited for.
fn doubles(packages: &[Package], file: &DocumentMut) -> Vec<String> {
    let skipped: Vec<(&str, &str)> = file["bans"]["skip"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|skip| skip.as_inline_table()?.get("crate")?.as_str()?.split_once('@'))
        .collect();
    let is_skipped = |package: &Package| {
        skipped.iter().any(|(name, version)| {
            *name == package.name && package.version.starts_with(&format!("{version}."))
        })
    };
    let mut versions: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for package in packages.iter().filter(|package| !is_skipped(package)) {
        versions.entry(&package.name).or_default().insert(&package.version);
    }
    let several = versions.into_iter().filter(|(_, versions)| versions.len() > 1);
    several
        .map(|(name, versions)| {
            format!("{name} in {}", versions.into_iter().collect::<Vec<_>>().join(" and "))
        })
        .collect()
}
