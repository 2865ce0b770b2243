import asyncio, copy, io, itertools, json, logging, math, os, pathlib, pickle, queue, sys, threading, time
from collections import deque, OrderedDict
from datetime import date, datetime
from decimal import Decimal
from fractions import Fraction
from unittest import mock
import pytest
import tide
from tide import *
from helpers import EXPECTED, all_equal, check_interval

HERE = pathlib.Path(__file__).parent

def test_intervals():
    a = Interval(1, 5); assert 3 in a and 9 not in a and a == Interval(1, 5) and a != Interval(1, 6) and len(a) == 4
    check_interval(a & Interval(2, 9), 2, 5); assert a & Interval(7, 9) is None; assert {a: 1}[Interval(1, 5)] == 1
def test_endless():
    e = Endless(); assert 5 in e and "x" not in e and e[3] == 9 and e == Endless() and list(itertools.islice(e, 3)) == [0, 1, 2] and e != [0, 1]
@pytest.mark.parametrize(
    "text, other, less",
    [
        ("1.0", "1.0.0", False),
        ("1.2", "1.10", True),
    ],
)
def test_versions(text, other, less):
    assert (Version(text) < Version(other)) is less
    assert (Version(text) == other) is not less
    assert Version(text) <= Version(other)
    assert max(Version(text), Version(other)) == Version(other)
def test_modular():
    assert Mod(10, 7) == 3 and Mod(10, 7) == Mod(3, 7) and Mod(5, 7) + 4 == Mod(2, 7) and int(Mod(9, 7)) == 2 and [10, 20, 30][Mod(8, 7)] == 20
    assert Mod(3, 2) == 1 and Mod(4, 2) == 0
def test_tree(tree):
    assert list(tree) == [1, 3, 5, 8] and tree == [1, 3, 5, 8] and 3 in tree and 4 not in tree and len(tree) == 4 and tree.height == 3
    assert tree.left.value == 3 and tree.right.left is None
def test_ring():
    r = Ring(1, 2, 3); assert r[4] == 2 and r == [1, 2, 3]; r.append(4); assert len(r) == 4 and r.pop() == 4 and r.index(3) == 2 and list(reversed(r)) == [3, 2, 1]
    r[0] = 9; assert r == Ring(9, 2, 3); del r[0]; assert list(r) == [2, 3]; r.extend([5]); assert r.count(5) == 1
def test_grid():
    g = Grid(2, 2); g[0, 0] = 1; g[1, 1] = 2; assert (g @ g) == mk([[1, 0], [0, 4]]) and g[1, 1] == 2
    g.cells[0][1] = 7; assert g[1, 0] == 7
def mk(rows):
    g = Grid(len(rows[0]), len(rows)); g.cells = rows; return g
def test_kinds_of_data():
    c = Celsius(100); assert c.fahrenheit == 212 and c == 100 and repr(c) == "100.0 C" and c + 1 == 101 and isinstance(c, float) and round(c) == 100 and math.isclose(c, 100)
    n = Name("Ann Lee"); assert n.initials() == "AL" and n.upper() == "ANN LEE" and n == "Ann Lee" and f"{n}!" == "Ann Lee!" and n[0] == "A" and "Lee" in n
    s = Sorted([1, 5]); s.add(3); assert s == [1, 3, 5] and s[1] == 3 and isinstance(s, list) and sum(s) == 9; s.append(0); assert s.add(2) == [1, 2, 3, 5, 0] or True
    f = Frozen((1, 2)); assert f.total() == 3 and f == (1, 2) and f[0] == 1 and hash(f) == hash((1, 2)) and isinstance(f, tuple)
    d = Deep(a=1); assert d.a == 1 and d == {"a": 1}; d.b = 2; assert d["b"] == 2 and "b" in d and sorted(d) == ["a", "b"]
    with pytest.raises(AttributeError): d.zzz
def test_metaclass():
    assert "Boat" in Boat.kinds and Ketch.rig == "ketch" and Boat("x").name == "x"; Boat("y"); assert Boat.count == 2 and issubclass(Ketch, Boat)
def test_count_starts_again(): assert Boat.count == 0; Ketch("k"); assert Ketch.count == 1
def test_descriptor():
    c = Crate(5, label="tea"); assert c.weight == 5 and c.label == "tea"
    with pytest.raises(ValueError, match=r"weight must be positive"): c.weight = -1
    with pytest.raises(AttributeError): c.other = 1
    with pytest.raises(ValueError): Crate(0)
def test_singleton(): assert Single() is Single()
def test_fluent():
    c = Chain().a(1).b("x", [2]); assert c.calls == [("a", (1,)), ("b", ("x", [2]))]
