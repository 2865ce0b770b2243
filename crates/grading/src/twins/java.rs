//! Tests in Java, as JUnit runs them.

use fairtrial_core::tree::{FileTree, RelPath};
use tree_sitter::Node;

use super::edit::Edit;
use super::java_values::{parameters, side};
use super::literal::Literal;
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

    void fail() {
        failed = true;
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
const EQUALITIES: &[&str] = &["assertEquals", "assertArrayEquals", "assertIterableEquals"];

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
            "expression_statement" | "lambda_expression" if !node.has_error() => {
                parts.sites.extend(site(source, node));
            }
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
    let is_alone = source.mentions(text) == 1 && !is_inherited(source, text);
    let name_at = if is_alone { name.byte_range() } else { 0..0 };
    // One that gives tests runs them later.
    let run = if gives_nothing(source, node) { vec![body] } else { later(source, body) };
    let begins = run.iter().flat_map(|it| begins(source, *it)).collect();
    let fails = |it: &Node<'_>| {
        let inside = usize::from(it.kind() == "block");
        Edit::before(it.start_byte() + inside, " {id}F.fail();")
    };
    let fails = run.iter().map(fails).collect();
    let slot = Some(node.byte_range());
    Some(TestItem { name: text.to_owned(), prefix: "", name_at, slot, begins, fails })
}

/// Whether a class of another file that this one extends, or that extends it, has a member of that name.
fn is_inherited(source: &TestSource<'_>, name: &str) -> bool {
    let classes = |file: &TestSource<'_>| -> Vec<String> {
        let all = file.all(file.tree.root_node()).into_iter();
        let declared = all.filter(|it| it.kind() == "class_declaration");
        declared
            .filter_map(|it| Some(file.of(it.child_by_field_name("name")?).to_owned()))
            .collect()
    };
    let extends = |file: &TestSource<'_>, of: &[String]| {
        of.iter().any(|it| file.text.contains(&format!("extends {it}")))
    };
    let own = classes(source);
    source.everywhere().skip(1).any(|other| {
        other.mentions(name) > 0 && (extends(&other, &own) || extends(source, &classes(&other)))
    })
}

fn gives_nothing(source: &TestSource<'_>, method: Node<'_>) -> bool {
    method.child_by_field_name("type").is_some_and(|it| source.of(it) == "void")
}

/// The bodies of the functions that are run as tests when a method has given them away.
fn later<'t>(source: &TestSource<'_>, body: Node<'t>) -> Vec<Node<'t>> {
    let bodies = source.all(body).into_iter().filter_map(|it| {
        let arguments = it.parent().filter(|_| it.kind() == "lambda_expression")?;
        let call = arguments.parent().filter(|it| it.kind() == "method_invocation")?;
        let name = call.child_by_field_name("name").map(|it| source.of(it))?;
        it.child_by_field_name("body").filter(|_| name == "dynamicTest")
    });
    bodies.collect()
}

/// Has what is done in a body, which can be one expression, end with a failure where an assertion failed.
fn begins(source: &TestSource<'_>, body: Node<'_>) -> [Edit; 2] {
    let (start, end) = (body.start_byte(), body.end_byte());
    let open = " final {id}Site {id}F = new {id}Site(); try {";
    let close = " } finally { {id}F.end(); }";
    if body.kind() == "block" {
        return [Edit::before(start + 1, open), Edit::before(end - 1, close)];
    }
    // Behind what else is put there.
    let next = source.text[end..].chars().next().unwrap_or(' ');
    let at = end..(end + next.len_utf8()).min(source.text.len());
    [Edit::before(start, format!("{{{open} ")), Edit::new(at, format!(";{close} }}{next}"))]
}

