from tide import Interval
EXPECTED = {"a": [1, 2], "b": [3]}
def check_interval(it, low, high):
    assert it == Interval(low, high), f"{it} is not [{low}, {high}]"
def all_equal(xs, value):
    for x in xs: assert x == value
