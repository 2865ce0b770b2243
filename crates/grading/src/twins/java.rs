//! Tests in Java, as JUnit runs them.

use fairtrial_core::tree::{FileTree, RelPath};
use tree_sitter::Node;

use super::edit::Edit;
use super::literal::{Literal, LiteralKind};
use super::syntax::{
    Site, TestFileParts, TestItem, TestSource, TestSyntax, children, random_word, words,
};
use crate::test_rng::TestRng;

pub const SYNTAX: TestSyntax = TestSyntax {
    name: "java",
    grammar: || tree_sitter_java::LANGUAGE.into(),
    take_apart,
    beside: Some(beside),
    fresh_name,
    fails_below: true,
};

/// What notes, in a class of its own for each package.
const BESIDE: &str = r#"{package}final class {id}Site {
    private static final java.io.FileOutputStream OUT = new java.io.FileOutputStream(java.io.FileDescriptor.err);
    private static final java.util.Set<java.lang.Integer> SEEN = java.util.concurrent.ConcurrentHashMap.newKeySet();

    private boolean failed;

    void note(int site, boolean held) {
        failed |= !held;
        if (SEEN.add(held ? 2 * site : 2 * site + 1)) {
            try {
                OUT.write(("\n{mark}" + site + "=" + (held ? 1 : 0) + ";\n").getBytes(java.nio.charset.StandardCharsets.US_ASCII));
            } catch (java.io.IOException error) {
                throw new java.io.UncheckedIOException(error);
            }
        }
    }

    void end() {
        if (failed) throw new org.opentest4j.AssertionFailedError("an assertion failed");
    }

    static void fail() {
        throw new org.opentest4j.AssertionFailedError("the end");
    }
}
"#;

/// Assertions with those that fail where they hold.
const TWINS: &[(&str, &str)] = &[
    ("assertTrue", "assertFalse"),
    ("assertFalse", "assertTrue"),
    ("assertNull", "assertNotNull"),
    ("assertNotNull", "assertNull"),
    ("assertEquals", "assertNotEquals"),
    ("assertNotEquals", "assertEquals"),
    ("assertSame", "assertNotSame"),
    ("assertNotSame", "assertSame"),
];

/// Assertions whose first two arguments are to be equal.
const EQUALITIES: &[&str] =
    &["assertEquals", "assertArrayEquals", "assertIterableEquals", "assertLinesMatch"];

/// Errors that nothing derives from and that derive from nothing but what all errors do.
const ERRORS: &[&str] =
    &["java.util.zip.DataFormatException", "java.util.concurrent.BrokenBarrierException"];

/// Annotations of tests.
const TESTS: &[&str] =
    &["@Test", "@ParameterizedTest", "@RepeatedTest", "@TestFactory", "@TestTemplate"];

/// What shows that a file looks at the names of its tests.
const LOOKS: &[&str] =
    &["TestInfo", "MethodOrderer", "getMethodName", "TestReporter", "getStackTrace"];

/// Classes of the language that need no import, so that an answer could put its own in their place.
const LANGUAGE_CLASSES: &[&str] = &[
    "ArithmeticException",
    "ArrayIndexOutOfBoundsException",
    "ArrayStoreException",
    "AssertionError",
    "AutoCloseable",
    "Boolean",
    "Byte",
    "CharSequence",
    "Character",
    "Class",
    "ClassCastException",
    "CloneNotSupportedException",
    "Cloneable",
    "Comparable",
    "Deprecated",
    "Double",
    "Enum",
    "Error",
    "Exception",
    "Float",
    "FunctionalInterface",
    "IllegalArgumentException",
    "IllegalStateException",
    "IndexOutOfBoundsException",
    "Integer",
    "InterruptedException",
    "Iterable",
    "Long",
    "Math",
    "NegativeArraySizeException",
    "NullPointerException",
    "Number",
    "NumberFormatException",
    "Object",
    "OutOfMemoryError",
    "Override",
    "Record",
    "Runnable",
    "Runtime",
    "RuntimeException",
    "SecurityException",
    "Short",
    "StackOverflowError",
    "StrictMath",
    "String",
    "StringBuffer",
    "StringBuilder",
    "StringIndexOutOfBoundsException",
    "SuppressWarnings",
    "System",
    "Thread",
    "ThreadLocal",
    "Throwable",
    "UnsupportedOperationException",
    "Void",
];

