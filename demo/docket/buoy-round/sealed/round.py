"""Says whether a round of buoys is one that may be sailed."""
import json
import sys
from collections import Counter


def judge(question):
    step = question["steps"][0]
    colours, found = step["args"][0], step.get("returned")
    if not question["check"]["possible"]:
        return found is None, "there is no such order, so `None` is right"
    if not isinstance(found, list) or not all(isinstance(it, str) for it in found):
        return False, "a list of colours is wanted"
    if Counter(found) != Counter(colours):
        return False, "not every buoy is checked once"
    for before, after in zip(found, found[1:]):
        if before == after:
            return False, f"two buoys of the colour {before} follow each other"
    return True, ""


held, why = judge(json.load(sys.stdin))
print(json.dumps({"pass": held, "why": why}))
