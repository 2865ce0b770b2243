def tide_gap(high, low):
    return abs(high - low) + 1
