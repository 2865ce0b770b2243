//! Changes, written and read.

use proptest::prelude::*;

use super::*;

const MOST: u64 = 1 << 20;

fn path(text: &str) -> TreePath {
    TreePath::parse(text.as_bytes()).unwrap()
}

fn file(text: &str) -> Node {
    Node::File { bytes: text.as_bytes().into(), executable: false }
}

fn tree(files: &[(&str, &str)]) -> WorkTree {
    files.iter().map(|(name, text)| (path(name), file(text))).collect()
}

const TIDES: &str = "def low():\n    return 1\n\n\ndef high():\n    return 5\n\n\ndef gap():\n    return high() - low()\n";

/// Puts a patch on `tides.py`, and gives what comes of it with what was forgiven.
fn on_tides(text: &str, patch: &str) -> Result<(String, Vec<Slack>), PatchError> {
    let before = tree(&[("tides.py", text), ("src/toll.py", "x = 1\n")]);
    let applied = apply_patch(&before, patch.as_bytes(), MOST)?;
    let after = applied.change.on(&before);
    let Some(Node::File { bytes, .. }) = after.get(&path("tides.py")) else { panic!("it is gone") };
    let text = String::from_utf8(bytes.to_vec()).unwrap();
    Ok((text, applied.slack.into_iter().collect()))
}

const HUNK: &str = " def high():\n-    return 5\n+    return 6\n \n \n def gap():\n";

#[test]
fn what_drifts_is_forgiven_and_named() {
    let right = TIDES.replace("return 5", "return 6");
    let names = "--- a/tides.py\n+++ b/tides.py\n";
    let head = "@@ -5,5 +5,5 @@\n";
    for (what, patch, slack) in [
        ("to the letter", format!("{names}{head}{HUNK}"), vec![]),
        (
            "git's own",
            format!(
                "diff --git a/tides.py b/tides.py\nindex 1..2 100644\n{names}{head}{HUNK}-- \n2.40\n"
            ),
            vec![],
        ),
        ("no prefixes", format!("--- tides.py\n+++ tides.py\n{head}{HUNK}"), vec![]),
        (
            "a time behind the name",
            format!("--- tides.py\t2026-01-01\n+++ ./tides.py\t2026\n{head}{HUNK}"),
            vec![],
        ),
        ("text around", format!("Here it is:\n\n{names}{head}{HUNK}\nThat is all.\n"), vec![]),
        ("wrong lines", format!("{names}@@ -1,5 +1,5 @@\n{HUNK}"), vec![Slack::LineNumbers]),
        (
            "lines past the end",
            format!("{names}@@ -95,5 +95,5 @@\n{HUNK}"),
            vec![Slack::LineNumbers],
        ),
        ("no lines", format!("{names}@@ @@\n{HUNK}"), vec![Slack::Head, Slack::LineNumbers]),
        ("wrong counts", format!("{names}@@ -5,3 +5,9 @@\n{HUNK}"), vec![Slack::Head]),
        ("lost spaces", format!("{names}{head}{}", HUNK.replace("\n \n", "\n\n")), vec![]),
        (
            "carried with CR LF",
            format!("{names}{head}{HUNK}").replace('\n', "\r\n"),
            vec![Slack::LineEnds],
        ),
        (
            "spaces at the end",
            format!("{names}{head}{}", HUNK.replace("gap():", "gap():  ")),
            vec![Slack::WhiteSpace],
        ),
        (
            "another line around",
            format!("{names}{head}{}", HUNK.replace("gap():", "gap(x):")),
            vec![Slack::Context],
        ),
        ("an older file's name", format!("--- tides.py.orig\n+++ tides.py\n{head}{HUNK}"), vec![]),
    ] {
        assert_eq!(on_tides(TIDES, &patch), Ok((right.clone(), slack)), "{what}:\n{patch}");
    }
}

#[test]
fn files_whose_lines_end_in_cr_lf_stay_so() {
    let crlf = TIDES.replace('\n', "\r\n");
    let patch = format!("--- a/tides.py\n+++ b/tides.py\n@@ -5,5 +5,5 @@\n{HUNK}");
    let (text, slack) = on_tides(&crlf, &patch).unwrap();
    assert_eq!(text, crlf.replace("return 5", "return 6"));
    assert_eq!(slack, [Slack::LineEnds]);
}

#[test]
fn a_blank_line_at_the_end_of_a_hunk_belongs_to_it() {
    let before = "one\ntwo\nthree\n\nfour\nfive\nsix\n\nseven\n";
    let patch = "--- a/tides.py\n+++ b/tides.py\n@@ -1,4 +1,4 @@\n one\n-two\n+2\n three\n \n@@ -5,4 +5,4 @@\n four\n-five\n\
        +5\n six\n \n";
    let after = before.replace("two", "2").replace("five", "5");
    // With its space, without it, and with blank lines behind the patch.
    let bare = patch.replace("\n \n", "\n\n");
    for patch in
        [patch.to_owned(), bare.clone(), format!("{bare}\n\n"), format!("{patch}-- \n2.47\n")]
    {
        assert_eq!(on_tides(before, &patch), Ok((after.clone(), vec![])), "{patch}");
    }
}

