//! JSON for programs that a person may look at all the same: on a terminal, too.

mod comparison;
mod doctor;
mod forecast;
mod reading;
mod regrade;
mod standings;
mod trial;
mod vet;

use std::io::{self, Write};

use serde::Serialize;
use serde_json::ser::{CharEscape, Formatter, PrettyFormatter, Serializer};

pub use self::comparison::{comparisons_json, gate_json};
pub use self::doctor::doctor_json;
pub use self::forecast::forecast_json;
pub use self::reading::reading_json;
pub use self::regrade::regrade_json;
pub use self::standings::{StandingsExtras, standings_json};
pub use self::trial::show_json;
pub use self::vet::vet_json;
use crate::safe::is_harmless;

/// Writes a value over several lines. Characters that a terminal obeys are escaped (RFC 8259, section
/// 7), so that the text is the same for a program, and nothing in it moves the cursor.
///
/// # Errors
/// When the writer fails.
fn write_json<T: Serialize>(out: &mut dyn Write, value: &T) -> io::Result<()> {
    let mut to = Serializer::with_formatter(&mut *out, Escaping(PrettyFormatter::new()));
    value.serialize(&mut to)?;
    writeln!(out)
}

/// Writes as people read it, with what a terminal obeys escaped.
struct Escaping<'a>(PrettyFormatter<'a>);

impl Formatter for Escaping<'_> {
    fn write_string_fragment<W: ?Sized + Write>(
        &mut self,
        to: &mut W,
        text: &str,
    ) -> io::Result<()> {
        let mut rest = text;
        while let Some((at, found)) = rest.char_indices().find(|it| !is_harmless(it.1)) {
            to.write_all(&rest.as_bytes()[..at])?;
            for unit in found.encode_utf16(&mut [0; 2]) {
                write!(to, "\\u{unit:04x}")?;
            }
            rest = &rest[at + found.len_utf8()..];
        }
        to.write_all(rest.as_bytes())
    }

    fn write_char_escape<W: ?Sized + Write>(
        &mut self,
        to: &mut W,
        it: CharEscape,
    ) -> io::Result<()> {
        self.0.write_char_escape(to, it)
    }

    fn begin_array<W: ?Sized + Write>(&mut self, to: &mut W) -> io::Result<()> {
        self.0.begin_array(to)
    }

    fn end_array<W: ?Sized + Write>(&mut self, to: &mut W) -> io::Result<()> {
        self.0.end_array(to)
    }

    fn begin_array_value<W: ?Sized + Write>(&mut self, to: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_array_value(to, first)
    }

    fn end_array_value<W: ?Sized + Write>(&mut self, to: &mut W) -> io::Result<()> {
        self.0.end_array_value(to)
    }

    fn begin_object<W: ?Sized + Write>(&mut self, to: &mut W) -> io::Result<()> {
        self.0.begin_object(to)
    }

    fn end_object<W: ?Sized + Write>(&mut self, to: &mut W) -> io::Result<()> {
        self.0.end_object(to)
    }

    fn begin_object_key<W: ?Sized + Write>(&mut self, to: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_object_key(to, first)
    }

    fn begin_object_value<W: ?Sized + Write>(&mut self, to: &mut W) -> io::Result<()> {
        self.0.begin_object_value(to)
    }

    fn end_object_value<W: ?Sized + Write>(&mut self, to: &mut W) -> io::Result<()> {
        self.0.end_object_value(to)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_terminal_obeys_is_escaped_and_means_the_same() {
        let text = "a\u{9b}31m\u{202e}b\u{feff}\u{1b}\"\\\n\u{e0041}ü";
        let mut out = Vec::new();
        write_json(&mut out, &serde_json::json!({ "said": [text], "none": {} })).unwrap();
        let out = String::from_utf8(out).unwrap();
        assert!(out.chars().all(is_harmless), "{out:?}");
        assert!(out.contains("\\u009b31m\\u202eb\\ufeff\\u001b") && out.contains('ü'), "{out}");
        let back: serde_json::Value = serde_json::from_str(&out).unwrap();
        assert_eq!(back["said"][0], text);
    }
}