/// A statement that asserts something, or a function that does nothing else.
fn site(source: &TestSource<'_>, node: Node<'_>) -> Option<Site> {
    let is_function = node.kind() == "lambda_expression";
    let node = if is_function { node.child_by_field_name("body")? } else { node };
    let call = if is_function { Some(node) } else { node.child(0) };
    let call = call.filter(|it| it.kind() == "method_invocation")?;
    let name = call.child_by_field_name("name")?;
    let of = call.child_by_field_name("object").map(|it| source.of(it));
    let word = source.of(name);
    let arguments = call.child_by_field_name("arguments")?;
    let given: Vec<_> =
        children(arguments).into_iter().filter(|it| it.is_named() && !it.is_extra()).collect();
    let of_helper = if word.starts_with("assert") && of.is_none_or(|it| it.ends_with("Assertions"))
    {
        None
    } else {
        Some(of_helper(source, node, call, &given)?)
    };
    // What it is given asserts.
    if word == "assertAll" || is_caught(source, node) || is_later(source, node) {
        return None;
    }
    let (open, close) = if is_function { ("{ ", " }") } else { ("", "") };
    let end = if is_function { ";" } else { "" };
    let noted = vec![
        Edit::before(node.start_byte(), format!("{open}try {{ ")),
        Edit::before(
            node.end_byte(),
            format!(
                "{end} {{id}}F.note({{site}}, true); }} catch (java.lang.RuntimeException | java.lang.Error {{id}}E{{site}}) {{ {{id}}F.note({{site}}, false); }}{close}"
            ),
        ),
    ];
    let is_helper = of_helper.is_some();
    let mut literals = of_helper.unwrap_or_default();
    if is_helper || is_tolerant(source, &given) {
    } else if EQUALITIES.contains(&word) && given.len() >= 2 {
        let found = given[..2].iter().map(|it| side(source, node, *it));
        literals = found.into_iter().find(|it| !it.is_empty()).unwrap_or_default();
    } else if word == "assertTrue"
        && given.first().is_some_and(|it| it.kind() == "method_invocation")
    {
        let is_equality =
            given[0].child_by_field_name("name").is_some_and(|it| source.of(it) == "equals");
        let inner = given[0].child_by_field_name("arguments").filter(|_| is_equality);
        literals = inner.map(|it| side(source, node, it)).unwrap_or_default();
    }
    let swapped = if is_helper { None } else { twin(source, name, &given, of) };
    Some(Site {
        at: node.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node),
        swapped: swapped.map(|edits| [edits, noted.clone()].concat()),
        noted,
        is_made: given.iter().any(|it| it.kind() == "object_creation_expression"),
        literals,
    })
}

/// Whether what is near may do, so that another value could hold, too.
fn is_tolerant(source: &TestSource<'_>, given: &[Node<'_>]) -> bool {
    given.get(2).is_some_and(|it| match it.kind() {
        "string_literal" | "lambda_expression" | "binary_expression" => false,
        _ => source
            .of(*it)
            .trim_end_matches(['f', 'd', 'F', 'D'])
            .parse()
            .is_ok_and(|it: f64| it >= 1.0),
    })
}

