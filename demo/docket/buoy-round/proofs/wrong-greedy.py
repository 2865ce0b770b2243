def buoy_round(colours):
    left, out = sorted(colours), []
    while left:
        fitting = [it for it in left if not out or it != out[-1]]
        if not fitting:
            return None
        out.append(fitting[0])
        left.remove(fitting[0])
    return out
