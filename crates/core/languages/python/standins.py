"""What stands for the other side's objects: classes, functions, modules, generators, coroutines.

Each asks the other side for whatever is done with it, through the `Link` that it came over.
"""
START = threading.Thread.start


def start_thread(do, args):
    thread = threading.Thread(target=do, args=args, daemon=True)
    START(thread)


def plain_error(it):
    if isinstance(it, BaseException):
        return it
    return Gone("an error that is none was raised")


def hash_of(it):
    try:
        return hash(it)
    except Exception:
        return None


def is_weak(it):
    return type(it).__weakrefoffset__ != 0


def does(value):
    """Whether it is something to be called, or to be had by an object's attribute."""
    return (callable(value) or hasattr(type(value), "__get__")) and not isinstance(value, (type, types.GetSetDescriptorType))


def owner_of(kind, name):
    """The class of those that `kind` derives from that has a member."""
    return next((base for base in kind.__mro__ if name in vars(base)), None)


def bound_member(kind, name, it):
    """A member as a class has it, of an object."""
    owner = owner_of(kind, name)
    if owner is None:
        return getattr(it, name)
    found = vars(owner)[name]
    bind = getattr(type(found), "__get__", None)
    if bind is None:
        return found
    return bind(found, None, it) if isinstance(found, classmethod) else bind(found, it, type(it))


def plain_member(kind, name):
    """A member as it stands in its class, without what binds it to a class."""
    owner = owner_of(kind, name)
    if owner is None:
        raise ValueError(f"there is no {name}")
    found = vars(owner)[name]
    return found.__func__ if isinstance(found, (classmethod, staticmethod)) else found


def is_dunder(name):
    return name.startswith("__") and name.endswith("__")


def flags_of(it):
    """Whether a function makes generators, coroutines or asynchronous generators, as flags of its code."""
    code = getattr(getattr(it, "__func__", it), "__code__", None)
    return code.co_flags & sum(MAKES) if isinstance(code, types.CodeType) else 0


MAKES = GENERATOR, COROUTINE, ASYNC_GENERATOR = 0x20, 0x80, 0x200
# What is seen of a function's code: its flags.
CODES = {flags: (lambda: None).__code__.replace(co_flags=3 | flags) for flags in (0, *MAKES)}


ENUMS = {}


def register(base, made):
    """`base` is one of the standard library's, which `made` would derive from."""
    import abc

    if isinstance(base, abc.ABCMeta) and not isinstance(base, StandInType):
        try:
            base.register(made)
        except Exception:
            pass
    elif type(base).__name__ in ("EnumMeta", "EnumType"):
        if not ENUMS:
            meta = type(base)
            meta.__subclasscheck__ = lambda cls, sub: type.__subclasscheck__(cls, sub) or any(
                issubclass(one, cls) for it in getattr(sub, "__mro__", ()) for one in ENUMS.get(it, ()) if one is not sub)
            meta.__instancecheck__ = lambda cls, it: type.__instancecheck__(cls, it) or (
                isinstance(type(it), StandInType) and issubclass(type(it), cls))
        ENUMS.setdefault(made, []).append(base)


FUNCTIONS = (
    types.FunctionType, types.BuiltinFunctionType, types.MethodType, types.MethodWrapperType,
    types.MethodDescriptorType, types.WrapperDescriptorType, types.ClassMethodDescriptorType,
    type(__import__("functools").lru_cache(len)),
)
FORBIDDEN = (types.FrameType, types.TracebackType, types.CodeType)
NOT_FORWARDED = {
    "__new__", "__getattribute__", "__getattr__", "__setattr__", "__delattr__", "__dict__", "__weakref__",
    "__init_subclass__", "__class_getitem__", "__subclasshook__", "__reduce__", "__reduce_ex__", "__getstate__",
    "__setstate__", "__getnewargs__", "__getnewargs_ex__", "__del__", "__slots__", "__sizeof__", "__dir__",
    "__class__", "__doc__", "__module__", "__qualname__", "__repr__", "__str__", "__format__", "__copy__",
    "__deepcopy__", "__set_name__", "__instancecheck__", "__subclasscheck__", "__prepare__", "__mro_entries__",
    "__abstractmethods__", "__annotations__", "__signature__",
}
# What decides in the answer's own code whether an assertion holds.
DECIDES = {
    "__eq__", "__ne__", "__lt__", "__le__", "__gt__", "__ge__", "__contains__", "__bool__", "__sub__", "__rsub__",
    "__abs__", "__hash__", "__instancecheck__", "__floordiv__", "__mod__", "__rmod__", "__xor__", "__rxor__",
}


