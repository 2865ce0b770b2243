//! A record to look at: three candidates of known skill at eight small tasks of two categories.

use serde_json::json;

use crate::env::TestEnv;

/// Tasks.
pub const TASKS: usize = 8;

/// Lays out the docket and the plan, with two samples each: `tern` solves all, `auk` half, `gull` nothing, of which
/// the last answer is hostile to whoever shows it.
pub fn lay_out(env: &TestEnv, head: &str) {
    env.write(
        "docket/docket.toml",
        "title = \"Regatta\"\n\n[weights]\ntides = 3.0\nberths = 1.0\n",
    );
    for task in 1..=TASKS {
        let category = if task % 2 == 0 { "tides" } else { "berths" };
        let difficulty = 1 + task % 5;
        env.write(
            &format!("docket/leg-{task}/brief.md"),
            &format!(
                "+++\ntitle = \"Leg {task}\"\nform = \"call\"\nlanguage = \"python\"\ncategory = \"{category}\"\n\
                 difficulty = {difficulty}\ntags = [\"leg\"]\n[call]\nfile = \"solution.py\"\nname = \"leg\"\n\
                 [limits]\ntime = 2\n[[example]]\nargs = [1]\nreturns = {}\n+++\nWrite leg(a).\n",
                task + 1
            ),
        );
        env.write(
            &format!("docket/leg-{task}/sealed/calls.jsonl"),
            &format!("{{\"args\": [30], \"returns\": {}}}\n", 30 + task),
        );
    }
    let right = |task: usize| format!("```python\ndef leg(a):\n    return a + {task}\n```");
    let wrong = |task: usize| format!("```python\ndef leg(a):\n    return a - {task}\n```");
    let hostile =
        "```python\ndef leg(a):\n    return \"</script><script>alert(1)</script><img src=x>\"\n```";
    let answers = |of: &dyn Fn(usize) -> String| -> String {
        let row = |task: usize, sample| {
            json!({"task": format!("leg-{task}"), "sample": sample, "answer": of(task)}).to_string()
        };
        (1..=TASKS).flat_map(|task| [row(task, 1), row(task, 2)].map(|it| it + "\n")).collect()
    };
    env.write("tern.jsonl", &answers(&right));
    env.write("auk.jsonl", &answers(&|it| if it <= TASKS / 2 { right(it) } else { wrong(it) }));
    env.write(
        "gull.jsonl",
        &answers(&|it| if it == TASKS { hostile.to_owned() } else { wrong(it) }),
    );
    let candidate = |name: &str, size: &str| {
        format!(
            "[[candidate]]\nname = \"{name}\"\nkind = \"recorded\"\npath = \"{name}.jsonl\"\n\
             labels = {{ size = \"{size}\" }}\n"
        )
    };
    let candidates =
        [("tern", "large"), ("auk", "small"), ("gull", "small")].map(|it| candidate(it.0, it.1));
    env.write(
        "plan.toml",
        &format!(
            "title = \"Regatta\"\ndocket = \"docket\"\nsamples = 2\ncurrency = \"EUR\"\n{head}\n{}",
            candidates.concat()
        ),
    );
}

/// Lays out and runs.
pub fn sailed() -> TestEnv {
    let env = TestEnv::new();
    lay_out(&env, "");
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    env
}
