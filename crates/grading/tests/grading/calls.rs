//! What the form `call` offers beside plain values: objects, checkers, print, time, isolation.

use fairtrial_core::judgement::Judgement;
use fairtrial_core::verdict::FailReason;

use crate::env::{PASS, TestTask, fail, python};
use crate::needs;

const HOLD: &str = r#"{"steps": [{"new": [2]}, {"call": "put", "args": ["cod"], "returns": 1},
    {"call": "put", "args": ["eel"], "returns": 2}, {"call": "put", "args": ["ray"], "raises": "Full"},
    {"get": "load", "returns": ["eel", "cod"], "any_order": true}]}"#;

fn with_steps(language: &str, file: &str, code: &str) -> Judgement {
    let sealed = HOLD.replace('\n', " ");
    let sealed = &[("calls.jsonl", sealed.as_str())];
    TestTask {
        form: "call",
        language,
        file,
        table: "name = \"Hold\"",
        sealed,
        ..TestTask::default()
    }
    .judge(&[(file, code)])
}

#[test]
fn an_object_is_made_and_each_step_is_held_against_what_is_expected() {
    if !needs::there(&["node"]) {
        return;
    }
    let code = "class Full(Exception): pass\nclass Hold:\n    def __init__(self, size): self.size, self.load = size, []\n    \
                def put(self, it):\n        if len(self.load) == self.size: raise Full(it)\n        \
                self.load.append(it)\n        return len(self.load)\n";
    assert_eq!(with_steps("python", "a.py", code).verdict, PASS);
    let wrong = with_steps("python", "a.py", &code.replace("raise Full(it)", "return 0"));
    let test = &wrong.tests[0];
    assert_eq!(wrong.verdict, fail(FailReason::WrongResult));
    assert_eq!(test.summary, "step 4: returned a value where an error was expected");
    assert_eq!(test.input, "(2); .put(\"cod\"); .put(\"eel\"); .put(\"ray\"); .load");
    let script = "class Full extends Error {}\nclass Hold { constructor(size) { this.size = size; this.load = [] }\n\
                  put(it) { if (this.load.length === this.size) { const e = new Full(it); e.name = 'Full'; throw e }\n\
                  return this.load.push(it) } }\nmodule.exports = { Hold }\n";
    assert_eq!(with_steps("javascript", "a.js", script).verdict, PASS);
    let none = with_steps("python", "a.py", "class Hold:\n    def __init__(self): pass\n");
    assert_eq!(none.verdict, fail(FailReason::Crashed));
}

#[test]
fn what_is_printed_counts_where_it_is_asked_for() {
    let sealed = "{\"args\": [2], \"prints\": \"tide 2\\n\"}\n\
                  {\"args\": [5], \"returns\": 5, \"prints\": \"tide 5\"}";
    let code = "import os\ndef f(x):\n    print('tide', x)\n    return x\n";
    assert_eq!(python(sealed, code).verdict, PASS);
    // By whatever way it gets there.
    let other = "import subprocess\ndef f(x):\n    subprocess.run(['echo', 'tide', str(x)])\n    return x\n";
    assert_eq!(python(sealed, other).verdict, PASS);
    let wrong = python(sealed, &code.replace("'tide', x", "'tide', 2"));
    assert_eq!(wrong.tests.iter().filter(|it| it.failed.is_none()).count(), 1);
    assert_eq!(wrong.tests[1].summary, "printed something else");
}

#[test]
fn a_call_has_the_time_it_is_given() {
    let sealed = "{\"args\": [0.1], \"returns\": 0.1, \"time\": 5}\n\
                  {\"args\": [0.6], \"returns\": 0.6, \"time\": \"200 ms\"}";
    let code = "import time\ndef f(x):\n    t = time.process_time()\n    \
                while time.process_time() - t < x: pass\n    return x\n";
    let judged = python(sealed, code);
    assert_eq!(judged.verdict, fail(FailReason::TimedOut));
    assert_eq!(judged.tests[0].failed, None);
    assert_eq!(judged.tests[1].summary, "used more than 0.20 s of processor time");
}