def make_member(link, oid, name, is_static=False):
    decides, request = name in DECIDES, link.request

    if is_static:
        def member(*args, **kwargs):
            return request("member", link.classes[oid], name, None, args, tuple(kwargs.items()))

        member._apart_member, member._apart_class = name, oid
        return member

    def member(self, /, *args, **kwargs):
        if decides:
            link.decided()
        return request("member", link.classes[oid], name, self, args, tuple(kwargs.items()))

    if name == "__hash__":
        def member(self):
            try:
                return object.__getattribute__(self, "_apart_hash")
            except AttributeError:
                return request("member", link.classes[oid], name, self, (), ())

    member.__name__ = name
    member.__qualname__ = name
    member._apart_member, member._apart_class = name, oid
    return member


def is_member(it, name=None):
    """Whether a function is one that asks for a member; others may bear its attributes."""
    known = vars(it).get("_apart_member") if isinstance(it, types.FunctionType) else None
    return known is not None and name in (None, known) and it.__code__ in MEMBER_CODES


# The code of what `make_member` makes: the same for all, by whichever way they are told apart.
MEMBER_CODES = {it.__code__ for it in (
    make_member(types.SimpleNamespace(request=None), 0, "any"),
    make_member(types.SimpleNamespace(request=None), 0, "any", True),
    make_member(types.SimpleNamespace(request=None), 0, "__hash__"),
)}


def awaited(link, oid):
    def wait(self):
        return link.wait_for(self).__await__()

    return {"__await__": wait}


def entered(name):
    """Ways in and out of a context, whose traceback does not cross."""
    def of(link, oid):
        def leave(self, kind=None, error=None, trace=None):
            return link.request("member", link.classes[oid], name, self, (kind, error, None), ())

        return {name: leave}

    return of


SPECIAL = {"__await__": awaited, "__exit__": entered("__exit__"), "__aexit__": entered("__aexit__")}


def asked(name):
    def member(cls, *args):
        return cls._apart_link.request("call", META[name], (cls, *args), ())

    return member


class StandInType(type):
    """The kind of all stand-ins of classes."""

    def __new__(meta, name, bases, members, **kwargs):
        """A class statement on this side whose base is a class of the other's: it is made there, and what
        it defines here is called from there."""
        link = next((base._apart_link for base in bases if isinstance(base, StandInType)), None)
        if link is None:
            return type.__new__(meta, name, bases, members)
        skip = ("__module__", "__qualname__", "__classcell__", "__doc__", "__annotations__")
        given = {key: value for key, value in members.items() if key not in skip}
        theirs = link.request("subclass", name, list(bases), given, kwargs)
        oid = vars(theirs)["_apart_id"]
        members = {**members, "_apart_id": oid, "_apart_link": link}
        made = type.__new__(meta, name, bases, members)
        link.classes[oid] = made
        return made

    def __init__(cls, name, bases, members, **kwargs):
        type.__init__(cls, name, bases, members)

    def __call__(cls, *args, **kwargs):
        return cls._apart_link.request("call", cls, args, tuple(kwargs.items()))

    def __getattr__(cls, name):
        if name in ("__abstractmethods__", "__isabstractmethod__", "_is_protocol") or name.startswith("_apart"):
            raise AttributeError(name)
        return cls._apart_link.request("get", cls, name)

    def __setattr__(cls, name, value):
        if name.startswith("_abc_") or name == "__abstractmethods__":
            return type.__setattr__(cls, name, value)
        if is_member(getattr(value, "__func__", value), name):
            # What stood for the other side's own, put back.
            cls._apart_link.request("restore", cls, name)
            return type.__setattr__(cls, name, value)
        cls._apart_link.request("set", cls, name, value)
        if name in vars(cls):
            type.__delattr__(cls, name)
        if is_dunder(name) and name not in NOT_FORWARDED:
            type.__setattr__(cls, name, make_member(cls._apart_link, vars(cls)["_apart_id"], name))

    def __delattr__(cls, name):
        cls._apart_link.request("del", cls, name)

    def __dir__(cls):
        return cls._apart_link.request("dir", cls)

    def __bool__(cls):
        return True

    def __instancecheck__(cls, it):
        if type.__instancecheck__(cls, it):
            return True
        # A class whose own kind may say more, such as a protocol.
        return "_apart_asks" in vars(cls) and cls._apart_link.request("isinstance", it, cls) is True

    def __subclasscheck__(cls, sub):
        if type.__subclasscheck__(cls, sub):
            return True
        return "_apart_asks" in vars(cls) and cls._apart_link.request("issubclass", sub, cls) is True

    @property
    def __mro__(cls):
        return tuple(it for it in type.__dict__["__mro__"].__get__(cls) if it is not StandIn)

    @property
    def __bases__(cls):
        return tuple(object if it is StandIn else it for it in type.__dict__["__bases__"].__get__(cls))

    __iter__, __len__, __getitem__ = asked("iter"), asked("len"), asked("getitem")
    __contains__, __reversed__ = asked("contains"), asked("reversed")


