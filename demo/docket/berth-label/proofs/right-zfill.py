def berth_label(quay, number):
    return quay.strip().upper() + "-" + str(number).zfill(3)
