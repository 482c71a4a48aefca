//! A plan: one backup written down.

use std::{
    ops::Range,
    path::{Path, PathBuf},
};

use jiff::tz::TimeZone;

use crate::{
    around::{self, Around},
    due::Starting,
    fields::{Fields, Reading},
    goals::{self, Goals},
    path::{Expand, expand},
    places::FarSource,
    problem::{Problem, nearest},
    retaining::{self, PlanCopy},
    retention::Sentence,
    rules::{READY, RuleSet},
    schedule::Schedule,
    starting,
    tell::{self, Tell},
};

/// How hard content is compressed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Compress {
    /// Not at all.
    Off,
    /// Quickly.
    Fast,
    /// The usual way.
    #[default]
    Default,
    /// As small as is sensible.
    High,
}

/// How hard a run works.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Speed {
    /// Behind everything else that wants the processor or the disk.
    Quiet,
    /// As hard as it can.
    Normal,
}

/// One backup written down.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Its name, which is that of its file.
    pub name: String,
    /// What it is for.
    pub about: Option<String>,
    /// Files and directories to protect: full paths of this machine, and such of other hosts with
    /// the host before them ([`FarSource`]).
    pub sources: Vec<PathBuf>,
    /// Name of the store.
    pub store: String,
    /// Labels every snapshot gets.
    pub labels: Vec<String>,
    /// The name its snapshots are kept under, where that is not its own: it was renamed since.
    pub series: Option<String>,
    /// The machine's name, if it is not to be the real one.
    pub machine: Option<String>,
    /// What is included and what is not.
    pub rules: RuleSet,
    /// How hard to compress.
    pub compress: Compress,
    /// Number of threads that read, if set by hand.
    pub readers: Option<u32>,
    /// How large a share of the files may vanish or change at once before a run stops and asks,
    /// in percent; `None` if it never does.
    pub shrink: Option<u8>,
    /// When it runs.
    pub schedule: Option<Schedule>,
    /// How it is started beside and around that.
    pub starting: Starting,
    /// The time zone its schedule is in, if it is not the machine's.
    pub zone: Option<TimeZone>,
    /// How long its snapshots stay; without a sentence none expires.
    pub retain: Vec<Sentence>,
    /// Where its snapshots are copied to after a run.
    pub copies: Vec<PlanCopy>,
    /// Commands before its sources are read, and after, in their order.
    pub around: Vec<Around>,
    /// Who is told of what.
    pub tell: Tell,
    /// What Proof measures it against.
    pub goals: Goals,
    /// How hard it works; if this is missing, hard by hand and gently when it starts by itself.
    pub speed: Option<Speed>,
    /// The file's text.
    pub text: String,
}

impl Plan {
    /// The name its snapshots are kept under in stores.
    #[must_use]
    pub fn series(&self) -> &str {
        self.series.as_deref().unwrap_or(&self.name)
    }

    /// The stores its snapshots are copied to after a run.
    pub fn replicas(&self) -> impl Iterator<Item = &str> {
        self.copies.iter().map(|copy| copy.store.as_str())
    }

    /// How long its snapshots stay in a store.
    #[must_use]
    pub fn retained_at(&self, store: &str) -> &[Sentence] {
        let copy = self.copies.iter().find(|copy| copy.store == store);
        copy.and_then(|copy| copy.retain.as_ref()).unwrap_or(&self.retain)
    }

    /// The paths of its sources as rules see them: those of other hosts without the host.
    #[must_use]
    pub fn rule_paths(&self) -> Vec<PathBuf> {
        let there = |source: &PathBuf| match source.to_str().filter(|_| !source.is_absolute()) {
            Some(far) => PathBuf::from(&far[FarSource::host_length(far.as_bytes())..]),
            None => source.clone(),
        };
        self.sources.iter().map(there).collect()
    }
}

/// Keys of the contract that later versions act on.
const LATER: &[&str] = &["form", "deletions", "old-versions", "packing", "full", "split", "also"];

/// The share of files that may vanish or change at once where a plan says nothing, in percent.
const SHRINK: u8 = 40;

/// Whether a text can name a plan, a store, a host or a channel.
#[must_use]
pub fn is_plan_name(name: &str) -> bool {
    let fine = |b: u8| matches!(b, b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_');
    (1..=64).contains(&name.len()) && name.bytes().all(fine)
}

/// Reads a plan: the plan if nothing is wrong with it, and everything that is.
///
/// `file` is named in problems; `stores` are the names the plan can refer to.
#[must_use]
pub fn parse_plan<'a>(
    name: &str,
    file: &str,
    text: &str,
    with: &dyn Expand,
    stores: impl IntoIterator<Item = &'a str>,
) -> (Option<Plan>, Vec<Problem>) {
    let nothing = |path: &Path| Err(format!("{} cannot be used here", path.display()));
    parse_plan_reading(name, file, text, with, stores, None, &nothing)
}

