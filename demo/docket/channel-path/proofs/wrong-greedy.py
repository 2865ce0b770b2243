def channel_path(chart):
    rows, cols = len(chart), len(chart[0])
    r = c = steps = 0
    while (r, c) != (rows - 1, cols - 1):
        if c + 1 < cols and chart[r][c + 1] != "#":
            c += 1
        elif r + 1 < rows and chart[r + 1][c] != "#":
            r += 1
        else:
            return -1
        steps += 1
    return steps
