def tide_gap(high, low):
    return high - low
