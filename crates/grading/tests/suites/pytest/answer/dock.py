import argparse, collections, contextlib, datetime, functools, io, itertools, logging, math, os, queue, random, re, subprocess, sys, threading, time, types, typing
from typing import Generic, TypeVar, Protocol, runtime_checkable
T = TypeVar("T")
class Stack(Generic[T]):
    def __init__(self): self._items: list[T] = []
    def push(self, x: T) -> None: self._items.append(x)
    def pop(self) -> T:
        if not self._items: raise IndexError("pop from empty stack")
        return self._items.pop()
    def peek(self): return self._items[-1] if self._items else None
    def is_empty(self): return not self._items
    def __len__(self): return len(self._items)
@runtime_checkable
class Floats(Protocol):
    def float(self) -> bool: ...
class Boat:
    def float(self): return True
class Rock: pass
class Log:
    def __init__(self): super().__init__(); self.lines = []
    def log(self, x): self.lines.append(x)
class Tally:
    def __init__(self): super().__init__(); self.n = 0
    def add(self): self.n += 1
class Both(Log, Tally):
    def go(self): self.add(); self.log(self.n)
class Countdown:
    def __init__(self, n): self.n = n
    def __iter__(self): return self
    def __next__(self):
        if self.n <= 0: raise StopIteration
        self.n -= 1; return self.n + 1
class Money:
    __slots__ = ("cents",)
    def __init__(self, cents): self.cents = cents
    def __add__(self, o): return Money(self.cents + (o.cents if isinstance(o, Money) else o))
    __radd__ = __add__
    def __sub__(self, o): return Money(self.cents - o.cents)
    def __eq__(self, o): return self.cents == (o.cents if isinstance(o, Money) else o)
    def __lt__(self, o): return self.cents < o.cents
    def __hash__(self): return hash(self.cents)
    def __str__(self): return f"${self.cents / 100:.2f}"
    def __int__(self): return self.cents
    def __float__(self): return self.cents / 100
    def __round__(self, n=0): return round(self.cents / 100, n)
    def __divmod__(self, o): return divmod(self.cents, o)
    def __truediv__(self, o): return Money(self.cents / o) if not isinstance(o, Money) else self.cents / o.cents
    def __bool__(self): return self.cents != 0
    def __abs__(self): return Money(abs(self.cents))
class Account:
    rate = 0.1; _count = 0
    def __init__(self, owner, balance=0): self.owner, self._balance, self.history = owner, balance, []; Account._count += 1
    @property
    def balance(self): return self._balance
    @balance.setter
    def balance(self, v):
        if v < 0: raise ValueError("negative")
        self._balance = v
    def deposit(self, x):
        if x <= 0: raise ValueError("Deposit must be positive")
        self._balance += x; self.history.append(("deposit", x)); return self._balance
    def withdraw(self, x):
        if x > self._balance: raise InsufficientFunds(self._balance, x)
        self._balance -= x; self.history.append(("withdraw", x))
    @classmethod
    def from_dict(cls, d): return cls(**d)
    @classmethod
    def count(cls): return cls._count
    @staticmethod
    def valid(x): return isinstance(x, (int, float)) and x > 0
    def __repr__(self): return f"Account({self.owner!r}, {self._balance})"
class Savings(Account):
    def interest(self): self.deposit(self.balance * self.rate); return self
class InsufficientFunds(Exception):
    def __init__(self, balance, amount): self.balance, self.amount = balance, amount; super().__init__(f"need {amount - balance} more")
def match(t): return re.match(r"(?P<k>\w+)=(\d+)", t)
def opened(p): return open(p)
def buffer(): b = io.StringIO(); b.write("tide\n"); return b
def lazily(xs): return map(lambda x: x * 2, xs)
def pairs(a, b): return zip(a, b)
def ns(): return types.SimpleNamespace(a=1, b=[2])
def parse(argv): p = argparse.ArgumentParser(prog="dock"); p.add_argument("--n", type=int, default=1); p.add_argument("name"); return p.parse_args(argv)
def chain(): return collections.ChainMap({"a": 1}, {"a": 2, "b": 3})
def many(): raise ExceptionGroup("many", [ValueError("a"), KeyError("b")])
def noted():
    e = ValueError("x"); e.add_note("look here"); raise e
