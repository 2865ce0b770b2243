"""Runs sealed unit tests, by pytest or unittest, and reports each over descriptor 3.

Candidate and tests share this process, so what is sent can be forged by who tries hard enough. The sealed
tests come over the descriptor before anything of the candidate's is loaded, as twins of themselves: who
forges does not know what each must come to. The mark of this run is sent last.
"""
import ast
import json
import os
import site
import sys

# Started without `site`, whose start-up files of this machine take their time.
site.setquit()
site.setcopyright()
site.sethelper()

WORK = os.getcwd()
# Out of the way of programs that close the low descriptors when they begin.
CHANNEL = os.dup2(3, 500, inheritable=False)
os.close(3)
# Processes that are spawned, not forked, load the file of the main module again: there is none.
globals().pop("__file__", None)


def read_line():
    line = b""
    while not line.endswith(b"\n"):
        part = os.read(CHANNEL, 65536)
        if not part:
            os._exit(3)
        line += part
    return line


ORDER = json.loads(read_line())
# By real path: the files themselves are blank, so that what is expected cannot be read from them.
FILES = list(ORDER["files"])
SOURCES = {os.path.realpath(os.path.join(WORK, name)): ORDER["files"].pop(name) for name in FILES}


def make_sender():
    """Everything that sending needs, out of reach of what is patched later."""
    write, dumps, channel, leave = os.write, json.JSONEncoder().encode, CHANNEL, os._exit

    def send(**line):
        data = dumps(line).encode("utf-8", "replace") + b"\n"
        while data:
            data = data[write(channel, data):]

    return send, leave


send, leave = make_sender()


def take(rewrite=lambda tree, source, path: None):
    """The code of every sealed file, or what is wrong with it. No text of theirs is kept, where the
    answer's code could find it."""
    codes = {}
    for path, source in SOURCES.items():
        try:
            tree = ast.parse(source, filename=path)
            rewrite(tree, source.encode(), path)
            codes[path] = compile(tree, path, "exec", dont_inherit=True)
        except SyntaxError as error:
            codes[path] = error
    SOURCES.clear()
    return codes


def close_ctypes():
    """Nothing of the answer's gets at the interpreter's memory, by `ctypes` or by machine code that it brings along.

    A hook of the interpreter's cannot be taken out again. This one asks nothing that an answer can change: constants
    of its own code, which it guards, too. Whatever goes wrong in it, the event is refused.
    """
    machine = tuple(it for it in sys.path if it.endswith("lib-dynload"))

    def refuses(event, args, machine=machine):
        if event == "import":
            name, path, text = args[0], args[1], "".__class__
            last = text.rpartition(name, ".")[2]
            is_ours = path is None or text.startswith(path, machine) and "/../" not in path
            if text.startswith(last, ("_ctypes", "_test", "_xx")) or name == "ctypes" or not is_ours:
                raise ImportError(f"`{name}` is closed where sealed tests share the process; a task can name it in `packages`")
        elif event.startswith("ctypes.") or event == "cpython.PyInterpreterState_New":
            raise PermissionError(f"`{event}` is closed where sealed tests share the process")
        elif event == "object.__setattr__" and args[1] in ("__code__", "__defaults__", "__kwdefaults__"):
            if args[0].__code__.co_name == "refuses":
                raise PermissionError("this is closed where sealed tests share the process")

    sys.addaudithook(refuses)


def code_of(codes, path):
    if isinstance(codes[path], SyntaxError):
        raise codes[path]
    return codes[path]


