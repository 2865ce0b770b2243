function flagCount(message) {
  const counts = {};
  for (const c of message.toUpperCase()) counts[c] = (counts[c] || 0) + 1;
  return counts;
}
module.exports = { flagCount };
