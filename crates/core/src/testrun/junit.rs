//! JUnit XML: `testcase` elements, however deep, with `failure`, `error` or `skipped` in them.

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use super::{ReportError, ReportedTest, Status, TESTS_MAX, TestReport};

/// Deepest nesting that is followed.
const DEPTH_MAX: usize = 64;

pub(super) fn read(text: &str) -> Result<TestReport, ReportError> {
    let malformed = |why: String| ReportError::Malformed(why);
    let mut reader = Reader::from_str(text);
    let (mut report, mut open, mut seen) = (TestReport::default(), Open::default(), false);
    loop {
        let event = reader.read_event().map_err(|error| malformed(error.to_string()))?;
        match event {
            Event::Start(tag) => {
                open.path.push(tag.name().as_ref().to_vec());
                if open.path.len() > DEPTH_MAX {
                    return Err(malformed("it is nested too deep".to_owned()));
                }
                seen = true;
                open.begin(&tag)?;
            }
            Event::Empty(tag) => {
                seen = true;
                open.path.push(tag.name().as_ref().to_vec());
                open.begin(&tag)?;
                open.end(&mut report);
            }
            Event::End(_) => open.end(&mut report),
            Event::Text(text) => open.say(&text.decode().unwrap_or_default()),
            Event::CData(text) => open.say(&text.decode().unwrap_or_default()),
            Event::DocType(_) => return Err(malformed("it has a document type".to_owned())),
            Event::Eof => break,
            _ => {}
        }
        if report.tests.len() > TESTS_MAX {
            return Err(ReportError::TooMany);
        }
    }
    if !seen || !open.path.is_empty() {
        return Err(malformed("it ends too early".to_owned()));
    }
    Ok(report)
}

/// Where in the document the reader is.
#[derive(Default)]
struct Open {
    path: Vec<Vec<u8>>,
    case: Option<(String, Status, String)>,
}

impl Open {
    fn begin(&mut self, tag: &BytesStart<'_>) -> Result<(), ReportError> {
        match tag.name().as_ref() {
            b"testcase" => {
                let name = attribute(tag, "name");
                let Some(name) = name.filter(|name| !name.is_empty()) else {
                    return Err(ReportError::Malformed("a test without a name".to_owned()));
                };
                let full = match attribute(tag, "classname").filter(|it| !it.is_empty()) {
                    Some(class) => format!("{class}.{name}"),
                    None => name,
                };
                self.case = Some((full, Status::Passed, String::new()));
            }
            kind @ (b"failure" | b"error" | b"skipped") => {
                let skipped = kind == b"skipped";
                if let Some((_, status, said)) = &mut self.case {
                    *status = match (*status, skipped) {
                        (Status::Failed, _) | (_, false) => Status::Failed,
                        _ => Status::Skipped,
                    };
                    if let Some(message) = attribute(tag, "message") {
                        said.push_str(&message);
                        said.push('\n');
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn say(&mut self, text: &str) {
        let inside = self.path.last().map(Vec::as_slice);
        if let (Some(b"failure" | b"error"), Some((_, _, said))) = (inside, &mut self.case) {
            said.push_str(text);
        }
    }

    fn end(&mut self, report: &mut TestReport) {
        let closed = self.path.pop();
        if closed.as_deref() == Some(b"testcase")
            && let Some((name, status, said)) = self.case.take()
        {
            report.tests.push(ReportedTest::new(&name, status, &said));
        }
    }
}

fn attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    let found = tag.try_get_attribute(name).ok()??;
    Some(found.unescape_value().ok()?.into_owned())
}