META = {
    "iter": iter, "len": len, "getitem": __import__("operator").getitem,
    "contains": __import__("operator").contains, "reversed": reversed,
}


def remembered(name, *args):
    def member(self, *more):
        return type(self)._apart_link.request(name, self, *args, *more)

    return member


class StandIn(metaclass=StandInType):
    """What stands for an object of the other side."""

    def __getattr__(self, name):
        link = type(self)._apart_link
        if name.startswith("_apart") or getattr(link.local, "is_reading", False):
            raise AttributeError(name)
        return link.request("get", self, name)

    def __setattr__(self, name, value):
        if isinstance(self, BaseException) and is_dunder(name):
            return object.__setattr__(self, name, value)
        type(self)._apart_link.request("set", self, name, value)

    def __delattr__(self, name):
        type(self)._apart_link.request("del", self, name)

    __repr__, __str__ = remembered("repr", "repr"), remembered("repr", "str")
    __dir__ = remembered("dir")

    def __format__(self, form):
        return type(self)._apart_link.request("repr", self, "format", form)

    @property
    def __dict__(self):
        return type(self)._apart_link.request("get", self, "__dict__")

    def __copy__(self):
        return type(self)._apart_link.request("call", __import__("copy").copy, (self,), ())

    def __deepcopy__(self, memo):
        return type(self)._apart_link.request("call", __import__("copy").deepcopy, (self,), ())

    def __reduce_ex__(self, protocol):
        data = type(self)._apart_link.request("call", __import__("pickle").dumps, (self, protocol), ())
        return pickled(type(self)._apart_link), (data,)


def pickled(link):
    if PICKLED[0] is None:
        PICKLED[0] = link
    return from_pickle


PICKLED = [None]


def from_pickle(data):
    return PICKLED[0].request("call", __import__("pickle").loads, (data,), ())


class StandInFunction:
    """What stands for a function of the other side."""

    __isabstractmethod__ = False

    def __call__(self, /, *args, **kwargs):
        return object.__getattribute__(self, "_apart_link").request("call", self, args, tuple(kwargs.items()))

    def __getattr__(self, name):
        link = object.__getattribute__(self, "_apart_link")
        if name == "__signature__":
            return parameters_of(link, self)
        if name in ("__globals__", "__closure__", "_mock_methods") or name.startswith("_apart") or getattr(link.local, "is_reading", False):
            raise AttributeError(name)
        return link.request("get", self, name)

    def __setattr__(self, name, value):
        object.__getattribute__(self, "_apart_link").request("set", self, name, value)

    def __delattr__(self, name):
        object.__getattribute__(self, "_apart_link").request("del", self, name)

    def __repr__(self):
        return f"<function {self.__qualname__}>"

    def __reduce_ex__(self, protocol):
        return StandIn.__reduce_ex__.__get__(self)(protocol)


