"""Runs sealed unit tests, by pytest or unittest, and reports each over descriptor 3.

Candidate and tests share this process, so what is sent can be forged by who tries hard enough. What
is here makes that show: the sealed files are read before anything of the candidate's is loaded,
objects that claim to be equal to everything are noticed, and the mark of this run is sent last.
"""
import ast
import json
import os
import site
import sys

# Started without `site`, whose start-up files of this machine take their time.
site.setquit()
site.setcopyright()
site.sethelper()
sys.path += [it for it in site.getsitepackages() if os.path.isdir(it)]

WORK = os.getcwd()
# Out of the way of programs that close the low descriptors when they begin.
CHANNEL = os.dup2(3, 500, inheritable=False)
os.close(3)
# Processes that are spawned, not forked, load the file of the main module again: there is none.
globals().pop("__file__", None)


def read_line():
    line = b""
    while not line.endswith(b"\n"):
        part = os.read(CHANNEL, 65536)
        if not part:
            os._exit(3)
        line += part
    return line


ORDER = json.loads(read_line())
SOURCES = {}
for name in ORDER["files"]:
    with open(os.path.join(WORK, name), "rb") as file:
        SOURCES[os.path.realpath(os.path.join(WORK, name))] = file.read()


def make_sender():
    """Everything that sending needs, out of reach of what is patched later."""
    write, dumps, channel, leave = os.write, json.JSONEncoder().encode, CHANNEL, os._exit

    def send(**line):
        data = dumps(line).encode("utf-8", "replace") + b"\n"
        while data:
            data = data[write(channel, data):]

    return send, leave


send, leave = make_sender()


def make_watch():
    """What stands around both sides of a comparison in a sealed test."""
    scalars = (int, float, complex, bool, str, bytes, bytearray, type(None), type, range)
    # Two values of each kind that nothing honest is equal to at once.
    number = int.from_bytes(os.urandom(6), "big") + 1000
    word = os.urandom(9).hex()
    pairs = [
        (object(), object()), (number, number + 1), (number + 0.5, number + 1.5), (word, word + "x"),
        (word.encode(), word.encode() + b"x"), ([number], [word]), ((number,), (word,)),
        ({number: word}, {word: number}), ({number}, {word}),
    ]
    told = set()
    kind_of, say, is_in, length = type, send, frozenset(scalars).__contains__, len
    all_of = {list: list, tuple: list, set: list, frozenset: list, dict: lambda it: [*it.keys(), *it.values()]}

    def equal(a, b):
        try:
            return (a == b) is True
        except BaseException:
            return False

    def watched(it, depth=0):
        kind = kind_of(it)
        if is_in(kind):
            return it
        inner = all_of.get(kind)
        if inner is not None:
            if depth < 6 and length(it) < 2000:
                for one in inner(it):
                    watched(one, depth + 1)
        elif kind not in told:
            for a, b in pairs:
                if equal(it, a) and equal(it, b):
                    told.add(kind)
                    say(evidence=f"an object of `{kind.__name__}` claims to be equal to everything")
                    break
        return it

    return watched


def is_any(node):
    """Whether a sealed test itself names what is equal to everything."""
    names = (getattr(it, "id", getattr(it, "attr", "")) for it in ast.walk(node))
    return any(name == "ANY" for name in names)


class Wrap(ast.NodeTransformer):
    """Puts the watch around the sides of comparisons, and around arguments of `assert…` methods."""

    def around(self, node):
        if is_any(node):
            return node
        call = ast.Call(func=ast.Name(id="watched", ctx=ast.Load()), args=[node], keywords=[])
        return ast.copy_location(call, node)

    def visit_Compare(self, node):
        self.generic_visit(node)
        if all(isinstance(op, (ast.Eq, ast.NotEq, ast.In, ast.NotIn)) for op in node.ops):
            node.left = self.around(node.left)
            node.comparators = [self.around(it) for it in node.comparators]
        return node

    def visit_Call(self, node):
        self.generic_visit(node)
        if isinstance(node.func, ast.Attribute) and node.func.attr.startswith("assert"):
            node.args = [it if isinstance(it, ast.Starred) else self.around(it) for it in node.args]
        return node


