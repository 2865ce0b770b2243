"""What the simulated agents of the demo have in common: asking a model, and doing what it says."""

import json
import os
import subprocess
import sys
import urllib.request


def prompt():
    """Reads what is asked of the agent."""
    with open(sys.argv[1], encoding="utf-8") as file:
        return file.read()


def ask(text):
    """Asks the model once; gives its answer, or None where it gives none."""
    body = {"model": os.environ["MODEL"], "messages": [{"role": "user", "content": text}]}
    request = urllib.request.Request(
        os.environ["BASE_URL"] + "/chat/completions",
        data=json.dumps(body).encode(),
        headers={"content-type": "application/json"},
    )
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.load(answer)["choices"][0]["message"]["content"]
    except OSError as error:
        print(f"no answer: {error}")
        return None


def patch_in(answer):
    """Gives the patch in an answer, or an empty text."""
    lines = (answer or "").splitlines()
    inside = [index for index, line in enumerate(lines) if line.startswith("```")]
    if len(inside) >= 2:
        lines = lines[inside[0] + 1 : inside[1]]
    return "\n".join(line for line in lines if not line.startswith("```")) + "\n"


def apply(patch):
    """Puts a patch on the files; says whether it fits."""
    done = subprocess.run(["git", "apply", "-"], input=patch.encode(), capture_output=True)
    print(f"git apply: {'done' if done.returncode == 0 else done.stderr.decode().strip()}")
    return done.returncode == 0


def files():
    """Gives the paths of the repository."""
    return subprocess.run(["git", "ls-files"], capture_output=True, text=True).stdout.split()
