from collections import deque

def channel_path(chart):
    rows, cols = len(chart), len(chart[0])
    if chart[0][0] == "#" or chart[-1][-1] == "#":
        return -1
    seen = {(0, 0)}
    queue = deque([(0, 0, 1)])
    while queue:
        r, c, steps = queue.popleft()
        if (r, c) == (rows - 1, cols - 1):
            return steps
        for dr, dc in ((0, 1), (1, 0), (0, -1), (-1, 0)):
            nr, nc = r + dr, c + dc
            if 0 <= nr < rows and 0 <= nc < cols and chart[nr][nc] != "#" and (nr, nc) not in seen:
                seen.add((nr, nc))
                queue.append((nr, nc, steps + 1))
    return -1
