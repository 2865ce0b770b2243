function flagCount(message) {
  const counts = {};
  for (const c of message) {
    if (/[a-z]/i.test(c)) counts[c] = (counts[c] || 0) + 1;
  }
  return counts;
}
module.exports = { flagCount };