/// Classes that whole packages are imported for, by package.
const PACKAGES: &[(&str, &[&str])] = &[
    (
        "org.junit.jupiter.api",
        &[
            "AfterAll",
            "AfterEach",
            "Assertions",
            "Assumptions",
            "BeforeAll",
            "BeforeEach",
            "Disabled",
            "DisplayName",
            "DynamicContainer",
            "DynamicNode",
            "DynamicTest",
            "Named",
            "Nested",
            "Order",
            "RepeatedTest",
            "RepetitionInfo",
            "Tag",
            "Test",
            "TestFactory",
            "TestInstance",
            "Timeout",
        ],
    ),
    (
        "java.util",
        &[
            "ArrayDeque",
            "ArrayList",
            "Arrays",
            "Collection",
            "Collections",
            "Comparator",
            "ConcurrentModificationException",
            "Deque",
            "EmptyStackException",
            "HashMap",
            "HashSet",
            "Iterator",
            "LinkedHashMap",
            "LinkedHashSet",
            "LinkedList",
            "List",
            "ListIterator",
            "Map",
            "MissingResourceException",
            "NoSuchElementException",
            "Objects",
            "Optional",
            "OptionalDouble",
            "OptionalInt",
            "OptionalLong",
            "PriorityQueue",
            "Queue",
            "Random",
            "Scanner",
            "Set",
            "SortedMap",
            "SortedSet",
            "Stack",
            "StringJoiner",
            "TreeMap",
            "TreeSet",
            "UUID",
            "Vector",
        ],
    ),
    ("java.util.stream", &["Collectors", "DoubleStream", "IntStream", "LongStream", "Stream"]),
    (
        "java.util.function",
        &[
            "BiConsumer",
            "BiFunction",
            "BinaryOperator",
            "Consumer",
            "Function",
            "IntFunction",
            "Predicate",
            "Supplier",
            "UnaryOperator",
        ],
    ),
    (
        "java.io",
        &[
            "ByteArrayInputStream",
            "ByteArrayOutputStream",
            "EOFException",
            "File",
            "FileNotFoundException",
            "IOException",
            "InputStream",
            "OutputStream",
            "PrintStream",
            "StringReader",
            "StringWriter",
            "UncheckedIOException",
        ],
    ),
];

fn fresh_name(rng: &mut TestRng, _: usize) -> String {
    format!("t{}", random_word(rng, 12))
}

fn beside(files: &FileTree, path: &RelPath) -> Option<(RelPath, String)> {
    let text = String::from_utf8_lossy(files.get(path)?);
    let package = text.lines().find_map(|it| it.trim().strip_prefix("package ")?.split(';').next());
    let package = package.map_or(String::new(), |it| format!("package {};\n", it.trim()));
    let folder = path.as_str().rsplit_once('/').map_or(String::new(), |it| format!("{}/", it.0));
    let path = RelPath::parse(&format!("{folder}{{id}}Site.java")).ok()?;
    Some((path, BESIDE.replace("{package}", &package)))
}

fn take_apart(source: &TestSource<'_>) -> TestFileParts {
    let root = source.tree.root_node();
    let mut parts = TestFileParts {
        may_rename: !LOOKS.iter().any(|it| source.text.contains(it)),
        head: imports(source, root),
        ..TestFileParts::default()
    };
    for node in source.all(root) {
        match node.kind() {
            "method_declaration" => parts.tests.extend(test(source, node)),
            "expression_statement" if !node.has_error() => parts.sites.extend(site(source, node)),
            _ => {}
        }
    }
    parts.attribute(false);
    // The runner has an order of its own, made of their names.
    parts.tests.iter_mut().for_each(|it| it.slot = None);
    parts
}

/// Imports of what a class of the answer's could stand in the place of: by its name alone, or as one of a whole
/// package. The answer's own file keeps its name.
fn imports(source: &TestSource<'_>, root: Node<'_>) -> Vec<Edit> {
    let used: std::collections::BTreeSet<&str> = words(source.text).collect();
    let declared = source.all(root).into_iter().filter(|it| it.kind().ends_with("_declaration"));
    let declared: Vec<&str> =
        declared.filter_map(|it| it.child_by_field_name("name")).map(|it| source.of(it)).collect();
    let imported: Vec<&str> = children(root)
        .into_iter()
        .filter(|it| it.kind() == "import_declaration")
        .map(|it| source.of(it))
        .collect();
    let is_free = |name: &&str| {
        let ends = format!(".{name};");
        used.contains(*name)
            && !declared.contains(name)
            && !imported.iter().any(|it| it.replace(' ', "").ends_with(&ends))
    };
    let mut added: Vec<String> = LANGUAGE_CLASSES
        .iter()
        .filter(|it| is_free(it))
        .map(|it| format!("java.lang.{it}"))
        .collect();
    for (package, classes) in PACKAGES {
        let whole = format!("import{package}.*;");
        if imported.iter().any(|it| it.replace(char::is_whitespace, "") == whole) {
            added.extend(
                classes.iter().filter(|it| is_free(it)).map(|it| format!("{package}.{it}")),
            );
        }
    }
    let text: String = added.iter().map(|it| format!("import {it}; ")).collect();
    let place =
        children(root).into_iter().find(|it| !it.is_extra() && it.kind() != "package_declaration");
    place.map_or(Vec::new(), |it| vec![Edit::before(it.start_byte(), text)])
}

