//! How text for people looks.

use fairtrial_core::verdict::Verdict;

/// How text for people looks. Colour never says anything that the words do not.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Style {
    /// Columns.
    pub width: usize,
    /// Whether there is colour.
    pub colour: bool,
}

impl Style {
    /// Plain text of 100 columns.
    #[must_use]
    pub const fn plain() -> Self {
        Self { width: 100, colour: false }
    }

    fn paint(self, code: &str, text: &str) -> String {
        if self.colour { format!("\u{1b}[{code}m{text}\u{1b}[0m") } else { text.to_owned() }
    }

    /// Text that stands out.
    #[must_use]
    pub fn bold(self, text: &str) -> String {
        self.paint("1", text)
    }

    /// Text that stays back.
    #[must_use]
    pub fn dim(self, text: &str) -> String {
        self.paint("2", text)
    }

    /// Text in the colour of a verdict.
    #[must_use]
    pub fn verdict(self, verdict: Verdict, text: &str) -> String {
        match verdict {
            Verdict::Pass => self.paint("32", text),
            Verdict::Fail(_) => self.paint("31", text),
            Verdict::Void(_) => self.paint("33", text),
        }
    }

    /// A heading with a line to the right edge.
    #[must_use]
    pub fn heading(self, text: &str) -> String {
        let used = unicode_width::UnicodeWidthStr::width(text) + 4;
        let rule = "─".repeat(self.width.saturating_sub(used).max(3));
        format!("{} {} {}", self.dim("──"), self.bold(text), self.dim(&rule))
    }
}
