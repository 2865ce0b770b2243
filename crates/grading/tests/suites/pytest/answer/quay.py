import enum, dataclasses, collections, abc, functools, json, os, random, time, datetime, logging, warnings, threading, contextlib, typing, csv, subprocess, sys
log = logging.getLogger(__name__)
class Color(enum.Enum):
    RED=1; BLUE=2
    @property
    def nice(self): return self.name.title()
class Level(enum.IntEnum):
    LOW=1; HIGH=2
class Mode(str, enum.Enum):
    A="a"
Point=collections.namedtuple("Point","x y")
class P3(typing.NamedTuple):
    x:int; y:int=0
    def norm(self): return abs(self.x)+abs(self.y)
@dataclasses.dataclass
class Item:
    name:str; price:float=0.0; tags:list=dataclasses.field(default_factory=list)
@dataclasses.dataclass(frozen=True, order=True)
class Ver:
    major:int; minor:int=0
class Shape(abc.ABC):
    @abc.abstractmethod
    def area(self): ...
    def describe(self): return f"{type(self).__name__} {self.area()}"
class Sq(Shape):
    def __init__(self,a): self.a=a
    def area(self): return self.a**2
class Vec:
    def __init__(self,x,y): self.x=x; self.y=y
    def __add__(self,o): return Vec(self.x+o.x,self.y+o.y)
    def __mul__(self,k):
        if not isinstance(k,(int,float)): return NotImplemented
        return Vec(self.x*k,self.y*k)
    __rmul__=__mul__
    def __eq__(self,o):
        if not isinstance(o,Vec): return NotImplemented
        return (self.x,self.y)==(o.x,o.y)
    def __hash__(self): return hash((self.x,self.y))
    def __neg__(self): return Vec(-self.x,-self.y)
    def __bool__(self): return bool(self.x or self.y)
    def __getitem__(self,i): return (self.x,self.y)[i]
    def __iadd__(self,o): self.x+=o.x; self.y+=o.y; return self
    def __call__(self,z): return z*self.x
    @classmethod
    def zero(cls): return cls(0,0)
    @staticmethod
    def dim(): return 2
    @property
    def len2(self): return self.x**2+self.y**2
    @len2.setter
    def len2(self,v): self.x=v
class LRU(collections.OrderedDict):
    def __init__(self,cap): super().__init__(); self.cap=cap
    def put(self,k,v):
        self[k]=v; self.move_to_end(k)
        while len(self)>self.cap: self.popitem(last=False)
class Bag(dict):
    def __missing__(self,k): return 0
    def total(self): return sum(self.values())
def memo(f):
    cache={}
    @functools.wraps(f)
    def w(*a):
        w.calls+=1
        if a not in cache: cache[a]=f(*a)
        return cache[a]
    w.calls=0
    return w
@functools.lru_cache(None)
def fib(n): return n if n<2 else fib(n-1)+fib(n-2)
def save(path,obj):
    with open(path,"w") as f: json.dump(obj,f)
def load(path):
    with open(path) as f: return json.load(f)
def now(): return time.time()
def today(): return datetime.date.today()
def ask(): return input("name? ")
def roll(): return random.randint(1,1000000)
def warnme(): warnings.warn("old", DeprecationWarning); log.warning("careful %s", 3); return 1
def env(k): return os.environ.get(k)
@contextlib.contextmanager
def managed(xs):
    xs.append("in")
    try: yield xs
    finally: xs.append("out")
class Res:
    def __enter__(self): self.open=True; return self
    def __exit__(self,t,e,tb): self.open=False; return t is KeyError
class Counter:
    def __init__(self): self.n=0; self.lock=threading.Lock()
    def inc(self):
        with self.lock: self.n+=1
def words(text): return collections.Counter(text.split())
def group(xs): 
    d=collections.defaultdict(list)
    for x in xs: d[len(x)].append(x)
    return d
def rd(f): return list(csv.reader(f))
def when(): return datetime.datetime(2024,1,2,3,4,5)
class Node:
    def __init__(self,v,next=None): self.v=v; self.next=next
def chain(a):
    n=None
    for x in reversed(a): n=Node(x,n)
    return n
class Bus:
    def __init__(self): self.h={}
    def on(self,e,f): self.h.setdefault(e,[]).append(f)
    def emit(self,e,*a): return [f(*a) for f in self.h.get(e,[])]
def inf():
    n=0
    while True:
        got=yield n
        n=n+1 if got is None else got
class E1(Exception):
    def __init__(self,code,msg="x"): super().__init__(msg); self.code=code
class E2(E1): pass
def boom():
    try: int("x")
    except ValueError as e: raise E2(7,"bad") from e
def main():
    print("hello"); print("err",file=sys.stderr); os.write(1,b"raw\n"); sys.exit(3)
class Temp:
    def __init__(self,c): self.c=c
    def __repr__(self): return f"Temp({self.c!r})"
    def __str__(self): return f"{self.c}C"
    def __format__(self,s): return format(self.c,s)
    def __lt__(self,o): return self.c<o.c
    def __len__(self): return 3
