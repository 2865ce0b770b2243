import pytest, io, os, sys, json, copy, pickle, time, random, datetime, dataclasses, threading, logging, warnings, collections, enum, unittest.mock as mock
from concurrent.futures import ThreadPoolExecutor
import quay
from quay import *
def test_enum():
    assert quay.Color.RED.value==1 and quay.Color.RED.name=="RED" and quay.Color(2) is quay.Color.BLUE and quay.Color["RED"] is quay.Color.RED
    assert [c.name for c in quay.Color]==["RED","BLUE"] and len(quay.Color)==2 and quay.Color.RED.nice=="Red" and quay.Color.RED in {quay.Color.RED:1}
    assert quay.Level.HIGH==2 and quay.Level.LOW<quay.Level.HIGH and quay.Mode.A=="a" and isinstance(quay.Level.LOW,int) and quay.Color.RED in quay.Color
    assert issubclass(quay.Color, enum.Enum) and isinstance(quay.Color.RED, enum.Enum) and isinstance(quay.Color.RED, quay.Color)
    with pytest.raises(ValueError): quay.Color(9)
def test_nt():
    p=quay.Point(1,2); assert p==(1,2) and p.x==1 and p._replace(x=5)==(5,2) and p._asdict()=={"x":1,"y":2} and isinstance(p,tuple)
    a,b=p; assert (a,b)==(1,2); assert quay.P3(3,-4).norm()==7 and quay.P3(1)==quay.P3(1,0) and repr(p)=="Point(x=1, y=2)"
def test_dc():
    i=quay.Item("a",2.5); assert i==quay.Item("a",2.5) and i!=quay.Item("b") and i.tags==[] and repr(i)=="Item(name='a', price=2.5, tags=[])"
    assert dataclasses.asdict(i)=={"name":"a","price":2.5,"tags":[]} and dataclasses.is_dataclass(i); i.tags.append("z"); assert i.tags==["z"]
    i.price=9; assert i.price==9; assert [f.name for f in dataclasses.fields(quay.Item)]==["name","price","tags"]
    v=quay.Ver(1,2); assert v<quay.Ver(1,3) and {v:1}[quay.Ver(1,2)]==1 and sorted([quay.Ver(2),quay.Ver(1)])[0].major==1 and max(v,quay.Ver(9)).major==9
    with pytest.raises(dataclasses.FrozenInstanceError): v.major=3
    assert dataclasses.replace(v,minor=7)==quay.Ver(1,7); assert len({quay.Ver(1),quay.Ver(1),quay.Ver(2)})==2
def test_abc():
    with pytest.raises(TypeError): quay.Shape()
    s=quay.Sq(3); assert s.area()==9 and isinstance(s,quay.Shape) and issubclass(quay.Sq,quay.Shape) and s.describe()=="Sq 9"
    class Tri(quay.Shape):
        def area(self): return 5
    t=Tri(); assert t.describe()=="Tri 5" and isinstance(t,quay.Shape)
    class Bad(quay.Shape): pass
    with pytest.raises(TypeError): Bad()
def test_vec():
    v=quay.Vec(1,2); assert v+quay.Vec(1,1)==quay.Vec(2,3) and 2*v==v*2==quay.Vec(2,4) and -v==quay.Vec(-1,-2) and v[1]==2 and v(5)==5
    assert bool(v) and not quay.Vec(0,0) and quay.Vec.zero()==quay.Vec(0,0) and quay.Vec.dim()==2 and v.dim()==2 and v.len2==5 and v!=3
    w=v; w+=quay.Vec(1,1); assert w is v and v.x==2
    with pytest.raises(TypeError): v*"a"
    with pytest.raises(AttributeError): v.nope
    v.len2=8; assert v.x==8; assert len({quay.Vec(1,2),quay.Vec(1,2)})==1; assert hash(quay.Vec(1,2))==hash(quay.Vec(1,2))
    assert copy.copy(v)==v and copy.deepcopy(v)==v and copy.copy(v) is not v and pickle.loads(pickle.dumps(v))==v
    assert v in [quay.Vec(1,1), v]; assert list(v)==[8,3]
def test_dictsub():
    l=quay.LRU(2); l.put("a",1); l.put("b",2); l.put("c",3); assert list(l)==["b","c"] and l=={"b":2,"c":3} and l.cap==2 and len(l)==2 and l["c"]==3
    b=quay.Bag(a=1); assert b["zz"]==0 and b.total()==1; b["q"]=4; assert b.total()==5 and isinstance(b,dict) and json.dumps(b)=='{"a": 1, "q": 4}'
def test_memo():
    calls=[]
    @quay.memo
    def sq(x):
        "doc"
        calls.append(x); return x*x
    assert sq(3)==9 and sq(3)==9 and calls==[3] and sq.calls==2 and sq.__name__=="sq" and sq.__doc__=="doc"
    assert quay.fib(30)==832040 and quay.fib.cache_info().hits>0; quay.fib.cache_clear()
def test_files(tmp_path, monkeypatch):
    p=tmp_path/"x.json"; quay.save(p,{"a":[1]}); assert json.loads(p.read_text())=={"a":[1]}; p.write_text("[2]"); assert quay.load(str(p))==[2]
    monkeypatch.chdir(tmp_path); quay.save("rel.json",5); assert (tmp_path/"rel.json").exists() and quay.load("rel.json")==5; os.remove("rel.json")
    with pytest.raises(FileNotFoundError): quay.load("rel.json")
