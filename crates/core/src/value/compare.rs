//! Does a value answer an expectation?
//!
//! An expectation in plain JSON is read kindly: `[1, 2]` accepts a tuple, `3` accepts `3.0`, `null`
//! accepts `undefined`. A truth value is never a number. Floating-point numbers are equal within a
//! relative 1e-9 unless the expectation sets a tolerance of its own.

use super::{Value, to_json};

/// Relative difference up to which two floats count as equal when no tolerance is set.
const FLOAT_NOISE: f64 = 1e-9;

/// How far a float may be from a whole number that is expected, when no tolerance is set: of a large
/// number the relative noise would be more than the number next to it.
const WHOLE_NOISE: f64 = 0.01;

/// Longest collection that is matched element by element when sorting alone does not decide it.
const MATCHED_MAX: usize = 600;

/// How much order counts in lists and tuples.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Order {
    /// Elements are compared in their places.
    #[default]
    Counts,
    /// The outermost list may come in any order.
    AnyOutside,
    /// Every list, however deep, may come in any order.
    AnyEverywhere,
}

/// What an expectation forgives.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct CompareRules {
    /// Largest absolute difference of two numbers; `None` allows float noise only.
    pub tolerance: Option<f64>,
    /// How much order counts.
    pub order: Order,
}

/// Where and how two values differ first.
#[derive(Debug, Clone, PartialEq)]
pub struct Mismatch {
    /// The place, such as `[2][name]`; empty for the whole value.
    pub place: String,
    /// What was expected there.
    pub expected: Value,
    /// What was found there.
    pub found: Value,
}

/// Compares what was `found` with what was `expected`.
///
/// # Errors
/// The first place where they differ.
pub fn compare(expected: &Value, found: &Value, rules: CompareRules) -> Result<(), Mismatch> {
    let inner = CompareRules {
        order: match rules.order {
            Order::AnyEverywhere => Order::AnyEverywhere,
            _ => Order::Counts,
        },
        ..rules
    };
    match (expected, found) {
        (Value::List(a), Value::List(b) | Value::Tuple(b))
        | (Value::Tuple(a), Value::Tuple(b) | Value::List(b)) => {
            // A tuple asked for by its form is not answered by a list.
            if matches!((expected, found), (Value::Tuple(_), Value::List(_))) {
                return differ(expected, found);
            }
            if rules.order == Order::Counts {
                in_places(expected, found, a, b, inner)
            } else {
                unordered(expected, found, a, b, inner)
            }
        }
        (Value::Set(a), Value::Set(b)) => unordered(expected, found, a, b, inner),
        (Value::Map(a), Value::Map(b)) => maps(expected, found, a, b, inner),
        _ if leaf_equal(expected, found, rules.tolerance) => Ok(()),
        _ => differ(expected, found),
    }
}

fn differ(expected: &Value, found: &Value) -> Result<(), Mismatch> {
    let (expected, found) = (expected.clone(), found.clone());
    Err(Mismatch { place: String::new(), expected, found })
}

fn leaf_equal(expected: &Value, found: &Value, tolerance: Option<f64>) -> bool {
    match (expected, found) {
        (Value::Null, Value::Null) => true,
        (Value::Bool(a), Value::Bool(b)) => a == b,
        (Value::Str(a), Value::Str(b)) => a == b,
        (Value::Bytes(a), Value::Bytes(b)) => a == b,
        (Value::Int(a), Value::Int(b)) if tolerance.is_none() => a == b,
        (Value::BigInt(a), Value::BigInt(b)) => a == b,
        // A float counts as a whole number when it is that number, but for noise.
        (Value::Int(a), Value::Float(b)) if tolerance.is_none() => {
            let is_it = b.fract() == 0.0 && *b as i128 == i128::from(*a);
            let is_exact = a.unsigned_abs() < 1 << 53;
            let is_near = close(*a as f64, *b, None) && (*a as f64 - b).abs() <= WHOLE_NOISE;
            is_it || (is_exact && is_near)
        }
        _ => match (as_float(expected), as_float(found)) {
            (Some(a), Some(b)) => close(a, b, tolerance),
            _ => false,
        },
    }
}

fn as_float(value: &Value) -> Option<f64> {
    match value {
        Value::Int(int) => Some(*int as f64),
        Value::Float(float) => Some(*float),
        _ => None,
    }
}

