"""What crosses by value between two processes, and how containers that both have are read and filled."""
import base64
import collections
import copyreg
import datetime
import decimal
import fractions
import importlib
import json
import os
import pathlib
import re
import sys
import threading
import types
import uuid
from _queue import SimpleQueue

# Held here, since tests may patch them, and answers may try.
read_bytes, write_bytes = os.read, os.write
to_json = json.JSONEncoder(ensure_ascii=True, check_circular=False).encode
from_json = json.JSONDecoder().decode
get_ident, references = threading.get_ident, sys.getrefcount
MESSAGE_MAX = 256 << 20
DEPTH_MAX = 200
EXACT = 1 << 1000


class Gone(BaseException):
    """The other process has ended."""


# Modules of the language in which tests are written and run.
RUNNERS = ("unittest", "doctest", "pdb", "bdb", "_pytest", "pytest")


def is_std_module(name):
    return isinstance(name, str) and name.split(".")[0] in sys.stdlib_module_names


def std_name(it):
    """Where the standard library has this very object: (module, qualified name), or None."""
    if isinstance(it, types.ModuleType):
        name = it.__name__
        return (name, "") if is_std_module(name) and sys.modules.get(name) is it else None
    module, name = getattr(it, "__module__", None), getattr(it, "__qualname__", None)
    if module is None and isinstance(getattr(it, "__objclass__", None), type):
        module = it.__objclass__.__module__
    if not isinstance(name, str) or not is_std_module(module):
        return None
    found = std_object(module, name)
    return (module, name) if found is it else None


def std_object(module, name, load=False):
    if not is_std_module(module) or module == "__main__":
        return None
    it = sys.modules.get(module)
    if it is None and load:
        try:
            it = importlib.import_module(module)
        except ImportError:
            return None
    for part in name.split(".") if name else ():
        it = getattr(it, part, None)
    return it


# Modules whose classes do nothing but hold what they are made of.
PLAIN_MODULES = (
    "builtins collections collections.abc datetime decimal fractions enum numbers typing pathlib uuid abc dataclasses "
    "re string itertools functools types"
).split()
NOT_PLAIN = {types.FunctionType, types.CodeType, types.ModuleType, type(iter(int, 1)), super, memoryview}


def is_plain_class(it):
    if not isinstance(it, type):
        return False
    return issubclass(it, BaseException) or it.__module__ in PLAIN_MODULES and it not in NOT_PLAIN


VALUES = {
    datetime.date: lambda it: (it.year, it.month, it.day),
    datetime.time: lambda it: (it.hour, it.minute, it.second, it.microsecond, it.tzinfo),
    datetime.datetime: lambda it: (
        it.year, it.month, it.day, it.hour, it.minute, it.second, it.microsecond, it.tzinfo),
    datetime.timedelta: lambda it: (it.days, it.seconds, it.microseconds),
    datetime.timezone: lambda it: it.__getinitargs__(),
    decimal.Decimal: lambda it: (str(it),),
    fractions.Fraction: lambda it: (it.numerator, it.denominator),
    uuid.UUID: lambda it: (str(it),),
    pathlib.PosixPath: lambda it: (str(it),),
    pathlib.PurePosixPath: lambda it: (str(it),),
    pathlib.PureWindowsPath: lambda it: (str(it),),
    complex: lambda it: (it.real, it.imag),
    range: lambda it: (it.start, it.stop, it.step),
    slice: lambda it: (it.start, it.stop, it.step),
    re.Pattern: lambda it: (it.pattern, it.flags),
}
MAKERS = {re.Pattern: lambda pattern, flags: re.compile(pattern, flags & ~re.DEBUG)}
VALUE_KINDS = {kind.__name__: kind for kind in VALUES}
VIEWS = {type({}.keys()): "keys", type({}.values()): "values", type({}.items()): "items"}
SINGLES = {"...": Ellipsis, "NI": NotImplemented}
# Marks of `dataclasses` that are looked for by identity.
FIELD_MARKS = ("MISSING", "KW_ONLY", "_FIELD", "_FIELD_CLASSVAR", "_FIELD_INITVAR")

# Containers that both sides have: how they are emptied and filled, and what is remembered of them.
LISTS, DICTS = (list, collections.deque), (dict, collections.OrderedDict, collections.defaultdict, collections.Counter)
KINDS = {kind.__name__: kind for kind in (*LISTS, *DICTS, set, bytearray)}
BASES = (list, dict, set, collections.deque, collections.OrderedDict, collections.defaultdict, collections.Counter)
DATA = (str, bytes, int, float, complex, tuple, frozenset)
same = __import__("operator").is_


def family(it):
    if isinstance(it, dict):
        return "d"
    if isinstance(it, (list, collections.deque)):
        return "l"
    return "s" if isinstance(it, set) else "b"


def contents(it, sort):
    """What is in a container, by the builtin kind's own ways."""
    if sort == "d":
        if isinstance(it, collections.OrderedDict):
            keys = tuple(collections.OrderedDict.__iter__(it))
            return (keys, tuple([dict.__getitem__(it, key) for key in keys]))
        return (tuple(dict.keys(it)), tuple(dict.values(it)))
    if sort == "l":
        return tuple(list.__iter__(it) if isinstance(it, list) else collections.deque.__iter__(it))
    return tuple(set.__iter__(it)) if sort == "s" else bytes(it)


def is_same(now, before, sort):
    if before is None:
        return False
    if sort == "d":
        return len(now[0]) == len(before[0]) and all(map(same, now[0], before[0])) and all(map(same, now[1], before[1]))
    if sort == "b":
        return now == before
    return len(now) == len(before) and all(map(same, now, before))


def refill(it, sort, content):
    if sort == "d":
        kind = collections.OrderedDict if isinstance(it, collections.OrderedDict) else dict
        kind.clear(it)
        for key, value in content:
            kind.__setitem__(it, key, value)
    elif sort == "s":
        set.clear(it)
        set.update(it, content)
    elif sort == "b":
        it[:] = content
    elif isinstance(it, list):
        list.__setitem__(it, slice(None), content)
    else:
        it.clear()
        it.extend(content)
