def berth_label(quay, number):
    return f"{quay.upper()}-{number:03d}"
