//! What a store's place costs.

use toml::de::DeValue;

use crate::fields::{Fields, Reading, Value, wrong_type};

/// Bytes of a GiB, by which places are priced.
const GIB: f64 = (1u64 << 30) as f64;

/// The prices of a place.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Price {
    /// Its name, where several are compared.
    pub name: String,
    /// The currency, as people write it.
    pub currency: String,
    /// What a GiB costs a month: up to how many GiB, and the price. What lies beyond the last
    /// costs as the last.
    pub gib_month: Vec<(f64, f64)>,
    /// What it costs to fetch a GiB.
    pub fetch_gib: f64,
    /// What a thousand puts cost.
    pub put_1000: f64,
}

impl Price {
    /// What so many bytes cost a month.
    #[must_use]
    pub fn month(&self, bytes: u64) -> f64 {
        let (mut left, mut passed, mut sum) = (bytes as f64 / GIB, 0.0, 0.0);
        for (number, (upto, price)) in self.gib_month.iter().enumerate() {
            let is_last = number + 1 == self.gib_month.len();
            let here = if is_last { left } else { left.min(upto - passed) };
            sum += here * price;
            left -= here;
            passed = *upto;
        }
        sum
    }

    /// What it costs to fetch so many bytes.
    #[must_use]
    pub fn fetch(&self, bytes: u64) -> f64 {
        bytes as f64 / GIB * self.fetch_gib
    }

    /// What so many puts cost.
    #[must_use]
    pub fn puts(&self, count: f64) -> f64 {
        count / 1000.0 * self.put_1000
    }
}

/// Reads `price`: one, or several, of which the first is what is paid.
pub(crate) fn parse_all<'t>(reading: &mut Reading<'t>, value: &Value<'t>) -> Vec<Price> {
    let DeValue::Array(array) = value.get_ref() else {
        return parse(reading, value).into_iter().collect();
    };
    let mut prices: Vec<Price> = Vec::new();
    for item in array.iter() {
        let Some(price) = parse(reading, item) else { continue };
        if price.name.is_empty() {
            let hint = "add name = \"…\" to each, by which they are told apart";
            reading.problem_with(&item.span(), "one of several prices has no name", hint);
        } else if prices.iter().any(|other| other.name == price.name) {
            let what = format!("two prices are named `{}`", price.name);
            reading.problem(&item.span(), what);
        } else if prices.iter().any(|other| other.currency != price.currency) {
            let hint = "write all prices of a store in one currency";
            reading.problem_with(&item.span(), "the prices have different currencies", hint);
        } else {
            prices.push(price);
        }
    }
    if array.is_empty() {
        reading.problem(&value.span(), "`price` is empty");
    }
    prices
}

/// Reads `price = { currency = "EUR", gib-month = [[100, 0.006], [1000, 0.005]], … }`.
fn parse<'t>(reading: &mut Reading<'t>, value: &Value<'t>) -> Option<Price> {
    let span = value.span();
    let table = match value.get_ref() {
        DeValue::Table(table) => table.clone(),
        _ => {
            wrong_type(
                reading,
                "price",
                value,
                "a table, as in { currency = \"EUR\", gib-month = 0.005 }",
            );
            return None;
        }
    };
    let before = reading.problems.len();
    let mut fields = Fields::new("a price", table);
    let name = fields.text(reading, "name").map(|(name, _)| name).unwrap_or_default();
    let mut price = Price { name, ..Price::default() };
    match fields.text(reading, "currency") {
        Some((currency, _)) => price.currency = currency,
        None if reading.problems.len() == before => {
            reading.problem_with(&span, "the price has no currency", "add currency = \"EUR\"");
        }
        None => {}
    }
    match fields.take("gib-month") {
        Some(value) => price.gib_month = tiers(reading, &value),
        None => {
            let hint = "add gib-month = 0.005, what a GiB costs a month";
            reading.problem_with(&span, "the price has no storage price", hint);
        }
    }
    for (key, into) in [("fetch-gib", &mut price.fetch_gib), ("put-1000", &mut price.put_1000)] {
        if let Some(value) = fields.take(key) {
            *into = amount(reading, key, &value).unwrap_or_default();
        }
    }
    fields.finish(reading, &[]);
    (reading.problems.len() == before).then_some(price)
}

