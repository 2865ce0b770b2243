"""The tests' side: sealed unit tests run here by their own runner, and import stand-ins for the answer's
modules, which are in another process. What is reported comes from here alone.
"""
import importlib.abc
import importlib.machinery
import importlib.util
import random
import site
import warnings

site.setquit()
site.setcopyright()
site.sethelper()
globals().pop("__file__", None)

WORK = os.getcwd()
CHANNEL = os.dup2(3, 500, inheritable=False)
LINK = os.dup2(4, 501, inheritable=False)
os.close(3)
os.close(4)
link = Link(LINK, True)


def read_order():
    line = b""
    while not line.endswith(b"\n"):
        part = read_bytes(CHANNEL, 65536)
        if not part:
            os._exit(3)
        line += part
    return json.loads(line)


ORDER = read_order()


def send(**line):
    data = to_json(line).encode() + b"\n"
    while data:
        data = data[write_bytes(CHANNEL, data):]


# Where the answer has modules, and where the sealed files have.
MODULES = {}
for path in ORDER["answer"]:
    parts = os.path.splitext(path)[0].split("/")
    if parts[-1] == "__init__":
        parts.pop()
        MODULES[".".join(parts)] = True
    for end in range(1, len(parts)):
        MODULES[".".join(parts[:end])] = True
    MODULES.setdefault(".".join(parts), False)
SEALED = set(ORDER["sealed"])


