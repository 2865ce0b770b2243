// Reports each test that ended on a line of its own, with the file that it is in.
export default async function* report(source) {
  for await (const { type, data } of source) {
    if (type !== 'test:pass' && type !== 'test:fail') continue;
    const { name, nesting, file, skip, todo, details } = data;
    const passed = type === 'test:pass';
    const error = details && details.error;
    const cause = error && error.cause;
    const message = passed ? '' : String((cause && (cause.stack || cause.message)) || cause || error || '');
    yield JSON.stringify({
      name: String(name),
      nesting,
      file,
      passed: passed || todo !== undefined && todo !== false,
      skipped: skip !== undefined && skip !== false,
      is_suite: Boolean(details && details.type === 'suite'),
      message: message.slice(0, 4000),
    }) + '\n';
  }
}
