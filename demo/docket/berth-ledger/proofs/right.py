class Ledger:
    def __init__(self, berths):
        self._berths = list(berths)
        self._ships = {}

    def moor(self, ship, berth):
        if berth not in self._berths or berth in self._ships.values() or ship in self._ships:
            raise ValueError(f"{ship} cannot moor at {berth}")
        self._ships[ship] = berth

    def leave(self, ship):
        return self._ships.pop(ship)

    def free(self):
        taken = set(self._ships.values())
        return [berth for berth in self._berths if berth not in taken]

    def where(self, ship):
        return self._ships.get(ship)