/// Reads the text of a file that a plan names; the error says why not.
pub type ReadFile<'r> = dyn Fn(&Path) -> Result<String, String> + 'r;

/// As [`parse_plan`], for plans that may name other files, which `read` reads. A path that does
/// not begin with `/` is beside the plan's own file. `channels` are the names of those who can be
/// told, if they are known.
#[must_use]
pub fn parse_plan_reading<'a>(
    name: &str,
    file: &str,
    text: &str,
    with: &dyn Expand,
    stores: impl IntoIterator<Item = &'a str>,
    channels: Option<&[String]>,
    read: &ReadFile<'_>,
) -> (Option<Plan>, Vec<Problem>) {
    let mut reading = Reading::new(file, text);
    let mut fields = Fields::new("a plan", reading.parse());
    if !is_plan_name(name) {
        reading.problem_with(
            &(0..0),
            format!("`{name}` is not a valid plan name"),
            "rename the file: a-z, 0-9, - and _",
        );
    }
    let about = fields.text(&mut reading, "about").map(|(text, _)| text);
    let named = parse_sources_from(&mut reading, &mut fields, with, read);
    let sources = parse_sources(&mut reading, &mut fields, with, named);
    let stores: Vec<&str> = stores.into_iter().collect();
    let store = parse_store(&mut reading, &mut fields, &stores);
    let copies = retaining::parse_copies(
        &mut reading,
        &mut fields,
        store.as_deref(),
        &|reading, store, span| is_known(reading, store, span, &stores),
    );
    let retain = retaining::parse_retain(&mut reading, &mut fields).unwrap_or_default();
    let labels = fields.texts(&mut reading, "labels").unwrap_or_default();
    for (label, span) in &labels {
        if !is_plan_name(label) {
            reading.problem(span, format!("`{label}` is not a valid label: use a-z, 0-9, - and _"));
        }
    }
    let series = fields.text(&mut reading, "series").and_then(|(series, span)| {
        let fine = is_plan_name(&series);
        if !fine {
            reading.problem(&span, format!("`{series}` is not a valid plan name"));
        }
        fine.then_some(series)
    });
    let machine = fields.text(&mut reading, "machine").and_then(|(machine, span)| {
        let fine =
            !machine.is_empty() && machine.len() <= 64 && !machine.chars().any(char::is_control);
        if !fine {
            reading.problem(&span, "a machine's name has 1 to 64 visible characters");
        }
        fine.then_some(machine)
    });
    let compress = parse_compress(&mut reading, &mut fields);
    let readers = fields.count(&mut reading, "readers", 64);
    let mut rules = parse_rules_from(&mut reading, &mut fields, with, read);
    if let Some((own, span)) = fields.text(&mut reading, "rules") {
        let (own, problems) = RuleSet::parse_within(&own, file, text, &span);
        reading.problems.extend(problems);
        rules.extend(own);
    }
    let shrink = parse_shrink(&mut reading, &mut fields);
    let (schedule, starting) = starting::parse(&mut reading, &mut fields);
    let expires = !retain.is_empty() || copies.iter().any(|copy| copy.retain.is_some());
    if starting.expire && !expires && reading.problems.is_empty() {
        let hint = "add retain = [\"one a day for 2 weeks\"], or remove `expire`";
        reading.problem_with(&(0..0), "`expire` has nothing to go by: no sentence retains", hint);
    }
    let zone = parse_zone(&mut reading, &mut fields);
    let around = around::parse(&mut reading, &mut fields);
    let tell = tell::parse(&mut reading, &mut fields, channels);
    let goals = goals::parse(&mut reading, &mut fields);
    let speed = parse_speed(&mut reading, &mut fields);
    fields.finish(&mut reading, LATER);
    reading.problems.sort_by_key(|problem| (problem.line, problem.column));
    let fine = reading.problems.is_empty();
    let plan = store.filter(|_| fine).map(|store| Plan {
        name: name.to_owned(),
        about,
        sources,
        store,
        labels: labels.into_iter().map(|(label, _)| label).collect(),
        series,
        machine,
        rules,
        compress,
        readers,
        shrink,
        schedule,
        starting,
        zone,
        retain,
        copies,
        around,
        tell,
        goals,
        speed,
        text: text.to_owned(),
    });
    (plan, reading.problems)
}

