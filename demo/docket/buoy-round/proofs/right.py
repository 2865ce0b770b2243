from collections import Counter


def buoy_round(colours):
    most = Counter(colours).most_common()
    if most and most[0][1] > (len(colours) + 1) // 2:
        return None
    ordered = [colour for colour, count in most for _ in range(count)]
    out = [None] * len(colours)
    out[::2] = ordered[: (len(colours) + 1) // 2]
    out[1::2] = ordered[(len(colours) + 1) // 2 :]
    return out