def test_data(): assert quay.load(os.path.join(os.path.dirname(__file__),"data.json"))=={"k":1}
def test_time(monkeypatch):
    monkeypatch.setattr(time,"time",lambda:42.0); assert quay.now()==42.0
    monkeypatch.undo(); assert quay.now()>1e9
    with mock.patch("time.time",return_value=7): assert quay.now()==7
    with mock.patch("quay.time.time",return_value=8): assert quay.now()==8
    with mock.patch("quay.now",return_value=9): assert quay.now()==9
    assert quay.now()>1e9
    with mock.patch("quay.datetime") as d: 
        d.date.today.return_value=datetime.date(2020,1,1); assert quay.today()==datetime.date(2020,1,1)
def test_input(monkeypatch,capsys):
    monkeypatch.setattr("sys.stdin",io.StringIO("bob\n")); assert quay.ask()=="bob"; assert capsys.readouterr().out=="name? "
    monkeypatch.setattr("builtins.input",lambda p="": "eve"); assert quay.ask()=="eve"
def test_rand(): random.seed(5); a=quay.roll(); random.seed(5); assert quay.roll()==a; random.seed(5); assert random.randint(1,1000000)==a
def test_warn(caplog):
    with pytest.warns(DeprecationWarning,match="old"): assert quay.warnme()==1
    assert "careful 3" in caplog.text and caplog.records[0].levelname=="WARNING"
    with warnings.catch_warnings(record=True) as w: warnings.simplefilter("always"); quay.warnme(); assert len(w)==1
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        with pytest.raises(DeprecationWarning): quay.warnme()
def test_env(monkeypatch): monkeypatch.setenv("QQ","1"); assert quay.env("QQ")=="1"; monkeypatch.delenv("QQ"); assert quay.env("QQ") is None
def test_ctx():
    xs=[]
    with quay.managed(xs) as y: assert y is xs and xs==["in"]
    assert xs==["in","out"]
    with pytest.raises(ZeroDivisionError):
        with quay.managed(xs): 1/0
    assert xs[-1]=="out"
    with quay.Res() as r: assert r.open
    assert not r.open
    with quay.Res() as r: raise KeyError
    with pytest.raises(ValueError):
        with quay.Res() as r: raise ValueError
def test_threads():
    c=quay.Counter(); ts=[threading.Thread(target=lambda:[c.inc() for _ in range(50)]) for _ in range(4)]
    [t.start() for t in ts]; [t.join() for t in ts]; assert c.n==200
    with ThreadPoolExecutor(4) as ex: assert list(ex.map(quay.fib,range(10)))[9]==34
def test_std(): 
    assert quay.words("a b a")==collections.Counter(a=2,b=1) and quay.words("a b a").most_common(1)==[("a",2)] and quay.group(["a","bb"])=={1:["a"],2:["bb"]} and isinstance(quay.group([]),dict)
    assert quay.rd(io.StringIO("a,b\n1,2\n"))==[["a","b"],["1","2"]] and quay.when()==datetime.datetime(2024,1,2,3,4,5)
def test_node(): n=quay.chain([1,2,3]); assert n.v==1 and n.next.next.v==3 and n.next.next.next is None; n.next.v=9; assert n.next.v==9; assert n.next is n.next
def test_bus():
    b=quay.Bus(); m=mock.Mock(return_value=3); b.on("e",m); assert b.emit("e",1,2)==[3]; m.assert_called_once_with(1,2)
    class L:
        def __init__(self): self.got=[]
        def on(self,x): self.got.append(x)
    l=L(); b.on("q",l.on); b.emit("q",{"z":1}); assert l.got==[{"z":1}]
def test_inf():
    g=quay.inf(); assert [next(g) for _ in range(3)]==[0,1,2] and g.send(10)==10 and next(g)==11; g.close()
    import itertools; assert list(itertools.islice(quay.inf(),4))==[0,1,2,3]
    with pytest.raises(StopIteration): next(g)
def test_exc():
    with pytest.raises(quay.E1) as e: quay.boom()
    assert e.value.code==7 and isinstance(e.value.__cause__,ValueError) and e.type is quay.E2 and str(e.value)=="bad" and e.value.args==("bad",)
    try: raise quay.E2(3)
    except quay.E1 as x: assert x.code==3
def test_main(capfd):
    with pytest.raises(SystemExit) as e: quay.main()
    assert e.value.code==3; o=capfd.readouterr(); assert "hello" in o.out and "raw" in o.out and o.err=="err\n"
def test_fmt(): t=quay.Temp(3.14159); assert f"{t:.2f}"=="3.14" and str(t)=="3.14159C" and repr([t])=="[Temp(3.14159)]" and len(t)==3 and min(quay.Temp(2),t).c==2
@pytest.mark.parametrize("a,b",[(1,1),(10,55)],ids=["one","ten"])
def test_par(a,b): assert quay.fib(a)==b
@pytest.fixture(scope="module")
def bag(): return quay.Bag(z=1)
def test_fix1(bag): bag["y"]=2; assert bag.total()==3
def test_fix2(bag): assert bag.total()==3
def test_approx(): assert quay.Vec(0.1+0.2,0).x==pytest.approx(0.3)
def test_sig():
    import inspect; assert list(inspect.signature(quay.save).parameters)==["path","obj"]; assert callable(quay.save) and quay.save.__name__=="save" and hasattr(quay,"save") and not hasattr(quay,"nope")
    assert "x" in vars(quay.Vec(1,2)) and quay.Vec(1,2).__dict__=={"x":1,"y":2} and type(quay.Vec(1,2)).__name__=="Vec" and type(quay.Vec(1,2)) is quay.Vec
