def tide_windows(levels, draught):
    windows = []
    start = None
    for hour, level in enumerate(levels):
        if level >= draught and start is None:
            start = hour
        elif level < draught and start is not None:
            windows.append((start, hour - 1))
            start = None
    if start is not None:
        windows.append((start, len(levels) - 1))
    return windows
