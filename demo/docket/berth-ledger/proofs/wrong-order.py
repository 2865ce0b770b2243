class Ledger:
    def __init__(self, berths):
        self._free = list(berths)
        self._ships = {}

    def moor(self, ship, berth):
        if berth not in self._free or ship in self._ships:
            raise ValueError(f"{ship} cannot moor at {berth}")
        self._free.remove(berth)
        self._ships[ship] = berth

    def leave(self, ship):
        berth = self._ships.pop(ship)
        self._free.append(berth)
        return berth

    def free(self):
        return self._free

    def where(self, ship):
        return self._ships.get(ship)
