function flagCount(message) {
  const counts = {};
  for (const c of message.toUpperCase()) {
    if (c >= 'A' && c <= 'Z') counts[c] = (counts[c] || 0) + 1;
  }
  return counts;
}
module.exports = { flagCount };