fn is_test(source: &TestSource<'_>, method: Node<'_>) -> bool {
    let modifiers = children(method).into_iter().find(|it| it.kind() == "modifiers");
    let annotations = modifiers.map_or(Vec::new(), children);
    annotations.iter().any(|it| {
        let text = source.of(*it);
        let name = text.split('(').next().unwrap_or_default().trim();
        let name =
            format!("@{}", name.trim_start_matches('@').rsplit('.').next().unwrap_or_default());
        TESTS.contains(&name.as_str())
    })
}

fn test(source: &TestSource<'_>, node: Node<'_>) -> Option<TestItem> {
    if !is_test(source, node) {
        return None;
    }
    let (name, body) = (node.child_by_field_name("name")?, node.child_by_field_name("body")?);
    let text = source.of(name);
    let name_at = if source.mentions(text) == 1 { name.byte_range() } else { 0..0 };
    let gives_nothing = node.child_by_field_name("type").is_some_and(|it| source.of(it) == "void");
    let fails = if gives_nothing {
        vec![
            Edit::before(body.start_byte() + 1, " try {"),
            Edit::before(body.end_byte() - 1, " } finally { {id}Site.fail(); }"),
        ]
    } else {
        Vec::new()
    };
    let begins = vec![
        Edit::before(body.start_byte() + 1, " final {id}Site {id}F = new {id}Site(); try {"),
        Edit::before(body.end_byte() - 1, " } finally { {id}F.end(); }"),
    ];
    let slot = Some(node.byte_range());
    Some(TestItem { name: text.to_owned(), name_at, slot, begins, fails })
}

fn site(source: &TestSource<'_>, node: Node<'_>) -> Option<Site> {
    let call = node.child(0).filter(|it| it.kind() == "method_invocation")?;
    let name = call.child_by_field_name("name")?;
    let of = call.child_by_field_name("object").map(|it| source.of(it));
    let word = source.of(name);
    if !word.starts_with("assert") || !of.is_none_or(|it| it.ends_with("Assertions")) {
        return None;
    }
    if is_caught(source, node) || is_later(source, node) {
        return None;
    }
    let arguments = call.child_by_field_name("arguments")?;
    let given: Vec<_> =
        children(arguments).into_iter().filter(|it| it.is_named() && !it.is_extra()).collect();
    let noted = vec![
        Edit::before(node.start_byte(), "try { "),
        Edit::before(
            node.end_byte(),
            " {id}F.note({site}, true); } catch (java.lang.RuntimeException | java.lang.Error {id}E{site}) { {id}F.note({site}, false); }",
        ),
    ];
    let mut literals = Vec::new();
    if EQUALITIES.contains(&word) && given.len() >= 2 {
        let found = given[..2].iter().map(|it| expected(source, *it).unwrap_or_default());
        literals = found.into_iter().find(|it| !it.is_empty()).unwrap_or_default();
    } else if word == "assertTrue"
        && given.first().is_some_and(|it| it.kind() == "method_invocation")
    {
        let is_equality =
            given[0].child_by_field_name("name").is_some_and(|it| source.of(it) == "equals");
        let inner = given[0].child_by_field_name("arguments").filter(|_| is_equality);
        literals = inner.and_then(|it| expected(source, it)).unwrap_or_default();
    }
    Some(Site {
        at: node.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node),
        swapped: twin(source, name, &given, of).map(|edits| [edits, noted.clone()].concat()),
        noted,
        is_made: given.iter().any(|it| it.kind() == "object_creation_expression"),
        literals,
    })
}

/// Whether something around an assertion may catch what it throws.
fn is_caught(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != "method_declaration") {
        if outer.kind() == "try_statement" {
            let clauses = children(outer).into_iter().filter(|it| it.kind() == "catch_clause");
            let heads = clauses.map(|it| source.of(it).split('{').next().unwrap_or_default());
            let caught = ["AssertionError", "AssertionFailedError", "Error", "Throwable"];
            if heads.flat_map(words).any(|it| caught.contains(&it)) {
                return true;
            }
        }
        at = outer.parent();
    }
    false
}

/// Whether something stands in a function that a test gives away, to be run when it is over.
fn is_later(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let (mut at, mut in_lambda) = (node.parent(), false);
    while let Some(outer) = at {
        match outer.kind() {
            "lambda_expression" | "class_body" => in_lambda = true,
            "method_declaration" => {
                let gives = outer.child_by_field_name("type").map(|it| source.of(it));
                return in_lambda && gives != Some("void");
            }
            _ => {}
        }
        at = outer.parent();
    }
    false
}

