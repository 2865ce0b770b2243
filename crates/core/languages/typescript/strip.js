// Takes the types out of a TypeScript file: `strip.js COMPILER FILE OUT`. Types are not checked.
'use strict';
const fs = require('fs');
const path = require('path');
const [, , compiler, file, out] = process.argv;
const ts = require(path.join(path.dirname(fs.realpathSync(compiler)), '..', 'lib', 'typescript.js'));
const { outputText, diagnostics } = ts.transpileModule(fs.readFileSync(file, 'utf8'), {
  fileName: file,
  reportDiagnostics: true,
  compilerOptions: { target: ts.ScriptTarget.ES2022, module: ts.ModuleKind.CommonJS, esModuleInterop: true },
});
for (const { messageText, start } of diagnostics) {
  const line = fs.readFileSync(file, 'utf8').slice(0, start).split('\n').length;
  console.error(`${file}:${line}: ${ts.flattenDiagnosticMessageText(messageText, ' ')}`);
}
if (diagnostics.length) process.exit(1);
fs.writeFileSync(out, outputText);
