"""Twins of assertions: the same with another expectation, so that they must fail.

Where the answer's own code decides whether an assertion holds, such as by what it calls equal, each such
assertion is also tried with an expectation that is wrong. In a run of twins about half of them are
changed, and the others in a second run: who cannot tell right from wrong cannot know which is which.
"""
import ast
import random as chance
import zlib

EQUALITIES = {
    "assertEqual", "assertEquals", "assertListEqual", "assertDictEqual", "assertTupleEqual", "assertSetEqual",
    "assertSequenceEqual", "assertAlmostEqual", "assertCountEqual", "assertMultiLineEqual",
}
ORDERS = {"assertLess": "<", "assertGreater": ">"}


def changed(it, variant, draw):
    """Another value of the same kind, which nothing honest takes for the first: near, so that it could as
    well be right. The last variants are such that numbers of no modulus are the same."""
    kind = type(it)
    if kind is bool:
        return not it
    if kind in (int, float, complex):
        off = (draw.randint(1, 12), draw.randrange(1, 12, 2), 1)[variant % 3]
        return it + (off if draw.random() < 0.5 else -off)
    if kind is str:
        return changed_text(it, variant, draw)
    if kind is bytes:
        return it + bytes([draw.randint(65, 90)])
    if kind in (list, tuple) and it:
        if variant:
            return kind([changed(one, variant, draw) for one in it])
        at = draw.randrange(len(it))
        return it[:at] + kind([changed(it[at], variant, draw)]) + it[at + 1:]
    if kind is dict and it:
        if variant:
            return {key: changed(value, variant, draw) for key, value in it.items()}
        key = draw.choice(list(it))
        return {**it, key: changed(it[key], variant, draw)}
    if kind in (set, frozenset, list, tuple):
        return kind([*it, draw.randint(1000, 100000)])
    if kind is dict:
        return {draw.choice("abcdefgh"): 1}
    return UNLIKE


def changed_text(it, variant, draw):
    """Another letter or digit, one more, or one less."""
    places = [at for at, char in enumerate(it) if char.isascii() and char.isalnum()]
    if not places or variant % 3 == 1:
        return it + draw.choice("abcdefghijklmnopqrstuvwxyz")
    at = draw.choice(places)
    if variant % 3 == 2 and len(places) > 1:
        return it[:at] + it[at + 1:]
    kinds = "0123456789" if it[at].isdigit() else "abcdefghijklmnopqrstuvwxyz"
    other = draw.choice([char for char in kinds if char != it[at].lower()])
    return it[:at] + (other.upper() if it[at].isupper() else other) + it[at + 1:]


def bounded(it):
    """The same to look for something in; of what has to be gone through, the beginning."""
    kind = type(it)
    if hasattr(kind, "__contains__") or hasattr(kind, "__len__"):
        return it
    return (one for one, _ in zip(it, range(1000)))


class Unlike:
    def __repr__(self):
        return "<something else>"


UNLIKE = Unlike()