def test_errors():
    with pytest.raises(HarbourError) as e: raise FullError("full", berth=3)
    assert e.value.berth == 3 and e.value.code == 2 and e.type is FullError and str(e.value) == "full"
    with pytest.raises(ValueError): raise FullError("x")
    assert issubclass(FullError, ValueError) and FullError.code == 2 and HarbourError("m").args == ("m",)
@pytest.mark.parametrize("text,value", [("1+2*3", 7), ("(1+2)*3", 9), ("1/2", Fraction(1, 2)), ("2*(3-1)", 4)])
def test_parser(text, value): assert Parser(text).parse() == value
def test_decorators():
    n = []
    @retry(3, on=KeyError)
    def flaky(x):
        n.append(x)
        if len(n) < 3: raise KeyError(x)
        return "ok"
    assert flaky(1) == "ok" and n == [1, 1, 1] and flaky.__name__ == "flaky"
    @retry(2)
    def never(): raise RuntimeError("no")
    with pytest.raises(RuntimeError, match="no"): never()
    @timed
    def quick(): return 5
    assert quick() == 5 and quick.took >= 0
    @validate(n=int)
    def dbl(n, k=2): return n * k
    assert dbl(3) == 6 and dbl(n=4, k=1) == 4
    with pytest.raises(TypeError, match="n must be int"): dbl("x")
    with mock.patch("time.sleep") as nap:
        @retry(3, wait=5)
        def bad(): raise OSError
        with pytest.raises(OSError): bad()
    assert nap.call_args_list == [mock.call(5), mock.call(5)]
def test_cached(): c = Cached(); assert c.slow == 1 and c.slow == 1 and Cached().slow == 1
def test_dispatch(): assert show(3) == "int 3" and show([1, "a"]) == "list int 1,? a" and show(None) == "? None"
def test_async():
    async def run():
        t = time.perf_counter(); r = await asyncio.gather(*[fetch(i, 0.3) for i in range(5)]); assert time.perf_counter() - t < 1.4; return r
    assert asyncio.run(run()) == [0, 2, 4, 6, 8] and asyncio.run(all_of([1, 2])) == [2, 4]
    async def it(): return [x async for x in ticks(3)]
    assert asyncio.run(it()) == [0, 1, 2]
    async def ctx():
        async with Conn() as c: assert c.open
        return c.open
    assert asyncio.run(ctx()) is False
    most, now = [0], [0]
    async def job():
        now[0] += 1; most[0] = max(most[0], now[0]); await asyncio.sleep(0.01); now[0] -= 1; return 1
    assert asyncio.run(limited([job] * 6, 2)) == [1] * 6 and most[0] == 2
    async def slow():
        with pytest.raises(asyncio.TimeoutError): await asyncio.wait_for(fetch(1, 5), 0.05)
    asyncio.run(slow())
def test_files(tmp_path):
    (tmp_path / "a" / "b").mkdir(parents=True); (tmp_path / "a" / "b" / "c.txt").write_text("x\ny\n"); assert read_all(tmp_path / "a" / "b" / "c.txt") == ["x", "y"]
    assert tree(tmp_path) == ["a", "a/b", "a/b/c.txt"]; assert backup(tmp_path / "a", tmp_path / "z") == 1 and (tmp_path / "z" / "b" / "c.txt").read_text() == "x\ny\n"
    assert db(str(tmp_path / "q.db")) == 1 and db(str(tmp_path / "q.db")) == 2
    import sqlite3; assert sqlite3.connect(tmp_path / "q.db").execute("select count(*) from t").fetchone() == (2,)
    with mock.patch("builtins.open", mock.mock_open(read_data="zz")): assert open("nowhere").read() == "zz"
def test_sealed_data(): assert parse_log(open(HERE / "log.txt")) == [{"t": "10", "m": "in"}, {"t": "20", "m": "out"}] and read_all(str(HERE / "log.txt"))[2] == "bad" and read_all("log.txt")[0] == "10 in"
def test_session_fixture(crew): assert read_all(crew) == ["Ann", "Bo"]
def test_shell(): assert shell("echo", "hi") == "hi\n"
def test_values():
    assert total([Decimal("1.10"), Decimal("2.20")]) == Decimal("3.30") and list(weekdays(date(2024, 1, 5), date(2024, 1, 9))) == [date(2024, 1, 5), date(2024, 1, 8), date(2024, 1, 9)]
    assert list(window("abcd", 2)) == [("a", "b"), ("b", "c"), ("c", "d")] and flatten([1, [2, (3, [4])]]) == [1, 2, 3, 4] and group_by(["aa", "b", "cc"], len) == {2: ["aa", "cc"], 1: ["b"]}
    assert compose(lambda x: x + 1, str)(3) == "4" and greet("Bo") == "Ahoy Bo" and greet("Bo", loud=True, a=1) == "AHOY BO A=1"
    with pytest.raises(TypeError): greet("a", "b")
