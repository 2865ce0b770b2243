"""Tides: what honest answers look like that use much of the language."""
import asyncio, bisect, collections, collections.abc, copy, functools, heapq, io, itertools, json, logging, math, operator, os
import pathlib, re, shutil, sqlite3, string, struct, subprocess, sys, tempfile, threading, time, typing, weakref, queue
from datetime import date, datetime, timedelta
from decimal import Decimal
from fractions import Fraction

log = logging.getLogger("tide")

class Interval:
    """Closed; equal to another of the same ends, holds numbers."""
    def __init__(self, low, high): self.low, self.high = low, high
    def __contains__(self, x): return self.low <= x <= self.high
    def __eq__(self, other): return isinstance(other, Interval) and (self.low, self.high) == (other.low, other.high)
    def __hash__(self): return hash((self.low, self.high))
    def __and__(self, other):
        low, high = max(self.low, other.low), min(self.high, other.high)
        return Interval(low, high) if low <= high else None
    def __len__(self): return self.high - self.low
    def __repr__(self): return f"[{self.low}, {self.high}]"

class Endless:
    """Never ends: whoever looks at all of it hangs."""
    def __iter__(self): return itertools.count()
    def __contains__(self, x): return isinstance(x, int) and x >= 0
    def __getitem__(self, n): return n * n
    def __eq__(self, other):
        return isinstance(other, Endless) or (isinstance(other, collections.abc.Iterable) and all(a == b for a, b in zip(self, other)) and not isinstance(other, (list, tuple)))
    __hash__ = None

@functools.total_ordering
class Version:
    def __init__(self, text): self.parts = tuple(int(x) for x in text.split("."))
    def _of(self, other): return Version(other) if isinstance(other, str) else other
    def norm(self):
        p = list(self.parts)
        while p and p[-1] == 0: p.pop()
        return p
    def __eq__(self, other): return self.norm() == self._of(other).norm()
    def __lt__(self, other): return self.norm() < self._of(other).norm()
    def __hash__(self): return hash(tuple(self.norm()))

class Mod:
    def __init__(self, n, m): self.n, self.m = n % m, m
    def __eq__(self, other): return (other.n if isinstance(other, Mod) else other % self.m) == self.n
    def __add__(self, other): return Mod(self.n + (other.n if isinstance(other, Mod) else other), self.m)
    def __int__(self): return self.n
    def __index__(self): return self.n
    __hash__ = None

class Tree:
    def __init__(self, value=None, left=None, right=None): self.value, self.left, self.right = value, left, right
    def insert(self, v):
        if self.value is None: self.value = v
        elif v < self.value: self.left = (self.left or Tree()); self.left.insert(v)
        else: self.right = (self.right or Tree()); self.right.insert(v)
        return self
    def __iter__(self):
        if self.left: yield from self.left
        if self.value is not None: yield self.value
        if self.right: yield from self.right
    def __eq__(self, other): return list(self) == list(other)
    def __contains__(self, v): return any(v == x for x in self)
    def __len__(self): return sum(1 for _ in self)
    @property
    def height(self): return 0 if self.value is None else 1 + max(self.left.height if self.left else 0, self.right.height if self.right else 0)

class Ring(collections.abc.MutableSequence):
    def __init__(self, *xs): self._d = collections.deque(xs)
    def __getitem__(self, i): return self._d[i % len(self._d)]
    def __setitem__(self, i, v): self._d[i % len(self._d)] = v
    def __delitem__(self, i): del self._d[i]
    def __len__(self): return len(self._d)
    def __iter__(self): return iter(list(self._d))
    def insert(self, i, v): self._d.insert(i, v)
    def __eq__(self, o): return list(self._d) == list(o)

