def buoy_round(colours):
    return sorted(set(colours))