/// Says whether every number of a list divides the one that was given.
const CHECKER: &str = "import json, sys\nq = json.load(sys.stdin)\nstep = q['steps'][0]\n\
    n, found = step['args'][0], step.get('returned')\n\
    if not isinstance(found, list):\n    print(json.dumps({'pass': False, 'why': 'no list'}))\n    sys.exit()\n\
    bad = [x for x in found if n % x]\n\
    if bad: print(json.dumps({'pass': False, 'why': f'{bad[0]} does not divide {n}'}))\n\
    elif len(found) < q['check']['least']: print(json.dumps({'pass': False, 'points': len(found) / q['check']['least'], 'why': 'too few'}))\n\
    else: print(json.dumps({'pass': True}))\n";

#[test]
fn a_checker_judges_what_no_value_can_be_written_down_for() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed =
        &[("calls.jsonl", "{\"args\": [12], \"check\": {\"least\": 4}}"), ("divides.py", CHECKER)];
    for language in ["python", "javascript"] {
        let file = if language == "python" { "a.py" } else { "a.js" };
        let table = "name = \"f\"\nchecker = \"divides.py\"";
        let task = TestTask { form: "call", language, file, table, sealed, ..TestTask::default() };
        let judge = |value: &str| {
            let code = if language == "python" {
                format!("def f(n): return {value}\n")
            } else {
                format!("function f(n) {{ return {value} }}\n")
            };
            task.judge(&[(file, &code)])
        };
        assert_eq!(judge("[1, 2, 3, 4, 6]").verdict, PASS);
        let wrong = judge("[1, 5]");
        assert_eq!(wrong.verdict, fail(FailReason::WrongResult));
        assert_eq!(wrong.tests[0].found, "5 does not divide 12");
        let part = judge("[1, 2, 3]");
        assert_eq!((part.verdict, part.credit()), (fail(FailReason::WrongResult), 0.75));
        // What brings the checker down is no pass.
        let mut down = judge("[0]");
        let test = down.tests.remove(0);
        assert_eq!(test.failed, Some(FailReason::WrongResult));
        assert_eq!(test.summary, "the checker gave no verdict");
        assert!(test.found.contains("ZeroDivisionError"), "{}", test.found);
    }
}

#[test]
fn an_isolated_call_knows_nothing_of_the_others_and_spoils_none() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed = &[(
        "calls.jsonl",
        "{\"args\": [1], \"returns\": 1}\n{\"args\": [0], \"returns\": 0}\n\
         {\"args\": [2], \"returns\": 1}\n{\"args\": [3], \"returns\": 1}\n{\"args\": [4], \"returns\": 1}\n\
         {\"args\": [5], \"returns\": 1}\n{\"args\": [6], \"returns\": 1}",
    )];
    let python_code = "import os\nn = 0\ndef f(x):\n    global n\n    n += 1\n    if x == 0: os._exit(4)\n    \
                if x == 3: os.kill(os.getpid(), 11)\n    return n\n";
    let script = "let n = 0\nfunction f(x) { n += 1; if (x === 0) process.exit(4)\n\
                  if (x === 3) process.kill(process.pid, 'SIGSEGV')\nreturn n }\n";
    for (language, file, code) in [("python", "a.py", python_code), ("javascript", "a.js", script)]
    {
        let table = "name = \"f\"\nisolate = true";
        let task = TestTask { form: "call", language, file, table, sealed, ..TestTask::default() };
        let judged = task.judge(&[(file, code)]);
        let failed: Vec<_> = judged.tests.iter().map(|it| it.failed).collect();
        let crashed = Some(FailReason::Crashed);
        assert_eq!(failed, [None, crashed, None, crashed, None, None, None], "{language}");
        assert_eq!(judged.tests[1].summary, "ended with status 4");
        assert_eq!(judged.tests[3].summary, "ended by signal 11 (SIGSEGV)");
    }
    // Without isolation the second call would have found the first.
    let table = "name = \"f\"";
    let plain = TestTask {
        form: "call",
        language: "python",
        file: "a.py",
        table,
        sealed,
        ..TestTask::default()
    };
    assert_eq!(plain.judge(&[("a.py", python_code)]).tests[2].failed, None);
    assert_ne!(plain.judge(&[("a.py", python_code)]).tests[5].failed, None);
}

