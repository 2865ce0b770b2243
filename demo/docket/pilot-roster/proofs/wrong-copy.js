export function sortRoster(pilots) {
  const sorted = [...pilots].sort((a, b) => b.rank - a.rank || a.name.localeCompare(b.name));
  return sorted.length;
}
