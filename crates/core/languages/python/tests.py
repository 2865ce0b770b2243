"""Runs sealed unit tests, by pytest or unittest, and reports each over descriptor 3.

Candidate and tests share this process, so what is sent can be forged by who tries hard enough. What
is here makes that show: the sealed tests come over the descriptor before anything of the candidate's
is loaded, objects that claim to be equal to many things are noticed, and the mark of this run is sent
last.
"""
import ast
import json
import os
import site
import sys
import warnings

# Started without `site`, whose start-up files of this machine take their time.
site.setquit()
site.setcopyright()
site.sethelper()

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
# By real path: the files themselves are blank, so that what is expected cannot be read from them.
FILES = list(ORDER["files"])
SOURCES = {os.path.realpath(os.path.join(WORK, name)): ORDER["files"].pop(name) for name in FILES}


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
    """What is put into sealed tests, around both sides of a comparison."""
    # Two values of each kind that nothing honest is equal to at once.
    number = int.from_bytes(os.urandom(6), "big") + 1000
    word = os.urandom(9).hex()
    pairs = [
        (object(), object()), (number, number + 1), (number + 0.5, number + 1.5), (word, word + "x"),
        (word.encode(), word.encode() + b"x"), ([number], [word]), ((number,), (word,)),
        ({number: word}, {word: number}), ({number}, {word}),
    ]
    scalars = (int, float, complex, bool, str, bytes, bytearray, type(None), type, range)
    kind_of, say, length, is_kind, identity, told = type, send, len, isinstance, id, set()
    some = os.urandom
    of_dict = lambda it: [*it.keys(), *it.values()]
    containers = ((list, list), (tuple, list), (set, list), (frozenset, list), (dict, of_dict))
    unlike = [object(), object()]

    # By identity: a kind can claim to be another one, too.
    def is_scalar(kind):
        for it in scalars:
            if it is kind:
                return True
        return False

    def opened(kind):
        for it, inner in containers:
            if it is kind:
                return inner

    def equal(a, b):
        try:
            return (a == b) is True
        except BaseException:
            return False

    def is_plain(it, depth=0):
        """Whether only the language's own kinds are in it, whose equality is known."""
        kind = kind_of(it)
        if is_scalar(kind):
            return True
        inner = opened(kind)
        if inner is None or depth > 5 or length(it) > 2000:
            return False
        for one in inner(it):
            if not is_plain(one, depth + 1):
                return False
        return True

    def evidence(kind, what):
        if identity(kind) not in told:
            told.add(identity(kind))
            say(evidence=f"an object of `{kind.__name__}` {what}")

    def watched(it, depth=0):
        """The value; it is noticed when it claims to be equal to what it cannot be."""
        kind = kind_of(it)
        if is_scalar(kind):
            return it
        inner = opened(kind)
        if inner is not None:
            if depth < 6 and length(it) < 2000:
                for one in inner(it):
                    watched(one, depth + 1)
        elif identity(kind) not in told:
            for a, b in pairs:
                if equal(it, a) and equal(it, b):
                    evidence(kind, "claims to be equal to everything")
                    break
        return it

    def near(it):
        """Another value of the same kind, not far off."""
        kind, off = kind_of(it), 1 + some(1)[0] % 9
        if kind is bool:
            return not it
        if kind in (int, float, complex):
            return it + off
        if kind is str:
            return it + "~" * off
        if kind in (bytes, bytearray):
            return it + b"~" * off
        if kind in (list, tuple) and it:
            at = off % length(it)
            return it[:at] + kind([near(it[at])]) + it[at + 1:]
        if kind is dict and it:
            key = list(it)[off % length(it)]
            return {**it, key: near(it[key])}
        if kind in (set, frozenset, list, tuple):
            return kind([*it, off])
        return unlike[1]

    def sides(left, right):
        """The two sides of a comparison that an honest object does not hold for."""
        plain_left, plain_right = is_plain(left), is_plain(right)
        if plain_left == plain_right:
            return unlike
        return [left, near(right)] if plain_right else [near(left), right]

    def members(left, right):
        """As `sides`, of one that is looked for in the other."""
        plain_left, plain_right = is_plain(left), is_plain(right)
        if plain_left and not plain_right:
            return [near(left), right]
        if plain_right and not plain_left and kind_of(right) in (list, tuple, set, frozenset):
            return [left, [near(it) for it in right]]
        return [unlike[0], ()]

    def sides_or_approx(left, right):
        """As `sides`, where a sealed file names what is equal to all that is close enough."""
        for it in (left, right):
            for kind in APPROX:
                if kind is kind_of(it):
                    return unlike
        return sides(left, right)

    def both(left, right):
        """The two sides, where the order of one is what the candidate's code says it is."""
        for it in (left, right):
            if is_kind(it, (int, float, str)) and not is_scalar(kind_of(it)):
                return [left, right]
        return [0, 0]

    def seen(it, left, *claims):
        """The right side, when the claims of the left one have been looked at."""
        for claim in claims:
            if claim is True:
                kind = kind_of(it if is_plain(left) else left)
                evidence(kind, "claims to be equal to what it was compared with, and to others")
        return it

    def ordered(it, left, below, above):
        if below is True and above is True:
            kind = kind_of(it if is_scalar(kind_of(left)) else left)
            evidence(kind, "claims to be both less and more")
        return it

    made = (watched, sides, members, sides_or_approx, both, seen, ordered)
    return {it.__name__: it for it in made}


