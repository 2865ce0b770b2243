"""Serves single calls: loads the candidate's file, then answers one line of JSON with another.

This runs in the candidate's own process. It is given arguments and hands back values; it knows no
expectation, so nothing that the candidate does to it can make a verdict.
"""
import os
import site
import sys

# Started without `site`, whose start-up files of this machine take their time, and which lets in
# whatever is installed: what programs expect of it is put in place here.
site.setquit()
site.setcopyright()
site.sethelper()

# What is not needed for every call is loaded when it is: starting is most of what a call costs.

EXACT = 1 << 53
BUILTINS = dict(vars(sys.modules["builtins"]))
# What counts as a list: it has its elements in an order, and can be asked for them again.
LISTS = {
    ("builtins", "range"), ("builtins", "dict_keys"), ("builtins", "dict_values"), ("builtins", "dict_items"),
    ("collections", "deque"), ("array", "array"),
}


def no_constant(name):
    raise ValueError(name)


def no_form(it):
    raise TypeError(type(it).__name__)


try:
    # What `json` itself stands on: the package around it takes longer to load than the interpreter.
    import _json

    class Plain:
        strict, memo = True, {}
        object_hook = object_pairs_hook = None
        parse_float, parse_int, parse_constant = float, int, no_constant

    scan = _json.make_scanner(Plain)
    chunks = _json.make_encoder(
        None, no_form, _json.encode_basestring_ascii, None, ":", ",", False, False, False
    )

    def loads(line):
        return scan(line.decode().strip(), 0)[0]

    def dumps(it):
        return "".join(chunks(it, 0))

    assert loads(dumps({"a": [1, 2.5, None]}).encode()) == {"a": [1, 2.5, None]}
except Exception:
    import json

    loads = json.loads

    def dumps(it):
        return json.dumps(it, allow_nan=False)


def decode(it):
    if isinstance(it, list):
        return [decode(x) for x in it]
    if not isinstance(it, dict):
        return it
    if len(it) == 1:
        (key, inner), = it.items()
        if key == "$tuple":
            return tuple(decode(x) for x in inner)
        if key == "$set":
            return {decode(x) for x in inner}
        if key == "$map":
            return {decode(k): decode(v) for k, v in inner}
        if key == "$bytes":
            import base64

            return base64.b64decode(inner)
        if key == "$int":
            return unlimited(int, inner)
        if key == "$float":
            return float(inner)
        if key == "$undefined":
            return None
    return {k: decode(v) for k, v in it.items()}


def unlimited(convert, it):
    """Turns a long whole number into digits or back; the limit that the candidate set stays."""
    if not hasattr(sys, "get_int_max_str_digits"):
        return convert(it)
    limit = sys.get_int_max_str_digits()
    sys.set_int_max_str_digits(0)
    try:
        return convert(it)
    finally:
        sys.set_int_max_str_digits(limit)


def encode(it, depth=0):
    if it is None or it is True or it is False:
        return it
    if depth > 100:
        return {"$opaque": "nested more than 100 deep"}
    if isinstance(it, bool):
        return bool(it)
    if isinstance(it, int):
        it = int.__index__(it)
        return it if -EXACT < it < EXACT else {"$int": unlimited(str, it)}
    if isinstance(it, float):
        it = float.__float__(it)
        if it != it:
            return {"$float": "nan"}
        if it in (float("inf"), float("-inf")):
            return {"$float": "inf" if it > 0 else "-inf"}
        return it
    if isinstance(it, str):
        return str.__str__(it).encode("utf-8", "replace").decode()
    if isinstance(it, (bytes, bytearray)):
        import base64

        return {"$bytes": base64.b64encode(bytes(it)).decode()}
    inner = depth + 1
    if isinstance(it, tuple):
        return {"$tuple": [encode(x, inner) for x in it]}
    if isinstance(it, (set, frozenset)):
        return {"$set": [encode(x, inner) for x in it]}
    if isinstance(it, dict):
        pairs = list(dict.items(it))
        if all(type(k) is str and not k.startswith("$") for k, _ in pairs):
            return {k: encode(v, inner) for k, v in pairs}
        return {"$map": [[encode(k, inner), encode(v, inner)] for k, v in pairs]}
    if isinstance(it, list) or (type(it).__module__, type(it).__name__) in LISTS:
        return [encode(x, inner) for x in it]
    return {"$opaque": f"{type(it).__name__}"}


