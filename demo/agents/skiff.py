"""A good one: asks, does what it is told, runs the tests that it sees."""

import os
import subprocess

from harbour import apply, ask, patch_in, prompt

text = prompt()
fits = any(apply(patch_in(ask(text))) for _ in range(2))
command = ["node", "--test"] if os.path.exists("package.json") else ["python3", "-m", "unittest", "discover", "-t", ".", "-s", "tests"]
tests = subprocess.run(command, capture_output=True)
print("changed" if fits else "nothing was changed", "and the visible tests", "pass" if tests.returncode == 0 else "fail")
