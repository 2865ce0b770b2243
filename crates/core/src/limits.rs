//! How much a program under trial may use.

use std::time::Duration;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};

/// An amount of bytes. Written in TOML as `"256 MiB"`, or as a bare number of MiB.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Bytes(pub u64);

impl Bytes {
    /// `n` mebibytes.
    #[must_use]
    pub const fn mib(n: u64) -> Self {
        Self(n << 20)
    }

    /// Reads `64`, `64 MiB`, `512 KiB`, `2 GiB`, `100 B`, and the decimal `kB`, `MB`, `GB`.
    ///
    /// # Errors
    /// When the number or the unit is none of these; the text says what is allowed.
    pub fn parse(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let split = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = text.split_at(split);
        let factor: u64 = match unit.trim() {
            "B" => 1,
            "kB" => 1000,
            "KiB" => 1 << 10,
            "MB" => 1_000_000,
            "MiB" | "" => 1 << 20,
            "GB" => 1_000_000_000,
            "GiB" => 1 << 30,
            _ => return Err(format!("`{text}` is no size; write it as `256 MiB`")),
        };
        let number: f64 =
            number.parse().map_err(|_| format!("`{text}` is no size; write it as `256 MiB`"))?;
        let bytes = number * factor as f64;
        if bytes > (1_u64 << 46) as f64 {
            return Err(format!("`{text}` is more than 64 TiB; a bare number counts MiB"));
        }
        Ok(Self(bytes as u64))
    }
}

impl Serialize for Bytes {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&format!("{} B", self.0))
    }
}

impl<'de> Deserialize<'de> for Bytes {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        match NumberOrText::deserialize(from)? {
            NumberOrText::Number(number) => Self::parse(&number.to_string()),
            NumberOrText::Text(text) => Self::parse(&text),
        }
        .map_err(D::Error::custom)
    }
}

/// A number or a text, as TOML and JSON give them.
#[derive(Deserialize)]
#[serde(untagged, expecting = "a number, or a text with a unit")]
enum NumberOrText {
    Number(f64),
    Text(String),
}

/// A span of time. Written in TOML as a number of seconds, or `"500 ms"`, `"2 s"`, `"3 min"`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span(pub Duration);

impl Span {
    /// Reads a span.
    ///
    /// # Errors
    /// When the number or the unit is not known, or the span is not above zero and below a day.
    pub fn parse(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let split = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = text.split_at(split);
        let wrong = || format!("`{text}` is no time; write seconds as a number, or `500 ms`");
        let factor = match unit.trim() {
            "ms" => 0.001,
            "s" | "" => 1.0,
            "min" => 60.0,
            _ => return Err(wrong()),
        };
        let seconds = number.parse::<f64>().map_err(|_| wrong())? * factor;
        if !(seconds > 0.0 && seconds <= 86_400.0) {
            return Err(format!("`{text}` is not above 0 and at most a day"));
        }
        Ok(Self(Duration::from_secs_f64(seconds)))
    }
}

impl Serialize for Span {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_f64(self.0.as_secs_f64())
    }
}

impl<'de> Deserialize<'de> for Span {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        match NumberOrText::deserialize(from)? {
            NumberOrText::Number(number) => Self::parse(&number.to_string()),
            NumberOrText::Text(text) => Self::parse(&text),
        }
        .map_err(D::Error::custom)
    }
}

impl LimitSettings {
    /// Looks for limits of nothing. `whose` begins the message.
    ///
    /// # Errors
    /// When a limit is 0: nothing could be run within it.
    pub fn check(&self, whose: &str) -> Result<(), String> {
        let nothing = [
            ("time", self.time.is_some_and(|it| it.0.is_zero())),
            ("memory", self.memory == Some(Bytes(0))),
            ("output", self.output == Some(Bytes(0))),
            ("processes", self.processes == Some(0)),
            ("disk", self.disk == Some(Bytes(0))),
            ("build_time", self.build_time.is_some_and(|it| it.0.is_zero())),
            ("build_memory", self.build_memory == Some(Bytes(0))),
            ("build_disk", self.build_disk == Some(Bytes(0))),
            ("patch", self.patch == Some(Bytes(0))),
        ];
        match nothing.iter().find(|it| it.1) {
            Some((key, _)) => Err(format!("{whose}: `{key}` is not above 0")),
            None => Ok(()),
        }
    }
}