fn parse_speed<'t>(reading: &mut Reading<'t>, fields: &mut Fields<'t>) -> Option<Speed> {
    let (word, span) = fields.text(reading, "speed")?;
    match word.as_str() {
        "quiet" => Some(Speed::Quiet),
        "normal" => Some(Speed::Normal),
        _ => {
            let what = format!("`{word}` is not a speed");
            reading.problem_with(&span, what, "write \"quiet\" or \"normal\"");
            None
        }
    }
}

fn parse_zone<'t>(reading: &mut Reading<'t>, fields: &mut Fields<'t>) -> Option<TimeZone> {
    let (name, span) = fields.text(reading, "zone")?;
    match TimeZone::get(&name) {
        Ok(zone) => Some(zone),
        Err(_) => {
            let what = format!("`{name}` is not a time zone");
            reading.problem_with(&span, what, "write it as \"Europe/Oslo\"");
            None
        }
    }
}

/// A file a plan names: a full path, or one beside the plan's own file.
fn beside(reading: &Reading<'_>, text: &str, with: &dyn Expand) -> Result<PathBuf, String> {
    if text.starts_with(['/', '~', '$']) {
        return expand(text, with).map_err(|problem| problem.to_string());
    }
    let folder = Path::new(reading.file).parent().unwrap_or(Path::new("/"));
    Ok(folder.join(text))
}

/// Rules that stand in other files, or come with the program.
fn parse_rules_from<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    with: &dyn Expand,
    read: &ReadFile<'_>,
) -> RuleSet {
    let mut all = RuleSet::default();
    for (text, span) in fields.texts(reading, "rules-from").unwrap_or_default() {
        if text.starts_with("builtin:") {
            match READY.iter().find(|(name, _)| *name == text) {
                Some((name, rules)) => all.extend(RuleSet::parse(rules, name).0),
                None => {
                    let names = READY.iter().map(|(name, _)| *name);
                    let hint = match nearest(&text, names.clone()) {
                        Some(near) => format!("did you mean `{near}`?"),
                        None => format!("there are {}", names.collect::<Vec<_>>().join(" and ")),
                    };
                    reading.problem_with(&span, format!("`{text}` are not built-in rules"), hint);
                }
            }
            continue;
        }
        match beside(reading, &text, with).and_then(|path| Ok((read(&path)?, path))) {
            Ok((rules, path)) => {
                let (rules, problems) = RuleSet::parse(&rules, &path.display().to_string());
                reading.problems.extend(problems);
                all.extend(rules);
            }
            Err(why) => reading.problem_with(&span, why, "name a file of rules, one rule a line"),
        }
    }
    all
}

/// Sources that stand in another file, one a line.
fn parse_sources_from<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    with: &dyn Expand,
    read: &ReadFile<'_>,
) -> Vec<(String, Range<usize>)> {
    let Some((text, span)) = fields.text(reading, "sources-from") else { return Vec::new() };
    match beside(reading, &text, with).and_then(|path| read(&path)) {
        Ok(lines) => {
            let lines = lines.lines().map(str::trim);
            let paths = lines.filter(|line| !line.is_empty() && !line.starts_with('#'));
            paths.map(|path| (path.to_owned(), span.clone())).collect()
        }
        Err(why) => {
            reading.problem_with(&span, why, "name a file with a full path on each line");
            Vec::new()
        }
    }
}

fn parse_shrink<'t>(reading: &mut Reading<'t>, fields: &mut Fields<'t>) -> Option<u8> {
    let Some((text, span)) = fields.text(reading, "shrink") else { return Some(SHRINK) };
    if text == "off" {
        return None;
    }
    let percent = text.strip_suffix('%').and_then(|number| number.trim().parse().ok());
    match percent.filter(|percent| (1..=100).contains(percent)) {
        Some(percent) => Some(percent),
        None => {
            let hint = "write \"40%\", or \"off\" to never stop and ask";
            reading.problem_with(&span, format!("`{text}` is not a percentage"), hint);
            None
        }
    }
}