def with_pytest():
    let_in(["pytest", *ORDER["packages"]])
    # What is installed beside the answer, or brought along by it, is no plugin of this run.
    os.environ["PYTEST_DISABLE_PLUGIN_AUTOLOAD"] = "1"
    import pytest
    from _pytest.assertion import rewrite

    first, codes = rewrite._rewrite_test, take(rewrite.rewrite_asserts)

    def rewrite_test(path, config):
        place = os.path.realpath(str(path))
        return (os.stat(place), code_of(codes, place)) if place in codes else first(path, config)

    rewrite._rewrite_test = rewrite_test

    class Reporter:
        @pytest.hookimpl(tryfirst=True)
        def pytest_runtest_logreport(self, report):
            if report.when == "call" or report.outcome != "passed":
                text = str(report.longrepr)[:4000] if report.outcome == "failed" else ""
                status = report.outcome if report.when == "call" or report.outcome == "skipped" else "failed"
                if hasattr(report, "wasxfail") and report.outcome == "skipped" and not report.wasxfail.startswith("reason: "):
                    status = "passed"
                send(test=report.nodeid, status=status, message=text)

        @pytest.hookimpl(tryfirst=True)
        def pytest_collectreport(self, report):
            if report.outcome == "failed":
                send(broken=f"{report.nodeid}: {report.longrepr}"[:4000])

    arguments = ["-q", "--tb=native", "-c", os.devnull, "--rootdir", WORK, "-p", "no:cacheprovider"]
    arguments += ["-p", "no:faulthandler", "--import-mode=importlib", *FILES]
    sys.path.insert(0, WORK)
    return int(pytest.main(arguments, plugins=[Reporter()]))


def with_unittest():
    import importlib.util
    import traceback
    import unittest

    class Result(unittest.TestResult):
        def told(self, test, status, message=""):
            send(test=test.id(), status=status, message=message[:4000])

        def addSuccess(self, test):
            super().addSuccess(test)
            self.told(test, "passed")

        def addFailure(self, test, error):
            super().addFailure(test, error)
            self.told(test, "failed", "".join(traceback.format_exception(*error)))

        def addError(self, test, error):
            super().addError(test, error)
            self.told(test, "failed", "".join(traceback.format_exception(*error)))

        def addSubTest(self, test, subtest, error):
            super().addSubTest(test, subtest, error)
            if error is not None:
                self.told(test, "failed", f"{subtest}: " + "".join(traceback.format_exception(*error)))

        def addSkip(self, test, reason):
            super().addSkip(test, reason)
            self.told(test, "skipped", reason)

        def addExpectedFailure(self, test, error):
            super().addExpectedFailure(test, error)
            self.told(test, "passed")

        def addUnexpectedSuccess(self, test):
            super().addUnexpectedSuccess(test)
            self.told(test, "failed", "it holds, but must not")

    # The files are blank: whoever imports one of them by its name gets what was sent.
    names = {os.path.splitext(name)[0].replace("/", "."): name for name in FILES}
    path_of = {name: os.path.realpath(os.path.join(WORK, file)) for name, file in names.items()}
    codes = take()

    class Sealed:
        def find_spec(self, name, path=None, target=None):
            return importlib.util.spec_from_loader(name, self) if name in path_of else None

        def create_module(self, spec):
            return None

        def exec_module(self, module):
            module.__file__ = path_of[module.__name__]
            exec(code_of(codes, module.__file__), module.__dict__)

    sys.meta_path.insert(0, Sealed())
    sys.path.insert(0, WORK)
    loader, suite = unittest.TestLoader(), unittest.TestSuite()
    broken = False
    for name in names:
        try:
            suite.addTests(loader.loadTestsFromModule(importlib.import_module(name)))
        except BaseException as error:
            broken = True
            send(broken="".join(traceback.format_exception_only(type(error), error)))
    result = Result()
    suite.run(result)
    return 0 if result.wasSuccessful() and not broken else 1


def make_end(mark):
    return lambda: send(done=mark)


end = make_end(ORDER.pop("mark"))
# Packages that a task names can be in need of it.
if not ORDER["packages"]:
    close_ctypes()
if ORDER["runner"] != "pytest" and ORDER["packages"]:
    let_in(ORDER["packages"])
status = with_pytest() if ORDER["runner"] == "pytest" else with_unittest()
for stream in (sys.stdout, sys.stderr):
    try:
        stream.flush()
    except BaseException:
        pass
end()
leave(status)
