"""Reads in circles: the same files and the same question over and over, and never a change."""

from harbour import ask, files, prompt

text = prompt()
while True:
    read = "".join(open(path, encoding="utf-8").read() for path in files() if not path.endswith(".bundle"))
    print(f"read {len(read)} characters, thinking")
    if ask(f"{text}\n\nLet me look at the files once more:\n\n{read}") is None:
        break
