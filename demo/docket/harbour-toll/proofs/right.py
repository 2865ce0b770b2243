RATES = {"A": 1.25, "B": 0.8, "C": 0.35}

def harbour_toll(kind, tonnes, nights=1):
    if kind not in RATES:
        raise ValueError("unknown kind of ship")
    if tonnes < 0 or nights < 1:
        raise ValueError("tonnes and nights must make sense")
    toll = RATES[kind] * tonnes * nights
    if nights > 7:
        toll *= 0.9
    return max(toll, 15.0)
