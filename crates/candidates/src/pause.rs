//! How long a host asks to be left alone.

use std::time::{Duration, SystemTime};

/// Longest pause that a host may ask for; longer ones are cut to it.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// The pause that a host's headers ask for: `Retry-After` in seconds, with a fraction, or as a date (RFC 9110, section
/// 10.2.3), in milliseconds, or when its limits are reset, whichever of these comes first in that order. `header`
/// looks headers up; `now` is when they came.
pub fn pause<'a>(header: impl Fn(&str) -> Option<&'a str>, now: SystemTime) -> Option<Duration> {
    let seconds = |text: &str| text.trim().parse().ok().and_then(whole);
    let date = |text: &str| {
        let at = httpdate::parse_http_date(text.trim()).ok()?;
        Some(at.duration_since(now).unwrap_or_default())
    };
    let millis =
        || header("retry-after-ms")?.trim().parse::<f64>().ok().and_then(|it| whole(it / 1e3));
    let after = || header("retry-after").and_then(|it| seconds(it).or_else(|| date(it)));
    let resets = ["x-ratelimit-reset-requests", "x-ratelimit-reset-tokens", "ratelimit-reset"];
    let reset = || resets.iter().filter_map(|it| spans(header(it)?)).max();
    millis().or_else(after).or_else(reset).map(|it| it.min(LONGEST))
}

fn whole(seconds: f64) -> Option<Duration> {
    (seconds >= 0.0 && seconds.is_finite()).then(|| Duration::from_secs_f64(seconds.min(1e9)))
}

/// A time such as `1m30.5s`, `250ms` or `12`, which are seconds.
fn spans(text: &str) -> Option<Duration> {
    let (mut rest, mut sum) = (text.trim(), Duration::ZERO);
    if rest.is_empty() {
        return None;
    }
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(rest.len());
        let number: f64 = rest[..digits].parse().ok()?;
        let unit_end = rest[digits..]
            .find(|c: char| !c.is_ascii_alphabetic())
            .map_or(rest.len(), |it| digits + it);
        let factor = match &rest[digits..unit_end] {
            "" | "s" => 1.0,
            "ms" => 1e-3,
            "m" => 60.0,
            "h" => 3600.0,
            "d" => 86_400.0,
            _ => return None,
        };
        sum = sum.saturating_add(whole(number * factor)?);
        rest = rest[unit_end..].trim_start();
    }
    Some(sum)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_are_read_in_every_notation() {
        let now = SystemTime::UNIX_EPOCH + Duration::from_secs(784_111_777);
        let of = |name: &str, value: &'static str| {
            pause(|it| (it == name).then_some(value), now).map(|it| it.as_millis())
        };
        for (name, value, millis) in [
            ("retry-after", "7", Some(7000)),
            ("retry-after", "0.5", Some(500)),
            // The example of RFC 9110, section 5.6.7, is 784111777 seconds after 1970.
            ("retry-after", "Sun, 06 Nov 1994 08:50:07 GMT", Some(30_000)),
            ("retry-after", "Sun, 06 Nov 1994 08:49:07 GMT", Some(0)),
            ("retry-after", "soon", None),
            ("retry-after", "-3", None),
            ("retry-after-ms", "250", Some(250)),
            ("x-ratelimit-reset-requests", "1m30.5s", Some(90_500)),
            ("x-ratelimit-reset-tokens", "250ms", Some(250)),
            ("ratelimit-reset", "12", Some(12_000)),
            ("ratelimit-reset", "tomorrow", None),
            ("retry-after", "99999999", Some(86_400_000)),
        ] {
            assert_eq!(of(name, value), millis, "{name}: {value}");
        }
    }
}