def deep(n): return 0 if n == 0 else 1 + deep(n - 1)
def nan(): return float("nan")
def infs(): return [math.inf, -math.inf, -0.0]
def text(): return "ahoy \U0001F6A2 \ud83d é"
def when(): return datetime.datetime(2024, 1, 1, tzinfo=datetime.timezone(datetime.timedelta(hours=2)))
def game():
    n, tries = random.randint(1, 10), 0
    while True:
        g = int(input("guess? ")); tries += 1
        if g == n: print(f"right after {tries}"); return tries
        print("low" if g < n else "high")
def run(cmd): return subprocess.run(cmd, capture_output=True, text=True, check=True).stdout.strip()
def there(p): return os.path.exists(p)
def slow(): time.sleep(10); return "done"
def limited(calls, per):
    def deco(f):
        times = []
        @functools.wraps(f)
        def inner(*a):
            now = time.monotonic(); times[:] = [t for t in times if now - t < per]
            if len(times) >= calls: raise RuntimeError("too many")
            times.append(now); return f(*a)
        return inner
    return deco
def registry():
    plugins = {}
    def register(name):
        def deco(cls): plugins[name] = cls; cls.plugin = name; return cls
        return deco
    register.plugins = plugins
    return register
def singleton(cls):
    made = {}
    @functools.wraps(cls, updated=())
    def get(*a, **k):
        if cls not in made: made[cls] = cls(*a, **k)
        return made[cls]
    return get
@contextlib.contextmanager
def timer(out):
    t = time.perf_counter()
    try: yield out
    finally: out["took"] = time.perf_counter() - t
@contextlib.contextmanager
def swallow(*kinds):
    try: yield
    except kinds: pass
def accumulate():
    total = 0
    while True:
        try: x = yield total
        except ValueError: total = 0; continue
        if x is None: return total
        total += x
def walk(tree):
    for k, v in tree.items():
        if isinstance(v, dict): yield from walk(v)
        else: yield k, v
def sort_by(items, *keys): return sorted(items, key=lambda it: tuple(getattr(it, k) for k in keys))
def merge(a, b):
    for k, v in b.items():
        if isinstance(v, dict) and isinstance(a.get(k), dict): merge(a[k], v)
        else: a[k] = v
    return a
def event():
    e = threading.Event(); threading.Timer(0.05, e.set).start(); return e
class Pool:
    def __init__(self, make, size): self.q = queue.Queue(); [self.q.put(make(i)) for i in range(size)]
    @contextlib.contextmanager
    def use(self):
        it = self.q.get(timeout=1)
        try: yield it
        finally: self.q.put(it)
class Emitter:
    def __init__(self): self._on = collections.defaultdict(list)
    def on(self, name):
        def deco(f): self._on[name].append(f); return f
        return deco
    def emit(self, name, **k): return [f(**k) for f in self._on[name]]
class Lazy:
    def __getattr__(self, n):
        if n.startswith("_"): raise AttributeError(n)
        v = n.upper(); setattr(self, n, v); return v
class Typed:
    def __set_name__(self, o, n): self.n = n
    def __init__(self, kind): self.kind = kind
    def __get__(self, o, t=None): return self if o is None else o.__dict__.get(self.n)
    def __set__(self, o, v):
        if not isinstance(v, self.kind): raise TypeError(f"{self.n}: {self.kind.__name__} expected, got {type(v).__name__}")
        o.__dict__[self.n] = v
class Crew:
    name = Typed(str); age = Typed(int)
    def __init__(self, name, age): self.name, self.age = name, age
VERSION = "1.2"; TABLE = {"a": 1}; NAMES = ["x"]
def table(): return TABLE
