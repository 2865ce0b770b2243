import sys
from collections import deque


def main():
    numbers = list(map(int, sys.stdin.read().split()))
    docks, links = numbers[0], numbers[1]
    flow = [[0] * docks for _ in range(docks)]
    for i in range(links):
        a, b, crates = numbers[2 + 3 * i : 5 + 3 * i]
        flow[a][b] += crates
    total = 0
    while True:
        parent = [-1] * docks
        parent[0] = 0
        queue = deque([0])
        while queue and parent[-1] < 0:
            here = queue.pop()
            for there in range(docks):
                if parent[there] < 0 and flow[here][there] > 0:
                    parent[there] = here
                    queue.append(there)
        if parent[-1] < 0:
            break
        least, at = float("inf"), docks - 1
        while at:
            least = min(least, flow[parent[at]][at])
            at = parent[at]
        at = docks - 1
        while at:
            flow[parent[at]][at] -= least
            at = parent[at]
        total += least
    print(total)


main()
