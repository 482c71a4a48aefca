//! Plans, stores, moments and schedules from any text.
#![no_main]

use std::path::Path;

use libfuzzer_sys::fuzz_target;
use skellin_plan::{Schedule, parse_duration, parse_plan_reading, parse_size, parse_stores};

fuzz_target!(|text: &str| {
    let with = |name: &str| (name == "HOME").then(|| "/home/keeper".to_owned());
    let read = |path: &Path| match path.file_name() {
        Some(_) => Ok(text.chars().rev().collect()),
        None => Err("it is not there".to_owned()),
    };
    let (plan, problems) = parse_plan_reading("fuzzed", "/p/fuzzed.toml", text, &with, ["oak"], &read);
    assert!(plan.is_some() != problems.iter().any(|_| true));
    problems.iter().for_each(|problem| drop(problem.to_string()));
    let stores = parse_stores("/p/stores.toml", text, &with);
    stores.problems.iter().for_each(|problem| drop(problem.to_string()));
    let _ = (Schedule::parse(text), parse_size(text), parse_duration(text));
});