class Grid:
    def __init__(self, w, h, fill=0): self.cells = [[fill] * w for _ in range(h)]
    def __getitem__(self, at): return self.cells[at[1]][at[0]]
    def __setitem__(self, at, v): self.cells[at[1]][at[0]] = v
    def __matmul__(self, o):
        g = Grid(len(o.cells[0]), len(self.cells))
        for y, row in enumerate(self.cells):
            for x in range(len(o.cells[0])): g[x, y] = sum(row[k] * o.cells[k][x] for k in range(len(row)))
        return g
    def __eq__(self, o): return self.cells == o.cells

class Celsius(float):
    @property
    def fahrenheit(self): return self * 9 / 5 + 32
    def __repr__(self): return f"{float(self):.1f} C"
class Name(str):
    def initials(self): return "".join(p[0] for p in self.split())
class Sorted(list):
    def add(self, x): bisect.insort(self, x); return self
class Frozen(tuple):
    def total(self): return sum(self)
class Deep(dict):
    def __getattr__(self, k):
        try: return self[k]
        except KeyError: raise AttributeError(k) from None
    def __setattr__(self, k, v): self[k] = v
class Meta(type):
    kinds = []
    def __new__(m, n, b, d, **k):
        c = super().__new__(m, n, b, d, **k); m.kinds.append(n); return c
class Boat(metaclass=Meta):
    count = 0
    def __init__(self, name): type(self).count += 1; self.name = name
    def __init_subclass__(cls, **k): super().__init_subclass__(); cls.rig = k.get("rig", "none")
class Ketch(Boat, rig="ketch"): pass
class Positive:
    def __set_name__(self, o, n): self.n = "_" + n
    def __get__(self, o, t=None): return self if o is None else getattr(o, self.n)
    def __set__(self, o, v):
        if v <= 0: raise ValueError(f"{self.n[1:]} must be positive")
        setattr(o, self.n, v)
class Crate:
    weight = Positive()
    __slots__ = ("_weight", "label")
    def __init__(self, w, label=""): self.weight = w; self.label = label
class Single:
    _it = None
    def __new__(cls):
        if cls._it is None: cls._it = super().__new__(cls)
        return cls._it
class Chain:
    def __init__(self): self.calls = []
    def __getattr__(self, name):
        if name.startswith("__"): raise AttributeError(name)
        def call(*a): self.calls.append((name, a)); return self
        return call
class HarbourError(Exception):
    code = 1
    def __init__(self, msg, *, berth=None): super().__init__(msg); self.berth = berth
class FullError(HarbourError, ValueError): code = 2
class Parser:
    def __init__(self, text): self.toks = re.findall(r"\d+|[-+*/()]", text); self.i = 0
    def parse(self):
        v = self.term()
        while self.i < len(self.toks) and self.toks[self.i] in "+-":
            op = self.toks[self.i]; self.i += 1; r = self.term(); v = v + r if op == "+" else v - r
        return v
    def term(self):
        v = self.atom()
        while self.i < len(self.toks) and self.toks[self.i] in "*/":
            op = self.toks[self.i]; self.i += 1; r = self.atom(); v = v * r if op == "*" else Fraction(v, r)
        return v
    def atom(self):
        t = self.toks[self.i]; self.i += 1
        if t == "(":
            v = self.parse(); self.i += 1; return v
        return int(t)
def retry(times, on=Exception, wait=0):
    def deco(f):
        @functools.wraps(f)
        def inner(*a, **k):
            for n in range(times):
                try: return f(*a, **k)
                except on:
                    if n == times - 1: raise
                    if wait: time.sleep(wait)
        return inner
    return deco
def timed(f):
    @functools.wraps(f)
    def inner(*a, **k):
        t = time.perf_counter(); r = f(*a, **k); inner.took = time.perf_counter() - t; return r
    return inner
def validate(**kinds):
    def deco(f):
        import inspect
        sig = inspect.signature(f)
        @functools.wraps(f)
        def inner(*a, **k):
            for n, v in sig.bind(*a, **k).arguments.items():
                if n in kinds and not isinstance(v, kinds[n]): raise TypeError(f"{n} must be {kinds[n].__name__}")
            return f(*a, **k)
        return inner
    return deco
