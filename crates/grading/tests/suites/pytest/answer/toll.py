def toll(n):
    if n < 0: raise ValueError("negative length")
    print("toll", n)
    return n*2
def sort_in_place(xs): xs.sort()
class Stack:
    """A stack."""
    LIMIT = 3
    def __init__(self): self.items=[]
    def push(self, x):
        if len(self.items)>=self.LIMIT: raise StackFull(x)
        self.items.append(x); return self
    def pop(self):
        if not self.items: raise IndexError("empty")
        return self.items.pop()
    @property
    def size(self): return len(self.items)
    def __len__(self): return len(self.items)
    def __iter__(self): return iter(self.items)
    def __contains__(self, x): return x in self.items
    def __eq__(self,o): return isinstance(o,Stack) and self.items==o.items
    def __repr__(self): return f"Stack({self.items})"
class StackFull(Exception):
    def __init__(self, x): super().__init__(f"full: {x}"); self.x=x
def gen(n):
    for i in range(n): yield i
def apply(f, x): return f(x)
def pairs(d): return [(k,v) for k,v in d.items()]
async def aget(x):
    import asyncio
    await asyncio.sleep(0.01)
    return x+1