class StandInStandard:
    """What stands for something of the standard library that the other side has handed over: it is used there."""

    def __init__(self, link, real, module, name):
        keep = object.__setattr__
        for key, value in (("_apart_link", link), ("_apart_real", real), ("_apart_name", (module, name))):
            keep(self, key, value)

    def __call__(self, /, *args, **kwargs):
        return object.__getattribute__(self, "_apart_link").request("call", self, args, tuple(kwargs.items()))

    def __getattr__(self, name):
        if name.startswith("_apart") or name in ("__code__", "__globals__", "__closure__"):
            raise AttributeError(name)
        return object.__getattribute__(self, "_apart_link").request("get", self, name)

    def __setattr__(self, name, value):
        object.__getattribute__(self, "_apart_link").request("set", self, name, value)

    def __eq__(self, other):
        return other is self or other is object.__getattribute__(self, "_apart_real")

    def __hash__(self):
        return hash(object.__getattribute__(self, "_apart_real"))

    def __repr__(self):
        return repr(object.__getattribute__(self, "_apart_real"))


class StandInBound(StandInFunction):
    """A function that a class has, which becomes a method of its objects."""

    def __get__(self, it, kind=None):
        return self if it is None else types.MethodType(self, it)


def make_function(link, told):
    _, oid, name, qualname, module, doc, is_method, makes = told
    it = object.__new__(StandInFunction if is_method else StandInBound)
    keep = object.__setattr__
    keep(it, "_apart_id", oid)
    keep(it, "_apart_link", link)
    for key, value in (("__name__", name), ("__qualname__", qualname), ("__module__", module)):
        keep(it, key, str(value))
    keep(it, "__doc__", doc)
    keep(it, "__code__", CODES.get(makes, CODES[0]))
    if makes == COROUTINE:
        import asyncio

        keep(it, "_is_coroutine", asyncio.coroutines._is_coroutine)
    return it


def make_generator(link, oid, name):
    it = Remote(link, oid)

    def generator():
        ask = lambda what, *args: link.request("member", None, what, it, args, ())
        do = ("__next__",)
        while True:
            try:
                value = ask(*do)
            except StopIteration as end:
                return end.value
            try:
                got = yield value
                do = ("__next__",) if got is None else ("send", got)
            except GeneratorExit:
                # One that is let go of in the midst of a message is closed as it is let go of there.
                if not link.lock._is_owned():
                    ask("close")
                raise
            except BaseException as error:
                do = ("throw", error)

    made = generator()
    made.__name__ = str(name)
    return made, it


def make_coroutine(link, oid, name):
    it = Remote(link, oid)

    async def coroutine():
        return await link.wait_for(it)

    made = coroutine()
    made.__name__ = str(name)
    return made


class StandInModule(types.ModuleType):
    """What stands for a module of the other side."""

    def __init__(self, link, oid, name):
        types.ModuleType.__init__(self, name)
        self.__dict__.update(_apart_link=link, _apart_id=oid)

    def __getattr__(self, name):
        if name.startswith("_apart") or name in ("__path__", "__wrapped__", "__warningregistry__"):
            raise AttributeError(name)
        it = self._apart_link.request("get", self, name)
        if isinstance(it, StandInStandard):
            # A module that this one has imported, under its name: parts of it are replaced on both sides.
            real = object.__getattribute__(it, "_apart_real")
            if isinstance(real, types.ModuleType) and real.__name__.rsplit(".")[-1] == name:
                return real
        return it

    def __setattr__(self, name, value):
        if is_dunder(name) or isinstance(value, StandInModule):
            return types.ModuleType.__setattr__(self, name, value)
        self._apart_link.request("set", self, name, value)

    def __delattr__(self, name):
        self._apart_link.request("del", self, name)

    def __dir__(self):
        return self._apart_link.request("dir", self)


def Remote(link, oid):
    """Something of the other side of which nothing but its number is known."""
    it = object.__new__(StandIn)
    object.__setattr__(it, "_apart_id", oid)
    return it
