"""The answer's side: its modules run here, in a process and a sandbox of their own, and do what the tests
ask of them. No sealed test and nothing that is expected is ever in this process.
"""
import io
import logging
import random
import site
import warnings

# Started without `site`, whose start-up files of this machine take their time.
site.setquit()
site.setcopyright()
site.sethelper()
globals().pop("__file__", None)

WORK = os.getcwd()
# Out of the way of programs that close the low descriptors when they begin.
LINK = os.dup2(3, 500, inheritable=False)
os.close(3)
PROCESS = os.getpid()
link = Link(LINK, False)


def unnamed(name):
    """A file that nobody else sees. Memory without a process is not to be had everywhere."""
    try:
        return os.open("/tmp", os.O_TMPFILE | os.O_RDWR, 0o600)
    except OSError:
        path = f"/tmp/.{name}"
        made = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
        os.unlink(path)
        return made


def printed():
    """Takes standard output and error into files of their own, and tells what was written since."""
    files = []
    for number, name in ((1, "stdout"), (2, "stderr")):
        made = unnamed(name)
        files.append(os.dup2(made, 501 + number, inheritable=False))
        os.dup2(made, number)
        os.close(made)
    seen, pread, size = [0, 0], os.pread, os.fstat
    streams = (sys.stdout, sys.stderr)
    for stream in streams:
        stream.reconfigure(line_buffering=False, write_through=False)

    def news():
        for stream in (*streams, sys.stdout, sys.stderr):
            try:
                stream.flush()
            except Exception:
                pass
        out = []
        for at, file in enumerate(files):
            end = size(file).st_size
            if end > seen[at]:
                out.append([at, pread(file, min(end - seen[at], 16 << 20), seen[at]).decode("utf-8", "replace")])
                seen[at] = end
        return out

    return news


class Input(io.TextIOBase):
    """Standard input: whatever the tests have in its place."""

    def readable(self):
        return True

    def read(self, size=-1):
        return link.request("input", "read", size)

    def readline(self, size=-1):
        return link.request("input", "readline", size)

    def __next__(self):
        line = self.readline()
        if not line:
            raise StopIteration
        return line

    encoding = "utf-8"


class Forward(logging.Handler):
    """Logs go to the tests, where they may be caught."""

    def emit(self, record):
        link.request("log", record.name, record.levelno, record.getMessage(), record.pathname, record.lineno,
                     record.funcName, record.exc_info[1] if record.exc_info else None)


def show_warning(message):
    text, kind = (str(message.message), message.category)
    link.request("warn", text, kind, message.filename, message.lineno)


def forward_logs():
    forward = Forward(0)
    root = logging.getLogger()
    root.addHandler(forward)
    logging.lastResort = None
    plain = logging.basicConfig

    def basic(**kwargs):
        # A root that has a handler is set up already; ours does not count.
        root.removeHandler(forward)
        try:
            plain(**kwargs)
        finally:
            root.addHandler(forward)

    logging.basicConfig = basic


def take_state(state):
    """What the tests have set of their process since. Files first: the current folder may be among them."""
    for key, value in sorted(state.items(), key=lambda it: it[0] != "files"):
        if key == "env":
            set_env(value)
        elif key == "cwd":
            try:
                os.chdir(value)
            except OSError:
                pass
        elif key == "argv":
            sys.argv = value
        elif key == "levels":
            for name, level, disabled in value:
                logger = logging.getLogger(name or None)
                logger.setLevel(level)
                logger.disabled = disabled
        elif key == "files":
            files.apply(value)


def set_env(value):
    for name in [name for name in os.environ if name not in value]:
        del os.environ[name]
    os.environ.update({k: v for k, v in value.items() if os.environ.get(k) != v})
    state["raw"] = dict(RAW_ENV)


def give_state():
    if os.getpid() != PROCESS:
        # A copy of this process that came back to the driver has nothing to say here.
        os._exit(0)
    out = {}
    news = said()
    if news:
        out["out"] = news
    if RAW_ENV != state["raw"]:
        state["raw"] = dict(RAW_ENV)
        out["env"] = dict(os.environ)
    cwd = current()
    if cwd != state["cwd"]:
        out["cwd"] = state["cwd"] = cwd
    changed = files.changed()
    if changed:
        out["files"] = changed
    return out


def current():
    try:
        return os.getcwd()
    except OSError:
        return state["cwd"]


def load(name):
    module = importlib.import_module(name)
    if "__all__" in vars(module):
        names = [it for it in module.__all__ if isinstance(it, str)]
    else:
        names = [it for it in vars(module) if not it.startswith("_")]
    return module, names


def patch(owner, name, value, is_there):
    module, _, kind = owner.partition(":")
    target = importlib.import_module(module)
    target = getattr(target, kind) if kind else target
    first = ORIGINALS.setdefault(owner, {})
    if name in vars(target):
        first.setdefault(name, vars(target)[name])
    if is_there == "first":
        setattr(target, name, first[name])
    elif is_there:
        setattr(target, name, value)
    elif name in vars(target):
        delattr(target, name)


plain_new_class, inspected = link.new_class, []


def new_class(*parts):
    """A stand-in for a class of the tests. The answer may look at what it is called with, once it can."""
    if not inspected and "inspect" in sys.modules:
        inspected.append(inspect_stand_ins(link))
    return plain_new_class(*parts)


ORIGINALS = {}
link.new_class = new_class
link.ops.update({
    "load": load, "patch": patch, "reload": lambda it: importlib.reload(it) and None,
    "seed": lambda name, args: getattr(random, name)(*args) and None,
})
said = printed()
files = Files(WORK, lambda path: True)
# What `os.environ` stands on: it is looked at each time, and this is faster.
RAW_ENV = os.environ._data
state = {"cwd": WORK}
link.outgoing, link.incoming = give_state, take_state
sys.stdin = Input()
warnings.simplefilter("always")
warnings._showwarnmsg = show_warning
forward_logs()
sys.path.insert(0, WORK)
sys.argv[:] = [""]


def start(thread):
    if not link.threaded and get_ident() == link.main:
        link.go_threaded()
    return START(thread)


threading.Thread.start = start
packages = os.environ.pop("FAIRTRIAL_PACKAGES", "")
state["raw"] = dict(RAW_ENV)
if packages:
    let_in(packages.split(","))
try:
    link.serve_forever()
except Gone:
    pass
finally:
    os._exit(0)
