import heapq

def tow_order(ships, before):
    waits = {ship: 0 for ship in ships}
    after = {ship: [] for ship in ships}
    for first, second in before:
        waits[second] += 1
        after[first].append(second)
    ready = [ship for ship in ships if waits[ship] == 0]
    order = []
    while ready:
        ship = ready.pop(0)
        order.append(ship)
        for other in after[ship]:
            waits[other] -= 1
            if waits[other] == 0:
                ready.append(other)
    if len(order) < len(ships):
        raise ValueError("the ships wait for each other")
    return order