/// The limits that a language, a docket, a task or a plan sets; what is `None` is left to the others.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LimitSettings {
    /// Processor time of one run: one case of a program, one call. The clock on the wall gets more.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time: Option<Span>,
    /// Memory of all processes together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory: Option<Bytes>,
    /// Bytes written to standard output and standard error together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub output: Option<Bytes>,
    /// Processes and threads at one time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processes: Option<u32>,
    /// Bytes in the work folder, and again in `/tmp`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<Bytes>,
    /// Processor time of one command of a build, where the language has one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build_time: Option<Span>,
    /// Memory of one command of a build.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build_memory: Option<Bytes>,
    /// Bytes that a build may leave in the work folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build_disk: Option<Bytes>,
    /// Bytes of a change to a repository, as a patch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub patch: Option<Bytes>,
}

/// The limits of one run, complete.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Processor time of one case or call; [`Limits::wall`] is what the clock on the wall allows.
    pub time: Duration,
    /// Memory of all processes together.
    pub memory: Bytes,
    /// Bytes on standard output and standard error together.
    pub output: Bytes,
    /// Processes and threads at one time.
    pub processes: u32,
    /// Bytes in the work folder, and again in `/tmp`.
    pub disk: Bytes,
    /// Processor time of one command of a build.
    pub build_time: Duration,
    /// Memory of one command of a build.
    pub build_memory: Bytes,
    /// Bytes that a build may leave in the work folder.
    pub build_disk: Bytes,
    /// Bytes of a change to a repository, as a patch.
    pub patch: Bytes,
}

impl Default for Limits {
    /// 10 s, 512 MiB, 4 MiB of output, 64 processes, 64 MiB of files; to build, 60 s, 2 GiB, and
    /// 256 MiB of files; 16 MiB of a patch.
    fn default() -> Self {
        Self {
            time: Duration::from_secs(10),
            memory: Bytes::mib(512),
            output: Bytes::mib(4),
            processes: 64,
            disk: Bytes::mib(64),
            build_time: Duration::from_secs(60),
            build_memory: Bytes::mib(2048),
            build_disk: Bytes::mib(256),
            patch: Bytes::mib(16),
        }
    }
}

/// The time by the clock on the wall that goes with a processor time: twice as much, and at least
/// 2 s more.
#[must_use]
pub fn wall_of(time: Duration) -> Duration {
    (time * 2).max(time + Duration::from_secs(2))
}

impl Limits {
    /// Time by the clock on the wall: twice the processor time, and at least 2 s more than it, so
    /// that a busy machine does not fail who keeps to the limit.
    #[must_use]
    pub fn wall(&self) -> Duration {
        wall_of(self.time)
    }

    /// These limits with what `settings` says put over them.
    #[must_use]
    pub fn overlaid(self, settings: &LimitSettings) -> Self {
        Self {
            time: settings.time.map_or(self.time, |span| span.0),
            memory: settings.memory.unwrap_or(self.memory),
            output: settings.output.unwrap_or(self.output),
            processes: settings.processes.unwrap_or(self.processes),
            disk: settings.disk.unwrap_or(self.disk),
            build_time: settings.build_time.map_or(self.build_time, |span| span.0),
            build_memory: settings.build_memory.unwrap_or(self.build_memory),
            build_disk: settings.build_disk.unwrap_or(self.build_disk),
            patch: settings.patch.unwrap_or(self.patch),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_have_units_and_bare_numbers_are_mebibytes() {
        assert_eq!(Bytes::parse("256"), Ok(Bytes::mib(256)));
        assert_eq!(Bytes::parse("1.5 GiB"), Ok(Bytes::mib(1536)));
        assert_eq!(Bytes::parse("10kB"), Ok(Bytes(10_000)));
        assert!(Bytes::parse("ten").is_err());
        assert!(Bytes::parse("268435456").unwrap_err().contains("MiB"));
    }

    #[test]
    fn later_settings_win_only_where_they_speak() {
        let settings: LimitSettings = toml::from_str("time = 2.5\noutput = \"1 KiB\"").unwrap();
        let limits = Limits::default().overlaid(&settings);
        assert_eq!(limits.time, Duration::from_millis(2500));
        assert_eq!(limits.output, Bytes(1024));
        assert_eq!(limits.memory, Limits::default().memory);
        assert!(toml::from_str::<LimitSettings>("time = 0").is_err());
        assert!(toml::from_str::<LimitSettings>("swap = 1").is_err());
    }
}