#[test]
fn a_failure_that_comes_and_goes_is_shown_as_unstable() {
    let sealed = &[(
        "calls.jsonl",
        "{\"args\": [1], \"returns\": 1}\n{\"args\": [2], \"returns\": 2}\n{\"args\": [3], \"returns\": 0}",
    )];
    let code = "import time\ndef f(x):\n    if x == 2: return 2 if time.time_ns() // 1000 % 2 else 0\n    return x\n";
    let head = "rerun_failures = 12";
    let table = "name = \"f\"";
    let task = TestTask {
        form: "call",
        language: "python",
        file: "a.py",
        head,
        table,
        sealed,
        time: 0,
        disk: "",
    };
    let judged = task.judge(&[("a.py", code)]);
    assert_eq!(judged.verdict, fail(FailReason::WrongResult));
    let unstable: Vec<_> = judged.tests.iter().map(|it| it.unstable.map(|it| it.runs)).collect();
    assert_eq!(unstable, [None, Some(13), None]);
    assert!(judged.notes[0].starts_with("unstable: `call 2` failed in "), "{:?}", judged.notes);
}

const BERTHS: &str = "{\"args\": [[3, 9, 4], \"cod\"], \"returns\": {\"sum\": 16, \"name\": \"cod\"}}\n\
    {\"args\": [[], \"\"], \"raises\": \"Empty\"}";

#[test]
fn typescript_is_called_with_its_types_taken_out() {
    if !needs::there(&["node", "tsc"]) {
        return;
    }
    let task = TestTask {
        form: "call",
        language: "typescript",
        file: "a.ts",
        table: "name = \"f\"",
        sealed: &[("calls.jsonl", BERTHS)],
        time: 5,
        ..TestTask::default()
    };
    let code = "interface Out { sum: number; name: string }\nclass Empty extends Error { override name = 'Empty' }\n\
                export function f(xs: readonly number[], name: string): Out {\n  if (!xs.length) throw new Empty('none')\n  \
                return { sum: xs.reduce((a: number, b: number) => a + b, 0), name } as Out\n}\n";
    assert_eq!(task.judge(&[("a.ts", code)]).verdict, PASS);
    let broken = task.judge(&[("a.ts", "export function f(: number {")]);
    assert_eq!(broken.verdict, fail(FailReason::DidNotBuild));
    assert!(broken.message.unwrap().contains("a.ts:1:"));
}

#[test]
fn rust_is_called_through_a_shim_that_finds_its_types() {
    let table = "name = \"f\"";
    let sealed = &[("calls.jsonl", BERTHS)];
    let task = TestTask {
        form: "call",
        language: "rust",
        file: "a.rs",
        table,
        sealed,
        time: 5,
        ..TestTask::default()
    };
    let code = "use std::collections::HashMap;\n#[derive(Debug)] pub enum E { Empty }\n#[derive(Debug)]\n\
                pub struct Out;\npub fn f(xs: &[i64], name: &str) -> Result<HashMap<String, String>, E> {\n    \
                if xs.is_empty() { return Err(E::Empty) }\n    \
                Ok(HashMap::from([(\"name\".to_owned(), name.to_owned()), (\"sum\".to_owned(), xs.iter().sum::<i64>().to_string())]))\n}\nfn main() {}\n";
    let judged = task.judge(&[("a.rs", code)]);
    assert_eq!(judged.tests[0].failed, Some(FailReason::WrongResult), "a text is no number");
    assert_eq!(judged.tests[1].failed, None, "{judged:#?}");
    let steps = HOLD.replace('\n', " ");
    let sealed = &[("calls.jsonl", steps.as_str())];
    let table = "name = \"Hold\"";
    let task = TestTask {
        form: "call",
        language: "rust",
        file: "a.rs",
        table,
        sealed,
        time: 5,
        ..TestTask::default()
    };
    let code = "#[derive(Debug)] pub struct Full(String);\npub struct Hold { size: usize, pub load: Vec<String> }\n\
                impl Hold {\n    pub fn new(size: usize) -> Self { Self { size, load: vec![] } }\n    \
                pub fn put(&mut self, it: &str) -> Result<usize, Full> {\n        \
                if self.load.len() == self.size { return Err(Full(it.into())) }\n        \
                self.load.push(it.into());\n        Ok(self.load.len())\n    }\n}\n";
    let judged = task.judge(&[("a.rs", code)]);
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
    let panics = task
        .judge(&[("a.rs", &code.replace("return Err(Full(it.into()))", "panic!(\"no room\")"))]);
    assert_eq!(panics.tests[0].summary, "step 4: raised panic");
    let broken = task.judge(&[(
        "a.rs",
        "pub struct Hold;\nimpl Hold { pub fn new(s: String) -> Self { Hold } }",
    )]);
    assert_eq!(broken.verdict, fail(FailReason::DidNotBuild));
}