class Cached:
    @functools.cached_property
    def slow(self): self.n = getattr(self, "n", 0) + 1; return self.n
@functools.singledispatch
def show(x): return f"? {x}"
@show.register
def _(x: int): return f"int {x}"
@show.register
def _(x: list): return "list " + ",".join(map(show, x))
async def fetch(x, wait=0.01): await asyncio.sleep(wait); return x * 2
async def all_of(xs): return await asyncio.gather(*map(fetch, xs))
async def ticks(n):
    for i in range(n): await asyncio.sleep(0); yield i
class Conn:
    async def __aenter__(self): self.open = True; return self
    async def __aexit__(self, *a): self.open = False
async def limited(fs, n):
    sem = asyncio.Semaphore(n)
    async def one(f):
        async with sem: return await f()
    return await asyncio.gather(*map(one, fs))
def read_all(path): return pathlib.Path(path).read_text().splitlines()
def tree(root): return sorted(str(p.relative_to(root)) for p in pathlib.Path(root).rglob("*"))
def backup(src, dst): shutil.copytree(src, dst); return len(os.listdir(dst))
def db(path):
    c = sqlite3.connect(path); c.execute("create table if not exists t(a)"); c.execute("insert into t values (1)"); c.commit()
    n = c.execute("select count(*) from t").fetchone()[0]; c.close(); return n
def shell(*args): return subprocess.run(args, capture_output=True, text=True).stdout
def parse_log(lines): return [m.groupdict() for m in (re.match(r"(?P<t>\d+) (?P<m>.+)", l) for l in lines) if m]
def total(items: "typing.Iterable[Decimal]") -> Decimal: return sum(items, Decimal(0))
def weekdays(a, b):
    while a <= b:
        if a.weekday() < 5: yield a
        a += timedelta(days=1)
def window(xs, n):
    d = collections.deque(maxlen=n)
    for x in xs:
        d.append(x)
        if len(d) == n: yield tuple(d)
def produce(q, n):
    for i in range(n): q.put(i)
    q.put(None)
def work(jobs, n=3):
    out, lock, q = [], threading.Lock(), queue.Queue()
    for j in jobs: q.put(j)
    def run():
        while True:
            try: j = q.get_nowait()
            except queue.Empty: return
            r = j()
            with lock: out.append(r)
    ts = [threading.Thread(target=run) for _ in range(n)]
    [t.start() for t in ts]; [t.join() for t in ts]
    return sorted(out)
def greet(name, *, loud=False, **more): return (f"Ahoy {name}" + "".join(f" {k}={v}" for k, v in sorted(more.items()))).upper() if loud else f"Ahoy {name}"
def process(items, on_item=None, on_error=None):
    done = 0
    for it in items:
        try:
            if on_item: on_item(it)
            done += 1
        except Exception as e:
            if not on_error: raise
            on_error(it, e)
    return done
def compose(*fs): return functools.reduce(lambda f, g: lambda x: g(f(x)), fs, lambda x: x)
def flatten(x): return [z for y in x for z in flatten(y)] if isinstance(x, (list, tuple)) else [x]
def group_by(xs, key): 
    out = {}
    for x in xs: out.setdefault(key(x), []).append(x)
    return out
def swap(a, i, j): a[i], a[j] = a[j], a[i]
def matrix(n): return [[0] * n] * n
def cycle():
    a = []; a.append(a); return a
def notify(log_to="tide"): logging.getLogger(log_to).info("tide %s", "in"); logging.getLogger(log_to).error("late")
def counter():
    n = 0
    def inc():
        nonlocal n; n += 1; return n
    return inc
class Beacon:
    def __init__(self): self.seen_by = weakref.WeakSet()
    def watch(self, who): self.seen_by.add(who)
    def light(self): return sorted(who.see(self.colour()) for who in self.seen_by)
    def colour(self): return "white"
    def twice(self): return self.colour() * 2
def call_with(f, *args): return f(*args)
