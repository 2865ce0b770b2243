def tide_gap(high, low):
    """How far apart two water levels are, in centimetres."""
    if high < low:
        high, low = low, high
    return high - low
