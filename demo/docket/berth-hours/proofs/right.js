const takenHours = (bookings) => {
  const sorted = bookings.map((b) => [...b]).sort((a, b) => a[0] - b[0]);
  const out = [];
  for (const [from, to] of sorted) {
    const last = out[out.length - 1];
    if (last && from <= last[1]) last[1] = Math.max(last[1], to);
    else out.push([from, to]);
  }
  return out;
};
