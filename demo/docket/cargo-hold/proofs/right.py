class Hold:
    def __init__(self, limit):
        self.limit = limit
        self.cargo = {}

    @property
    def weight(self):
        return sum(self.cargo.values())

    def load(self, name, tonnes):
        if self.weight + tonnes > self.limit:
            raise ValueError(f"no room for {tonnes} t of {name}")
        self.cargo[name] = self.cargo.get(name, 0) + tonnes
        return self.limit - self.weight

    def unload(self, name):
        return self.cargo.pop(name)

    def names(self):
        return sorted(self.cargo)
