import pytest, asyncio
from toll import toll, Stack, StackFull, sort_in_place, gen, apply, pairs, aget
import toll as T

def test_plain(): assert toll(3) == 6
def test_err():
    with pytest.raises(ValueError, match="negative"): toll(-1)
def test_out(capsys):
    toll(4); assert capsys.readouterr().out == "toll 4\n"
def test_inplace():
    xs=[3,1,2]; sort_in_place(xs); assert xs == [1,2,3]
def test_stack():
    s=Stack(); s.push(1).push(2); assert len(s)==2 and s.size==2 and list(s)==[1,2] and 2 in s and 5 not in s
    assert s.items == [1,2]; s.items.append(9); assert s.size == 3
    with pytest.raises(StackFull) as e: s.push(4)
    assert e.value.x == 4 and str(e.value) == "full: 4"
    t=Stack(); t.push(1).push(2).push(9); assert s==t and not (s != t); assert repr(s)=="Stack([1, 2, 9])"
    assert isinstance(s, Stack) and Stack.LIMIT == 3 and Stack.__name__=="Stack" and Stack.__doc__=="A stack."
    with pytest.raises(IndexError): Stack().pop()
def test_gen():
    g=gen(3); assert next(g)==0; assert list(g)==[1,2]
    import types; assert isinstance(gen(1), types.GeneratorType)
def test_cb():
    seen=[]; assert apply(lambda x: seen.append(x) or x+1, 4)==5 and seen==[4]
    with pytest.raises(KeyError): apply(lambda x: {}[x], 1)
def test_dict(): assert pairs({"a":1,(1,2):None}) == [("a",1),((1,2),None)]
def test_patch(monkeypatch):
    monkeypatch.setattr(T, "toll", lambda n: 0); assert T.toll(3)==0
    monkeypatch.undo(); assert T.toll(3)==6
def test_sub():
    class Mine(Stack):
        def push(self, x): super().push(x*10); return self
    m=Mine(); m.push(2); assert m.items==[20] and isinstance(m, Stack) and isinstance(m, Mine)
def test_async():
    assert asyncio.run(aget(3))==4
    async def many(): return await asyncio.gather(*[aget(i) for i in range(5)])
    assert asyncio.run(many())==[1,2,3,4,5]
