//! The form `tests`, by each runner: what is right holds, what is wrong is named, what cheats shows.

use fairtrial_core::judgement::Judgement;
use fairtrial_core::verdict::FailReason;

use crate::env::{PASS, TestTask, fail};
use crate::needs;

/// A runner with sealed tests, and answers to them.
pub struct SuiteOfRunner {
    language: &'static str,
    pub name: &'static str,
    file: &'static str,
    pub sealed: &'static [(&'static str, &'static str)],
    pub right: &'static str,
}

pub const PYTEST: SuiteOfRunner = SuiteOfRunner {
    language: "python",
    name: "pytest",
    file: "toll.py",
    sealed: &[
        (
            "test_toll.py",
            "import pytest\nfrom toll import toll\n\ndef test_short():\n    assert toll(3) == 6\n\n\
          @pytest.mark.parametrize('length', [10, 20])\ndef test_long(length):\n    assert toll(length) == length * 2\n\n\
          class TestEdge:\n    def test_none(self):\n        with pytest.raises(ValueError):\n            toll(-1)\n",
        ),
        (
            "tests.list",
            "test_toll.py::test_short\ntest_toll.py::test_long[10]\ntest_toll.py::test_long[20]\ntest_toll.py::TestEdge::test_none\n",
        ),
    ],
    right: "def toll(n):\n    if n < 0: raise ValueError(n)\n    return n * 2\n",
};

pub const UNITTEST: SuiteOfRunner = SuiteOfRunner {
    name: "unittest",
    sealed: &[
        (
            "test_toll.py",
            "import unittest\nfrom toll import toll\n\nclass Toll(unittest.TestCase):\n    def test_short(self):\n        \
          self.assertEqual(toll(3), 6)\n\n    def test_none(self):\n        with self.assertRaises(ValueError):\n            toll(-1)\n",
        ),
        ("tests.list", "test_toll.Toll.test_short\ntest_toll.Toll.test_none\n"),
    ],
    ..PYTEST
};

pub const NODE: SuiteOfRunner = SuiteOfRunner {
    language: "javascript",
    name: "node",
    file: "toll.js",
    sealed: &[
        (
            "toll.test.js",
            "const { test, describe, it } = require('node:test');\nconst assert = require('node:assert');\nconst { toll } = require('./toll.js');\n\n\
          test('short', () => {\n  assert.strictEqual(toll(3), 6);\n});\n\ndescribe('edges', () => {\n  it('throws', async () => {\n    assert.throws(() => toll(-1), RangeError);\n  });\n});\n",
        ),
        ("tests.list", "short\nedges > throws\n"),
    ],
    right: "exports.toll = (n) => {\n  if (n < 0) throw new RangeError('no');\n  return n * 2;\n};\n",
};

pub const CARGO: SuiteOfRunner = SuiteOfRunner {
    language: "rust",
    name: "cargo",
    file: "toll.rs",
    sealed: &[
        (
            "tests/sealed.rs",
            "use answer::toll;\n\n#[test]\nfn short() {\n    assert_eq!(toll(3), 6);\n}\n\n#[test]\n#[should_panic]\nfn none() {\n    toll(-1);\n}\n",
        ),
        ("tests.list", "short\nnone\n"),
    ],
    right: "pub fn toll(n: i32) -> i32 {\n    assert!(n >= 0);\n    n * 2\n}\n",
};

pub const GO: SuiteOfRunner = SuiteOfRunner {
    language: "go",
    name: "go",
    file: "toll.go",
    sealed: &[
        (
            "toll_test.go",
            "package answer\n\nimport \"testing\"\n\nfunc TestShort(t *testing.T) {\n\tif Toll(3) != 6 {\n\t\tt.Error(\"short\")\n\t}\n}\n",
        ),
        ("tests.list", "TestShort\n"),
    ],
    right: "package answer\n\nfunc Toll(n int) int {\n\treturn n * 2\n}\n",
};

pub const JUNIT: SuiteOfRunner = SuiteOfRunner {
    language: "java",
    name: "junit5",
    file: "Toll.java",
    sealed: &[
        (
            "TollTest.java",
            "import static org.junit.jupiter.api.Assertions.*;\nimport org.junit.jupiter.api.Test;\n\nclass TollTest {\n    @Test\n    void small() {\n        assertEquals(6, Toll.toll(3));\n    }\n\n    @Test\n    void none() {\n        assertThrows(IllegalArgumentException.class, () -> Toll.toll(-1));\n    }\n}\n",
        ),
        ("tests.list", "TollTest.small()\nTollTest.none()\n"),
    ],
    right: "public class Toll {\n    static int toll(int n) {\n        if (n < 0) throw new IllegalArgumentException();\n        return n * 2;\n    }\n}\n",
};

