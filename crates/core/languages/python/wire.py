"""Two processes that use each other's objects: what crosses between them, and how.

Plain data crosses by value. Lists, dicts, sets and their like are copied, and both copies are kept the
same whenever something crosses: only one side runs at a time, so nobody sees them differ. Everything
else stays where it was made; the other side gets a stand-in, which asks for whatever is done with it.

The same file serves both processes. What the tests' side grants is less: see `Link.grants`.
"""
class Waiting:
    """A coroutine of the other side that is under way."""
    __slots__ = ("loop", "future", "task")


def is_in_loop():
    asyncio = sys.modules.get("asyncio")
    return asyncio is not None and asyncio._get_running_loop() is not None


class Errors:
    """The errors that crossed last, by number."""
    KEPT = 64

    def __init__(self):
        self.by_number, self.numbers = {}, {}

    def get(self, number):
        return self.by_number.get(number)

    def number(self, error, new=None):
        known = self.numbers.get(id(error))
        if known is None and new is not None:
            self.put(error, new)
            known = new
        return known

    def put(self, error, number):
        if number in self.by_number:
            del self.numbers[id(self.by_number.pop(number))]
        self.by_number[number], self.numbers[id(error)] = error, number
        while len(self.by_number) > self.KEPT:
            del self.numbers[id(self.by_number.pop(next(iter(self.by_number))))]


# From Python 3.11 on.
GROUP = getattr(__import__("builtins"), "BaseExceptionGroup", None)


def args_of(error):
    """What an error was made of. A group keeps the very list, whatever became of it since."""
    if GROUP is not None and isinstance(error, GROUP):
        return GROUP.message.__get__(error), GROUP.exceptions.__get__(error)
    return BaseException.args.__get__(error)


def says(error, args):
    """Whether an error was made of these arguments. None of them is asked: that could take a request."""
    own = error.__reduce__()[1]
    plain = (str, int, float, bytes)
    return len(own) == len(args) and all(
        one is two or type(one) in plain and type(one) is type(two) and one == two for one, two in zip(own, args))


class Turns:
    """The selector of a loop: while the loop waits, the other side's loop runs."""

    def __init__(self, link, plain):
        self.link, self.plain = link, plain

    def select(self, timeout=None):
        return self.link.select(self.plain, timeout)

    def __getattr__(self, name):
        return getattr(self.plain, name)