#[test]
fn what_does_not_fit_is_refused_with_its_reason() {
    let names = "--- a/tides.py\n+++ b/tides.py\n";
    for (patch, part) in [
        ("".to_owned(), "holds no"),
        ("Sorry, I cannot do that.".to_owned(), "holds no"),
        (format!("{names}@@ -5,2 +5,2 @@\n def high():\n-    return 50\n+    return 6\n"), "part 1 of it does not fit"),
        (format!("{names}@@\n-\n+x\n"), "in several places"),
        ("--- a/none.py\n+++ b/none.py\n@@ -1 +1 @@\n-a\n+b\n".to_owned(), "`none.py` is not among"),
        ("--- a/../x\n+++ b/../x\n@@ -0,0 +1 @@\n+b\n".to_owned(), "not a usable file path"),
        ("--- /dev/null\n+++ /etc/x\n@@ -0,0 +1 @@\n+b\n".to_owned(), "not a usable file path"),
        ("--- /dev/null\n+++ b/.git/hooks/x\n@@ -0,0 +1 @@\n+b\n".to_owned(), "git's own"),
        ("--- /dev/null\n+++ b/x/.GIT/x\n@@ -0,0 +1 @@\n+b\n".to_owned(), "git's own"),
        ("--- /dev/null\n+++ b/tides.py/x\n@@ -0,0 +1 @@\n+b\n".to_owned(), "`tides.py` is no folder"),
        ("--- /dev/null\n+++ b/src\n@@ -0,0 +1 @@\n+b\n".to_owned(), "a folder stands there"),
        ("diff --git a/m b/m\nnew file mode 160000\n--- /dev/null\n+++ b/m\n@@ -0,0 +1 @@\n+Subproject\n".to_owned(), "submodule"),
        ("diff --git a/p b/p\nnew file mode 100644\nBinary files /dev/null and b/p differ\n".to_owned(), "only that a binary file differs"),
        ("diff --git a/p b/p\nnew file mode 100644\nGIT binary patch\nliteral 9999999999\nzcmZ\n\n".to_owned(), "more than 1048576 bytes"),
    ] {
        let error = on_tides(TIDES, &patch).unwrap_err().to_string();
        assert!(error.contains(part), "{patch}: {error}");
    }
}

#[test]
fn nothing_is_written_through_a_link() {
    let mut before = tree(&[("a", "1\n")]);
    before.put(path("out"), Node::Link { to: b"/tmp".to_vec() });
    let patch = b"--- /dev/null\n+++ b/out/x\n@@ -0,0 +1 @@\n+b\n";
    let error = apply_patch(&before, patch, MOST).unwrap_err().to_string();
    assert!(error.contains("`out` is no folder"), "{error}");
}

#[test]
fn a_patch_of_git_s_with_every_kind_of_change_is_read() {
    let before: WorkTree = [
        (path("sp ace.txt"), file("a\nb\n")),
        (path("old"), file("same\n")),
        (path("gone"), file("x\n")),
        (path("run"), file("#!/bin/sh\n")),
        (path("empty"), file("")),
    ]
    .into_iter()
    .collect();
    let patch = "diff --git \"a/caf\\303\\251\" \"b/caf\\303\\251\"\nnew file mode 100644\nindex 0..1\n--- /dev/null\n+++ \"b/caf\\303\\251\"\n@@ -0,0 +1 @@\n+tide\n\\ No newline at end of file\n\
        diff --git a/gone b/gone\ndeleted file mode 100644\nindex 1..0\n--- a/gone\n+++ /dev/null\n@@ -1 +0,0 @@\n-x\n\
        diff --git a/empty b/empty\ndeleted file mode 100644\nindex e69..000\n\
        diff --git a/old b/new name\nsimilarity index 100%\nrename from old\nrename to new name\n\
        diff --git a/run b/run\nold mode 100644\nnew mode 100755\n\
        diff --git a/sp ace.txt b/sp ace.txt\nindex 1..2 100644\n--- a/sp ace.txt\t\n+++ b/sp ace.txt\t\n@@ -1,2 +1,3 @@\n a\n+-- b\n b\n\
        diff --git a/way b/way\nnew file mode 120000\nindex 0..1\n--- /dev/null\n+++ b/way\n@@ -0,0 +1 @@\n+new name\n\\ No newline at end of file\n";
    let applied = apply_patch(&before, patch.as_bytes(), MOST).unwrap();
    assert!(applied.slack.is_empty(), "{:?}", applied.slack);
    let after = applied.change.on(&before);
    let expected: WorkTree = [
        (path("café"), file("tide")),
        (path("new name"), file("same\n")),
        (path("run"), Node::File { bytes: b"#!/bin/sh\n"[..].into(), executable: true }),
        (path("sp ace.txt"), file("a\n-- b\nb\n")),
        (path("way"), Node::Link { to: b"new name".to_vec() }),
    ]
    .into_iter()
    .collect();
    assert_eq!(after, expected);
}