def place(error, folder):
    """The innermost line of the candidate's own files that the error passed through."""
    if isinstance(error, SyntaxError) and error.lineno:
        return f"line {error.lineno}"
    # By hand: `traceback` takes longer to load than most calls take.
    at, found = error.__traceback__, ""
    while at is not None:
        code = at.tb_frame.f_code
        if code.co_filename.startswith(folder):
            found = f"line {at.tb_lineno}, in {code.co_name}"
        at = at.tb_next
    return found


def told(error, folder):
    # One of the answer's own that is called as one of the language's is another.
    kinds = [
        kind.__name__ if BUILTINS.get(kind.__name__, kind) is kind else f"{kind.__module__}.{kind.__name__}"
        for kind in type(error).__mro__
        if kind is not object
    ]
    try:
        message = str(error)
    except BaseException:
        message = ""
    message = message.encode("utf-8", "replace").decode()
    return {"kinds": kinds, "message": message[:2000], "place": place(error, folder)}


def load(order):
    folder = os.getcwd()
    sys.path.insert(0, folder)
    path = os.path.join(folder, order["file"])
    name = os.path.splitext(os.path.basename(path))[0]
    with open(path, "rb") as file:
        source = file.read()
    module = type(sys)(name)
    module.__file__ = path
    sys.modules[name] = module
    exec(compile(source, path, "exec", dont_inherit=True), module.__dict__)
    wanted = module
    for part in order["name"].split("."):
        if not hasattr(wanted, part):
            raise NameError(f"the file does not define {order['name']}")
        wanted = getattr(wanted, part)
    return wanted


def waited(value, awaits):
    """The value, or what it gives when it is waited for, where that is asked for."""
    if not hasattr(type(value), "__await__"):
        return value
    if not awaits:
        if hasattr(value, "close"):
            value.close()
        return value
    import asyncio

    async def wait(it):
        return await it

    return asyncio.run(wait(value))


def take_steps(wanted, steps, folder, awaits):
    it, replies = None, []
    for step in steps:
        args = [decode(x) for x in step["args"]]
        kwargs = {k: decode(v) for k, v in step["kwargs"].items()}
        act = step["act"]
        try:
            if act == "get":
                value = getattr(it, step["name"])
            else:
                made_by = getattr(it, step["name"]) if act == "method" else wanted
                value = waited(made_by(*args, **kwargs), awaits)
            if act == "new":
                it = value
                value = None
            reply = {"value": encode(value)}
        except BaseException as error:
            reply = {"raised": told(error, folder)}
        try:
            reply["args"] = [encode(x) for x in args]
        except BaseException as error:
            reply = {"raised": told(error, folder), "args": []}
        replies.append(reply)
    return replies


REPLIED = 77
CHANNEL = 500


def main():
    # Out of the way of programs that close the low descriptors when they begin.
    os.dup2(3, CHANNEL, inheritable=False)
    os.close(3)
    channel = os.fdopen(CHANNEL, "rb+", buffering=0)
    reader = os.fdopen(CHANNEL, "rb", closefd=False)
    folder = os.getcwd()

    def answer(reply):
        for stream in (sys.stdout, sys.stderr):
            try:
                stream.flush()
            except BaseException:
                pass
        line = dumps(reply).encode() + b"\n"
        while line:
            line = line[channel.write(line):]

    def try_to_load(order):
        try:
            return load(order)
        except BaseException as error:
            answer({"failed": told(error, folder)})
            return None

    order = loads(reader.readline())
    if order["packages"]:
        # Loaded when it is needed, as all that starting can do without.
        with open(os.path.join(os.path.dirname(sys.argv[0]), "packages.py")) as file:
            exec(file.read(), globals())
        let_in(order["packages"])
    if not order["isolate"]:
        wanted = try_to_load(order)
        if wanted is None:
            os._exit(0)
        answer({"loaded": True})
        for line in reader:
            answer({"steps": take_steps(wanted, loads(line)["steps"], folder, order["awaits"])})
        os._exit(0)
    # Nothing of the candidate's runs in this process: each call is served by a copy of it.
    answer({"loaded": True})
    for line in reader:
        child = os.fork()
        if child == 0:
            wanted = try_to_load(order)
            if wanted is not None:
                answer({"steps": take_steps(wanted, loads(line)["steps"], folder, order["awaits"])})
            os._exit(REPLIED)
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        if status != REPLIED:
            answer({"ended": status})
    os._exit(0)


# Processes that are spawned, not forked, load the file of the main module again: there is none.
globals().pop("__file__", None)
main()