class Link:
    """One end. `first` is the tests'."""

    def __init__(self, descriptor, first):
        self.descriptor, self.first = descriptor, first
        self.buffer = b""
        self.lock = threading.RLock()
        self.own, self.ids, self.sent, self.next_own = {}, {}, {}, 1
        self.theirs, self.dropped = {}, []
        self.described, self.classes = set(), {}
        self.shared, self.shared_of, self.next_shared, self.ended = {}, {}, 2 if first else 1, []
        # Whether stand-ins stay: what the answer refers to weakly is alive as long as the tests' object is.
        self.firsts, self.keeps, self.kept, self.standard = {}, not first, [], {}
        self.threaded, self.queues, self.local, self.next_thread = False, {}, threading.local(), 1
        self.main = get_ident()
        # How often this side asked, and what was answered to what is not waited for yet.
        self.asked, self.answers = 0, {}
        self.gone, self.decided, self.error_seen = False, (lambda: None), (lambda kind: None)
        self.waiting, self.next_wait, self.loop, self.background = {}, 1, None, None
        # The language's own errors cross by value, and are still the same ones when they come back.
        self.errors, self.copies, self.next_error = Errors(), Errors(), 1
        # Whether the main thread's loop waits for whatever comes, and whether the other side's has work.
        self.is_idle, self.is_busy = False, False
        # Whether the loop is to go on that was about to be held.
        self.is_freed, self.held = False, None
        self.outgoing, self.incoming = (lambda: None), (lambda it: None)
        self.ops = {
            "call": self.do_call, "member": self.do_member, "get": self.do_get, "set": self.do_set,
            "restore": self.do_restore, "del": self.do_del, "repr": self.do_repr, "dir": self.do_dir, "threads": lambda: None,
            "await": self.do_await, "settled": self.do_settled, "cancel": self.do_cancel,
            "isinstance": lambda it, kind: isinstance(it, kind), "issubclass": lambda it, kind: issubclass(it, kind),
            "signature": self.do_signature, "flags": lambda it, name: flags_of(plain_member(it, name)),
            "subclass": self.do_subclass,
        }
        self.grants = lambda it, name, change=False: True
        self.grants_kind = lambda kind, it: True

    # What goes over the wire: four bytes of length, then JSON.

    def send(self, message):
        data = to_json(message).encode()
        data = len(data).to_bytes(4, "big") + data
        try:
            while data:
                data = data[write_bytes(self.descriptor, data):]
        except OSError:
            self.gone = True
            raise Gone("the other process has ended") from None

    def take(self, count):
        while len(self.buffer) < count:
            try:
                part = read_bytes(self.descriptor, max(65536, count - len(self.buffer)))
            except OSError:
                part = b""
            if not part:
                self.gone = True
                raise Gone("the other process has ended")
            self.buffer = self.buffer + part if self.buffer else part
        taken, self.buffer = self.buffer[:count], self.buffer[count:]
        return taken

    def receive(self):
        size = int.from_bytes(self.take(4), "big")
        if size > MESSAGE_MAX:
            self.gone = True
            raise Gone("a message of the other process is too long")
        try:
            message = self.unpack(from_json(self.take(size).decode()))
            if type(message.get("i")) is not int:
                raise ValueError("no number")
            return message
        except (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError) as error:
            self.gone = True
            raise Gone(f"what the other process sent is not understood: {error!r}"[:300]) from None

    def pack(self, kind, value, **more):
        """A message, with what changed in containers that both sides have. Under the lock."""
        changes = []
        message = {"k": kind, "v": self.encode(value, changes), **more}
        extra = self.outgoing()
        if extra:
            message["x"] = extra
        self.find_changes(changes)
        if changes:
            message["c"] = changes
        if self.dropped:
            message["d"], self.dropped = self.dropped, []
        if self.ended:
            message["e"], self.ended = self.ended, []
        return message

    def unpack(self, message):
        with self.lock:
            if message.get("x") is not None:
                self.incoming(message["x"])
            changes = message.get("c", ())
            for number, made_of, _ in changes:
                if made_of is not None:
                    self.share(number, self.make_container(*made_of))
                    self.shared[number][3] = True
            for number, _, content in changes:
                self.take_change(self.shared[number], content)
            message["v"] = self.decode(message["v"])
            # Last, since the message itself may speak of them.
            for number in message.get("e", ()):
                entry = self.shared.pop(number, None)
                if entry is not None:
                    self.shared_of.pop(id(entry[0]), None)
            for oid, count in message.get("d", ()):
                if oid in self.sent:
                    self.sent[oid] -= count
                    if self.sent[oid] <= 0:
                        it = self.own.pop(oid)
                        del self.sent[oid], self.ids[id(it)]
        return message

    # Containers.

    def share(self, number, it):
        self.shared[number] = [it, family(it), None, False]
        self.shared_of[id(it)] = number

    def make_container(self, kind, more, oid):
        kind, more = KINDS[kind] if isinstance(kind, str) else self.decode(kind), self.decode(more)
        if KINDS.get(kind.__name__) is not kind and not isinstance(kind, StandInType):
            raise ValueError("a container of no class of the other side")
        if kind is collections.deque:
            return collections.deque(maxlen=more)
        it = next(base for base in reversed(BASES + (bytearray,)) if issubclass(kind, base)).__new__(kind)
        if isinstance(it, collections.defaultdict) and more is not None:
            it.default_factory = more
        if oid is not None:
            object.__setattr__(it, "_apart_id", oid)
            self.remember(oid, it)
        return it

    def take_change(self, entry, content):
        it, sort, _, _ = entry
        if sort == "d":
            content = [(self.decode(key), self.decode(value)) for key, value in content]
        elif sort == "b":
            content = base64.b64decode(content)
        else:
            content = [self.decode(one) for one in content]
        refill(it, sort, content)
        entry[2] = contents(it, sort)

    def find_changes(self, changes):
        seen, again = set(), True
        while again:
            again = False
            for number, entry in list(self.shared.items()):
                it, sort, before, is_told = entry
                now = contents(it, sort)
                if number in seen:
                    continue
                if is_same(now, before, sort):
                    # The entry, this name, and the argument: nobody else has it. With threads the other side
                    # may be speaking of it just now.
                    if is_told and not self.threaded and references(it) <= 3:
                        del self.shared[number], self.shared_of[id(it)]
                        self.ended.append(number)
                        again = True
                    continue
                seen.add(number)
                again = True
                entry[2] = now
                if sort == "d":
                    content = [[self.encode(k, changes, True), self.encode(v, changes)] for k, v in zip(*now)]
                elif sort == "b":
                    content = base64.b64encode(now).decode()
                else:
                    content = [self.encode(one, changes, sort == "s") for one in now]
                changes.append([number, None if is_told else self.made_of(it, changes), content])
                entry[3] = True

    def made_of(self, it, changes):
        kind, more = type(it), None
        if isinstance(it, collections.defaultdict):
            more = it.default_factory
        elif isinstance(it, collections.deque):
            more = it.maxlen
        if KINDS.get(kind.__name__) is kind:
            return kind.__name__, self.encode(more, changes), None
        return self.class_of(it, kind, changes), self.encode(more, changes), self.export(it)

    # Values.

    def encode(self, it, changes, hashed=False, depth=0):
        kind = type(it)
        if it is None or kind is bool or kind is str or kind is float:
            return it
        if kind is int:
            return it if -EXACT < it < EXACT else ["i", hex(it)]
        if depth > DEPTH_MAX:
            raise RecursionError("nested too deep")
        if kind is tuple:
            return ["t", *[self.encode(one, changes, hashed, depth + 1) for one in it]]
        if kind is bytes:
            return ["b", base64.b64encode(it).decode()]
        if kind is StandInStandard:
            return ["r", *object.__getattribute__(it, "_apart_name")]
        known = self.theirs_id(it)
        if known is not None:
            return ["o", known]
        if id(it) in self.shared_of:
            return ["l", self.shared_of[id(it)]]
        if kind is frozenset:
            return ["f", *[self.encode(one, changes, True, depth + 1) for one in it]]
        if kind in VALUES:
            return ["v", kind.__name__, *[self.encode(one, changes, False, depth + 1) for one in VALUES[kind](it)]]
        if it is Ellipsis or it is NotImplemented:
            return ["1", "..." if it is Ellipsis else "NI"]
        if KINDS.get(kind.__name__) is kind or isinstance(it, BASES) and not isinstance(it, StandIn):
            number = self.next_shared
            self.next_shared += 2
            self.share(number, it)
            return ["l", number]
        if kind.__module__ == "dataclasses":
            marks = vars(sys.modules["dataclasses"])
            for name in FIELD_MARKS:
                if marks.get(name) is it:
                    return ["1", name]
        if kind in VIEWS:
            return ["w", VIEWS[kind], [self.encode(one, changes, False, depth + 1) for one in it]]
        return self.encode_object(it, kind, changes, hashed, depth)

    def encode_object(self, it, kind, changes, hashed, depth):
        if isinstance(it, (staticmethod, classmethod)):
            return ["d", kind.__name__, self.encode(it.__func__, changes)]
        if kind is property:
            return ["d", "property", *[self.encode(one, changes) for one in (it.fget, it.fset, it.fdel)]]
        if isinstance(it, FORBIDDEN):
            return None
        if isinstance(it, (type, types.ModuleType, types.FunctionType, types.BuiltinFunctionType,
                           types.MethodDescriptorType, types.WrapperDescriptorType)):
            named = std_name(it)
            if named is not None:
                return ["r", *named]
        if isinstance(it, BaseException) and std_name(kind) is not None:
            return self.encode_std_error(it, kind, changes, depth)
        if isinstance(it, tuple) and std_name(kind) is not None:
            return ["n", *std_name(kind), *[self.encode(one, changes, False, depth + 1) for one in tuple.__iter__(it)]]
        if isinstance(it, types.ModuleType):
            return self.encode_module(it)
        if isinstance(it, types.MethodType) and is_member(it.__func__):
            return ["B", self.encode(it.__self__, changes), it.__func__._apart_class, it.__func__._apart_member]
        oid = self.export(it)
        if isinstance(it, type):
            return ["k", oid, self.describe(oid, it, changes)]
        if isinstance(it, FUNCTIONS):
            named = [str(getattr(it, key, "") or "") for key in ("__name__", "__qualname__", "__module__")]
            doc = getattr(it, "__doc__", None)
            named.append(doc[:2000] if isinstance(doc, str) else None)
            is_method = isinstance(it, (types.MethodType, types.BuiltinFunctionType))
            return ["F", oid, *named, int(is_method), flags_of(it)]
        if isinstance(it, types.GeneratorType):
            return ["g", oid, it.__name__]
        if isinstance(it, types.CoroutineType):
            return ["a", oid, it.__name__]
        value, more = None, None
        if isinstance(it, BaseException):
            value = ["t", *[self.encode(one, changes, False, depth + 1) for one in args_of(it)]]
            more = self.chain(it, changes, depth)
        else:
            base = next((base for base in DATA if isinstance(it, base)), None)
            if base in (tuple, frozenset):
                mark = "t" if base is tuple else "f"
                value = [mark, *[self.encode(one, changes, hashed, depth + 1) for one in base.__iter__(it)]]
            elif base is not None:
                value = self.encode(base.__getnewargs__(it)[0] if base is not complex else complex.__complex__(it), changes)
        return ["h", oid, self.class_of(it, kind, changes), value, hash_of(it) if hashed else None, more]

    def chain(self, it, changes, depth):
        """What an error came from."""
        cause = it.__cause__ if it.__cause__ is not None or it.__suppress_context__ else it.__context__
        if cause is None or depth > 8:
            return [2, None] if it.__suppress_context__ else None
        return [int(cause is it.__cause__), self.encode(cause, changes, False, depth + 4)]

    def encode_std_error(self, it, kind, changes, depth):
        args = args_of(it)
        try:
            if GROUP is None or not isinstance(it, GROUP):
                args = it.__reduce__()[1]
        except Exception:
            pass
        copied = self.copies.number(it)
        whose = ["y", copied] if copied is not None else ["m", self.errors.number(it, self.next_error)]
        self.next_error += 1
        more = {k: v for k, v in vars(it).items() if type(k) is str and not k.startswith("__")}
        for name in ("name", "path", "obj", "code") if isinstance(it, (ImportError, NameError, AttributeError)) else ():
            if isinstance(getattr(it, name, None), str):
                more[name] = getattr(it, name)
        args = [self.encode(one, changes, False, depth + 1) for one in args]
        more = [[k, self.encode(v, changes, False, depth + 1)] for k, v in more.items()]
        notes = [one for one in getattr(it, "__notes__", ()) if isinstance(one, str)]
        return ["E", *std_name(kind), args, more, self.chain(it, changes, depth), notes, whose]

    def encode_module(self, it):
        return ["m", self.export(it), it.__name__]

    def export(self, it):
        oid = self.ids.get(id(it))
        if oid is None:
            oid = self.next_own
            self.next_own += 1
            self.own[oid], self.ids[id(it)], self.sent[oid] = it, oid, 0
        self.sent[oid] += 1
        return oid

    def class_of(self, it, kind, changes):
        return ["k", self.export(kind), self.describe(self.ids[id(kind)], kind, changes)]

    def describe(self, oid, kind, changes):
        """A class, told once."""
        if oid in self.described:
            return None
        self.described.add(oid)
        # Classes stay: what was told of them is not told again.
        self.sent[oid] += 1 << 40
        named = std_name(kind)
        names = {}
        of_std = [base for base in kind.__mro__ if base is not object and std_name(base) is not None]
        if named is not None:
            bases = []
        else:
            for name, value in vars(kind).items():
                if isinstance(value, staticmethod):
                    names[name] = "s"
                elif isinstance(value, classmethod):
                    names[name] = "c"
                elif isinstance(value, types.FunctionType) or is_dunder(name) and does(value):
                    names[name] = "f"
                elif value is None and name == "__hash__":
                    names[name] = "n"
            bases = [["k", self.export(base), self.describe(self.ids[id(base)], base, changes)]
                     if std_name(base) is None and self.theirs_id(base) is None else self.encode(base, changes)
                     for base in kind.__bases__]
            of_std = [base for base in of_std if not issubclass(base, (BaseException, *DATA, *BASES))]
        for base in of_std:
            for name, value in vars(base).items():
                if callable(value) or isinstance(value, (staticmethod, classmethod)):
                    names.setdefault(name, "f")
        names = {name: sort for name, sort in names.items() if name not in NOT_FORWARDED}
        if named is not None or isinstance(kind.__doc__, str):
            doc = str(kind.__doc__)[:2000]
        else:
            doc = None
        return [kind.__name__, kind.__qualname__, kind.__module__, bases, names, doc, list(named) if named else None,
                int(type(kind) is not type)]

    def decode(self, it, depth=0):
        if type(it) is not list:
            if type(it) is dict:
                raise ValueError("an object stands where a value belongs")
            return it
        if depth > 2 * DEPTH_MAX:
            raise ValueError("nested too deep")
        tag = it[0]
        if tag == "t":
            return tuple([self.decode(one, depth + 1) for one in it[1:]])
        if tag == "l":
            return self.shared[it[1]][0]
        if tag == "o":
            # One that was let go of in the meantime is nothing any longer.
            return self.own.get(it[1])
        if tag == "h":
            return self.stand_in(it, depth)
        if tag == "i":
            return int(it[1], 16)
        if tag == "b":
            return base64.b64decode(it[1])
        if tag == "f":
            return frozenset([self.decode(one, depth + 1) for one in it[1:]])
        if tag == "v":
            kind = VALUE_KINDS[it[1]]
            return MAKERS.get(kind, kind)(*[self.decode(one, depth + 1) for one in it[2:]])
        if tag == "1":
            return SINGLES[it[1]] if it[1] in SINGLES else vars(importlib.import_module("dataclasses"))[it[1]]
        if tag == "w":
            items = [self.decode(one, depth + 1) for one in it[2]]
            if it[1] == "keys":
                return dict.fromkeys(items).keys()
            return dict(items).items() if it[1] == "items" else dict(enumerate(items)).values()
        if tag == "r":
            return self.std_reference(it[1], it[2])
        if tag == "n":
            kind = std_object(it[1], it[2], True)
            if not (isinstance(kind, type) and issubclass(kind, tuple) and hasattr(kind, "_fields") or kind is sys.version_info):
                raise ValueError("no such tuple")
            return tuple.__new__(kind, [self.decode(one, depth + 1) for one in it[3:]])
        if tag == "E":
            return self.std_error(it, depth)
        if tag == "d":
            made = {"staticmethod": staticmethod, "classmethod": classmethod, "property": property}[it[1]]
            parts = [self.decode(one, depth + 1) for one in it[2:]]
            # It looks at what it wraps; nothing can be asked while a message is read.
            self.local.is_reading = True
            try:
                return made(*parts)
            finally:
                self.local.is_reading = False
        if tag == "k":
            return self.stand_in_class(it[1], it[2])
        if tag == "F":
            return self.known(it[1]) or self.remember(it[1], make_function(self, it))
        if tag == "B":
            return bound_member(self.own[it[2]], str(it[3]), self.decode(it[1], depth + 1))
        if tag == "g":
            return self.known(it[1]) or self.remember(it[1], *make_generator(self, it[1], it[2]))
        if tag == "a":
            return make_coroutine(self, it[1], it[2])
        if tag == "m":
            return self.known(it[1]) or self.remember(it[1], self.stand_in_module(it[1], it[2]))
        raise ValueError("unknown mark")

    def std_reference(self, module, name):
        # Some errors of the runners' own say that a test is well.
        if self.first and str(module).startswith(RUNNERS):
            raise ValueError(f"{module} is the tests' own")
        it = std_object(module, name, True)
        if it is None:
            raise ValueError(f"there is no {module}.{name}")
        if self.first and not is_plain_class(it):
            # What does something does it on the other side, also where it is the language's own: an answer may
            # hand out `eval`, and then what is to be evaluated.
            return self.standard.setdefault((module, name), StandInStandard(self, it, module, name))
        return it

    def std_error(self, it, depth):
        _, module, name, args, more, cause, notes, (whose, number) = it
        kind = std_object(module, name, True)
        if not (isinstance(kind, type) and issubclass(kind, BaseException)) or module.startswith(RUNNERS):
            raise ValueError("no such error")
        args = [self.decode(one, depth + 1) for one in args]
        error = (self.errors if whose == "y" else self.copies).get(number)
        if type(error) is not kind or not says(error, args):
            try:
                error = kind(*args)
            except Exception:
                try:
                    error = kind.__new__(kind, *args)
                except Exception:
                    error = Exception(*args)
            if whose == "m":
                self.copies.put(error, number)
        for key, value in more:
            if not isinstance(key, str) or key.startswith("__"):
                continue
            try:
                setattr(error, key, self.decode(value, depth + 1))
            except AttributeError:
                pass
        for note in notes:
            error.add_note(note)
        return self.with_cause(error, cause, depth)

    def with_cause(self, error, cause, depth):
        if cause is not None and cause[0] == 2:
            error.__suppress_context__ = True
        elif cause is not None:
            came = self.decode(cause[1], depth + 1)
            if isinstance(came, BaseException) and came is not error:
                if cause[0]:
                    error.__cause__ = came
                else:
                    error.__context__ = came
        return error

    # Stand-ins.

    def theirs_id(self, it):
        try:
            oid = object.__getattribute__(it, "_apart_id")
        except AttributeError:
            return None
        if isinstance(it, type):
            return vars(it).get("_apart_id") if isinstance(it, StandInType) else None
        return oid if isinstance(it, (StandIn, StandInFunction, StandInModule)) else None

    def known(self, oid):
        entry = self.theirs.get(oid)
        it = entry[0]() if entry is not None else None
        if it is not None:
            entry[1] += 1
        return it

    def remember(self, oid, it, holder=None):
        """Knows a stand-in again while it lives; the other side is told when it, or its holder, is gone."""
        import weakref

        def drop(reference, oid=oid):
            entry = self.theirs.get(oid)
            if entry is not None and entry[2] is reference:
                del self.theirs[oid]
                self.dropped.append([oid, entry[1]])

        if self.keeps:
            self.kept.append(it)
        before = self.theirs.get(oid)
        # One that has just died, and was received so many times: both counts are to be given back.
        count = 1 + (before[1] if before is not None else 0)
        alive = weakref.ref(it if holder is None else holder, drop)
        self.theirs[oid] = [alive if holder is None else weakref.ref(it), count, alive]
        return it

    def stand_in(self, message, depth):
        _, oid, kind, value, hashed, more = message
        it = self.known(oid)
        kind = self.decode(kind)
        if not isinstance(kind, StandInType):
            raise ValueError("an object of no class of the other side")
        if issubclass(kind, BaseException):
            self.error_seen(kind)
        if it is None:
            value = self.decode(value, depth + 1)
            base = next((base for base in DATA if issubclass(kind, base)), None)
            if issubclass(kind, BaseException):
                it = kind.__new__(kind, *value)
                BaseException.args.__set__(it, value)
            elif base is complex or base in (tuple, frozenset, str, bytes, int, float):
                it = base.__new__(kind, value)
            else:
                it = object.__new__(kind)
            object.__setattr__(it, "_apart_id", oid)
            if is_weak(it):
                self.remember(oid, it)
            if more is not None:
                self.with_cause(it, more, depth)
        if hashed is not None:
            object.__setattr__(it, "_apart_hash", hashed)
        return it

    def stand_in_class(self, oid, told):
        if told is None:
            return self.classes[oid]
        name, qualname, module, bases, names, doc, std, asks = told
        real = std_object(std[0], std[1], True) if std else None
        bases = [self.decode(base) for base in bases]
        members = {"__doc__": doc, "__module__": str(module), "__qualname__": str(qualname), "_apart_id": oid, "_apart_link": self}
        if asks:
            members["_apart_asks"] = True
        for key, sort in names.items():
            if not isinstance(key, str) or key.startswith("_apart"):
                continue
            if sort == "n":
                members[key] = None
            elif key in SPECIAL:
                members.update(SPECIAL[key](self, oid))
            else:
                forward = make_member(self, oid, key, sort == "s")
                members[key] = staticmethod(forward) if sort == "s" else classmethod(forward) if sort == "c" else forward
        if real is not None:
            members["__class__"] = property(lambda self: real)
        kept, abstract = [], []
        for base in bases:
            if isinstance(base, StandInType) or type(base) is type and issubclass(base, (BaseException, *DATA, *BASES)):
                kept.append(base)
            elif base is not object and isinstance(base, type):
                abstract.append(base)
                kept += [data for data in (*DATA, *BASES) if issubclass(base, data)][:1]
        if not any(isinstance(base, StandInType) for base in kept):
            kept.insert(0, StandIn)
        if "__eq__" in members and "__hash__" not in members:
            members["__hash__"] = None
        made = self.new_class(str(name), tuple(kept), members)
        self.classes[oid] = made
        for base in abstract:
            register(base, made)
        return made

    def new_class(self, name, bases, members):
        try:
            return type.__new__(StandInType, name, bases, members)
        except TypeError:
            # An order of bases that only the answer's own metaclass allows.
            return type.__new__(StandInType, name, (StandIn,), members)

    def stand_in_module(self, oid, name):
        return StandInModule(self, oid, name)

    # Requests.

    def thread_name(self):
        name = getattr(self.local, "name", None)
        if name is None:
            if get_ident() == self.main:
                name = 0
            else:
                with self.lock:
                    name = self.next_thread * 2 + (0 if self.first else 1)
                    self.next_thread += 1
                    # Before anything is sent, so that what comes back is known to be for it.
                    self.queue_of(name)
            self.local.name = name
        return name

    def queue_of(self, name):
        queue = self.queues.get(name)
        if queue is None:
            queue = self.queues.setdefault(name, SimpleQueue())
        return queue

    def request(self, op, *args):
        """Asks the other side, serves what it asks meanwhile, and gives what it answers."""
        if self.gone:
            raise Gone("the other process has ended")
        name = self.thread_name()
        more = {"l": 1} if self.first and name == 0 and op != "threads" and is_in_loop() else {}
        if (name != 0 or more) and not self.threaded:
            self.go_threaded()
        if more:
            self.follow()
            self.is_busy = True
        with self.lock:
            self.asked += 1
            number = self.asked
            self.send(self.pack(op, args, t=name, i=number, **more))
        # Both sides may ask at the same time, so that answers do not come in the order of what was asked.
        while number not in self.answers:
            self.serve(self.next_message(name))
        message = self.answers.pop(number)
        if message["k"] == "!":
            raise plain_error(message["v"])
        return message["v"]

    def next_message(self, name):
        while not self.threaded:
            message = self.receive()
            if message.get("t") == name:
                return message
            self.route(message)
        message = self.queue_of(name).get()
        if message is None:
            raise Gone("the other process has ended")
        return message

    def route(self, message):
        """Hands a message to whom it is for; none: the other side is gone."""
        name = 0 if message is None else message.get("t")
        if name not in self.queues and name != 0:
            queue = self.queue_of(name)
            start_thread(self.work, (name, queue))
        self.queue_of(name).put(message)
        if name == 0 and self.is_idle:
            self.loop.call_soon_threadsafe(self.end_turn if not self.first else int)

    def work(self, name, queue):
        self.local.name = name
        while True:
            message = queue.get()
            if message is None:
                return
            try:
                self.serve(message)
            except Gone:
                return

    def go_threaded(self):
        """From here on a thread reads, so that others can be served while one is waiting."""
        with self.lock:
            if self.threaded:
                return
            own = getattr(self.local, "name", 0 if get_ident() == self.main else None)
            if own != 0:
                # The first thread of its own was not seen to begin: the reader is begun all the same.
                self.begin_reader()
                return
        self.request("threads")
        self.begin_reader()

    def begin_reader(self):
        with self.lock:
            if not self.threaded:
                self.threaded = True
                start_thread(self.read_all, ())

    def read_all(self):
        try:
            while True:
                self.route(self.receive())
        except Gone:
            for queue in list(self.queues.values()):
                queue.put(None)
            self.route(None)

    def serve(self, message):
        """Does what the other side asks, and answers, or keeps an answer for who has asked."""
        if message["k"] in ("=", "!"):
            self.answers[message.get("i")] = message
        elif message.get("l") and not self.first:
            self.serve_in_loop(message)
        else:
            self.serve_plainly(message)

    def serve_plainly(self, message):
        try:
            op, args = message["k"], message["v"]
            if op == "threads":
                kind, value = "=", None
            else:
                kind, value = "=", self.ops[op](*args)
        except Gone:
            raise
        except BaseException as error:
            kind, value = "!", error
        self.reply(message, kind, value)
        if message["k"] == "threads":
            self.begin_reader()

    def reply(self, message, kind, value):
        to = {"t": message["t"], "i": message.get("i")}
        with self.lock:
            try:
                reply = self.pack(kind, value, **to)
            except (RecursionError, TypeError, ValueError) as error:
                reply = self.pack("!", TypeError(f"cannot cross: {error}"), **to)
            self.send(reply)

    def serve_forever(self):
        self.local.name = 0
        while True:
            self.serve(self.next_message(0))

    # Loops. That of the answer's main thread runs when the tests' does, and takes its turns when that yields.

    def follow(self):
        """Lets the other side's loop run while the loop of this thread has nothing to do."""
        import asyncio

        loop = asyncio.get_running_loop()
        if self.loop is not loop or not isinstance(getattr(loop, "_selector", None), (Turns, type(None))):
            self.loop = loop
            if hasattr(loop, "_selector"):
                loop._selector = Turns(self, loop._selector)

    def select(self, plain, timeout):
        if not self.is_busy or get_ident() != self.main:
            return plain.select(timeout)
        if timeout is not None and timeout <= 0:
            self.is_busy = self.request("turn")
            return plain.select(0)
        self.request("free")
        self.is_idle, queue = True, self.queue_of(0)
        try:
            events = plain.select(timeout if queue.empty() else 0)
        finally:
            self.is_idle = False
        while not queue.empty():
            message = queue.get()
            if message is None:
                raise Gone("the other process has ended")
            self.serve(message)
        self.is_busy = self.request("hold")
        return events

    def serve_in_loop(self, message):
        """Serves what is asked from a running loop in a running loop."""
        import asyncio

        if self.loop is None:
            self.loop = asyncio.new_event_loop()
        loop, op = self.loop, message["k"]
        runs = asyncio._get_running_loop() is not None
        if op == "await":
            # Its first step is done before the tests go on, as it would be.
            self.waiting["run", message["v"][1]] = loop.create_task(self.run(*message["v"]))
            self.pass_once(runs)
            self.reply(message, "=", None)
        elif op == "turn":
            self.pass_once(runs)
            self.reply(message, "=", self.has_work())
        elif op == "free":
            self.reply(message, "=", None)
            self.is_freed = True
            while self.is_freed and not runs:
                self.is_freed, self.is_idle = False, True
                loop.call_soon(self.end_turn)
                try:
                    loop.run_forever()
                finally:
                    self.is_idle = False
                if self.held is not None:
                    held, self.held = self.held, None
                    self.reply(held, "=", self.has_work())
        elif op == "hold" and runs and self.is_idle:
            # What is to be done in this round is done first.
            self.is_freed, self.held = False, message
            loop.stop()
        elif op == "hold":
            self.reply(message, "=", self.has_work())
        else:
            if not runs:
                asyncio._set_running_loop(loop)
            try:
                self.serve_plainly(message)
            finally:
                if not runs:
                    asyncio._set_running_loop(None)

    def pass_once(self, runs):
        if not runs:
            self.loop.call_soon(self.loop.stop)
            self.loop.run_forever()

    def end_turn(self):
        if not self.queue_of(0).empty():
            self.loop.stop()

    def has_work(self):
        import asyncio

        loop = self.loop
        return bool(loop._ready or loop._scheduled or asyncio.all_tasks(loop) or len(loop._selector.get_map()) > 1)

    # What is asked for.

    def do_call(self, it, args, kwargs):
        if not self.grants(it, "__call__"):
            raise TypeError("this cannot be called from here")
        return it(*args, **dict(kwargs))

    def do_member(self, kind, name, it, args, kwargs):
        kwargs = dict(kwargs)
        if not self.grants(it if it is not None else kind, name) or not self.grants_kind(kind, it):
            raise AttributeError(name)
        if kind is None:
            return getattr(it, name)(*args, **kwargs)
        if it is None:
            return getattr(kind, name)(*args, **kwargs)
        if not isinstance(it, type) and not is_dunder(name) and name in getattr(it, "__dict__", ()):
            # What an object has itself comes before what its class has, but for a class further up.
            if owner_of(type(it), name) is owner_of(kind, name):
                return getattr(it, name)(*args, **kwargs)
        return bound_member(kind, name, it)(*args, **kwargs)

    def do_get(self, it, name):
        if not self.grants(it, name):
            raise AttributeError(f"{type(it).__name__!r} object has no attribute {name!r}")
        return getattr(it, name)

    def do_set(self, it, name, value):
        if not self.grants(it, name, True):
            raise AttributeError(f"{name!r} cannot be set from here")
        if isinstance(it, type) and name in vars(it):
            self.firsts.setdefault((it, name), vars(it)[name])
        setattr(it, name, value)

    def do_restore(self, it, name):
        if not self.grants(it, name, True):
            raise AttributeError(f"{name!r} cannot be set from here")
        if (it, name) in self.firsts:
            setattr(it, name, self.firsts[it, name])

    def do_del(self, it, name):
        if not self.grants(it, name, True):
            raise AttributeError(f"{name!r} cannot be removed from here")
        delattr(it, name)

    def do_repr(self, it, how, *args):
        return {"repr": repr, "str": str, "format": format}[how](it, *args)

    def do_dir(self, it):
        return [name for name in dir(it) if self.grants(it, name)]

    def do_signature(self, it, name=None):
        import inspect

        sign = inspect.signature(it if name is None else plain_member(it, name))
        empty = inspect.Parameter.empty
        return [(p.name, int(p.kind), p.default is not empty, None if p.default is empty else p.default)
                for p in sign.parameters.values()]

    def do_subclass(self, name, bases, members, kwargs):
        return types.new_class(name, tuple(bases), dict(kwargs), lambda it: it.update(members))

    # Coroutines: each is run by its own side's loop, and the other waits for what it gives.

    def loop_here(self):
        import asyncio

        if self.loop is not None and self.loop.is_running() and (self.first or get_ident() == self.main):
            return self.loop
        with self.lock:
            if self.background is None:
                self.background = asyncio.new_event_loop()
                start_thread(self.background.run_forever, ())
        return self.background

    async def run(self, it, token):
        try:
            reply = ("=", await it)
        except BaseException as error:
            reply = ("!", error)
        self.waiting.pop(("run", token), None)
        if get_ident() == self.main:
            self.settle(token, *reply)
        else:
            start_thread(self.settle, (token, *reply))

    def do_await(self, it, token):
        loop, begun = self.loop_here(), threading.Event()

        def begin():
            self.waiting["run", token] = loop.create_task(self.run(it, token))
            # Its first step is done in the next round, and this in the one after.
            loop.call_soon(lambda: loop.call_soon(begun.set))

        loop.call_soon_threadsafe(begin)
        # A loop cannot wait for itself.
        if not (loop is self.loop and get_ident() == self.main):
            begun.wait(5)

    def settle(self, token, kind, value):
        try:
            self.request("settled", token, kind, value)
        except BaseException:
            pass

    def do_settled(self, token, kind, value):
        waiting = self.waiting.pop(token, None)
        if waiting is None:
            return

        def finish():
            if not waiting.future.done():
                if kind == "=":
                    waiting.future.set_result(value)
                elif isinstance(value, StopIteration):
                    waiting.future.set_exception(RuntimeError("coroutine raised StopIteration"))
                elif isinstance(value, __import__("asyncio").CancelledError):
                    waiting.future.cancel()
                else:
                    waiting.future.set_exception(plain_error(value))

        waiting.loop.call_soon_threadsafe(finish)

    def do_cancel(self, token):
        task = self.waiting.get(("run", token))
        if task is not None:
            task.get_loop().call_soon_threadsafe(task.cancel)

    async def wait_for(self, it):
        import asyncio

        self.go_threaded()
        waiting = Waiting()
        waiting.loop = asyncio.get_running_loop()
        waiting.future = waiting.loop.create_future()
        with self.lock:
            token = self.next_wait
            self.next_wait += 1
        self.waiting[token] = waiting
        self.request("await", it, token)
        try:
            return await waiting.future
        except asyncio.CancelledError:
            self.request("cancel", token)
            raise
