//! Events of Node's own runner, as our reporter writes them: one JSON object a line, for each test that
//! ended.

use serde::Deserialize;

use super::{ReportedTest, Status, TESTS_MAX, TestReport};

#[derive(Deserialize)]
struct NodeEvent {
    name: String,
    /// How many suites and tests it lies in.
    nesting: usize,
    #[serde(default)]
    file: Option<String>,
    passed: bool,
    #[serde(default)]
    skipped: bool,
    /// Whether it holds other tests, and is none itself.
    #[serde(default)]
    is_suite: bool,
    #[serde(default)]
    message: String,
}

/// Deepest nesting that is followed.
const DEPTH_MAX: usize = 16;

/// Reads events. A suite is reported behind what is in it, so names are put together from its end.
pub(super) fn read(text: &str, root: &str) -> TestReport {
    // What is inside of suites that have not been reported yet: the nesting, the parts of the name, the
    // test, and whether it holds others.
    let mut open: Vec<Pending> = Vec::new();
    let mut report = TestReport::default();
    for line in text.lines() {
        let Ok(event) = serde_json::from_str::<NodeEvent>(line) else { continue };
        let nesting = event.nesting.min(DEPTH_MAX);
        let inside = open.iter().rposition(|it| it.nesting <= nesting).map_or(0, |at| at + 1);
        let holds_others = inside < open.len();
        for pending in &mut open[inside..] {
            pending.parts.insert(0, event.name.clone());
            pending.nesting = nesting;
        }
        if !event.is_suite && !holds_others {
            let status = match (event.skipped, event.passed) {
                (true, _) => Status::Skipped,
                (false, true) => Status::Passed,
                (false, false) => Status::Failed,
            };
            let parts = vec![event.name];
            open.push(Pending { nesting, parts, status, message: event.message });
        }
        if nesting == 0 {
            let prefix = format!("{root}/");
            let file = event.file.unwrap_or_default();
            let file = file.strip_prefix(&prefix).unwrap_or(&file);
            for Pending { parts, status, message, .. } in open.drain(..) {
                let name = parts.join(" > ");
                let name = if file.is_empty() { name } else { format!("{file} > {name}") };
                report.tests.push(ReportedTest::new(&name, status, &message));
            }
        }
        if report.tests.len() + open.len() > TESTS_MAX {
            break;
        }
    }
    report
}

struct Pending {
    nesting: usize,
    parts: Vec<String>,
    status: Status,
    message: String,
}