/// One price, or prices for more and more room.
fn tiers(reading: &mut Reading<'_>, value: &Value<'_>) -> Vec<(f64, f64)> {
    let DeValue::Array(rows) = value.get_ref() else {
        return amount(reading, "gib-month", value)
            .map(|price| vec![(0.0, price)])
            .unwrap_or_default();
    };
    let mut tiers: Vec<(f64, f64)> = Vec::new();
    for row in rows.iter() {
        let pair = match row.get_ref() {
            DeValue::Array(pair) if pair.len() == 2 => {
                amount(reading, "gib-month", &pair[0]).zip(amount(reading, "gib-month", &pair[1]))
            }
            _ => {
                wrong_type(reading, "gib-month", row, "a pair: up to how many GiB, and the price");
                None
            }
        };
        let Some((upto, price)) = pair else { continue };
        if tiers.last().is_some_and(|(before, _)| *before >= upto) {
            let hint = "begin with the smallest, as in [[100, 0.006], [1000, 0.005]]";
            reading.problem_with(&row.span(), "the prices are not in order", hint);
        }
        tiers.push((upto, price));
    }
    if tiers.is_empty() && rows.is_empty() {
        reading.problem(&value.span(), "`gib-month` is empty");
    }
    tiers
}

fn amount(reading: &mut Reading<'_>, key: &'static str, value: &Value<'_>) -> Option<f64> {
    let number = match value.get_ref() {
        DeValue::Integer(number) => number.as_str().replace('_', "").parse().ok(),
        DeValue::Float(number) => number.as_str().replace('_', "").parse().ok(),
        _ => {
            wrong_type(reading, key, value, "a number");
            return None;
        }
    };
    let number = number.filter(|number: &f64| number.is_finite() && *number >= 0.0);
    if number.is_none() {
        reading.problem(&value.span(), format!("`{key}` is not a price"));
    }
    number
}

#[cfg(test)]
mod tests {
    use crate::stores::parse_stores;

    use super::*;

    fn parse(price: &str) -> Result<Price, String> {
        let text = format!("[offshore]\nplace = \"/mnt/offshore\"\nprice = {price}\n");
        let stores = parse_stores("stores.toml", &text, &|_: &str| None);
        match stores.problems.first() {
            Some(problem) => Err(problem.message.clone()),
            None => Ok(stores.fine["offshore"].prices[0].clone()),
        }
    }

    #[test]
    fn room_costs_by_steps() {
        let gib = |count: u64| count << 30;
        let price = parse(
            "{ currency = \"EUR\", gib-month = [[100, 0.006], [1_000, 0.005]], fetch-gib = 0.01, put-1000 = 0.005 }",
        )
        .expect("a price");
        let near = |bytes: u64, cost: f64| (price.month(bytes) - cost).abs() < 1e-9;
        assert!(near(0, 0.0) && near(gib(50), 0.3) && near(gib(100), 0.6));
        assert!(near(gib(300), 0.6 + 1.0) && near(gib(1500), 0.6 + 7.0));
        assert_eq!((price.fetch_gib, price.put_1000), (0.01, 0.005));
        assert!(
            (price.fetch(gib(30)) - 0.3).abs() < 1e-9 && (price.puts(400.0) - 0.002).abs() < 1e-9
        );
        let flat = parse("{ currency = \"EUR\", gib-month = 1 }").expect("a price");
        assert!((flat.month(gib(7)) - 7.0).abs() < 1e-9);
    }

    #[test]
    fn mistakes_are_named() {
        for (price, message) in [
            ("5", "price"),
            ("{ gib-month = 1 }", "no currency"),
            ("{ currency = \"EUR\" }", "storage price"),
            ("{ currency = \"EUR\", gib-month = -1 }", "is not a price"),
            ("{ currency = \"EUR\", gib-month = [] }", "is empty"),
            ("{ currency = \"EUR\", gib-month = [5] }", "gib-month"),
            ("{ currency = \"EUR\", gib-month = [[10, 1], [5, 1]] }", "order"),
            ("{ currency = \"EUR\", gib-month = 1, puts = 3 }", "puts"),
            ("[]", "is empty"),
            ("[{ currency = \"EUR\", gib-month = 1 }]", "has no name"),
            (
                "[{ name = \"a\", currency = \"EUR\", gib-month = 1 }, { name = \"a\", currency = \"EUR\", gib-month = 1 }]",
                "two prices",
            ),
            (
                "[{ name = \"a\", currency = \"EUR\", gib-month = 1 }, { name = \"b\", currency = \"USD\", gib-month = 1 }]",
                "different currencies",
            ),
        ] {
            let problem = parse(price).expect_err(price);
            assert!(problem.contains(message), "{price}: {problem}");
        }
    }
}