def test_aliases():
    xs = [1, 2, 3]; swap(xs, 0, 2); assert xs == [3, 2, 1]; m = matrix(2); m[0][0] = 5; assert m == [[5, 0], [5, 0]]; c = cycle(); assert c[0] is c
def test_threads():
    q = queue.Queue(); t = threading.Thread(target=produce, args=(q, 3)); t.start(); got = []
    while (x := q.get(timeout=5)) is not None: got.append(x)
    t.join(); assert got == [0, 1, 2] and work([lambda i=i: i * i for i in range(5)]) == [0, 1, 4, 9, 16]
def test_callbacks():
    seen = mock.Mock(); errs = []
    def item(x):
        if x == 2: raise ValueError("two")
        seen(x)
    assert process([1, 2, 3], item, lambda x, e: errs.append((x, str(e)))) == 2 and errs == [(2, "two")]; seen.assert_has_calls([mock.call(1), mock.call(3)])
    with pytest.raises(ValueError): process([2], item)
def test_logs(caplog):
    with caplog.at_level(logging.INFO, logger="tide"): notify()
    assert [r.message for r in caplog.records] == ["tide in", "late"]; caplog.clear(); notify(); assert caplog.record_tuples == [("tide", logging.ERROR, "late")]
def test_closures(): c = counter(); assert (c(), c()) == (1, 2) and counter()() == 1
def test_loops():
    for n in range(30): assert Mod(n, 5) == n % 5
    all_equal([Mod(3, 7), Mod(10, 7)], 3)
    for name, want in EXPECTED.items(): assert sorted(want) == want
def test_text_like_tests(): text = "def test_nothing(): pass\nassert 1 == 2"; assert len(flatten([text])) == 1
def test_copies():
    t = Tree().insert(2); u = copy.deepcopy(t); u.insert(9); assert list(t) == [2] and list(u) == [2, 9] and pickle.loads(pickle.dumps(t)) == t
class TestState:
    log = []
    @classmethod
    def setup_class(cls): cls.boat = Boat("shared")
    def setup_method(self): self.log.append("set")
    def test_first(self): self.boat.name = "new"; assert len(self.log) == 1
    def test_second(self): assert self.boat.name == "new" and self.log == ["set", "set"]
class TestNested:
    class TestInner:
        def test_deep(self): assert Interval(0, 1) == Interval(0, 1)
def test_approx(): assert Celsius(36.6).fahrenheit == pytest.approx(97.88) and [0.1 + 0.2, 1] == pytest.approx([0.3, 1])
@pytest.mark.skipif(sys.version_info < (3, 0), reason="old")
@pytest.mark.filterwarnings(
    "ignore"
)
def test_many_decorators(): assert Version("2") > "1.9"
def test_weak():
    class Ship:
        def __init__(self, name): self.name = name
        def see(self, colour): return f"{self.name} sees {colour}"
    b, ships = Beacon(), [Ship("a"), Ship("b")]
    for it in ships: b.watch(it)
    assert b.light() == ["a sees white", "b sees white"] and len(b.seen_by) == 2
def test_replaced_methods(monkeypatch):
    b = Beacon()
    with mock.patch.object(b, "colour", return_value="red") as red:
        assert b.colour() == "red" and b.twice() == "redred" and red.call_count == 2
    assert b.colour() == "white"
    monkeypatch.setattr(b, "colour", lambda: "green"); assert b.twice() == "greengreen" and b.colour() == "green"
    monkeypatch.undo(); assert b.twice() == "whitewhite" and b.colour() == "white"
    with mock.patch.object(Beacon, "colour", autospec=True, side_effect=lambda self: "blue"): assert Beacon().twice() == "blueblue" and Beacon().colour() == "blue"
    assert b.colour() == "white"
    b.colour = lambda: "pink"; assert b.twice() == "pinkpink" and b.colour() == "pink"; del b.colour; assert b.colour() == "white"
def test_bound_members():
    b = Beacon(); assert call_with(b.twice) == "whitewhite" and call_with(Beacon.colour, b) == "white" and list(map(Version("1.2").__lt__, [Version("1.3"), Version("1")])) == [True, False]
    class Dim(Beacon):
        def colour(self): return "dim " + super().colour()
    assert Dim().twice() == "dim whitedim white"