/// The literals that a method of the same file is given to compare with, where it does so whenever it is called.
fn of_helper(
    source: &TestSource<'_>,
    site: Node<'_>,
    call: Node<'_>,
    given: &[Node<'_>],
) -> Option<Vec<Literal>> {
    let name = source.of(call.child_by_field_name("name")?);
    let of = call.child_by_field_name("object").map_or("this", |it| source.of(it));
    // Looking through a file takes longer than looking for a text in it.
    let head = format!("void {name}(");
    let mut methods = source.everywhere().filter(|it| it.text.contains(&head)).flat_map(|file| {
        let all = file.all(file.tree.root_node()).into_iter().filter(|it| {
            let own = it.child_by_field_name("name").map(|it| file.of(it));
            it.kind() == "method_declaration" && own == Some(name)
        });
        all.map(|it| (TestSource::alone(file.text, file.tree), it)).collect::<Vec<_>>()
    });
    let (Some((file, method)), None) = (methods.next(), methods.next()) else { return None };
    if !(of == "this" || of.starts_with(char::is_uppercase))
        || is_test(&file, method)
        || !gives_nothing(&file, method)
    {
        return None;
    }
    helper_values(source, site, given, &file, method)
}

/// The same of a method that may stand in another file.
fn helper_values(
    source: &TestSource<'_>,
    site: Node<'_>,
    given: &[Node<'_>],
    file: &TestSource<'_>,
    method: Node<'_>,
) -> Option<Vec<Literal>> {
    let parameters = parameters(file, method);
    let body = method.child_by_field_name("body")?;
    for statement in children(body).into_iter().filter(|it| it.is_named() && !it.is_extra()) {
        if file.of(statement).contains("return") {
            return None;
        }
        let asserts = || {
            let call = statement.child(0).filter(|it| it.kind() == "method_invocation")?;
            let word = file.of(call.child_by_field_name("name")?);
            let compared = children(call.child_by_field_name("arguments")?);
            let compared: Vec<_> =
                compared.into_iter().filter(|it| it.is_named() && !it.is_extra()).collect();
            if is_tolerant(file, &compared) {
                return None;
            }
            let mut compared = compared.into_iter().take(2);
            let at = compared.find_map(|it| parameters.iter().position(|of| of.0 == file.of(it)));
            let is_used_here = |name| words(file.of(body)).filter(|it| *it == name).count() == 1;
            at.filter(|at| EQUALITIES.contains(&word) && is_used_here(parameters[*at].0))
        };
        let found = asserts().and_then(|at| Some(side(source, site, *given.get(at)?)));
        if let Some(found) = found.filter(|it| !it.is_empty() && given.len() == parameters.len()) {
            return Some(found);
        }
    }
    None
}

/// Whether something around an assertion may catch what it throws.
fn is_caught(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != "method_declaration") {
        let called = outer.child_by_field_name("name").map_or("", |it| source.of(it));
        if outer.kind() == "method_invocation" && called.starts_with("assertThrows") {
            return true;
        }
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
            "method_declaration" => return in_lambda && !gives_nothing(source, outer),
            "method_invocation" => {
                let name = outer.child_by_field_name("name").map(|it| source.of(it));
                if in_lambda && name == Some("dynamicTest") {
                    return false;
                }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn parts_of(text: &str) -> TestFileParts {
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_java::LANGUAGE.into()).unwrap();
        let tree = parser.parse(text, None).unwrap();
        take_apart(&TestSource::alone(text, &tree))
    }

    #[test]
    fn what_is_expected_is_found() {
        for (assertion, found) in [
            ("assertEquals(6, Toll.toll(3));", vec!["6"]),
            ("Assertions.assertEquals(Toll.toll(3), List.of(1, 2), \"three\");", vec!["1", "2"]),
            ("assertEquals(1.5, f(), 0.1);", vec!["1.5"]),
            ("assertEquals(150.0, f(), 20.0);", vec![]),
            ("assertLinesMatch(List.of(\"[a-z]+\"), f());", vec![]),
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
    fn helpers_and_functions_assert() {
        let helper = "void check(int want, int n) { assertEquals(want, f(n)); } @Test void one() { check(6, 3); }";
        let maybe = "void check(int want, int n) { if (n > 2) assertEquals(want, f(n)); } @Test void one() { check(6, 3); }";
        let all = "@Test void one() { assertAll(() -> assertEquals(6, f(3)), () -> assertEquals(8, f(4))); }";
        let later =
            "@TestFactory Object one() { return dynamicTest(\"x\", () -> assertEquals(6, f(3))); }";
        for (members, sites) in [(helper, 1), (maybe, 0), (all, 2), (later, 1)] {
            let parts = parts_of(&format!("class T {{ {members} }}"));
            let found = parts.sites.iter().filter(|it| !it.literals.is_empty()).count();
            assert_eq!((parts.sites.len(), found), (sites, sites), "{members}");
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