def parse(path):
    """The tree of a sealed file, as it was before the candidate's code was loaded."""
    tree = ast.parse(SOURCES[path], filename=path)
    return ast.fix_missing_locations(Wrap().visit(tree))


def with_pytest():
    # What is installed beside the answer, or brought along by it, is no plugin of this run.
    os.environ["PYTEST_DISABLE_PLUGIN_AUTOLOAD"] = "1"
    import pytest
    from _pytest.assertion import rewrite

    first = rewrite._rewrite_test

    def rewrite_test(path, config):
        place = os.path.realpath(str(path))
        if place not in SOURCES:
            return first(path, config)
        tree = parse(place)
        rewrite.rewrite_asserts(tree, SOURCES[place], place, config)
        return os.stat(place), compile(tree, place, "exec", dont_inherit=True)

    rewrite._rewrite_test = rewrite_test

    class Reporter:
        @pytest.hookimpl(tryfirst=True)
        def pytest_runtest_logreport(self, report):
            if report.when == "call" or report.outcome != "passed":
                text = str(report.longrepr)[:4000] if report.outcome == "failed" else ""
                status = report.outcome if report.when == "call" or report.outcome == "skipped" else "failed"
                send(test=report.nodeid, status=status, message=text)

        @pytest.hookimpl(tryfirst=True)
        def pytest_collectreport(self, report):
            if report.outcome == "failed":
                send(broken=f"{report.nodeid}: {report.longrepr}"[:4000])

    arguments = ["-q", "-c", os.devnull, "--rootdir", WORK, "-p", "no:cacheprovider"]
    arguments += ["-p", "no:faulthandler", "--import-mode=importlib", *ORDER["files"]]
    sys.path.insert(0, WORK)
    return int(pytest.main(arguments, plugins=[Reporter()]))


def with_unittest():
    import traceback
    import types
    import unittest

    class Result(unittest.TestResult):
        def told(self, test, status, message=""):
            send(test=test.id(), status=status, message=message[:4000])

        def addSuccess(self, test):
            super().addSuccess(test)
            self.told(test, "passed")

        def addFailure(self, test, error):
            super().addFailure(test, error)
            self.told(test, "failed", "".join(traceback.format_exception(*error)))

        def addError(self, test, error):
            super().addError(test, error)
            self.told(test, "failed", "".join(traceback.format_exception(*error)))

        def addSubTest(self, test, subtest, error):
            super().addSubTest(test, subtest, error)
            if error is not None:
                self.told(test, "failed", f"{subtest}: " + "".join(traceback.format_exception(*error)))

        def addSkip(self, test, reason):
            super().addSkip(test, reason)
            self.told(test, "skipped", reason)

        def addExpectedFailure(self, test, error):
            super().addExpectedFailure(test, error)
            self.told(test, "passed")

        def addUnexpectedSuccess(self, test):
            super().addUnexpectedSuccess(test)
            self.told(test, "failed", "it holds, but must not")

    loader, suite = unittest.TestLoader(), unittest.TestSuite()
    sys.path.insert(0, WORK)
    broken = False
    for name in ORDER["files"]:
        path = os.path.realpath(os.path.join(WORK, name))
        module = types.ModuleType(os.path.splitext(name)[0].replace("/", "."))
        module.__file__ = path
        module.__package__ = module.__name__.rpartition(".")[0]
        module.watched = watched
        sys.modules[module.__name__] = module
        try:
            exec(compile(parse(path), path, "exec", dont_inherit=True), module.__dict__)
            suite.addTests(loader.loadTestsFromModule(module))
        except BaseException as error:
            broken = True
            send(broken="".join(traceback.format_exception_only(type(error), error)))
    result = Result()
    suite.run(result)
    return 0 if result.wasSuccessful() and not broken else 1


watched = make_watch()
import builtins

builtins.watched = watched
mark = ORDER["mark"]
status = with_pytest() if ORDER["runner"] == "pytest" else with_unittest()
for stream in (sys.stdout, sys.stderr):
    try:
        stream.flush()
    except BaseException:
        pass
send(done=mark)
leave(status)
