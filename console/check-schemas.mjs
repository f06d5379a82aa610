// Checks that the files that ship fit their published schemas, and that a schema refuses what its format does not know.
import { readdirSync, readFileSync } from 'node:fs';
import Ajv from 'ajv/dist/2020.js';
import { parse } from 'yaml';

const root = new URL('../', import.meta.url);
const read = (path) => parse(readFileSync(new URL(path, root), 'utf8'), { schema: 'core' });
const ajv = new Ajv({ allErrors: true, allowUnionTypes: true });
const schema = (name) => ajv.compile(JSON.parse(readFileSync(new URL(`schemas/${name}.schema.json`, root), 'utf8')));
const files = [
  ...readdirSync(new URL('catalogue/', root)).map((folder) => ['catalogue', `catalogue/${folder}/product.yaml`]),
  ['mapping', 'docs/examples/mapping.yaml'],
  ['source', 'docs/examples/source.yaml'],
  ['provider', 'docs/examples/provider.yaml'],
  ['plan', 'docs/examples/plan.yaml'],
  ['plan', 'demo-data/northmere/plan.yaml'],
  ['plan', 'demo-data/northmere/servers.yaml'],
];
const schemas = Object.fromEntries(['catalogue', 'mapping', 'source', 'provider', 'plan'].map((name) => [name, schema(name)]));
let wrong = 0;
const expect = (holds, what) => {
  if (holds) return;
  wrong++;
  console.error(what);
};
for (const [name, path] of files) {
  const fits = schemas[name];
  const content = read(path);
  expect(fits(content), `${path} does not fit ${name}.schema.json: ${ajv.errorsText(fits.errors)}`);
  expect(!fits({ ...content, colour: 'blue' }), `${name}.schema.json takes a field that the format does not know`);
  const [first, ...rest] = Object.keys(content);
  expect(!fits(Object.fromEntries(rest.map((key) => [key, content[key]]))), `${name}.schema.json takes ${path} without its '${first}'`);
}
console.log(`${files.length} files fit their schemas${wrong > 0 ? `, but for ${wrong} complaints` : ''}`);
process.exit(wrong > 0 ? 1 : 0);