/// Whether two numbers are the same within `tolerance` (absolute), or within float noise.
#[must_use]
pub fn close(a: f64, b: f64, tolerance: Option<f64>) -> bool {
    if a == b || (a.is_nan() && b.is_nan()) {
        return true;
    }
    let allowed = tolerance.unwrap_or_else(|| FLOAT_NOISE * a.abs().max(b.abs()));
    a.is_finite() && b.is_finite() && (a - b).abs() <= allowed
}

fn in_places(
    expected: &Value,
    found: &Value,
    a: &[Value],
    b: &[Value],
    rules: CompareRules,
) -> Result<(), Mismatch> {
    if a.len() != b.len() {
        return differ(expected, found);
    }
    for (index, (a, b)) in a.iter().zip(b).enumerate() {
        compare(a, b, rules).map_err(|mismatch| mismatch.inside(&format!("[{index}]")))?;
    }
    Ok(())
}

fn maps(
    expected: &Value,
    found: &Value,
    a: &[(Value, Value)],
    b: &[(Value, Value)],
    rules: CompareRules,
) -> Result<(), Mismatch> {
    if a.len() != b.len() {
        return differ(expected, found);
    }
    let exact = CompareRules::default();
    for ((key_a, value_a), (key_b, value_b)) in by_key(a).into_iter().zip(by_key(b)) {
        // A key is a value: the text "1" is not the number 1.
        if compare(key_a, key_b, exact).is_err() {
            return differ(expected, found);
        }
        let place = format!("[{}]", sort_text(key_a));
        compare(value_a, value_b, rules).map_err(|it| it.inside(&place))?;
    }
    Ok(())
}

/// The pairs of a map in the order of their keys: texts apart from all else, equal numbers alike.
fn by_key(pairs: &[(Value, Value)]) -> Vec<&(Value, Value)> {
    let mut sorted: Vec<_> = pairs.iter().collect();
    sorted.sort_by_cached_key(|(key, _)| (matches!(key, Value::Str(_)), sort_text(key)));
    sorted
}

/// A text that is the same for values that are equal without tolerance, but for float noise.
fn sort_text(value: &Value) -> String {
    match value {
        Value::Str(text) => text.clone(),
        Value::Float(float) if float.fract() == 0.0 && float.abs() < 9e15 => {
            format!("{}", *float as i64)
        }
        Value::Tuple(items) => to_json(&Value::List(items.clone())).to_string(),
        other => to_json(other).to_string(),
    }
}

fn unordered(
    expected: &Value,
    found: &Value,
    a: &[Value],
    b: &[Value],
    rules: CompareRules,
) -> Result<(), Mismatch> {
    if a.len() != b.len() {
        return differ(expected, found);
    }
    let sorted = |items: &[Value]| {
        let mut order: Vec<usize> = (0..items.len()).collect();
        order.sort_by_cached_key(|&i| sort_text(&items[i]));
        order
    };
    let (order_a, order_b) = (sorted(a), sorted(b));
    if order_a.iter().zip(&order_b).all(|(&i, &j)| compare(&a[i], &b[j], rules).is_ok()) {
        return Ok(());
    }
    if a.len() > MATCHED_MAX || !can_be_matched(a, b, rules) {
        return differ(expected, found);
    }
    Ok(())
}

/// Whether every element of `a` can be given an element of `b` of its own: a perfect matching in
/// a bipartite graph, found by augmenting paths (Kuhn 1955).
fn can_be_matched(a: &[Value], b: &[Value], rules: CompareRules) -> bool {
    let fits: Vec<Vec<usize>> = a
        .iter()
        .map(|x| (0..b.len()).filter(|&j| compare(x, &b[j], rules).is_ok()).collect())
        .collect();
    let mut taken_by = vec![None; b.len()];
    (0..a.len()).all(|i| augment(i, &fits, &mut taken_by, &mut vec![false; b.len()]))
}

fn augment(
    i: usize,
    fits: &[Vec<usize>],
    taken_by: &mut [Option<usize>],
    seen: &mut [bool],
) -> bool {
    for &j in &fits[i] {
        if std::mem::replace(&mut seen[j], true) {
            continue;
        }
        if taken_by[j].is_none_or(|other| augment(other, fits, taken_by, seen)) {
            taken_by[j] = Some(i);
            return true;
        }
    }
    false
}

