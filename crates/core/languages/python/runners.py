"""Runs sealed unit tests by pytest or unittest, and tells of each.

`send` passes on what is to be reported; `status_of` may turn what a test came to into something else.
"""


def run_pytest(files, send, status_of, codes=None):
    """`codes` are compiled sealed files by real path, where the files themselves are blank."""
    os.environ["PYTEST_DISABLE_PLUGIN_AUTOLOAD"] = "1"
    import pytest
    from _pytest.assertion import rewrite

    # What lies beside a sealed file says nothing of it.
    rewrite._read_pyc = lambda *args, **kwargs: None
    first = rewrite._rewrite_test

    def rewrite_test(path, config):
        place = os.path.realpath(str(path))
        if codes is None or place not in codes:
            return first(path, config)
        return os.stat(place), code_of(codes, place)

    rewrite._rewrite_test = rewrite_test

    class Reporter:
        @pytest.hookimpl(tryfirst=True)
        def pytest_runtest_logstart(self, nodeid):
            status_of(nodeid, None)

        @pytest.hookimpl(tryfirst=True)
        def pytest_runtest_logreport(self, report):
            if report.when == "call" or report.outcome != "passed":
                text = str(report.longrepr)[:4000] if report.outcome == "failed" else ""
                status = report.outcome if report.when == "call" or report.outcome == "skipped" else "failed"
                if hasattr(report, "wasxfail"):
                    status = "passed" if report.outcome == "skipped" and not report.wasxfail.startswith("reason: ") else status
                send(test=report.nodeid, status=status_of(report.nodeid, status), message=text)

        @pytest.hookimpl(tryfirst=True)
        def pytest_collectreport(self, report):
            if report.outcome == "failed":
                send(broken=f"{report.nodeid}: {report.longrepr}"[:4000])

    arguments = ["-q", "--tb=native", "-c", os.devnull, "--rootdir", WORK, "-p", "no:cacheprovider", "-p", "no:faulthandler"]
    # No file is there for an answer to have put in the place of a plugin.
    arguments += ["-p", "no:setuponly", "--import-mode=importlib", *files]
    return int(pytest.main(arguments, plugins=[Reporter()]))


def run_unittest(files, send, status_of, codes=None):
    import importlib.util
    import traceback
    import unittest

    def text_of(error):
        try:
            return "".join(traceback.format_exception(*error))[:4000]
        except BaseException:
            return str(error[0])

    class Result(unittest.TestResult):
        def told(self, test, status, message=""):
            send(test=test.id(), status=status_of(test.id(), status), message=message[:4000])

        def startTest(self, test):
            super().startTest(test)
            status_of(test.id(), None)

        def addSuccess(self, test):
            super().addSuccess(test)
            self.told(test, "passed")

        def addFailure(self, test, error):
            super().addFailure(test, error)
            self.told(test, "failed", text_of(error))

        def addError(self, test, error):
            super().addError(test, error)
            self.told(test, "failed", text_of(error))

        def addSubTest(self, test, subtest, error):
            super().addSubTest(test, subtest, error)
            if error is not None:
                self.told(test, "failed", f"{subtest}: " + text_of(error))

        def addSkip(self, test, reason):
            super().addSkip(test, reason)
            self.told(test, "skipped", reason)

        def addExpectedFailure(self, test, error):
            super().addExpectedFailure(test, error)
            self.told(test, "passed")

        def addUnexpectedSuccess(self, test):
            super().addUnexpectedSuccess(test)
            self.told(test, "failed", "it holds, but must not")

    names = {os.path.splitext(name)[0].replace("/", "."): name for name in files}
    path_of = {name: os.path.realpath(os.path.join(WORK, file)) for name, file in names.items()}

    class Sealed:
        """The files are blank: whoever imports one of them by its name gets what was sent."""

        def find_spec(self, name, path=None, target=None):
            return importlib.util.spec_from_loader(name, self) if name in path_of else None

        def create_module(self, spec):
            return None

        def exec_module(self, module):
            module.__file__ = path_of[module.__name__]
            exec(code_of(codes, module.__file__), module.__dict__)

    if codes is not None:
        sys.meta_path.insert(0, Sealed())
    loader, suite, broken = unittest.TestLoader(), unittest.TestSuite(), False
    for name in names:
        try:
            suite.addTests(loader.loadTestsFromModule(importlib.import_module(name)))
        except BaseException as error:
            broken = True
            send(broken="".join(traceback.format_exception_only(type(error), error))[:4000])
    result = Result()
    # A runner prints its progress, and some tests look whether it is there: warnings as it has them.
    with warnings.catch_warnings():
        warnings.simplefilter("default")
        suite.run(result)
    return 0 if result.wasSuccessful() and not broken else 1


def code_of(codes, path):
    if isinstance(codes[path], SyntaxError):
        raise codes[path]
    return codes[path]
