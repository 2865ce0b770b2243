"""Runs a program in Python as the interpreter does it, but without the packages that happen to be
installed: those that the task names are let in."""
import os
import site
import sys


def start():
    # What programs expect of `site`, which is left out for the packages that it lets in.
    site.setquit()
    site.setcopyright()
    site.sethelper()
    own = __file__
    names = os.environ.pop("FAIRTRIAL_PACKAGES", "")
    if names:
        let_in(names.split(","))
    path = os.path.abspath(sys.argv[1])
    del sys.argv[0]
    sys.path[0] = os.path.dirname(path)

    def tell(kind, error, trace):
        # As if this file were not there.
        while trace is not None and trace.tb_frame.f_code.co_filename == own:
            trace = trace.tb_next
        error.__traceback__ = trace
        show(kind, error, trace)

    show = sys.__excepthook__
    sys.excepthook = tell
    with open(path, "rb") as file:
        source = file.read()
    main = globals()
    for name in [it for it in main if it not in ("__name__", "__builtins__", "__loader__")]:
        del main[name]
    main.update(__file__=path, __doc__=None, __package__=None, __spec__=None, __cached__=None)
    return compile(source, path, "exec", dont_inherit=True)


exec(start())