#[test]
fn a_delta_makes_no_more_than_it_may() {
    // Copies 16 MiB at each step of a file that large.
    let old = vec![b'x'; 0x1_0000];
    let mut delta = vec![0x80, 0x80, 0x04];
    delta.extend([0xff, 0xff, 0xff, 0xff, 0x07]);
    delta.extend([0x80; 4000]);
    let error = binary::apply_delta(&old, &delta, MOST).unwrap_err();
    assert!(error.contains("more than"), "{error}");
    // "Hello" + the last two bytes.
    let delta = [7, 7, 5, b'H', b'e', b'l', b'l', b'o', 0x91, 5, 2];
    assert_eq!(binary::apply_delta(b"1234567", &delta, MOST).unwrap(), b"Hello67");
}

fn any_node() -> impl Strategy<Value = Node> {
    let text = proptest::collection::vec(
        proptest::sample::select(vec![
            "a",
            "b",
            "",
            "--- x",
            "+++ y",
            "@@ -1 +1 @@",
            "\\ q",
            "é",
            "x\r",
        ]),
        0..12,
    )
    .prop_map(|lines| lines.join("\n").into_bytes());
    let bytes = prop_oneof![4 => text, 1 => proptest::collection::vec(any::<u8>(), 0..300)];
    prop_oneof![
        6 => (bytes, any::<bool>())
            .prop_map(|(bytes, executable)| Node::File { bytes: bytes.into(), executable }),
        1 => "[a-z/ ]{1,9}".prop_map(|to| Node::Link { to: to.into_bytes() }),
    ]
}

fn any_tree() -> impl Strategy<Value = WorkTree> {
    let name = prop_oneof![
        Just(b"a".to_vec()),
        Just(b"b c".to_vec()),
        Just(b"d/e".to_vec()),
        Just(b"d/\"q\"".to_vec()),
        Just(b"caf\xe9\\".to_vec()),
        Just(b"n\nl\t".to_vec()),
        Just(b"a.txt ".to_vec()),
        Just("ü".into()),
    ];
    proptest::collection::btree_map(name, any_node(), 0..6).prop_map(|nodes| {
        nodes.into_iter().map(|(name, node)| (TreePath::parse(&name).unwrap(), node)).collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn what_is_written_is_read_as_it_was(before in any_tree(), after in any_tree()) {
        let change = Change::between(&before, &after);
        prop_assert_eq!(change.on(&before), after);
        let patch = write_patch(&before, &change);
        if change.is_empty() {
            prop_assert!(patch.is_empty());
        } else {
            let text = String::from_utf8_lossy(&patch).into_owned();
            let applied = apply_patch(&before, &patch, MOST);
            let applied = applied.map_err(|error| TestCaseError::fail(format!("{error}\n{text}")))?;
            prop_assert_eq!(&applied.change, &change, "{}", text);
            prop_assert!(applied.slack.is_empty(), "{:?}\n{}", applied.slack, text);
        }
    }

    #[test]
    fn no_text_makes_the_reader_panic_or_leave_the_tree(
        parts in proptest::collection::vec(prop_oneof![
            Just("--- a/a\n+++ b/a\n"), Just("diff --git a/a b/a\n"), Just("@@ -1,2 +1,2 @@\n"),
            Just("@@\n"), Just(" a\n"), Just("-a\n"), Just("+b\n"), Just("\n"), Just("\\ No\n"),
            Just("GIT binary patch\nliteral 3\nKc$~\n\n"), Just("delta 9\nzcmV\n\n"), Just("rename from a\n"),
            Just("rename to ../a\n"), Just("new file mode 120000\n"), Just("deleted file mode 100644\n"),
            Just("--- /dev/null\n+++ b/d/x\n"), Just("+++ b/.git/x\n"), Just("--- \"a/\\777\"\n"),
            Just("@@ -18446744073709551615,1 +1,1 @@\n"), Just("@@ -1,18446744073709551615 +1 @@\n"),
        ], 0..30),
        before in any_tree(),
    ) {
        if let Ok(applied) = apply_patch(&before, parts.concat().as_bytes(), MOST) {
            prop_assert!(applied.change.iter().all(|(path, _)| !apply::is_gits(path)));
        }
    }
}
