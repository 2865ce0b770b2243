//! How figures are written: one way for each unit.

/// A share from 0 to 1, as a percentage with one decimal.
#[must_use]
pub fn percent(share: f64) -> String {
    format!("{:.1} %", share * 100.0)
}

/// A time in seconds.
#[must_use]
pub fn duration(seconds: f64) -> String {
    match seconds {
        0.0 => "0 ms".to_owned(),
        s if s < 0.0005 => format!("{:.0} µs", (s * 1e6).max(1.0)),
        s if s < 0.0995 => format!("{:.0} ms", s * 1000.0),
        s if s < 99.5 => format!("{s:.1} s"),
        s if s < 5970.0 => format!("{:.0} min", s / 60.0),
        s => format!("{:.1} h", s / 3600.0),
    }
}

/// An amount of money, with more places where it is small.
#[must_use]
pub fn money(amount: f64) -> String {
    match amount {
        0.0 => "0.00".to_owned(),
        it if it < 0.01 => format!("{it:.6}"),
        it if it < 1.0 => format!("{it:.4}"),
        it => format!("{it:.2}"),
    }
}

/// A number of things, `1 task` or `2 tasks`.
#[must_use]
pub fn count(number: usize, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { "" } else { "s" })
}

/// A count, in thousands or millions where it is long.
#[must_use]
pub fn thousands(count: u64) -> String {
    match count {
        n if n < 10_000 => n.to_string(),
        n if n < 999_950 => format!("{:.1}k", n as f64 / 1e3),
        n => format!("{:.1}M", n as f64 / 1e6),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_unit_is_written_in_one_way() {
        assert_eq!(percent(0.8667), "86.7 %");
        assert_eq!(
            [0.0, 0.000061, 0.0421, 0.4, 12.34, 600.0, 7200.0].map(duration),
            ["0 ms", "61 µs", "42 ms", "0.4 s", "12.3 s", "10 min", "2.0 h"]
        );
        assert_eq!(
            [0.0, 0.000012, 0.01234, 1.5].map(money),
            ["0.00", "0.000012", "0.0123", "1.50"]
        );
        assert_eq!([9999, 10_000, 1_234_567].map(thousands), ["9999", "10.0k", "1.2M"]);
    }
}
