import collections, contextlib, datetime, functools, io, itertools, math, os, random, sys, threading, time
from unittest import mock
from unittest.mock import MagicMock, call, patch
import pytest
import dock
from dock import *

class TestStack:
    @pytest.fixture
    def stack(self): s = Stack(); s.push(1); s.push("b"); return s
    def test_all(self, stack):
        assert len(stack) == 2 and stack.peek() == "b" and stack.pop() == "b" and stack.pop() == 1 and stack.is_empty() and stack.peek() is None
        with pytest.raises(IndexError, match="empty stack"): stack.pop()
    def test_generic(self): s = Stack[int](); s.push(3); assert s.pop() == 3 and isinstance(s, Stack)
    def test_private(self, stack): assert stack._items == [1, "b"]
def test_protocol(): assert isinstance(Boat(), Floats) and not isinstance(Rock(), Floats)
def test_mixins(): b = Both(); b.go(); b.go(); assert b.lines == [1, 2] and b.n == 2 and [c.__name__ for c in Both.__mro__] == ["Both", "Log", "Tally", "object"] and issubclass(Both, Tally)
def test_iterator(): c = Countdown(3); assert next(c) == 3 and list(c) == [2, 1] and list(zip(Countdown(2), "ab")) == [(2, "a"), (1, "b")]
def test_money():
    m = Money(150); assert m + Money(50) == Money(200) == 200 and sum([m, m]) == 300 and m - Money(50) == Money(100) and sorted([Money(2), Money(1)]) == [Money(1), Money(2)]
    assert str(m) == "$1.50" and int(m) == 150 and float(m) == 1.5 and round(m, 1) == 1.5 and divmod(m, 100) == (1, 50) and m / 2 == Money(75) and m / Money(75) == 2 and not Money(0) and abs(Money(-5)) == Money(5) and f"{m}" == "$1.50" and max(m, Money(3)) is m
    assert len({Money(1), Money(1)}) == 1 and Money(1) in [Money(1)] and {Money(5): "x"}[Money(5)] == "x"
    with pytest.raises(AttributeError): m.other = 1
class TestAccount:
    def setup_method(self): self.a = Account("Ann", 100)
    def test_use(self):
        assert self.a.deposit(50) == 150; self.a.withdraw(30); assert self.a.balance == 120 and self.a.history == [("deposit", 50), ("withdraw", 30)]
        with pytest.raises(InsufficientFunds) as e: self.a.withdraw(1000)
        assert e.value.amount == 1000 and e.value.balance == 120 and "880" in str(e.value)
        with pytest.raises(ValueError) as v: self.a.deposit(-1)
        assert str(v.value) == "Deposit must be positive"
        with pytest.raises(ValueError): self.a.balance = -1
        self.a.balance = 7; assert self.a.balance == 7
        with pytest.raises(AttributeError): self.a.nothing
    def test_class(self):
        n = Account.count(); b = Account.from_dict({"owner": "Bo", "balance": 5}); assert Account.count() == n + 1 and repr(b) == "Account('Bo', 5)" and Account.valid(3) and not Account.valid("x") and b.valid(1)
        s = Savings("Cy", 100); assert s.interest().balance == pytest.approx(110) and isinstance(s, Account) and type(s) is Savings
        old = Savings.rate; Savings.rate = 0.5; assert s.interest() is s and s.balance == pytest.approx(165); Savings.rate = old; assert hasattr(s, "owner") and getattr(s, "zz", 3) == 3
    def test_mocked(self):
        with patch.object(Account, "deposit", return_value=1) as d: assert Account("x").deposit(5) == 1
        d.assert_called_once_with(5)
        with patch("dock.Account") as A: A.return_value.balance = 9; assert dock.Account("q").balance == 9
        with patch.object(Account, "balance", new_callable=mock.PropertyMock) as b: b.return_value = 77; assert self.a.balance == 77
def test_returned(tmp_path):
    m = match("depth=12"); assert m.group("k") == "depth" and m.group(2) == "12" and m["k"] == "depth" and m.span() == (0, 8) and match("?") is None and m
    p = tmp_path / "f"; p.write_text("a\nb\n")
    with opened(p) as f: assert f.readline() == "a\n" and f.read() == "b\n"
    assert f.closed and buffer().getvalue() == "tide\n" and list(lazily([1, 2])) == [2, 4] and dict(pairs("ab", [1, 2])) == {"a": 1, "b": 2}
    n = ns(); assert n.a == 1 and n.b == [2]; n.b.append(3); assert n.b == [2, 3]; a = parse(["--n", "3", "x"]); assert (a.n, a.name) == (3, "x") and vars(a) == {"n": 3, "name": "x"}
    c = chain(); assert c["a"] == 1 and c["b"] == 3 and dict(c) == {"a": 1, "b": 3} and len(c) == 2 and sorted(c) == ["a", "b"]
    with pytest.raises(SystemExit) as e: parse(["--n", "x"])
    assert e.value.code == 2
def test_argparse_output(capsys):
    with pytest.raises(SystemExit): parse([])
    assert "usage: dock" in capsys.readouterr().err