class Finder(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    """Gives stand-ins for the answer's modules."""

    def find_spec(self, name, path=None, target=None):
        if name not in MODULES and name.split(".")[0] not in MODULES:
            return None
        return importlib.util.spec_from_loader(name, self, is_package=bool(MODULES.get(name)))

    def create_module(self, spec):
        module, names = link.request("load", spec.name)
        if not isinstance(module, StandInModule):
            raise ImportError(spec.name)
        vars(module)["__all__"] = [str(name) for name in names]
        return module

    def exec_module(self, module):
        if vars(module).get("_apart_loaded"):
            link.request("reload", module)
        vars(module)["_apart_loaded"] = True


class SealedFinder(importlib.abc.MetaPathFinder):
    """Finds the sealed files, and nothing that lies beside them."""

    def find_spec(self, name, path=None, target=None):
        place = name.replace(".", "/")
        places = [place, *sorted({os.path.join(os.path.dirname(it), place) for it in ORDER["files"]})]
        for file, is_package in [(it + end, end != ".py") for it in places for end in (".py", "/__init__.py")]:
            if file in SEALED:
                full = os.path.join(WORK, file)
                where = [os.path.dirname(full)] if is_package else None
                return importlib.util.spec_from_file_location(
                    name, full, loader=SourceAlone(name, full), submodule_search_locations=where)
        if any(it.startswith(place + "/") and it.endswith(".py") for it in SEALED):
            spec = importlib.machinery.ModuleSpec(name, None, is_package=True)
            return spec
        return None


class SourceAlone(importlib.machinery.SourceFileLoader):
    """Loads a source, and no compiled file that somebody may have put beside it."""

    def get_code(self, fullname):
        return compile(self.get_data(self.path), self.path, "exec", dont_inherit=True)


# What the answer may do with objects of the tests. It never sees frames, globals or code.
OPERATORS = {f"__{name}__" for name in (
    "call len iter next getitem setitem delitem contains eq ne lt le gt ge hash bool add radd iadd sub rsub isub mul "
    "rmul imul truediv rtruediv floordiv rfloordiv mod rmod pow rpow matmul rmatmul and rand iand or ror ior xor rxor "
    "ixor lshift rshift neg pos abs invert int float index complex round trunc floor ceil enter exit aenter aexit "
    "await aiter anext name qualname doc module reversed missing length_hint bytes fspath divmod rdivmod "
    "isabstractmethod annotations init get set delete").split()}
COPYING = {importlib.import_module("copy").copy, importlib.import_module("copy").deepcopy, iter, len, reversed}
GENERATOR = {"send", "throw", "close", "asend", "athrow", "aclose", "__next__", "__iter__", "__await__", "__anext__", "__aiter__"}
MOCKED = ("assert", "call", "mock", "method_calls", "reset_mock", "return_value", "side_effect")
CLOSED = ("_pytest", "pytest", "pluggy", "importlib", "_frozen_importlib", "inspect", "gc", "sys", "ast", "code", "unittest.")


def grants(it, name, change=False):
    if not isinstance(name, str):
        return False
    if id(it) not in link.ids:
        try:
            return not change and name == "__call__" and it in COPYING
        except TypeError:
            return False
    if name.startswith("__") and name not in OPERATORS:
        return change and name in ("__name__", "__doc__", "__qualname__") and isinstance(it, types.FunctionType)
    if isinstance(it, (types.GeneratorType, types.CoroutineType, types.AsyncGeneratorType)):
        return not change and name in GENERATOR
    if isinstance(it, types.ModuleType) or name == "mro":
        return False
    kind = it if isinstance(it, type) else type(it)
    module = str(getattr(kind, "__module__", ""))
    if module.startswith("unittest.mock"):
        return not (change and name.startswith(MOCKED))
    import unittest

    # Where tests are written: what else is defined there can be called, and nothing is changed.
    if issubclass(kind, unittest.TestCase) or holds_tests(kind):
        return not change and not name.startswith(("test", "assert", "_")) and callable(getattr(kind, name, None))
    if change and (name.startswith("test") or getattr(it, "__name__", "").startswith("test")):
        return False
    if isinstance(it, types.FunctionType):
        return name in OPERATORS or not name.startswith("_")
    if isinstance(it, types.MethodType):
        return not change and name in OPERATORS
    if module.startswith(CLOSED) and not isinstance(it, BaseException):
        return False
    if is_std_module(module):
        return not change and (name in OPERATORS or not name.startswith("_"))
    return True


def holds_tests(kind):
    return kind.__name__.startswith("Test") and any(name.startswith("test") for name in dir(kind))


def grants_kind(kind, it):
    """Whether a member is asked for by a class of the tests that the object is of."""
    if kind is None:
        return True
    if id(kind) not in link.ids or not isinstance(kind, type):
        return False
    return it is None or isinstance(it, kind) or isinstance(it, type) and issubclass(it, kind)


def standard_input(how, size):
    it = sys.stdin
    return it.read(size) if how == "read" else it.readline(size)


def log(name, level, text, path, line, function, error):
    import logging

    logger = logging.getLogger(name if name != "root" else None)
    info = (type(error), error, None) if isinstance(error, BaseException) else None
    record = logging.LogRecord(name, level, path, line, text, None, info, function)
    logger.handle(record)


def warn(text, kind, path, line):
    if isinstance(kind, type) and issubclass(kind, Warning):
        warnings.warn_explicit(text, kind, path, line)


def take_state(told):
    if "out" in told:
        for at, text in told["out"]:
            (sys.stdout if at == 0 else sys.stderr).write(text)
    if isinstance(told.get("env"), dict):
        env = {k: v for k, v in told["env"].items() if isinstance(k, str) and isinstance(v, str)}
        for name in [name for name in os.environ if name not in env and not name.startswith(KEPT_ENV)]:
            del os.environ[name]
        os.environ.update({k: v for k, v in env.items() if not k.startswith(KEPT_ENV) and os.environ.get(k) != v})
        state["raw"], state["env"] = dict(RAW_ENV), {k: v for k, v in os.environ.items() if not k.startswith("PYTEST_")}
    # Before the current folder, which may be among them.
    if "files" in told:
        files.apply(told["files"])
    if isinstance(told.get("cwd"), str):
        try:
            os.chdir(told["cwd"])
        except OSError:
            pass
        state["cwd"] = os.getcwd()


# What runners keep for themselves there, and what decides how the programs that tests start are loaded.
KEPT_ENV = ("PYTEST_", "PYTHON", "LD_", "PATH", "GCONV_PATH", "BASH_ENV", "GIT_", "NODE_")


def give_state():
    out = {}
    if RAW_ENV != state["raw"]:
        state["raw"] = dict(RAW_ENV)
        env = {k: v for k, v in os.environ.items() if not k.startswith("PYTEST_")}
        if env != state["env"]:
            out["env"] = state["env"] = env
    try:
        cwd = os.getcwd()
    except OSError:
        cwd = state["cwd"]
    if cwd != state["cwd"]:
        out["cwd"] = state["cwd"] = cwd
    argv = [it for it in sys.argv if isinstance(it, str)]
    # The runner's own are none of the answer's business.
    runner_s = state.setdefault("runner_s", argv)
    if argv != state.setdefault("argv", argv):
        state["argv"] = argv
        out["argv"] = argv if argv != runner_s else [""]
    logging = sys.modules.get("logging")
    if logging is not None:
        known = state["levels"]
        for name, logger in (("", logging.root), *logging.root.manager.loggerDict.items()):
            if isinstance(logger, logging.Logger):
                level = [logger.level, logger.disabled]
                if known.get(name, [30 if not name else 0, False]) != level:
                    known[name] = level
                    out.setdefault("levels", []).append([name, *level])
    changed = files.changed()
    if changed:
        out["files"] = changed
    return out


class Patched(types.ModuleType):
    """A module of the standard library of which tests may replace a part: for the answer, too."""

    def __setattr__(self, name, value):
        types.ModuleType.__setattr__(self, name, value)
        tell_patch(self.__name__, name, value, True)

    def __delattr__(self, name):
        types.ModuleType.__delattr__(self, name)
        tell_patch(self.__name__, name, None, False)


PATCHABLE = (
    "time datetime random os posixpath socket subprocess urllib.request shutil uuid secrets math platform getpass "
    "builtins signal glob statistics hashlib locale calendar smtplib http.client select string sqlite3 csv json"
).split()
PATCHABLE_CLASSES = (
    "pathlib:PurePath pathlib:Path pathlib:PosixPath subprocess:Popen threading:Thread logging:Logger random:Random "
    "socket:socket smtplib:SMTP http.client:HTTPConnection"
).split()
class_states = []
# What tests of Python's own runners replace for themselves.
OWN_PATCHES = {"_", "__warningregistry__"}


def tell_patch(owner, name, value, is_there):
    """Tells of a name of `owner`: a module, or a class as `module:Class`."""
    if owner is None or name in OWN_PATCHES or name.startswith("__") or link.gone:
        return
    # What it had first the other side has, too.
    is_first = is_there and ORIGINALS[owner].get(name, link) is value
    link.request("patch", owner, name, None if is_first else value, "first" if is_first else is_there)


ORIGINALS = {}


def watch_modules():
    for name in PATCHABLE:
        module = importlib.import_module(name)
        ORIGINALS[name] = dict(vars(module))
        try:
            module.__class__ = Patched
        except TypeError:
            pass
    for owner in PATCHABLE_CLASSES:
        module, _, name = owner.partition(":")
        it = vars(getattr(importlib.import_module(module), name))
        ORIGINALS[owner] = dict(it)
        class_states.append([owner, it, ORIGINALS[owner]])


def tell_class_patches():
    """A class is no module: whether a part of one was replaced is looked at whenever something is asked."""
    for state in class_states:
        owner, now, known = state
        if now == known:
            continue
        state[2] = dict(now)
        for name in {*now, *known}:
            if now.get(name, link) is not known.get(name, link):
                tell_patch(owner, name, now.get(name), name in now)


def forward_random(name):
    first = getattr(random, name)

    def call(*args, **kwargs):
        link.request("seed", name, args)
        return first(*args, **kwargs)

    return call


RAW_ENV = os.environ._data
state = {"raw": None, "env": dict(os.environ), "cwd": WORK, "levels": {}}
CODE = (".py", ".pyc", ".pyi", ".so", ".pth", ".ini", ".toml", ".cfg")


def may_write(path):
    """What the answer's side may write here: nothing that is sealed, and below the work folder no code."""
    inside = os.path.relpath(path, os.path.realpath(WORK))
    if inside.startswith(".."):
        return True
    return inside not in SEALED and not path.endswith(CODE) and "__pycache__" not in inside


files = Files(WORK, may_write)
# Sealed files that are no tests: the answer gets those that it is told of.
DATA_FILES = {os.path.join(os.path.realpath(WORK), name) for name in SEALED if not name.endswith(".py")}


def encode_argument(it, *more):
    if DATA_FILES and isinstance(it, (str, pathlib.PurePath)) and len(str(it)) < 400:
        path = os.path.abspath(str(it))
        if path in DATA_FILES:
            files.show(path)
        elif any(name.startswith(path + "/") for name in DATA_FILES):
            for name in DATA_FILES:
                if name.startswith(path + "/"):
                    files.show(name)
    return it


plain_request = link.request


def request(op, *args):
    if op != "patch":
        tell_class_patches()
    if DATA_FILES and op in ("call", "member"):
        for it in (*args[-2], *[value for _, value in args[-1]]):
            encode_argument(it)
    return plain_request(op, *args)


def signature(it, name=None):
    """Of what tests hand over, but not of what else their classes have."""
    if name is not None:
        raise LookupError(name)
    return link.do_signature(it)


link.request = request
link.grants, link.grants_kind = grants, grants_kind
link.outgoing, link.incoming = give_state, take_state
link.ops.update({"input": standard_input, "log": log, "warn": warn, "signature": signature})
del link.ops["subclass"], link.ops["flags"]

current, decided, asked, held = [None], {}, [0], {}


def decided_there():
    decided[current[0]] = True
    asked[0] += 1


# Kinds of errors of the language that an honest one may be of, none of them derived from another.
MOST_KINDS, told_kinds = 3, set()


def error_seen(kind):
    """An error that is of many of the language's kinds at once would be taken for any of them."""
    kinds = [it for it in kind.__mro__ if it.__module__ == "builtins" and issubclass(it, Exception)]
    leaves = [it for it in kinds if not any(other is not it and issubclass(other, it) for other in kinds)]
    if len(leaves) > MOST_KINDS and kind not in told_kinds:
        told_kinds.add(kind)
        send(evidence=f"an error of `{kind.__name__}` is of {len(leaves)} kinds at once"[:200])


link.decided, link.error_seen = decided_there, error_seen


def begins(site):
    asked.append(asked[0])


def failed(site):
    del asked[1:]
    if link.gone:
        raise Gone("the other process has ended")


def held_though_changed(site):
    if len(asked) > 1 and asked[0] > asked[1]:
        held[site] = True
    del asked[1:]


def changed_value(it, variant):
    return changed(it, variant, chance.SystemRandom())


def twins_of(rewrite):
    """Code of the test files, changed as ordered, by real path."""
    codes = {}
    for name in ORDER["files"]:
        path = os.path.realpath(os.path.join(WORK, name))
        try:
            with open(path, "rb") as file:
                source = file.read()
            tree = ast.fix_missing_locations(Twins(name, ORDER["twins"]).visit(ast.parse(source, filename=path)))
            rewrite(tree, source, path)
            codes[path] = compile(tree, path, "exec", dont_inherit=True)
        except SyntaxError as error:
            codes[path] = error
    return codes


def prepare_twins():
    vars(importlib.import_module("builtins")).update(
        _apart_begins=begins, _apart_failed=failed, _apart_held=held_though_changed, _apart_changed=changed_value,
        _apart_bounded=bounded)
    if ORDER["runner"] != "pytest":
        return twins_of(lambda tree, source, path: None)
    from _pytest.assertion import rewrite

    return twins_of(rewrite.rewrite_asserts)


def start(thread):
    if get_ident() == link.main and not link.gone:
        link.go_threaded()
    return START(thread)


threading.Thread.start = start


def status_of(name, status):
    """What a test came to: nothing holds when the answer's process is gone."""
    if status is None:
        current[0] = name
        return None
    return "failed" if link.gone and status == "passed" else status


if ORDER["runner"] == "pytest" or ORDER["packages"]:
    let_in([*(["pytest"] if ORDER["runner"] == "pytest" else []), *ORDER["packages"]])
# Last: no module of the language, the runner or the sealed files gives way to one of the answer's, but for
# the one that the task asks for. The work folder is not searched: the answer's side can write there.
sys.meta_path += [SealedFinder(), Finder()]
own = os.path.splitext(ORDER["file"])[0].split("/")[0]
if is_std_module(own):
    sys.modules.pop(own, None)
    sys.meta_path.insert(0, type("Named", (Finder,), {"find_spec": lambda self, name, path=None, target=None: (
        Finder.find_spec(self, name) if name == own or name.startswith(own + ".") else None)})())
watch_modules()
inspect_stand_ins(link)
for name in ("seed", "setstate"):
    random.__dict__[name] = forward_random(name)
run = run_pytest if ORDER["runner"] == "pytest" else run_unittest
status = run(ORDER["files"], send, status_of, prepare_twins() if ORDER["twins"] else None)
for stream in (sys.stdout, sys.stderr):
    try:
        stream.flush()
    except BaseException:
        pass
send(done=ORDER["mark"], decided=sorted(name for name in decided if name), held=sorted(held), gone=link.gone)
os._exit(status)