def is_forgiving(node):
    """Whether a sealed test itself names what is equal to many things."""
    names = (getattr(it, "id", getattr(it, "attr", "")) for it in ast.walk(node))
    return any(name in ("ANY", "approx") for name in names)


class Wrap(ast.NodeTransformer):
    """Puts the watch around the sides of comparisons, and around arguments of `assert…` methods.

    Before two sides are compared, near misses are compared in the same place of the same frame, so
    that an object that would be equal to anything cannot tell which comparison counts.
    """

    def __init__(self, sides, with_names):
        self.sides, self.with_names, self.names = sides, with_names, 0

    def call(self, name, *args):
        # Not by name, which could be bound to something else, but by what the compiled code holds.
        return ast.Call(func=ast.Constant(value=(MARKER, name)), args=list(args), keywords=[])

    def item(self, node, index):
        return ast.Subscript(value=node, slice=ast.Constant(value=index), ctx=ast.Load())

    def name(self):
        self.names += 1
        return f"_{os.urandom(4).hex()}_{self.names}"

    def around(self, node):
        return node if is_forgiving(node) else self.call("watched", node)

    def claim(self, sides, op):
        """A comparison of two sides that are made on the spot."""
        name = self.name()
        named = ast.NamedExpr(target=ast.Name(id=name, ctx=ast.Store()), value=sides)
        left, right = self.item(named, 0), self.item(ast.Name(id=name, ctx=ast.Load()), 1)
        return ast.Compare(left=left, ops=[op], comparators=[right])

    def pair(self, left, right, op):
        """Both sides of a comparison, claims put before the right one."""
        a, b = self.name(), self.name()
        load = lambda name: ast.Name(id=name, ctx=ast.Load())
        new_left = ast.NamedExpr(target=ast.Name(id=a, ctx=ast.Store()), value=self.around(left))
        named = ast.NamedExpr(target=ast.Name(id=b, ctx=ast.Store()), value=self.around(right))
        if op in (ast.Lt, ast.Gt, ast.LtE, ast.GtE):
            claims = [self.claim(self.call("both", load(a), load(b)), it()) for it in (ast.Lt, ast.Gt)]
            return new_left, self.call("ordered", named, load(a), *claims)
        claims = []
        for _ in range(1 + os.urandom(1)[0] % 3):
            sides = "members" if op is ast.In else self.sides
            claims.append(self.claim(self.call(sides, load(a), load(b)), op()))
        return new_left, self.call("seen", named, load(a), *claims)

    def visit_Compare(self, node):
        self.generic_visit(node)
        kinds = (ast.Eq, ast.In, ast.Lt, ast.Gt, ast.LtE, ast.GtE)
        single = len(node.ops) == 1 and not is_forgiving(node)
        if self.with_names and single and isinstance(node.ops[0], kinds):
            node.left, right = self.pair(node.left, node.comparators[0], type(node.ops[0]))
            node.comparators = [right]
        elif all(isinstance(op, (ast.Eq, ast.NotEq, ast.In, ast.NotIn)) for op in node.ops):
            node.left = self.around(node.left)
            node.comparators = [self.around(it) for it in node.comparators]
        return node

    def visit_Call(self, node):
        self.generic_visit(node)
        if not (isinstance(node.func, ast.Attribute) and node.func.attr.startswith("assert")):
            return node
        starred = any(isinstance(it, ast.Starred) for it in node.args)
        skip = starred or len(node.args) < 2 or is_forgiving(node)
        if self.with_names and not skip and "Not" not in node.func.attr and "Raises" not in node.func.attr:
            op = ast.In if node.func.attr == "assertIn" else ast.Eq
            node.args[:2] = self.pair(*node.args[:2], op)
        else:
            node.args = [it if isinstance(it, ast.Starred) else self.around(it) for it in node.args]
        return node


APPROX = []
MARKER = os.urandom(12).hex()
# A constant is called, until the watch stands in its place.
warnings.filterwarnings("ignore", "'tuple' object is not callable", SyntaxWarning)
WATCH = make_watch()