const TAP: SuiteOfRunner = SuiteOfRunner {
    language: "shell",
    name: "tap",
    file: "toll.sh",
    sealed: &[
        (
            "tests.sh",
            "echo 1..2\n[ \"$(sh toll.sh 3)\" = 6 ] && echo 'ok 1 - short' || echo 'not ok 1 - short'\nsh toll.sh -1 >/dev/null 2>&1 && echo 'not ok 2 - none' || echo 'ok 2 - none'\n",
        ),
        ("tests.list", "short\nnone\n"),
    ],
    right: "[ \"$1\" -ge 0 ] || exit 1\necho $(( $1 * 2 ))\n",
};

impl SuiteOfRunner {
    pub fn judge_all(&self, answer: &[(&str, &str)]) -> Judgement {
        self.judge_with("", answer)
    }

    /// Judges with more lines in the task's table.
    pub fn judge_with(&self, more: &str, answer: &[(&str, &str)]) -> Judgement {
        let table = format!("runner = \"{}\"\n{more}", self.name);
        let SuiteOfRunner { language, file, sealed, .. } = self;
        TestTask {
            form: "tests",
            language,
            file,
            table: &table,
            sealed,
            head: "",
            time: 12,
            disk: "",
        }
        .judge(answer)
    }

    pub fn judge(&self, code: &str) -> Judgement {
        self.judge_all(&[(self.file, code)])
    }

    /// Judges in one process with the tests.
    pub fn judge_shared(&self, code: &str) -> Judgement {
        self.judge_with("process = \"shared\"", &[(self.file, code)])
    }

    /// What holds, what fails, and what cannot be loaded.
    fn check(&self) {
        let right = self.judge(self.right);
        assert_eq!(right.verdict, PASS, "{}: {right:#?}", self.name);
        let wrong = self.judge(&self.right.replace("* 2", "* 3"));
        assert_eq!(wrong.verdict, fail(FailReason::WrongResult), "{}: {wrong:#?}", self.name);
        assert!(wrong.tests.iter().any(|it| it.failed.is_some() && it.summary == "failed"));
        assert_eq!(wrong.tests.len(), right.tests.len());
        let broken = self.judge("}}} nothing of the kind (((");
        assert!(
            !broken.verdict.is_pass() && !broken.verdict.is_void(),
            "{}: {broken:#?}",
            self.name
        );
        assert_ne!(broken.verdict, fail(FailReason::Tampering), "{}: {broken:#?}", self.name);
        // What goes back to the candidate quotes nothing sealed.
        for judged in [&right, &wrong, &broken] {
            let message = judged.message.as_deref().unwrap_or_default();
            for sealed in ["toll(3)", "assert", "TollTest", "test_toll", "toll.test", "short"] {
                assert!(!message.contains(sealed), "{}: {message}", self.name);
            }
        }
    }
}

#[test]
fn pytest_runs_the_sealed_tests() {
    if !needs::there(&["pytest"]) {
        return;
    }
    PYTEST.check();
    let noisy = format!(
        "import sys, logging, threading\nprint('{{\"test\": 1}}')\nlogging.warning('x')\nthreading.Thread(target=print, args=('hello',)).start()\n{}",
        PYTEST.right
    );
    assert_eq!(PYTEST.judge(&noisy).verdict, PASS);
}

#[test]
fn unittest_runs_the_sealed_tests() {
    UNITTEST.check();
}

#[test]
fn node_runs_the_sealed_tests() {
    if !needs::there(&["node"]) {
        return;
    }
    NODE.check();
}

#[test]
fn cargo_runs_the_sealed_tests() {
    CARGO.check();
}

#[test]
fn go_runs_the_sealed_tests() {
    if !needs::there(&["go"]) {
        return;
    }
    GO.check();
}

#[test]
fn junit_runs_the_sealed_tests() {
    if !needs::there(&["junit5"]) {
        return;
    }
    JUNIT.check();
    // Of what else is installed as jars, an answer sees nothing.
    let other =
        JUNIT.right.replace("public class", "import org.hamcrest.Matchers;\n\npublic class");
    let judged = JUNIT.judge(&other);
    assert_eq!(judged.verdict, fail(FailReason::DidNotBuild), "{judged:#?}");
}

#[test]
fn a_program_that_writes_tap_runs_the_sealed_tests() {
    TAP.check();
}
