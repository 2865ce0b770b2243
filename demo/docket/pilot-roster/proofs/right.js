export function sortRoster(pilots) {
  pilots.sort((a, b) => b.rank - a.rank || (a.name < b.name ? -1 : a.name > b.name ? 1 : 0));
  return pilots.length;
}
