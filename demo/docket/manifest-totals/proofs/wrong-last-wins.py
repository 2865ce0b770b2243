def manifest_totals(rows):
    return {name: kilograms for name, kilograms in rows if kilograms > 0}