fn parse_sources<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    with: &dyn Expand,
    named: Vec<(String, Range<usize>)>,
) -> Vec<PathBuf> {
    let before = reading.problems.len();
    let listed = fields.texts(reading, "sources");
    let none = listed.as_ref().is_none_or(Vec::is_empty) && named.is_empty();
    if none && reading.problems.len() == before {
        reading.problem_with(
            &(0..0),
            "the plan has no sources",
            "add sources = [\"/path/to/protect\"]",
        );
    }
    let mut sources: Vec<PathBuf> = Vec::new();
    for (text, span) in listed.unwrap_or_default().into_iter().chain(named) {
        let read = match text.contains("://") {
            true => FarSource::parse(&text).map(|source| source.path()),
            false => expand(&text, with).map_err(|problem| problem.to_string()),
        };
        match read {
            Ok(path) => {
                if let Some(other) = sources.iter().find(|other| overlaps(other, &path)) {
                    let message = if *other == path {
                        format!("`{}` is listed twice", path.display())
                    } else {
                        format!(
                            "`{}` and `{}`: one contains the other",
                            other.display(),
                            path.display()
                        )
                    };
                    reading.problem_with(
                        &span,
                        message,
                        "keep the outer one, and exclude with rules",
                    );
                }
                sources.push(path);
            }
            Err(problem) => drop(reading.problem(&span, problem)),
        }
    }
    sources
}

fn overlaps(a: &Path, b: &Path) -> bool {
    a.starts_with(b) || b.starts_with(a)
}

fn parse_store<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    stores: &[&str],
) -> Option<String> {
    let before = reading.problems.len();
    let Some((store, span)) = fields.text(reading, "store") else {
        if reading.problems.len() == before {
            let hint = "add store = \"…\", a name from stores.toml";
            reading.problem_with(&(0..0), "the plan has no store", hint);
        }
        return None;
    };
    if is_known(reading, &store, &span, stores) { Some(store) } else { None }
}

/// Whether a store stands in `stores.toml`; if not, that is noted.
fn is_known(reading: &mut Reading<'_>, store: &str, span: &Range<usize>, stores: &[&str]) -> bool {
    if stores.contains(&store) {
        return true;
    }
    let hint = match nearest(store, stores.iter().copied()) {
        Some(near) => format!("did you mean `{near}`?"),
        None if stores.is_empty() => "stores.toml is empty".to_owned(),
        None => format!("there are {}", stores.join(", ")),
    };
    reading.problem_with(span, format!("store `{store}` is not in stores.toml"), hint);
    false
}