def test_groups():
    with pytest.raises(ExceptionGroup) as e: many()
    assert [type(x) for x in e.value.exceptions] == [ValueError, KeyError] and e.value.message == "many"
    try: many()
    except* ValueError as g: assert len(g.exceptions) == 1
    except* KeyError: pass
    with pytest.raises(ValueError) as n: noted()
    assert n.value.__notes__ == ["look here"]
    with pytest.raises(RecursionError): deep(100000)
    assert deep(50) == 50
def test_numbers(): assert math.isnan(nan()) and infs() == [math.inf, -math.inf, 0] and math.copysign(1, infs()[2]) == -1 and text() == "ahoy \U0001F6A2 \ud83d é" and when().utcoffset() == datetime.timedelta(hours=2) and when() == datetime.datetime(2023, 12, 31, 22, tzinfo=datetime.timezone.utc)
def test_game(capsys):
    with patch("random.randint", return_value=7), patch("builtins.input", side_effect=["3", "9", "7"]) as i: assert game() == 3
    assert i.call_count == 3 and capsys.readouterr().out == "low\nhigh\nright after 3\n"
    with patch("dock.random.randint", return_value=1), patch("sys.stdin", io.StringIO("1\n")): assert game() == 1
    assert capsys.readouterr().out == "guess? right after 1\n"
def test_patched():
    with patch("subprocess.run") as r: r.return_value.stdout = " hi \n"; assert dock.run(["x"]) == "hi"
    r.assert_called_once_with(["x"], capture_output=True, text=True, check=True)
    with patch("os.path.exists", return_value=True): assert there("/nowhere")
    assert not there("/nowhere")
    with patch("time.sleep") as s: assert slow() == "done"
    s.assert_called_once_with(10)
    with patch.dict("os.environ", {"DOCK": "1"}): assert os.environ["DOCK"] == "1"
    with patch.dict(dock.TABLE, {"z": 9}): assert table() == {"a": 1, "z": 9}
    assert table() == {"a": 1}
    with patch("dock.VERSION", "9"): assert dock.VERSION == "9"
    assert dock.VERSION == "1.2"
def test_limit():
    with patch("time.monotonic", side_effect=[0, 1, 2, 11, 12]):
        f = limited(2, 10)(lambda x: x); assert f(1) == 1 and f(2) == 2
        with pytest.raises(RuntimeError): f(3)
        assert f(4) == 4
def test_registry():
    reg = registry()
    @reg("tug")
    class Tug:
        def pull(self): return "pulls"
    assert reg.plugins["tug"] is Tug and Tug.plugin == "tug" and reg.plugins["tug"]().pull() == "pulls"
    @singleton
    class One:
        def __init__(self, x): self.x = x
    assert One(1) is One(2) and One(3).x == 1
def test_contexts():
    out = {}
    with timer(out) as o: assert o is out
    assert out["took"] >= 0
    with swallow(ValueError, KeyError): raise KeyError("x")
    with pytest.raises(TypeError):
        with swallow(ValueError): raise TypeError
    p = Pool(lambda i: [i], 2)
    with p.use() as a, p.use() as b: assert (a, b) == ([0], [1])
    with contextlib.ExitStack() as st: assert st.enter_context(p.use()) == [1]
    @swallow(ZeroDivisionError)
    def div(): return 1 / 0
    assert div() is None
def test_generators():
    g = accumulate(); assert next(g) == 0 and g.send(5) == 5 and g.send(2) == 7 and g.throw(ValueError) == 0
    with pytest.raises(StopIteration) as e: g.send(None)
    assert e.value.value == 0 and list(walk({"a": 1, "b": {"c": 2}})) == [("a", 1), ("c", 2)]
    def outer(): r = yield from accumulate(); return r
    o = outer(); next(o); assert o.send(4) == 4
def test_data():
    P = collections.namedtuple("P", "x y"); assert sort_by([P(2, 1), P(1, 2), P(1, 1)], "x", "y") == [P(1, 1), P(1, 2), P(2, 1)]
    a = {"k": {"x": 1}}; r = merge(a, {"k": {"y": 2}, "z": 3}); assert r is a and a == {"k": {"x": 1, "y": 2}, "z": 3}
    class Row:
        def __init__(self, n): self.n = n
        def __repr__(self): return f"Row {self.n}"
    assert [r.n for r in sort_by([Row(3), Row(1)], "n")] == [1, 3]
def test_event(): e = event(); assert e.wait(2) and e.is_set()
def test_emitter():
    e = Emitter()
    @e.on("tide")
    def high(level, *, by=1): return level * by
    assert e.emit("tide", level=3, by=2) == [6] and high(4) == 4 and e.emit("none") == []
def test_lazy(): l = Lazy(); assert l.tide == "TIDE" and l.__dict__ == {"tide": "TIDE"} and not hasattr(l, "_x")
def test_typed():
    c = Crew("Ann", 3); assert c.name == "Ann"
    with pytest.raises(TypeError, match="age: int expected, got str"): c.age = "x"
    with pytest.raises(TypeError): Crew(1, 2)
    assert isinstance(Crew.name, Typed)
def test_globals(): assert VERSION == "1.2" and NAMES == ["x"]; NAMES.append("y"); assert dock.NAMES == ["x", "y"]; NAMES.pop(); TABLE["q"] = 1; assert table() == {"a": 1, "q": 1}; del TABLE["q"]; assert table() is TABLE