def filled(code):
    """The code with the watch's functions where their markers stood."""
    def fill(it):
        if isinstance(it, type(code)):
            return filled(it)
        return WATCH[it[1]] if isinstance(it, tuple) and len(it) == 2 and it[0] == MARKER else it

    return code.replace(co_consts=tuple(fill(it) for it in code.co_consts))


def tree_of(path, with_names):
    sides = "sides_or_approx" if "approx" in SOURCES[path] else "sides"
    tree = Wrap(sides, with_names).visit(ast.parse(SOURCES[path], filename=path))
    return ast.fix_missing_locations(tree)


def compiled(path, rewrite):
    """The code of a sealed file. Names cannot be given in every place where comparisons can."""
    for with_names in (True, False):
        tree = tree_of(path, with_names)
        rewrite(tree, SOURCES[path].encode(), path)
        try:
            return filled(compile(tree, path, "exec", dont_inherit=True))
        except SyntaxError:
            if not with_names:
                raise


def take(rewrite=lambda tree, source, path: None):
    """The code of every sealed file, or what is wrong with it. No text of theirs is kept, where the
    answer's code could find it."""
    codes = {}
    for path in SOURCES:
        try:
            codes[path] = compiled(path, rewrite)
        except SyntaxError as error:
            codes[path] = error
    SOURCES.clear()
    return codes


def code_of(codes, path):
    if isinstance(codes[path], SyntaxError):
        raise codes[path]
    return codes[path]


def with_pytest():
    let_in(["pytest", *ORDER["packages"]])
    # What is installed beside the answer, or brought along by it, is no plugin of this run.
    os.environ["PYTEST_DISABLE_PLUGIN_AUTOLOAD"] = "1"
    import pytest
    from _pytest import python_api
    from _pytest.assertion import rewrite

    APPROX.extend(it for name, it in vars(python_api).items() if name.startswith("Approx"))

    first, codes = rewrite._rewrite_test, take(rewrite.rewrite_asserts)

    def rewrite_test(path, config):
        place = os.path.realpath(str(path))
        return (os.stat(place), code_of(codes, place)) if place in codes else first(path, config)

    rewrite._rewrite_test = rewrite_test

    def said(failure):
        """What pytest says of a failure, without what it says of the watch."""
        hidden = (MARKER, "make_watch.<locals>")
        lines = str(failure).splitlines()
        return "\n".join(it for it in lines if not any(word in it for word in hidden))[:4000]

    class Reporter:
        @pytest.hookimpl(tryfirst=True)
        def pytest_runtest_logreport(self, report):
            if report.when == "call" or report.outcome != "passed":
                text = said(report.longrepr) if report.outcome == "failed" else ""
                status = report.outcome if report.when == "call" or report.outcome == "skipped" else "failed"
                send(test=report.nodeid, status=status, message=text)

        @pytest.hookimpl(tryfirst=True)
        def pytest_collectreport(self, report):
            if report.outcome == "failed":
                send(broken=f"{report.nodeid}: {report.longrepr}"[:4000])

    arguments = ["-q", "-c", os.devnull, "--rootdir", WORK, "-p", "no:cacheprovider"]
    arguments += ["-p", "no:faulthandler", "--import-mode=importlib", *FILES]
    sys.path.insert(0, WORK)
    return int(pytest.main(arguments, plugins=[Reporter()]))


def with_unittest():
    import importlib.util
    import traceback
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

    # The files are blank: whoever imports one of them by its name gets what was sent.
    names = {os.path.splitext(name)[0].replace("/", "."): name for name in FILES}
    path_of = {name: os.path.realpath(os.path.join(WORK, file)) for name, file in names.items()}
    codes = take()

    class Sealed:
        def find_spec(self, name, path=None, target=None):
            return importlib.util.spec_from_loader(name, self) if name in path_of else None

        def create_module(self, spec):
            return None

        def exec_module(self, module):
            module.__file__ = path_of[module.__name__]
            exec(code_of(codes, module.__file__), module.__dict__)

    sys.meta_path.insert(0, Sealed())
    sys.path.insert(0, WORK)
    loader, suite = unittest.TestLoader(), unittest.TestSuite()
    broken = False
    for name in names:
        try:
            suite.addTests(loader.loadTestsFromModule(importlib.import_module(name)))
        except BaseException as error:
            broken = True
            send(broken="".join(traceback.format_exception_only(type(error), error)))
    result = Result()
    suite.run(result)
    return 0 if result.wasSuccessful() and not broken else 1


def make_end(mark):
    return lambda: send(done=mark)


end = make_end(ORDER.pop("mark"))
if ORDER["runner"] != "pytest" and ORDER["packages"]:
    let_in(ORDER["packages"])
status = with_pytest() if ORDER["runner"] == "pytest" else with_unittest()
for stream in (sys.stdout, sys.stderr):
    try:
        stream.flush()
    except BaseException:
        pass
end()
leave(status)
