export function sortRoster(pilots) {
  pilots.sort((a, b) => a.rank - b.rank || a.name.localeCompare(b.name));
  return pilots.length;
}