impl Mismatch {
    fn inside(mut self, part: &str) -> Self {
        self.place.insert_str(0, part);
        self
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse_line;
    use super::*;

    fn check(expected: &str, found: &str, rules: CompareRules) -> bool {
        compare(&parse_line(expected).unwrap(), &parse_line(found).unwrap(), rules).is_ok()
    }

    #[test]
    fn plain_expectations_are_read_kindly() {
        let yes = [
            ("3", "3.0"),
            ("3", "2.9999999999999996"),
            ("9007199254740992", "9007199254740992.0"),
            ("[1, 2]", r#"{"$tuple": [1, 2]}"#),
            ("null", r#"{"$undefined": true}"#),
            ("0.3", "0.30000000000000004"),
            (r#"{"$float": "nan"}"#, r#"{"$float": "nan"}"#),
            (r#"{"$set": [1, 2]}"#, r#"{"$set": [2, 1]}"#),
            (r#"{"a": 1, "b": [2]}"#, r#"{"b": [2.0], "a": 1}"#),
            (r#"{"$map": [[1, "x"]]}"#, r#"{"$map": [[1.0, "x"]]}"#),
            (r#"{"$map": [[1, "x"], ["1", "y"]]}"#, r#"{"$map": [["1", "y"], [1, "x"]]}"#),
            (r#"{"$map": [[[1, 2], 3]]}"#, r#"{"$map": [[{"$tuple": [1, 2]}, 3]]}"#),
        ];
        for (expected, found) in yes {
            assert!(check(expected, found, CompareRules::default()), "{expected} {found}");
        }
    }

    #[test]
    fn what_is_not_equal_stays_unequal() {
        let no = [
            ("1", "true"),
            ("true", "1"),
            (r#"{"$tuple": [1]}"#, "[1]"),
            ("[1, 2]", r#"{"$set": [1, 2]}"#),
            ("[1, 2]", "[2, 1]"),
            ("0.3", "0.3000001"),
            ("\"1\"", "1"),
            (r#"{"$int": "123456789012345678901"}"#, "1.2345678901234568e20"),
            (r#"{"$opaque": "x"}"#, r#"{"$opaque": "x"}"#),
            (r#"{"a": 1}"#, r#"{"a": 1, "b": 2}"#),
            (r#"{"$map": [[1, "x"]]}"#, r#"{"1": "x"}"#),
            (r#"{"1": "x"}"#, r#"{"$map": [[1, "x"]]}"#),
            (r#"{"$map": [[null, "x"]]}"#, r#"{"null": "x"}"#),
            (r#"{"$map": [[true, "x"]]}"#, r#"{"$map": [[1, "x"]]}"#),
            ("9007199254740993", "9007199254740992"),
            ("9007199254740993", "9007199254740992.0"),
            ("1000000000000", "1000000000500.0"),
            ("3", "3.0001"),
        ];
        for (expected, found) in no {
            assert!(!check(expected, found, CompareRules::default()), "{expected} {found}");
        }
    }

    #[test]
    fn order_can_be_forgiven_outside_or_everywhere() {
        let outside = CompareRules { order: Order::AnyOutside, ..CompareRules::default() };
        let everywhere = CompareRules { order: Order::AnyEverywhere, ..CompareRules::default() };
        assert!(check("[[1, 2], [3]]", "[[3], [1, 2]]", outside));
        assert!(!check("[[1, 2], [3]]", "[[3], [2, 1]]", outside));
        assert!(check("[[1, 2], [3]]", "[[3], [2, 1]]", everywhere));
        assert!(!check("[1, 1, 2]", "[1, 2, 2]", outside));
    }

    #[test]
    fn tolerance_and_any_order_together_need_a_real_matching() {
        // Taken greedily, 1.0 grabs 1.4 and 1.8 is left with 0.6.
        let rules = CompareRules { tolerance: Some(0.5), order: Order::AnyOutside };
        assert!(check("[1.0, 1.8]", "[1.4, 0.6]", rules));
        assert!(!check("[1.0, 1.8]", "[0.6, 0.7]", rules));
    }

    #[test]
    fn the_first_difference_is_told_with_its_place() {
        let (a, b) = (r#"[{"x": [1, 2]}]"#, r#"[{"x": [1, 5]}]"#);
        let rules = CompareRules::default();
        let mismatch = compare(&parse_line(a).unwrap(), &parse_line(b).unwrap(), rules);
        let mismatch = mismatch.unwrap_err();
        assert_eq!((mismatch.place.as_str(), mismatch.found), ("[0][x][1]", Value::Int(5)));
    }
}
