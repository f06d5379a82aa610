// Checks answers of a service against its published description: `node check-answers.mjs OPENAPI ANSWERS`. Answers are lines of JSON with the call's name, the status, and the body.
import { readFileSync } from 'node:fs';
import Ajv from 'ajv/dist/2020.js';

const [openapi, answers] = process.argv.slice(2).map((path) => readFileSync(path, 'utf8'));
const document = JSON.parse(openapi);

/** A schema that takes no field which it does not tell of. */
const closed = (schema) => {
  if (Array.isArray(schema)) return schema.map(closed);
  if (schema === null || typeof schema !== 'object') return schema;
  const inner = Object.fromEntries(Object.entries(schema).map(([key, value]) => [key, closed(value)]));
  return inner.properties && inner.additionalProperties === undefined && !inner.allOf ? { ...inner, additionalProperties: false } : inner;
};
const ajv = new Ajv({ strict: false, validateFormats: false, allErrors: true });
// A problem tells what it likes beside what every problem has (RFC 9457).
const { ProblemDetails, ...schemas } = document.components.schemas;
ajv.addSchema({ $id: 'api', components: { schemas: { ...closed(schemas), ProblemDetails } } }, 'api');
const local = (schema) => JSON.parse(JSON.stringify(schema).replaceAll('#/components', 'api#/components'));

const calls = Object.fromEntries(
  Object.values(document.paths).flatMap((path) => Object.values(path).map((call) => [call.operationId, call])),
);
let wrong = 0;
let checked = 0;
for (const line of answers.split('\n').filter(Boolean)) {
  const { call, status, type, body } = JSON.parse(line);
  const told = calls[call].responses[status];
  const complain = (what) => {
    wrong++;
    console.error(`${call} ${status}: ${what}`);
  };
  if (!told) {
    complain(`its description tells of ${Object.keys(calls[call].responses).join(', ')}`);
    continue;
  }
  const content = told.content?.[type];
  if (!content && type) complain(`it is ${type}; its description tells of ${Object.keys(told.content ?? { nothing: 0 }).join(', ')}`);
  if (!content || !/json$/.test(type)) continue;
  const fits = ajv.compile(local(closed(content.schema)));
  checked++;
  if (!fits(JSON.parse(body))) complain(`${ajv.errorsText(fits.errors)} in ${body.slice(0, 300)}`);
}
console.log(`${checked} answers are as they are described${wrong > 0 ? `, but for ${wrong} complaints` : ''}`);
process.exit(wrong > 0 ? 1 : 0);
