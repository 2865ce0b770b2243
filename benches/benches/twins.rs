//! What sealed unit tests cost as twins in one process with the answer, against the same files built and run
//! once, as they stand.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;

use fairtrial_benches::{job, pair, print};
use fairtrial_core::language::{Languages, TestRunner};
use fairtrial_core::limits::Limits;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_grading::{Docket, Judge, Tool, Toolbox};
use fairtrial_sandbox::{
    Archive, Collect, Demand, Ending, Job, Sandbox, Tier, helper_main, is_helper,
};

const ROUNDS: usize = 8;
const TESTS: usize = 50;

/// A suite of fifty tests of two assertions each.
struct Suite {
    language: &'static str,
    runner: &'static str,
    answer: (&'static str, &'static str),
    test_file: &'static str,
    tests: String,
    names: String,
}

fn each(one: impl Fn(usize) -> String) -> String {
    (0..TESTS).map(one).collect()
}

fn suites() -> [Suite; 3] {
    let rust = |n: usize| {
        format!(
            "#[test]\nfn n{n}() {{\n    assert_eq!(twice({n}), {});\n    assert!(twice({n}) >= {n});\n}}\n",
            2 * n
        )
    };
    let go = |n: usize| {
        format!(
            "func TestN{n}(t *testing.T) {{\n\tif got := Twice({n}); got != {} {{\n\t\tt.Errorf(\"got %d\", got)\n\t}}\n\tif Twice({n}) < {n} {{\n\t\tt.Error(\"less\")\n\t}}\n}}\n",
            2 * n
        )
    };
    let java = |n: usize| {
        format!(
            "    @Test\n    void n{n}() {{\n        assertEquals({}, Twice.twice({n}));\n        assertTrue(Twice.twice({n}) >= {n});\n    }}\n",
            2 * n
        )
    };
    [
        Suite {
            language: "rust",
            runner: "cargo",
            answer: ("twice.rs", "pub fn twice(n: i32) -> i32 {\n    n * 2\n}\n"),
            test_file: "tests/sealed.rs",
            tests: format!("use answer::twice;\n{}", each(rust)),
            names: each(|n| format!("n{n}\n")),
        },
        Suite {
            language: "go",
            runner: "go",
            answer: ("twice.go", "package answer\n\nfunc Twice(n int) int { return n * 2 }\n"),
            test_file: "twice_test.go",
            tests: format!("package answer\n\nimport \"testing\"\n\n{}", each(go)),
            names: each(|n| format!("TestN{n}\n")),
        },
        Suite {
            language: "java",
            runner: "junit5",
            answer: (
                "Twice.java",
                "public class Twice {\n    static int twice(int n) {\n        return n * 2;\n    }\n}\n",
            ),
            test_file: "TwiceTest.java",
            tests: format!(
                "import static org.junit.jupiter.api.Assertions.*;\nimport org.junit.jupiter.api.Test;\n\nclass TwiceTest {{\n{}}}\n",
                each(java)
            ),
            names: each(|n| format!("TwiceTest.n{n}()\n")),
        },
    ]
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).expect("a path")
}

fn filled(tool: &Tool, suite: &Suite, part: &str) -> String {
    let program = tool.program.to_string_lossy().into_owned();
    let mut text = part.replace("{tool}", &program).replace("{heap_mib}", "384");
    text = text.replace("{file}", suite.answer.0).replace("{files}", suite.test_file);
    for (name, place) in &tool.also {
        text = text.replace(&format!("{{{name}}}"), &place.to_string_lossy());
    }
    match text.strip_prefix("./") {
        Some(own) => format!("{}/{own}", fairtrial_sandbox::WORK),
        None => text,
    }
}

/// Builds the files and runs the tests once.
fn run_plainly(sandbox: &Sandbox, tool: &Tool, suite: &Suite, runner: &TestRunner) {
    let mut files = FileTree::new();
    files.insert(path(suite.answer.0), suite.answer.1.as_bytes().to_vec());
    files.insert(path(suite.test_file), suite.tests.clone().into_bytes());
    for (name, text) in &runner.lay {
        files.insert(path(name), filled(tool, suite, text).into_bytes());
    }
    let mut base = Archive::of(&files).expect("an archive");
    let mut env = BTreeMap::from([
        ("PATH".to_owned(), "/usr/local/bin:/usr/bin:/bin".to_owned()),
        ("HOME".to_owned(), fairtrial_sandbox::WORK.to_owned()),
    ]);
    let language = Languages::shipped();
    let definition = language.find(suite.language).expect("a language");
    for (key, value) in definition.env.iter().chain(&runner.env) {
        env.insert(key.clone(), filled(tool, suite, value));
    }
    for command in runner.build.iter().chain([&runner.command]) {
        let command: Vec<String> = command.iter().map(|it| filled(tool, suite, it)).collect();
        let command: Vec<&str> = command.iter().map(String::as_str).collect();
        let job = Job {
            layers: vec![&base],
            env: env.clone(),
            collect: Collect::All,
            ..job(&command, tool.folders.clone())
        };
        let outcome = sandbox.run(&job).expect("it runs");
        assert_eq!(outcome.ending, Ending::Exited(0), "{outcome:?}");
        base = outcome.collected.expect("files");
    }
}

fn measure(suite: &Suite) {
    let open = || {
        Sandbox::open(Path::new("/proc/self/exe"), Demand::Only(Tier::Full)).expect("the full tier")
    };
    let sandbox = open();
    let languages = Languages::shipped();
    let runner = languages.find(suite.language).expect("a language").runners[suite.runner].clone();
    let mut tools = Toolbox::find(&languages, [suite.language].into_iter(), &sandbox);
    tools.find_runner(&languages, suite.language, suite.runner, &sandbox);
    let tool = tools.runner(suite.language, suite.runner).expect("the runner").clone();
    let brief = format!(
        "+++\ntitle = \"T\"\nform = \"tests\"\nlanguage = \"{}\"\ncategory = \"c\"\ndifficulty = 1\n\
         [tests]\nfile = \"{}\"\nrunner = \"{}\"\n+++\nDouble.\n",
        suite.language, suite.answer.0, suite.runner
    );
    let mut docket = FileTree::new();
    for (name, text) in [
        ("docket.toml", "title = \"D\""),
        ("t/brief.md", brief.as_str()),
        ("t/sealed/tests.list", suite.names.as_str()),
        (format!("t/sealed/{}", suite.test_file).as_str(), suite.tests.as_str()),
    ] {
        docket.insert(path(name), text.as_bytes().to_vec());
    }
    let docket = Docket::parse("d", &docket.into(), &languages).expect("a docket");
    let answer = FileTree::from([(path(suite.answer.0), suite.answer.1.as_bytes().to_vec())]);
    let judge = Judge::new(languages, tools, open());
    let found = pair(
        ROUNDS,
        || {
            let judged = judge.judge_files(&docket.tasks[0], &answer, Limits::default(), false);
            assert!(judged.verdict.is_pass() && judged.notes.is_empty(), "{judged:?}");
        },
        || run_plainly(&sandbox, &tool, suite, &runner),
    );
    print(&format!("{}, 50 tests as twins, against a plain build and run", suite.runner), found);
}

fn main() -> ExitCode {
    if is_helper() {
        return helper_main();
    }
    for suite in suites() {
        measure(&suite);
    }
    ExitCode::SUCCESS
}
