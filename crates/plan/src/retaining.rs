//! What a plan says about how long its snapshots stay: `retain`, and `[[copy]]` for other stores.

use std::ops::Range;

use toml::de::DeValue;

use crate::{
    fields::{Fields, Reading, wrong_type},
    retention::Sentence,
};

/// A copy of a plan's snapshots in another store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlanCopy {
    /// Name of the store.
    pub store: String,
    /// How long its snapshots stay there, if not as in the plan's own store.
    pub retain: Option<Vec<Sentence>>,
}

/// Reads `retain`, if it is there.
pub(crate) fn parse_retain<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
) -> Option<Vec<Sentence>> {
    let before = reading.problems.len();
    let value = fields.take("retain")?;
    let said = crate::fields::texts(reading, "retain", &value)?;
    let mut sentences = Vec::new();
    for (text, span) in said {
        match Sentence::parse(&text) {
            Ok(sentence) if sentences.contains(&sentence) => {
                reading.problem(&span, format!("`{text}` is listed twice"));
            }
            Ok(sentence) => sentences.push(sentence),
            Err((what, hint)) => reading.problem_with(&span, what, hint),
        }
    }
    if sentences.is_empty() && reading.problems.len() == before {
        let hint =
            "say what stays, as in [\"one a day for 2 weeks\"], or remove it: then nothing expires";
        reading.problem_with(&value.span(), "`retain` is empty", hint);
    }
    Some(sentences)
}

/// Reads `replicate` and all `[[copy]]`. `is_known` says whether a name is a store, and notes it if not.
pub(crate) fn parse_copies<'t>(
    reading: &mut Reading<'t>,
    fields: &mut Fields<'t>,
    own: Option<&str>,
    is_known: &dyn Fn(&mut Reading<'t>, &str, &Range<usize>) -> bool,
) -> Vec<PlanCopy> {
    let mut found: Vec<PlanCopy> = Vec::new();
    let mut add = |reading: &mut Reading<'t>, store: String, span: &Range<usize>, retain| {
        if own == Some(store.as_str()) {
            let what = format!("`{store}` is the store of this plan");
            reading.problem_with(span, what, "name another store, or remove it");
        } else if found.iter().any(|copy| copy.store == store) {
            reading.problem(span, format!("`{store}` is listed twice"));
        } else if is_known(reading, &store, span) {
            found.push(PlanCopy { store, retain });
        }
    };
    for (store, span) in fields.texts(reading, "replicate").unwrap_or_default() {
        add(reading, store, &span, None);
    }
    let Some(value) = fields.take("copy") else { return found };
    let Some(array) = value.get_ref().as_array() else {
        wrong_type(reading, "copy", &value, "a table for each copy, as in [[copy]]");
        return found;
    };
    for item in array.iter() {
        let DeValue::Table(table) = item.get_ref() else {
            wrong_type(reading, "copy", item, "a table, as in [[copy]]");
            continue;
        };
        let mut fields = Fields::new("a [[copy]]", table.clone());
        let before = reading.problems.len();
        let store = fields.text(reading, "store");
        let retain = parse_retain(reading, &mut fields);
        fields.finish(reading, &[]);
        match store {
            Some((store, span)) => add(reading, store, &span, retain),
            None if reading.problems.len() == before => {
                let hint = "add store = \"…\", a name from stores.toml";
                reading.problem_with(&item.span(), "this [[copy]] has no store", hint);
            }
            None => {}
        }
    }
    found
}

/// The sentences a plan's text has for a store, as far as they can be read: that of an earlier plan may
/// say what is wrong by now.
#[must_use]
pub fn retained_by(text: &str, store: &str) -> Vec<Sentence> {
    let mut reading = Reading::new("", text);
    let mut fields = Fields::new("a plan", reading.parse());
    let retain = parse_retain(&mut reading, &mut fields).unwrap_or_default();
    let copies = parse_copies(&mut reading, &mut fields, None, &|_, _, _| true);
    let own = copies.into_iter().find(|copy| copy.store == store).and_then(|copy| copy.retain);
    own.unwrap_or(retain)
}

/// The stores a plan's text names, as far as they can be read.
#[must_use]
pub fn stores_named_by(text: &str) -> Vec<String> {
    let mut reading = Reading::new("", text);
    let mut fields = Fields::new("a plan", reading.parse());
    let store = fields.text(&mut reading, "store").map(|(store, _)| store);
    let copies = parse_copies(&mut reading, &mut fields, None, &|_, _, _| true);
    store.into_iter().chain(copies.into_iter().map(|copy| copy.store)).collect()
}

#[cfg(test)]
mod tests {
    use crate::{Plan, parse_plan};

    fn read(text: &str) -> (Option<Plan>, Vec<String>) {
        let text = format!("sources = [\"/srv\"]\nstore = \"oak\"\n{text}");
        let stores = ["oak", "pier", "offshore"];
        let (plan, problems) =
            parse_plan("readings", "readings.toml", &text, &|_: &str| None, stores);
        (plan, problems.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn a_copy_follows_the_plan_unless_it_says_otherwise() {
        let (plan, problems) = read(
            "retain = [\"one a day for 2 weeks\", \"at least 4\"]\nreplicate = [\"pier\"]\n\n[[copy]]\nstore = \"offshore\"\nretain = [\"one a month for 3 years\"]\n",
        );
        assert_eq!(problems, [""; 0]);
        let plan = plan.expect("a plan");
        let said = |store: &str| {
            let sentences = plan.retained_at(store).iter();
            sentences.map(ToString::to_string).collect::<Vec<_>>()
        };
        assert_eq!(said("oak"), ["one a day for 2 weeks", "at least 4"]);
        assert_eq!(said("pier"), said("oak"));
        assert_eq!(said("offshore"), ["one a month for 3 years"]);
        assert_eq!(plan.replicas().collect::<Vec<_>>(), ["pier", "offshore"]);
    }

    #[test]
    fn what_is_wrong_is_told_each_with_its_place() {
        let (plan, problems) = read(
            "retain = [\"one a fortnight for 2 weeks\", \"at least 4\", \"at least 4\"]\nreplicate = [\"pier\", \"oak\"]\n[[copy]]\nstore = \"pier\"\nretain = []\n[[copy]]\nretain = [\"at least 1\"]\n[[copy]]\nstore = \"of\"\n[[copy]]\nstore = \"offshore\"\nretian = []\n",
        );
        assert!(plan.is_none());
        for (line, reason) in [
            (3, "fortnight"),
            (3, "`at least 4` is listed twice"),
            (4, "`oak` is the store of this plan"),
            (6, "`pier` is listed twice"),
            (7, "`retain` is empty"),
            (8, "this [[copy]] has no store"),
            (11, "store `of` is not in stores.toml"),
            (14, "a [[copy]] has no key `retian`"),
        ] {
            let told = problems.iter().any(|problem| {
                problem.starts_with(&format!("readings.toml:{line}:")) && problem.contains(reason)
            });
            assert!(told, "{line} {reason}: {problems:#?}");
        }
    }
}