fn parse_compress<'t>(reading: &mut Reading<'t>, fields: &mut Fields<'t>) -> Compress {
    const WORDS: [(&str, Compress); 4] = [
        ("off", Compress::Off),
        ("fast", Compress::Fast),
        ("default", Compress::Default),
        ("high", Compress::High),
    ];
    let Some((word, span)) = fields.text(reading, "compress") else { return Compress::Default };
    if let Some((_, compress)) = WORDS.iter().find(|(known, _)| *known == word) {
        return *compress;
    }
    let hint = match nearest(&word, WORDS.iter().map(|(word, _)| *word)) {
        Some(near) => format!("did you mean \"{near}\"?"),
        None => "\"off\", \"fast\", \"default\" or \"high\"".to_owned(),
    };
    reading.problem_with(&span, format!("`{word}` is not a compression"), hint);
    Compress::Default
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn parse(text: &str) -> (Option<Plan>, String) {
        let nothing = |_: &str| None;
        let (plan, problems) =
            parse_plan("readings", "readings.toml", text, &nothing, ["oak", "pier"]);
        (plan, problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
    }

    #[test]
    fn a_plan_is_read_whole() {
        let text = "about = \"Series\"\nsources = [\"/srv/readings/\", \"/var/notes\"]\nstore = \"oak\"\nlabels = [\"field\"]\nmachine = \"hut\"\ncompress = \"high\"\nreaders = 4\nrules = '''\nskip .cache/ *~\n'''\n";
        let (plan, problems) = parse(text);
        assert_eq!(problems, "");
        let plan = plan.expect("a plan");
        assert_eq!(plan.sources, [PathBuf::from("/srv/readings"), "/var/notes".into()]);
        assert_eq!((plan.compress, plan.readers), (Compress::High, Some(4)));
        assert_eq!(plan.rules.rules().len(), 1);
        assert_eq!(plan.rules.rules()[0].line, 9);
    }

    #[test]
    fn every_mistake_comes_with_its_place_and_the_right_spelling() {
        let text = "sorces = [\"/a\"]\nstore = \"oka\"\ncompress = \"hihg\"\nreaders = 0\nlabels = \"x\"\nretain = []\nrules = '''\nskip ok\nskpi *.part\n'''\nabout = 3\nreplicate = [\"elm\", \"oak\", \"oak\"]\n";
        let (plan, problems) = parse(text);
        assert!(plan.is_none());
        for expected in [
            "readings.toml:1:1: the plan has no sources",
            "readings.toml:1:1: a plan has no key `sorces`",
            "did you mean `sources`?",
            "readings.toml:2:9: store `oka` is not in stores.toml",
            "store `elm` is not in stores.toml",
            "`oak` is listed twice",
            "did you mean `oak`?",
            "did you mean \"high\"?",
            "readings.toml:4:11: `readers` must be a whole number",
            "readings.toml:5:10: `labels` must be a list",
            "readings.toml:6:10: `retain` is empty",
            "readings.toml:9:1: a rule begins with `take` or `skip`, not `skpi`",
            "did you mean `skip`?",
            "readings.toml:11:9: `about` must be a string",
        ] {
            assert!(problems.contains(expected), "{expected}\n{problems}");
        }
    }

    #[test]
    fn sources_that_overlap_or_lie_elsewhere_are_refused() {
        let (_, problems) = parse(
            "store = \"oak\"\nsources = [\"/srv\", \"/srv/a\", \"gopher://mast/x\", \"sftp://mast/a\", \"sftp://mast/a/b\", \"b\", \"/srv\"]\n",
        );
        for expected in [
            "one contains the other",
            "`gopher:` is not a kind of source",
            "`sftp://mast/a` and `sftp://mast/a/b`: one contains the other",
            "not a full path",
            "is listed twice",
        ] {
            assert!(problems.contains(expected), "{expected}\n{problems}");
        }
    }

    #[test]
    fn rules_and_sources_may_stand_in_other_files() {
        let read = |path: &Path| match path.to_str() {
            Some("/etc/skellin/plans/shared.rules") => Ok("skip *.part\nskpi x\n".to_owned()),
            Some("/lists/more.txt") => {
                Ok("# ours\n/srv/ringing\n\n  /srv/notes  \nrelative\n".to_owned())
            }
            _ => Err(format!("{} does not exist", path.display())),
        };
        let parse = |text: &str| {
            let nothing = |_: &str| None;
            let file = "/etc/skellin/plans/readings.toml";
            let (plan, problems) =
                parse_plan_reading("readings", file, text, &nothing, ["oak"], None, &read);
            (plan, problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
        };
        let (plan, problems) = parse(
            "sources-from = \"/lists/more.txt\"\nrules-from = [\"shared.rules\", \"builtin:cache\", \"none.rules\"]\nstore = \"oak\"\nshrink = \"140%\"\n",
        );
        assert!(plan.is_none());
        for expected in [
            "/etc/skellin/plans/shared.rules:2:1: a rule begins with `take` or `skip`",
            "did you mean `builtin:caches`?",
            "/etc/skellin/plans/none.rules does not exist",
            "readings.toml:1:16: `relative` is not a full path",
            "`140%` is not a percentage",
        ] {
            assert!(problems.contains(expected), "{expected}\n{problems}");
        }
        let (plan, problems) = parse(
            "sources = [\"/srv/a\"]\nstore = \"oak\"\nrules-from = [\"builtin:system\"]\nrules = \"take /tmp/keep\"\nshrink = \"off\"\n",
        );
        let plan = plan.unwrap_or_else(|| panic!("{problems}"));
        let (first, last) = (&plan.rules.rules()[0], plan.rules.rules().last().expect("a rule"));
        assert_eq!((first.file.as_str(), first.line, plan.shrink), ("builtin:system", 2, None));
        assert_eq!(last.text, "take /tmp/keep", "the plan's own rules come last");
    }

    #[test]
    fn the_ready_rules_have_no_mistakes() {
        for (name, rules) in READY {
            let (set, problems) = RuleSet::parse(rules, name);
            assert!(problems.is_empty() && set.rules().len() > 4, "{problems:?}");
            set.matcher(b"/", 0).expect("compiles");
        }
    }

    #[test]
    fn broken_toml_is_a_problem_with_a_place() {
        let (plan, problems) = parse("sources = [\"/a\"\nstore = = \"oak\"\n");
        assert!(plan.is_none());
        assert!(problems.contains("readings.toml:2:"), "{problems}");
    }

    proptest! {
        #[test]
        fn no_text_makes_the_parser_panic(text in "(sources|store|rules|labels|=|\\[|\\]|'''|\"|\\n|[a-z/*]|\\PC){0,60}") {
            let _ = parse(&text);
        }
    }
}