/// What makes another assertion of this one, that fails where it holds.
fn twin(
    source: &TestSource<'_>,
    name: Node<'_>,
    given: &[Node<'_>],
    of: Option<&str>,
) -> Option<Vec<Edit>> {
    let word = source.of(name);
    if word == "assertThrows" || word == "assertThrowsExactly" {
        let class = given.first().filter(|it| source.of(**it).ends_with(".class"))?;
        let own = source.of(*class).trim_end_matches(".class");
        let other = ERRORS.iter().find(|it| !it.ends_with(own))?;
        return Some(vec![Edit::new(class.byte_range(), format!("{other}.class"))]);
    }
    // With a tolerance there is no such assertion for every type.
    if word.ends_with("Equals") && given.len() > 2 {
        return None;
    }
    let (_, twin) = TWINS.iter().find(|it| it.0 == word)?;
    let twin = match of {
        Some(_) => (*twin).to_owned(),
        None => format!("org.junit.jupiter.api.Assertions.{twin}"),
    };
    Some(vec![Edit::new(name.byte_range(), twin)])
}

/// Whether a test that passes has come by a statement.
fn is_certain(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let Some(block) = node.parent().filter(|it| it.kind() == "block") else { return false };
    let Some(method) = block.parent().filter(|it| it.kind() == "method_declaration") else {
        return false;
    };
    let leaves = |it: Node<'_>| source.of(it).contains("return") || source.of(it).contains("assum");
    is_test(source, method) && !children(block).into_iter().take_while(|it| *it != node).any(leaves)
}

/// The literals of an expectation that calls nothing but what makes values. `None` when it does more.
fn expected(source: &TestSource<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let literal = |kind| Some(vec![Literal { at: node.byte_range(), kind }]);
    match node.kind() {
        "decimal_integer_literal" => return literal(LiteralKind::Integer),
        "decimal_floating_point_literal" => return literal(LiteralKind::Float),
        "string_literal" => return literal(LiteralKind::Text),
        "character_literal" => return literal(LiteralKind::Char),
        "true" | "false" => return literal(LiteralKind::Truth),
        "lambda_expression" | "method_reference" => return None,
        "array_access" | "dimensions_expr" | "class_literal" => return Some(Vec::new()),
        "object_creation_expression" => {
            return expected(source, node.child_by_field_name("arguments")?);
        }
        "method_invocation" => {
            let of = node.child_by_field_name("object").map(|it| source.of(it))?;
            let name = node.child_by_field_name("name").map(|it| source.of(it))?;
            let makes = [
                "of",
                "asList",
                "valueOf",
                "entry",
                "ofEntries",
                "singletonList",
                "range",
                "rangeClosed",
            ];
            let is_class =
                of.rsplit('.').next().is_some_and(|it| it.starts_with(char::is_uppercase));
            if !is_class || !makes.contains(&name) {
                return None;
            }
            return expected(source, node.child_by_field_name("arguments")?);
        }
        _ => {}
    }
    let mut found = Vec::new();
    for child in children(node) {
        found.extend(expected(source, child)?);
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parts_of(text: &str) -> TestFileParts {
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_java::LANGUAGE.into()).unwrap();
        let tree = parser.parse(text, None).unwrap();
        take_apart(&TestSource { text, tree: &tree })
    }

    #[test]
    fn what_is_expected_is_found() {
        for (assertion, found) in [
            ("assertEquals(6, Toll.toll(3));", vec!["6"]),
            ("Assertions.assertEquals(Toll.toll(3), List.of(1, 2), \"three\");", vec!["1", "2"]),
            ("assertEquals(1.5, f(), 0.1);", vec!["1.5"]),
            ("assertArrayEquals(new int[] {1, 2}, f());", vec!["1", "2"]),
            ("assertTrue(f(3).equals(\"a\"));", vec!["\"a\""]),
            ("assertTrue(f(3));", vec![]),
            ("assertEquals(g(1), f(3));", vec![]),
        ] {
            let text = format!("class T {{ @Test void one() {{ {assertion} }} }}");
            let site = &parts_of(&text).sites[0];
            let seen: Vec<_> =
                site.literals.iter().map(|it| text[it.at.clone()].to_owned()).collect();
            assert_eq!(seen, found, "{assertion}");
            assert!(site.is_certain && site.test == Some(0), "{assertion}");
        }
    }

    #[test]
    fn what_an_answer_could_stand_in_for_is_imported_by_name() {
        let text = "package p;\nimport java.util.*;\nimport org.junit.jupiter.api.Test;\nclass T { @Test void one() throws Exception { List<String> a = new Own(); } static class Own {} }";
        let head = &parts_of(text).head;
        assert_eq!(
            head[0].text,
            "import java.lang.Exception; import java.lang.String; import java.util.List; "
        );
        assert_eq!(head[0].at.start, text.find("import").unwrap());
    }
}
