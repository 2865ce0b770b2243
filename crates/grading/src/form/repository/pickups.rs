//! Files that runners pick up by themselves, whatever the command says: they are not taken from a change.

use fairtrial_core::testrun::PrintedReport;
use fairtrial_core::tree::TreePath;

/// What Python itself, and its runners, load before any test.
const PYTHON: &[&str] = &[
    "conftest.py",
    "pytest.ini",
    ".pytest.ini",
    "sitecustomize.py",
    "usercustomize.py",
    "*.pth",
    "*.dist-info/",
    "*.egg-info/",
    "pytest.py",
    "pytest/",
    "_pytest/",
    "pluggy/",
    "iniconfig/",
    "unittest.py",
    "unittest/",
    "pyvenv.cfg",
];

const JAVASCRIPT: &[&str] = &[
    ".npmrc",
    "node.config.json",
    ".noderc",
    ".mocharc*",
    "jest.config.*",
    "vitest.config.*",
    "node_modules/",
];

const RUST: &[&str] = &[".cargo/", "rust-toolchain", "rust-toolchain.toml"];

const GO: &[&str] = &["*_test.go", "go.work", "go.work.sum"];

const JAVA: &[&str] = &["META-INF/", "junit-platform.properties"];

/// Whether a path is of that kind: a name, with at most one `*`, or a folder before `/`, at any depth.
pub fn picked_up(report: PrintedReport, path: &TreePath) -> bool {
    let lists: &[&[&str]] = match report {
        PrintedReport::Pytest | PrintedReport::Unittest => &[PYTHON],
        PrintedReport::Node => &[JAVASCRIPT],
        PrintedReport::Cargo => &[RUST],
        PrintedReport::Go => &[GO],
        // Any runner may have written these.
        PrintedReport::Junit | PrintedReport::Tap => &[PYTHON, JAVASCRIPT, RUST, JAVA],
    };
    lists.iter().copied().flatten().any(|known| fits(known, path))
}

fn fits(known: &str, path: &TreePath) -> bool {
    match known.strip_suffix('/') {
        Some(folder) => path.parts().rev().skip(1).any(|part| fits_name(folder, part)),
        None => fits_name(known, path.file_name()),
    }
}

fn fits_name(pattern: &str, name: &[u8]) -> bool {
    match pattern.split_once('*') {
        None => pattern.as_bytes() == name,
        Some((head, tail)) => {
            name.len() >= head.len() + tail.len()
                && name.starts_with(head.as_bytes())
                && name.ends_with(tail.as_bytes())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runners_files_are_known_at_any_depth_and_others_are_not() {
        let known =
            |report, path: &str| picked_up(report, &TreePath::parse(path.as_bytes()).unwrap());
        for path in [
            "conftest.py",
            "a/b/conftest.py",
            "x-1.dist-info/entry_points.txt",
            "pytest.py",
            "src/evil.pth",
        ] {
            assert!(known(PrintedReport::Pytest, path), "{path}");
        }
        for path in ["src/tides.py", "pyproject.toml", "pytest_tides.py", "tests/test_x.py"] {
            assert!(!known(PrintedReport::Pytest, path), "{path}");
        }
        assert!(
            known(PrintedReport::Cargo, ".cargo/config")
                && known(PrintedReport::Cargo, "a/.cargo/config.toml")
        );
        assert!(known(PrintedReport::Node, "test/node_modules/assert/index.js"));
        assert!(
            !known(PrintedReport::Node, "package.json")
                && !known(PrintedReport::Cargo, "Cargo.toml")
        );
    }
}
