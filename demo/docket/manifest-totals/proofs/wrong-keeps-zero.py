def manifest_totals(rows):
    totals = {}
    for consignee, kilograms in rows:
        totals[consignee] = totals.get(consignee, 0) + kilograms
    return totals
