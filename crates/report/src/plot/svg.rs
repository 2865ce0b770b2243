//! Drawings as SVG, piece by piece: shapes have classes, a style gives these their colours.

use std::fmt::Write as _;

/// Where a text stands beside its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Anchor {
    /// It begins there.
    Start,
    /// It is in the middle there.
    Middle,
    /// It ends there.
    End,
}

/// A drawing.
#[derive(Debug)]
pub struct Drawing {
    out: String,
}

impl Drawing {
    /// An empty drawing of this size, which is also said in words.
    pub fn new(width: f64, height: f64, label: &str) -> Self {
        let mut drawing = Self { out: String::new() };
        let label = escaped(label);
        let _ = write!(
            drawing.out,
            "<svg xmlns=\"http://www.w3.org/2000/svg\" class=\"plot\" viewBox=\"0 0 {width:.0} {height:.0}\" \
             role=\"img\" aria-label=\"{label}\"><title>{label}</title>"
        );
        drawing
    }

    /// A straight line.
    pub fn line(&mut self, from: (f64, f64), to: (f64, f64), class: &str) {
        let _ = write!(
            self.out,
            "<line x1=\"{:.1}\" y1=\"{:.1}\" x2=\"{:.1}\" y2=\"{:.1}\" class=\"{class}\"/>",
            from.0, from.1, to.0, to.1
        );
    }

    /// A line through points.
    pub fn path(&mut self, points: &[(f64, f64)], class: &str) {
        let points: Vec<String> =
            points.iter().map(|it| format!("{:.1},{:.1}", it.0, it.1)).collect();
        let _ = write!(self.out, "<polyline points=\"{}\" class=\"{class}\"/>", points.join(" "));
    }

    /// A disc, with a text that is shown where one points at it.
    pub fn disc(&mut self, at: (f64, f64), radius: f64, class: &str, hint: &str) {
        let _ = write!(
            self.out,
            "<circle cx=\"{:.1}\" cy=\"{:.1}\" r=\"{radius:.1}\" class=\"{class}\"><title>{}</title></circle>",
            at.0,
            at.1,
            escaped(hint)
        );
    }

    /// A box, more or less opaque, with a text that is shown where one points at it.
    pub fn area(
        &mut self,
        at: (f64, f64),
        size: (f64, f64),
        class: &str,
        opacity: f64,
        hint: &str,
    ) {
        let _ = write!(
            self.out,
            "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{:.1}\" class=\"{class}\" \
             fill-opacity=\"{opacity:.2}\"><title>{}</title></rect>",
            at.0,
            at.1,
            size.0,
            size.1,
            escaped(hint)
        );
    }

    /// A text.
    pub fn text(&mut self, at: (f64, f64), anchor: Anchor, class: &str, text: &str) {
        let anchor = match anchor {
            Anchor::Start => "start",
            Anchor::Middle => "middle",
            Anchor::End => "end",
        };
        let _ = write!(
            self.out,
            "<text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"{anchor}\" class=\"{class}\">{}</text>",
            at.0,
            at.1,
            escaped(text)
        );
    }

    /// A text that climbs to the right.
    pub fn slanted(&mut self, at: (f64, f64), class: &str, text: &str) {
        let _ = write!(
            self.out,
            "<text transform=\"translate({:.1} {:.1}) rotate(-40)\" class=\"{class}\">{}</text>",
            at.0,
            at.1,
            escaped(text)
        );
    }

    /// The drawing as a text.
    pub fn finish(mut self) -> String {
        self.out.push_str("</svg>");
        self.out
    }
}

/// A text that is nothing but text in XML and HTML, between tags and in quotes.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in crate::safe::safe(text).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_a_text_is_markup() {
        let mut drawing = Drawing::new(10.0, 10.0, "a\"><script>");
        drawing.text((1.0, 2.0), Anchor::End, "tx", "<b>&'\u{202e}");
        let svg = drawing.finish();
        assert!(svg.contains("&lt;b&gt;&amp;&#39;\\u{202e}</text>"), "{svg}");
        assert!(!svg.contains("<script>") && svg.ends_with("</svg>"), "{svg}");
    }
}
