def berth_label(quay, number):
    return f"{quay.strip().upper()}-{number:03d}"
