class Ledger:
    def __init__(self, berths):
        self._ships = {berth: None for berth in berths}

    def moor(self, ship, berth):
        if self._ships.get(berth, "") is not None:
            raise ValueError(berth)
        self._ships[berth] = ship

    def leave(self, ship):
        for berth, moored in self._ships.items():
            if moored == ship:
                self._ships[berth] = None
                return berth
        raise KeyError(ship)

    def free(self):
        return [berth for berth, ship in self._ships.items() if ship is None]

    def where(self, ship):
        return next((berth for berth, moored in self._ships.items() if moored == ship), None)
