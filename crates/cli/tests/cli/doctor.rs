//! `fairtrial doctor`.

use crate::env::TestEnv;
use crate::needs;

#[test]
fn layers_and_languages_are_found_by_trying_them() {
    if !needs::there(&["node"]) {
        return;
    }
    let env = TestEnv::new();
    let found = env.json(&["doctor", "shell", "javascript", "rust", "--json"]);
    assert_eq!((&found["format_version"], &found["tier"]), (&1.into(), &"full".into()));
    let layers = found["layers"].as_array().unwrap();
    let active = layers.iter().filter(|it| it["state"] == "active").count();
    assert!(active >= 5, "{layers:#?}");
    let languages = found["languages"].as_array().unwrap();
    let tried = |index: usize| -> Vec<(String, bool)> {
        let trials = languages[index]["trials"].as_array().unwrap().iter();
        trials.map(|it| (it["what"].as_str().unwrap().to_owned(), it["failed"].is_null())).collect()
    };
    assert_eq!(tried(0), [("program".to_owned(), true), ("tap".to_owned(), true)]);
    assert_eq!(tried(1).len(), 3);
    assert!((0..3).all(|index| tried(index).iter().all(|it| it.1)), "{languages:#?}");
}

#[test]
fn what_is_missing_or_broken_is_told() {
    let env = TestEnv::new();
    env.write(
        "more.toml",
        "[reef]\ntitle = \"Reef\"\ntags = [\"reef\"]\nextensions = [\"reef\"]\n\
         tool = [\"no-such-reef\"]\nrun = [\"{tool}\", \"{file}\"]\n\
         [brig]\ntitle = \"Brig\"\ntags = [\"brig\"]\nextensions = [\"brig\"]\n\
         tool = [\"sh\"]\nrun = [\"{tool}\", \"{file}\"]\nsample = \"echo foul; exit 7\"\n",
    );
    let ran = env.run(&["doctor", "reef", "brig", "--languages", "more.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("Not here: reef: `no-such-reef` is not on the search path"));
    assert!(ran.out.contains("Not here: brig, program: fail (crashed); ended with status 7"));
    let unknown = env.run(&["doctor", "klingon"]);
    assert_eq!(unknown.code, 2);
    assert!(
        unknown.err.contains("unknown language `klingon`; known are: c, c++"),
        "{}",
        unknown.err
    );
}