class Twins(ast.NodeTransformer):
    """Changes about half of a file's assertions, or those at `sites`."""

    def __init__(self, file, order):
        self.file, self.order = file, order
        self.sites = set(order["sites"]) if order["sites"] is not None else None
        self.variant = order["variant"]

    def is_chosen(self, node):
        site = self.site(node)
        if self.sites is not None:
            return site in self.sites
        return (zlib.crc32(f"{self.order['seed']} {site}".encode()) >> 7 & 1) == self.order["part"]

    def site(self, node):
        return f"{self.file}:{node.lineno}:{node.col_offset}"

    def draw(self, node):
        return chance.Random(f"{self.order['seed']} {self.variant} {self.site(node)}")

    def tried(self, node, made):
        """The changed statement, which may fail however it likes, and is told of when it does not."""
        if made is None:
            return node
        name = lambda it: ast.Name(id=it, ctx=ast.Load())
        call = lambda it: ast.Expr(ast.Call(name(it), [ast.Constant(self.site(node))], []))
        handler = ast.ExceptHandler(type=None, name=None, body=[call("_apart_failed")])
        new = ast.Try(body=[call("_apart_begins"), made], handlers=[handler], orelse=[call("_apart_held")], finalbody=[])
        return ast.fix_missing_locations(ast.copy_location(new, node))

    def visit_FunctionDef(self, node):
        if any("expectedFailure" in ast.dump(it) or "xfail" in ast.dump(it) for it in node.decorator_list):
            return node
        return self.generic_visit(node)

    visit_AsyncFunctionDef = visit_FunctionDef

    def visit_Assert(self, node):
        if isinstance(node.test, ast.BoolOp) and isinstance(node.test.op, ast.And) and not has_names(node):
            # One for each, so that none is left out by the one before.
            parts = [ast.copy_location(ast.Assert(test=it, msg=node.msg), it) for it in node.test.values]
            return [self.visit_Assert(it) for it in parts]
        if not self.is_chosen(node) or has_names(node):
            return node
        test = self.change(node.test, self.draw(node))
        return self.tried(node, test and ast.Assert(test=test, msg=node.msg))

    def visit_Expr(self, node):
        call = node.value
        if not (isinstance(call, ast.Call) and isinstance(call.func, ast.Attribute)) or has_names(node):
            return node
        name, args = call.func.attr, call.args
        if not self.is_chosen(node) or any(isinstance(it, ast.Starred) for it in args):
            return node
        draw, new = self.draw(node), None
        if name in EQUALITIES and len(args) >= 2:
            new = self.sides(*args[:2], draw)
        elif name in ORDERS and len(args) >= 2:
            new = [args[1], args[0]]
        elif name == "assertIn" and len(args) >= 2:
            new = self.member(args[0], args[1])
        elif name == "assertNotEqual" and len(args) >= 2:
            new = [args[0], args[0]] if not has_calls(args[0]) else None
        elif name == "assertTrue" and args:
            test = self.change(args[0], draw)
            new = [test] if test is not None else None
        if new is None:
            return node
        made = ast.Call(func=call.func, args=[*new, *args[len(new):]], keywords=call.keywords)
        return self.tried(node, ast.Expr(made))

    def change(self, test, draw):
        """A condition that does not hold where this one does; None where none is known."""
        if isinstance(test, ast.UnaryOp) and isinstance(test.op, ast.Not) and isinstance(test.operand, ast.Compare):
            inner, op = test.operand, test.operand.ops[0]
            if len(inner.ops) == 1 and isinstance(op, ast.Eq) and not has_calls(inner.left):
                return ast.UnaryOp(op=ast.Not(), operand=compare(inner.left, ast.Eq(), inner.left))
            return None
        if not isinstance(test, ast.Compare) or len(test.ops) != 1:
            return None
        left, op, right = test.left, test.ops[0], test.comparators[0]
        if isinstance(op, ast.Eq):
            sides = self.sides(left, right, draw)
            return sides and compare(sides[0], op, sides[1])
        if isinstance(op, (ast.Lt, ast.Gt)):
            return compare(right, op, left)
        if isinstance(op, ast.NotEq) and not has_calls(left):
            return compare(left, op, left)
        if isinstance(op, ast.In):
            sides = self.member(left, right)
            return sides and compare(sides[0], op, sides[1])
        return None

    def sides(self, left, right, draw):
        """Two sides that are equal, one of them changed: the one that is expected."""
        order = [1, 0] if not has_calls(right) or has_calls(left) else [0, 1]
        both = [left, right]
        for at in order:
            made = self.expected(both[at], draw)
            if made is not None:
                both[at] = made
                return both
        return None

    def member(self, left, right):
        if not isinstance(left, ast.Constant) or isinstance(left.value, bool):
            return None
        value, draw = left.value, self.draw(left)
        if isinstance(value, (int, float)):
            far = draw.randint(10**9, 10**12)
            value = (far, -far, draw.choice("abcdefgh") * 9)[self.variant % 3]
        elif isinstance(value, str):
            value = "".join(draw.choice("abcdefghijklmnopqrstuvwxyz") for _ in range(len(value) + 4))
        else:
            return None
        # What is not there would be looked for without end in what has none.
        return [ast.Constant(value), ast.Call(ast.Name(id="_apart_bounded", ctx=ast.Load()), [right], [])]

    def expected(self, node, draw):
        """An expectation, changed: where it calls nothing, when it is known; in what makes an object, before."""
        if isinstance(node, ast.Constant):
            return ast.Constant(changed(node.value, self.variant, draw)) if node.value is not None else wrapped(node, self)
        if not has_calls(node):
            return wrapped(node, self)
        if isinstance(node, ast.Call):
            name = getattr(node.func, "id", getattr(node.func, "attr", ""))
            # A class, or what the tests' own runner compares with.
            if not (name[:1].isupper() or name == "approx") or any(isinstance(it, ast.Starred) for it in node.args):
                return None
            # What is near is a matter of the first alone.
            last = 1 if name == "approx" else None
            parts = self.some([*node.args, *[it.value for it in node.keywords]], last, draw)
            if parts is None:
                return None
            keywords = [ast.keyword(it.arg, value) for it, value in zip(node.keywords, parts[len(node.args):])]
            return ast.Call(func=node.func, args=parts[:len(node.args)], keywords=keywords)
        if isinstance(node, (ast.List, ast.Tuple)):
            parts = self.some(node.elts, None, draw)
            return parts and type(node)(elts=parts, ctx=ast.Load())
        return None

    def some(self, parts, last, draw):
        """Parts of which one is changed, and in later variants each that can be: some may not count."""
        made, done = list(parts), False
        for at in draw.sample(range(len(parts[:last])), len(parts[:last])):
            new = self.expected(parts[at], draw)
            if new is not None:
                made[at], done = new, True
                if self.variant == 0:
                    break
        return made if done else None


def wrapped(node, twins):
    return ast.Call(ast.Name(id="_apart_changed", ctx=ast.Load()), [node, ast.Constant(twins.variant)], [])


def compare(left, op, right):
    return ast.Compare(left=left, ops=[op], comparators=[right])


def has_calls(node):
    return any(isinstance(it, (ast.Call, ast.Await, ast.Yield)) for it in ast.walk(node))


def has_names(node):
    """Whether it gives something a name, which what follows may need."""
    return any(isinstance(it, ast.NamedExpr) for it in ast.walk(node))
